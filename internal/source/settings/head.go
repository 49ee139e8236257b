package settings

import (
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"weltaxis/internal/facts"
)

// headCode works out of the code that is put into every page what can be said of it without running it.
func (g *gathering) headCode() {
	r, known := g.seen.Effective(facts.HeadCode.Name)
	if !known || r.Absent {
		return
	}
	code := r.Value.Text()
	g.seen.Add(facts.HeadHosts.Reading(hostsIn(code), r.Origin), facts.HeadSize.Reading(int64(len(code)), r.Origin), facts.HeadObscured.Reading(obscured.MatchString(code), r.Origin))
}

var (
	// named is an address in the text of a script or a style: with its scheme, or relative to it within quotes.
	named = regexp.MustCompile(`(?i)(?:https?:|wss?:|["'\x60(])\\?/\\?/([a-z0-9](?:[a-z0-9.-]*[a-z0-9])?)`)
	// obscured is how code is written that is not to be read: made of numbers or of a coded text while it runs. A function that is
	// merely called by another is not among it.
	obscured = regexp.MustCompile(`(?i)\beval\s*\(|\batob\s*\(|fromCharCode|\bunescape\s*\(|\bnew\s+Function\s*\(|(?:\\x[0-9a-f]{2}){8}|(?:\\u00[0-9a-f]{2}){8}|(?:%[0-9a-f]{2}){16}|data:(?:text|application)/(?:x-)?(?:java|ecma)script`)
)

// hostsIn are the hosts that a piece of markup names: in attributes that load something or lead somewhere, and in the text of scripts
// and styles. Each once, sorted.
func hostsIn(code string) []string {
	hosts := []string{}
	add := func(host string) {
		if host = strings.ToLower(strings.TrimSuffix(host, ".")); strings.Contains(host, ".") {
			hosts = append(hosts, host)
		}
	}
	tokens := html.NewTokenizer(strings.NewReader(code))
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			slices.Sort(hosts)
			return slices.Compact(hosts)
		case html.TextToken, html.CommentToken:
			for _, found := range named.FindAllStringSubmatch(string(tokens.Text()), -1) {
				add(found[1])
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			for _, a := range tokens.Token().Attr {
				if u, err := url.Parse(strings.TrimSpace(a.Val)); err == nil && u.Host != "" {
					add(u.Hostname())
					continue
				}
				for _, found := range named.FindAllStringSubmatch(a.Val, -1) {
					add(found[1])
				}
			}
		}
	}
}
