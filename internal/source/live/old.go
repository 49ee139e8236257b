package live

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// A face is what is read of a page, by what it is, to tell whether a copy of it is an old one.
type face map[string]string

// aspects are what a page is compared in, the first that differ are said. What a page loads is none of them: caches put styles and
// scripts together, and have pictures come late, in what they keep.
var aspects = []struct {
	is  string
	of  func(d *document, h http.Header) string
	own bool // it may be another for somebody with a session
}{
	{is: "title", of: func(d *document, _ http.Header) string { return firstOf(d.titles) }},
	{is: "description", of: func(d *document, _ http.Header) string { return strings.Join(d.descriptions, "; ") }},
	{is: robotsTag, of: func(d *document, h http.Header) string {
		return hiding(slices.Concat(d.robots, d.robotsNamed, h.Values("X-Robots-Tag")))
	}},
	{is: "canonical link", of: func(d *document, h http.Header) string {
		return strings.Join(inFull(canonicalLinks(d.canonicals, h, d.at), d.at), " ")
	}},
	{is: "title as it is shared", of: func(d *document, _ http.Header) string { return d.card["title"] }},
	{is: "text as it is shared", of: func(d *document, _ http.Header) string { return d.card["description"] }},
	{is: "picture as it is shared", of: func(d *document, _ http.Header) string { return d.card["image"] }},
	{is: "kind as it is shared", of: func(d *document, _ http.Header) string { return d.card["type"] }},
	{is: "structured data", of: func(d *document, _ http.Header) string { return factsOf(d.structured) }},
	{is: "tag that proves whose it is", of: func(d *document, _ http.Header) string { return strings.Join(d.tokens, " ") }},
	{is: "list of further tags", of: func(d *document, _ http.Header) string { return strings.Join(d.otherMetas, " ") }, own: true},
	{is: "language", of: func(d *document, _ http.Header) string { return d.lang }},
	{is: "list of other languages", of: func(d *document, _ http.Header) string { return strings.Join(d.alternates, " ") }},
	{is: "feed", of: func(d *document, _ http.Header) string { return strings.Join(d.feeds, " ") }},
	{is: "icon", of: func(d *document, _ http.Header) string { return strings.Join(d.icons, " ") }},
	{is: "viewport", of: func(d *document, _ http.Header) string { return d.viewport }},
	{is: "policy in its head", of: func(d *document, _ http.Header) string { return strings.Join(d.policies, "; ") }},
	{is: "list of links", of: func(d *document, _ http.Header) string {
		return strings.Join(slices.Compact(slices.Sorted(slices.Values(d.links))), " ")
	}, own: true},
}

const robotsTag = "robots tag"

// hides tells whether what a robots tag says keeps a page out.
func hides(said string) bool {
	return strings.Contains(said, "noindex") || strings.Contains(said, "none")
}

// sentWith are headers that say something of the page, rather than of its way. A copy that lacks one is no old page.
var sentWith = []string{"Content-Security-Policy", "Content-Language", "Referrer-Policy", "Permissions-Policy", "X-Frame-Options", "X-Content-Type-Options", "Strict-Transport-Security"}

// hiding is what is said to keep a page out of lists, "" where nothing does: index and follow are what holds without a word.
func hiding(said []string) string {
	var words []string
	for _, text := range said {
		for _, word := range strings.Split(strings.ToLower(text), ",") {
			word = strings.TrimSpace(word)
			if word != "" && word != "index" && word != "follow" && word != "all" && !slices.Contains(words, word) {
				words = append(words, word)
			}
		}
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}

var (
	// ownQuery is the query that leads around a cache, as pages carry it on.
	ownQuery = regexp.MustCompile(`(?:[?&]|&amp;|%3[fF]|%26)weltaxis(?:=|%3[dD])[0-9a-f]{12}`)
	firstOwn = regexp.MustCompile(`\?weltaxis=[0-9a-f]{12}&(?:amp;)?`)
	// momentary is what is another from one time to the next: a nonce, a day with its time, the second that an address ends with.
	momentary = regexp.MustCompile(`'nonce-[^']*'|\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d)?(?:\.\d+)?(?:Z|[+-]\d\d:?\d\d)?|=1[5-9]\d{8}(?:\d{3})?\b`)
	// momentaryFacts are those of structured data that many programs make up anew each time.
	momentaryFacts = []string{"dateModified", "sdDatePublished", "priceValidUntil"}
)

// inFull are addresses in full, whatever query leads around a cache.
func inFull(list []string, at *url.URL) []string {
	plain := *at
	plain.RawQuery = ""
	list = slices.Clone(list)
	for i, said := range list {
		if u, err := plain.Parse(said); err == nil {
			list[i] = normal(u).String()
		}
	}
	return list
}

// factsOf is structured data, the same however it is written.
func factsOf(blocks []string) string {
	var all strings.Builder
	written := json.NewEncoder(&all)
	written.SetEscapeHTML(false)
	var without func(v any) any
	without = func(v any) any {
		switch v := v.(type) {
		case map[string]any:
			for name, inner := range v {
				if v[name] = without(inner); slices.Contains(momentaryFacts, name) {
					delete(v, name)
				}
			}
		case []any:
			for i, inner := range v {
				v[i] = without(inner)
			}
		}
		return v
	}
	for _, block := range blocks {
		var v any
		if json.Unmarshal([]byte(block), &v) != nil || written.Encode(without(v)) != nil {
			all.WriteString(block)
		}
	}
	return all.String()
}

// faceOf reads the face of a page.
func faceOf(d *document, h http.Header) face {
	f := face{}
	plain := func(text string) string {
		text = ownQuery.ReplaceAllString(firstOwn.ReplaceAllString(text, "?"), "")
		return strings.Join(strings.Fields(momentary.ReplaceAllString(text, "…")), " ")
	}
	for _, a := range aspects {
		said := a.of(d, h)
		if f[a.is] = plain(said); a.is == "structured data" { // when something is on is no matter of the moment
			f[a.is] = ownQuery.ReplaceAllString(firstOwn.ReplaceAllString(said, "?"), "")
		}
	}
	for _, name := range sentWith {
		if said := h.Values(name); len(said) > 0 {
			f[name] = plain(strings.Join(said, ", "))
		}
	}
	return f
}

// oldIn says in what copies of a page that a cache keeps differ from what is behind it, in the first thing that does; "" where they do not, or
// where it is another each time, here or there. Behind are at least two, and by is who asked: with a query of one's own a page may be hidden that
// else is not, and whoever has a session may be greeted by name.
func oldIn(kept, behind []Lap, by *runner) string {
	signedIn := by.fields.Get("Cookie") != ""
	differs := func(of func(Lap) string) (was, is string, differs bool) {
		was, is = of(kept[0]), of(behind[0])
		varies := slices.ContainsFunc(kept, func(l Lap) bool { return of(l) != was }) || slices.ContainsFunc(behind, func(l Lap) bool { return of(l) != is })
		return was, is, !varies && was != is
	}
	for _, a := range aspects {
		was, is, yes := differs(func(l Lap) string { return l.face[a.is] })
		if !yes || a.own && signedIn || a.is == robotsTag && by.query && hides(is) && !hides(was) {
			continue
		}
		return fmt.Sprintf("its %s is %s", a.is, differ(was, is))
	}
	if _, _, yes := differs(func(l Lap) string { return fmt.Sprint(l.lasting) }); yes && !signedIn {
		return fmt.Sprintf("it has %d words of text, and around the cache %d, or others", kept[0].words, behind[0].words)
	}
	for _, name := range sentWith {
		if was, is, yes := differs(func(l Lap) string { return l.face[name] }); yes && was != "" && is != "" {
			return fmt.Sprintf("its %s is %s", name, differ(was, is))
		}
	}
	return ""
}

// differ says two texts that differ, long ones from a little before where they do.
func differ(was, is string) string {
	const few, before = 130, 30
	same := 0
	for same < min(len(was), len(is)) && was[same] == is[same] {
		same++
	}
	quoted := func(text string) string {
		switch {
		case text == "":
			return "not there"
		case len(text) > few && same > before:
			text = "…" + strings.ToValidUTF8(text[same-before:], "")
		}
		return "“" + facts.Shorten(text, few) + "”"
	}
	return quoted(was) + ", and around the cache " + quoted(is)
}
