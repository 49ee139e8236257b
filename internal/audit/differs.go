package audit

import (
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

// How what is declared differs from what visitors get.
const (
	Stale      = "stale"            // a cache still gives the page as it was
	NotWritten = "not written"      // the pages do not carry it
	Overridden = "overridden"       // the web server, or robots.txt, decides otherwise
	Otherwise  = "served otherwise" // the pages say something else
)

// sameServed tell, of a setting that pages show word for word or by something that is there, whether they do. A setting that is not among them shows in a way that
// leaves its value open: a page may have a description of its own.
var sameServed = map[*facts.Term]func(declared, served string) bool{
	facts.SiteLanguage.Term:        func(d, s string) bool { return primary(d) == primary(s) },
	facts.SiteAddress.Term:         facts.SameAddress,
	facts.FrontShows.Term:          func(d, s string) bool { return d == s },
	facts.FeedItems.Term:           func(d, s string) bool { most, _ := strconv.Atoi(d); has, _ := strconv.Atoi(s); return has <= most }, // there may be fewer
	facts.FeedReply.Term:           strings.EqualFold,
	facts.MetaAuthorShown.Term:     isThere,
	facts.MetaGeneratorShown.Term:  isThere,
	facts.StructuredShown.Term:     isThere,
	facts.SitemapOffered.Term:      func(d, s string) bool { return d == s },
	facts.DeliveryCompression.Term: isThere,
	facts.MetaRobotsIndex.Term:     func(d, s string) bool { return (d == "yes") == strings.HasPrefix(s, "listed") },
	facts.MetaVerification.Term: func(d, s string) bool {
		return !slices.ContainsFunc(strings.Split(d, ", "), func(token string) bool { return !strings.Contains(s, token) })
	},
}

// primary is the language of a tag, without script and region (RFC 5646 §2.2.1).
func primary(tag string) string {
	tag, _, _ = strings.Cut(strings.ReplaceAll(strings.ToLower(tag), "_", "-"), "-")
	return tag
}

// isThere tells whether yes goes with something, and no with nothing.
func isThere(declared, served string) bool {
	return (declared == "yes") == (served != "" && served != "no" && served != "0")
}

// differs says how what visitors get of a setting differs from what is declared, and why; "" where it does not, or cannot be told.
func (r *Result) differs(row *Row, entry *facts.Term) (how, because string) {
	same := sameServed[entry]
	if same == nil || row.Served == nil || len(row.Declared) == 0 || row.Declared[0].Absent || row.Served.Absent {
		return "", ""
	}
	declared, served := row.Declared[0].Value.String(), row.Served.Value.String()
	if declared == "" || same(declared, served) {
		return "", ""
	}
	for _, page := range r.Snapshot.Repeats {
		if page.Kind == "home" && page.Old != "" {
			return Stale, "a cache still gives the page as it was: " + page.Old
		}
	}
	home := r.Snapshot.Configured("home", "")
	hidden, _ := r.Snapshot.Is(facts.HomeHiddenBy)
	switch {
	case entry == facts.MetaRobotsIndex.Term && strings.Contains(hidden.Text(), "robots.txt"):
		return Overridden, "robots.txt keeps search engines out, whatever pages say"
	case entry == facts.MetaRobotsIndex.Term && home != nil && toldOf(home, "robots_header") != "":
		return Overridden, "the web server says X-Robots-Tag: " + toldOf(home, "robots_header") + ", " + home.OriginOf("robots_header").String()
	case row.Configured != nil && row.Configured.Origin.File != "":
		return Overridden, "the web server decides: " + row.Configured.Origin.String()
	case served == "" || served == "no" || served == "0":
		return NotWritten, "the pages do not carry it"
	}
	return Otherwise, "visitors get something else"
}

// toldOf is a field of an answer, "" where it cannot be told.
func toldOf(a *facts.Answer, field string) string {
	v, _ := a.Field(field)
	return v.Text()
}
