package live

import (
	"cmp"
	"errors"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
)

// A Sign is something by which a stranger can tell what a site runs on.
type Sign struct {
	In    string         // where it stands: tag, header, cookie, asset, markup, feed, file or error page
	Match *regexp.Regexp // with the groups name and version, where it gives them away
	Gives string         // system, extension, theme, runtime or server
	Name  string         // what it gives away, where the match has no group for it
	Sure  string         // one of sureness
}

// sureness is how surely a sign tells, the surest first.
var sureness = []string{"certain", "likely", "slight"}

// general are the signs of what is not one content system's own: of servers and runtimes, and the ways in which programs name
// themselves.
var general = []Sign{
	{In: "tag", Match: regexp.MustCompile(`^(?P<name>[A-Za-z][\w .!&-]*?)(?:[ /]v?(?P<version>\d+(?:\.\d+)*[\w.-]*))?(?:\s*[:;(,].*)?$`), Gives: "system", Sure: "certain"},
	{In: "header", Match: regexp.MustCompile(`(?i)^X-(?:Generator|CMS|Content-System|Made-By): (?P<name>[A-Za-z][\w .!&-]*?)(?:[ /]v?(?P<version>\d[\w.-]*))?$`), Gives: "system", Sure: "certain"},
	{In: "header", Match: regexp.MustCompile(`(?i)^Server: (?P<name>[a-z][a-z-]*)(?:/(?P<version>\d[\w.-]*))?`), Gives: "server", Sure: "certain"},
	{In: "header", Match: regexp.MustCompile(`(?i)^X-Powered-By: (?P<name>[a-z][a-z.]*)(?:/(?P<version>\d[\w.+~-]*))?`), Gives: "runtime", Sure: "certain"},
	{In: "cookie", Match: regexp.MustCompile(`^PHPSESSID$`), Gives: "runtime", Name: "PHP", Sure: "likely"},
	{In: "cookie", Match: regexp.MustCompile(`^JSESSIONID$`), Gives: "runtime", Name: "Java", Sure: "likely"},
	{In: "asset", Match: regexp.MustCompile(`\.php(?:$|\?)`), Gives: "runtime", Name: "PHP", Sure: "likely"},
	{In: "markup", Match: regexp.MustCompile(`(?i)<!--[^>]{0,200}?\b(?:generated|powered|made|built|optimi[sz]ed|cached|kept) (?:by|with) (?P<name>[a-z][\w-]*(?: [A-Z][\w-]*)*)[ /]v?(?P<version>\d+(?:\.\d+)+)`), Gives: "extension", Sure: "certain"},
	{In: "feed", Match: regexp.MustCompile(`(?i)<generator[^>]*?(?:\bversion="(?P<version>[\d.]+)"[^>]*)?>\s*(?:<!\[CDATA\[)?\s*(?P<name>[A-Za-z][\w .!&-]*?)\s*(?:[ /]v?\d[\w.-]*)?\s*(?:\]\]>)?\s*</generator>`), Gives: "system", Sure: "certain"},
	{In: "file", Match: regexp.MustCompile(`^\W{0,40}(?P<name>[A-Z][\w&'-]*(?: [A-Z][\w&'-]*){0,3}),? (?:[Vv]ersion |v|release |-+ ?)?(?P<version>\d+(?:\.\d+)+)\b`), Gives: "system", Sure: "likely"},
	{In: "error page", Match: regexp.MustCompile(`(?i)<center>(?P<name>nginx|openresty)(?:/(?P<version>[\d.]+))?</center>`), Gives: "server", Sure: "certain"},
	{In: "error page", Match: regexp.MustCompile(`(?i)<address>(?P<name>Apache)(?:/(?P<version>[\d.]+))?`), Gives: "server", Sure: "certain"},
}

// assetVersion is a version in the query of an asset's address. It may be any token that makes browsers fetch anew, so it is a slight sign.
var assetVersion = regexp.MustCompile(`[?&](?:ver|version|v)=(\d+(?:\.\d+){1,3})(?:&|$)`)

// Bounds of what is looked at for signs.
const (
	maxSignPages  = 10        // pages whose headers and markup are looked through
	maxSignMarkup = 256 << 10 // bytes of each
	maxSigns      = 200
	maxOfOne      = 20 // times that one sign is taken from one text
	maxSignSays   = 120
)

// of are the signs that stand in a place.
func (v *visit) signsIn(place string) []Sign {
	return slices.DeleteFunc(slices.Concat(v.Signs, general), func(s Sign) bool { return s.In != place })
}

// noteSigns looks for signs in a text, and keeps each once.
func (v *visit) noteSigns(place, text, at string) {
	for _, sign := range v.signsIn(place) {
		for _, m := range sign.Match.FindAllStringSubmatch(text, maxOfOne) {
			group := func(name string) string {
				if i := sign.Match.SubexpIndex(name); i >= 0 {
					return strings.TrimSpace(m[i])
				}
				return ""
			}
			v.tells(facts.Telling{Gives: sign.Gives, Name: cmp.Or(group("name"), sign.Name), Version: group("version"), Sure: sign.Sure, Place: place, Says: strings.Join(strings.Fields(m[0]), " "), URL: at})
		}
	}
}

func (v *visit) tells(t facts.Telling) {
	v.signMu.Lock()
	defer v.signMu.Unlock()
	t.Name, t.Version, t.Says = facts.Shorten(t.Name, 60), facts.Shorten(t.Version, 30), facts.Shorten(t.Says, maxSignSays)
	same := func(o facts.Telling) bool {
		return o.Gives == t.Gives && strings.EqualFold(o.Name, t.Name) && o.Version == t.Version && o.Place == t.Place
	}
	if i := slices.IndexFunc(v.signs, same); i >= 0 {
		if slices.Index(sureness, t.Sure) < slices.Index(sureness, v.signs[i].Sure) {
			v.signs[i] = t // the surest of those that tell the same
		}
		return
	}
	if t.Name+t.Version == "" || len(v.signs) >= maxSigns {
		return
	}
	v.signs = append(v.signs, t)
}

// signsOf looks for signs in an answer's headers and its markup.
func (v *visit) signsOf(at string, header http.Header, body []byte) {
	for _, line := range header["Set-Cookie"] {
		name, _, _ := strings.Cut(line, "=")
		v.noteSigns("cookie", strings.TrimSpace(name), at)
	}
	v.firewallIn(header, body)
	if v.signPages.Add(1) > maxSignPages {
		return
	}
	for _, line := range headerLines(header) {
		v.noteSigns("header", line, at)
	}
	v.noteSigns("markup", string(body[:min(len(body), maxSignMarkup)]), at)
}

// firewallIn notes whether the content system's firewall shows itself in a page that a program made. What a cache says it gave from what it keeps no program made.
func (v *visit) firewallIn(header http.Header, body []byte) {
	if len(v.Firewall) == 0 || caching.Told(header).Outcome.FromCache() {
		return
	}
	cookies := (&http.Response{Header: header}).Cookies()
	for _, sign := range v.Firewall {
		var there bool
		switch sign.In {
		case "header":
			there = slices.ContainsFunc(headerLines(header), sign.Match.MatchString)
		case "cookie":
			there = slices.ContainsFunc(cookies, func(c *http.Cookie) bool { return sign.Match.MatchString(c.Name) })
		case "markup":
			there = sign.Match.Match(body[:min(len(body), maxSignMarkup)])
		}
		if there {
			v.firewall.shown.Store(true)
			return
		}
	}
	v.firewall.lacks.Store(true)
}

// tellFirewall says whether the content system's firewall showed itself anywhere; nothing where every page came from a cache.
func (v *visit) tellFirewall() {
	switch {
	case len(v.Firewall) == 0:
		say(v, facts.LiveFirewall, "unmarked", v.home.String())
	case v.firewall.shown.Load():
		say(v, facts.LiveFirewall, "shown", v.home.String())
	case v.firewall.lacks.Load():
		say(v, facts.LiveFirewall, "absent", v.home.String())
	default:
		v.seen.AddGap(gap("whether the firewall shows itself", errors.New("every page came from a cache, and none from a program"), facts.LiveFirewall.Name))
	}
}

// signWords are the places of signs as one says them.
var signWords = map[string]string{"tag": "its tag", "header": "a header", "cookie": "a cookie", "asset": "the path of an asset", "markup": "what stands in a page", "feed": "the feed", "file": "a file that comes with it", "error page": "the page of an error"}

// tellSigns adds what pages and assets give away, and says all.
func (v *visit) tellSigns() {
	for _, p := range v.real() {
		if p.page.Generator != "" {
			v.noteSigns("tag", p.page.Generator, p.page.Address)
		}
	}
	for i := range v.seen.Assets {
		asset := &v.seen.Assets[i]
		u, err := url.Parse(asset.Address)
		if err != nil || !v.sameSite(u) {
			continue
		}
		v.noteSigns("asset", u.RequestURI(), asset.Address)
		for _, owner := range v.Owners {
			name, is := owner.owns(u.Path)
			if !is || name == "" || owner.Of != "extension" && owner.Of != "theme" {
				continue
			}
			t := facts.Telling{Gives: owner.Of, Name: name, Sure: "likely", Place: "asset", Says: u.RequestURI(), URL: asset.Address}
			if m := assetVersion.FindStringSubmatch(u.RequestURI()); m != nil {
				t.Version, t.Sure = m[1], "slight"
			}
			v.tells(t)
		}
	}
	v.seen.Signs = append([]facts.Telling{}, v.signs...)
	var exposed []string
	for _, t := range v.signs {
		if t.Gives == "system" && t.Sure == "certain" {
			exposed = append(exposed, strings.TrimSpace(t.Name+" "+t.Version)+", by "+signWords[t.Place])
		}
	}
	for _, t := range v.signs {
		if kind := t.Gives; t.Sure == "certain" && t.Name != "" && t.Version != "" && (kind == "system" || kind == "extension" || kind == "theme") {
			v.found.Parts = append(v.found.Parts, facts.Part{Kind: kind, Name: t.Name, Version: t.Version, Active: true, Known: true, From: facts.Live, Origin: t.Origin()})
		}
	}
	v.tellFirewall()
	say(v, facts.LiveExposed, few(exposed), v.home.String())
}
