package live

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
)

// decide works out what tags, headers, robots.txt and the canonical link mean together for a search engine. What robots.txt
// keeps it from is never read, so neither tag nor header is.
func (v *visit) decide(page *facts.Page, u *url.URL, tags, namedTags, headers []string) {
	may, keeps, line := v.engineMay(u)
	page.Disallowed = !may
	if !may {
		page.RobotsLine = line
	}
	now := v.Now
	tag, header := robotsSays(tags, now), robotsSays(headers, now)
	page.NoIndex = tag.noindex || header.noindex
	page.NamedRobots = append(named(robotsSays(namedTags, now), tag, "tag"), named(header, header, "header")...)
	if canonical, err := u.Parse(page.Canonical); err == nil && page.Canonical != "" {
		page.Elsewhere = !facts.SameAddress(canonical.String(), u.String()) && canonical.String() != u.String()
	}
	page.Indexable = !page.Disallowed && !page.NoIndex && !page.Elsewhere
	switch {
	case page.Disallowed && v.robots != nil && v.robots.failed:
		page.HiddenBy = "failing robots.txt"
	case page.Disallowed:
		page.HiddenBy = "robots.txt"
	case tag.noindex && header.noindex:
		page.HiddenBy = "tag and header"
	case tag.noindex:
		page.HiddenBy = "tag"
	case header.noindex:
		page.HiddenBy = "header"
	}
	page.Robots = inWords(page, keeps, tag, header)
}

// inWords says what a search engine makes of it all.
func inWords(page *facts.Page, keeps string, tag, header robotsWords) string {
	says := "listed"
	because := func(w robotsWords, what string) string {
		if w.past != "" {
			return what + ", whose unavailable_after, " + w.past + ", is past"
		}
		return what
	}
	switch {
	case page.Disallowed && page.NoIndex:
		says = keeps + " keeps engines out, so they never read the noindex: it may be listed by its address alone"
	case page.Disallowed:
		says = keeps + " keeps engines out: it may still be listed by its address alone"
	case tag.noindex && header.noindex:
		says = "not listed: tag and header say so"
	case tag.noindex && tag.past != "":
		says = "not listed: " + because(tag, "the tag")
	case tag.noindex:
		says = "not listed: the tag says so"
	case header.noindex && header.past != "":
		says = "not listed: " + because(header, "the header")
	case header.noindex:
		says = "not listed: the header says so"
	case page.Elsewhere:
		says = "listed under " + page.Canonical + ", which its canonical link names"
	}
	if tag.nofollow || header.nofollow {
		says += "; its links are not followed"
	}
	return says
}

// robotsWords are what tags or headers say: to everybody, and to robots by name.
type robotsWords struct {
	noindex, nofollow bool
	past              string   // a date of unavailable_after that is past
	byName            []string // robots that are told to keep out
}

// robotRules are the words of robots tags and headers that take a value, and so have a colon of their own.
var robotRules = []string{"unavailable_after", "max-snippet", "max-image-preview", "max-video-preview"}

// robotPrefix is the name of one robot before what a header says; the rest of the line is for it alone.
var robotPrefix = regexp.MustCompile(`^\s*([A-Za-z0-9_.-]+)\s*:`)

// robotsSays reads the words of robots tags or headers, one text for each.
func robotsSays(texts []string, now time.Time) robotsWords {
	var all robotsWords
	for _, text := range texts {
		agent := ""
		if m := robotPrefix.FindStringSubmatch(text); m != nil && !slices.Contains(robotRules, strings.ToLower(m[1])) {
			agent, text = strings.ToLower(m[1]), text[len(m[0]):]
		}
		said := robotsLine(strings.ToLower(text), now)
		switch {
		case agent == "" || agent == "robots":
			all.noindex, all.nofollow = all.noindex || said.noindex, all.nofollow || said.nofollow
			if said.past != "" {
				all.past = said.past
			}
		case said.noindex:
			all.byName = append(all.byName, agent)
		}
	}
	return all
}

var unavailable = regexp.MustCompile(`unavailable_after\s*:\s*(.*)`)

// robotsLine reads the words of one tag or header, in lower case.
func robotsLine(text string, now time.Time) robotsWords {
	var w robotsWords
	if m := unavailable.FindStringSubmatch(text); m != nil {
		text = text[:len(text)-len(m[0])]
		when, known, rest := dateIn(m[1])
		if known && when.Before(now) {
			w.noindex, w.past = true, when.Format(time.DateOnly)
		}
		text += "," + rest
	}
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == ' ' || r == '\t' }) {
		switch word {
		case "noindex":
			w.noindex = true
		case "nofollow":
			w.nofollow = true
		case "none":
			w.noindex, w.nofollow = true, true
		}
	}
	return w
}

// dates are the ways in which unavailable_after is written: RFC 9110 §5.6.7, RFC 5322 §3.3, ISO 8601.
var dates = []string{time.RFC1123, time.RFC1123Z, time.RFC850, time.ANSIC, "Mon, 2 Jan 2006 15:04:05 MST", "Mon, 2 Jan 2006 15:04:05 -0700", "Mon, 2 Jan 06 15:04:05 MST",
	"2 Jan 2006 15:04:05 MST", "2 Jan 2006 15:04:05 -0700", "2 Jan 2006", "02-Jan-2006 15:04:05 MST", "2-Jan-2006", "Monday, 02-Jan-06 15:04:05 MST", "Jan 2 2006", "January 2 2006",
	time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02 15:04", time.DateOnly, "2006/01/02", "20060102"}

// dateIn reads the date that a text begins with: commas may stand in it, and may end it.
func dateIn(text string) (when time.Time, known bool, rest string) {
	parts := strings.Split(text, ",")
	for n := min(len(parts), 3); n > 0; n-- {
		candidate := strings.Join(strings.Fields(strings.Join(parts[:n], ",")), " ")
		for _, layout := range dates {
			if when, err := time.Parse(strings.ToLower(layout), candidate); err == nil {
				return when, true, strings.Join(parts[n:], ",")
			}
			if when, err := time.Parse(layout, strings.ToUpper(candidate)); err == nil {
				return when, true, strings.Join(parts[n:], ",")
			}
		}
	}
	return time.Time{}, false, strings.Join(parts[min(1, len(parts)):], ",")
}

// named lists the robots that are told by name to keep out, where not all are.
func named(says, all robotsWords, where string) []string {
	var list []string
	if all.noindex {
		return nil
	}
	for _, agent := range says.byName {
		list = append(list, agent+" ("+where+")")
	}
	return distinct(list)
}

func robotsHeader(d *document, header http.Header) string {
	return d.short(strings.ToLower(strings.Join(header.Values("X-Robots-Tag"), "; ")))
}

// linkHeader is one link of a Link header (RFC 8288 §3).
var linkHeader = regexp.MustCompile(`<([^>]*)>((?:\s*;\s*[a-zA-Z*]+\s*(?:=\s*(?:"[^"]*"|[^",;\s]*))?)*)`)

var relCanonical = regexp.MustCompile(`(?i);\s*rel\s*=\s*(?:"(?:[^"]*\s)?canonical(?:\s[^"]*)?"|canonical\b)`)

// canonicalLinks are the canonical addresses that tags and Link headers name (RFC 6596 §3), each once. A header counts as a
// tag does, so two that agree are one, and two that do not are two.
func canonicalLinks(tags []string, header http.Header, at *url.URL) []string {
	list := slices.Clone(tags)
	for _, line := range header.Values("Link") {
		for _, m := range linkHeader.FindAllStringSubmatch(line, 20) {
			if !relCanonical.MatchString(m[2]) {
				continue
			}
			agrees := slices.ContainsFunc(tags, func(tag string) bool { return sameTarget(at, tag, m[1]) })
			if !agrees {
				list = append(list, strings.TrimSpace(m[1]))
			}
		}
	}
	return list
}

// sameTarget tells whether two references on a page are one address.
func sameTarget(at *url.URL, a, b string) bool {
	x, err := at.Parse(strings.TrimSpace(a))
	if err != nil {
		return false
	}
	y, err := at.Parse(strings.TrimSpace(b))
	return err == nil && normal(x).String() == normal(y).String()
}

// mean decides which pages are meant to be listed: those that nothing of their own keeps out. What hides the home page hides
// the site, by mistake or until its launch, and says nothing of the single page.
func (v *visit) mean() {
	home := v.pages[v.home.String()]
	for _, p := range v.real() {
		page := &p.page
		if page.Unread != "" {
			continue
		}
		if home != nil && p != home && p.digest == home.digest && page.Words > 0 && page.Title == home.page.Title {
			page.Kind = "home" // an inner page is never the home page under another spelling
		}
		page.WithSite = home != nil && page.HiddenBy != "" && hiddenAlike(&home.page, page)
		// Whether an author's listing and its like are to be listed without that cannot be told from here.
		// A tag that says noindex counts once robots.txt, which hides the whole site, lets engines read it.
		own := page.HiddenBy != "" && (!page.WithSite || page.Disallowed && page.NoIndex && !home.page.NoIndex || !slices.Contains([]string{"home", "content", "listing"}, page.Kind))
		page.Meant = !own && !v.isVariant(p) && page.Kind != "sign-in" && page.Kind != "error"
	}
}

// hiddenAlike tells whether a page is hidden by what hides the home page: a line of robots.txt, tags, or headers.
func hiddenAlike(home, page *facts.Page) bool {
	switch {
	case page == home:
		return true
	case page.Disallowed:
		return home.Disallowed && home.RobotsLine == page.RobotsLine
	}
	// What says it in other words says it for itself.
	return home.NoIndex && (page.RobotsTag == home.RobotsTag || page.RobotsHeader != "" && page.RobotsHeader == home.RobotsHeader)
}

// isVariant tells whether a page is another spelling of one that its canonical link names: that one is what is listed. A
// link that leads to a page which is nothing like it is a mistake, and makes it no variant.
func (v *visit) isVariant(p *visited) bool {
	if !p.page.Elsewhere {
		return false
	}
	u, err := url.Parse(p.page.Address)
	if err != nil {
		return false
	}
	to, err := u.Parse(p.page.Canonical)
	if err != nil || !v.inside(to) {
		return false
	}
	return v.pages[normal(to).String()] == nil || v.alike(p, v.pages[normal(to).String()])
}

// alike tells whether two pages may be one page under two addresses: the same text, the same title or main heading, or the
// same path with another query, suffix or slash. Of pages other than the home page, words that both titles have are enough.
func (v *visit) alike(p, q *visited) bool {
	if p.digest == q.digest || bare(p.page.Path) == bare(q.page.Path) {
		return true
	}
	if p.page.Title != "" && p.page.Title == q.page.Title {
		return true
	}
	if q.page.Kind == "home" {
		return false
	}
	return p.heading != "" && p.heading == q.heading || shareWords(p.page.Title, q.page.Title, v.pages[v.home.String()].page.Title)
}

var pathTail = regexp.MustCompile(`(?:/index)?(?:\.[a-z0-9]{1,5})?/?$|/(?:amp|print|page/\d+)/?$`)

// bare is a path without query, suffix, index file and slash.
func bare(path string) string {
	path, _, _ = strings.Cut(path, "?")
	for range 2 {
		path = pathTail.ReplaceAllString(strings.ToLower(path), "")
	}
	return path
}

// shareWords tells whether two titles share a word of four letters or more that the home title does not have.
func shareWords(a, b, home string) bool {
	words := func(text string) []string {
		return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !isWordRune(r) })
	}
	common := words(home)
	for _, word := range words(a) {
		if len(word) >= 4 && slices.Contains(words(b), word) && !slices.Contains(common, word) {
			return true
		}
	}
	return false
}

func isWordRune(r rune) bool {
	return r == '\'' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r > 0x7f
}

// byName lists the robots of search engines that robots.txt keeps from the home page, or that a page tells to keep out,
// where others are not.
func (v *visit) byName() {
	at, _ := v.home.Parse("/robots.txt")
	var list, unsure []string
	if _, read := v.seen.Is(facts.LiveRobotsStatus.Term); read && v.robots != nil {
		paths := []string{v.home.RequestURI()}
		for _, p := range v.real() {
			if p.page.Kind == "content" && len(paths) < 20 {
				paths = append(paths, p.page.Path)
			}
		}
		for _, agent := range v.robots.agents() {
			is := robotOf(agent)
			if is == "" {
				continue
			}
			for _, path := range paths {
				others, _ := v.robots.allowed("*", path)
				may, line := v.robots.allowed(agent, path)
				if may || !others {
					continue
				}
				to := &unsure
				if is == engineRobot {
					to = &list
				}
				*to = append(*to, fmt.Sprintf("%s (robots.txt, line %d)", agent, line))
				break
			}
		}
	}
	for _, p := range v.real() {
		for _, robot := range p.page.NamedRobots {
			if robotOf(strings.Fields(robot)[0]) != "" && len(list) < fewKept { // only search engines read tags
				list = append(list, strings.TrimSuffix(robot, ")")+" of "+p.page.Path+")")
			}
		}
	}
	say(v, facts.LiveRobotsNamed, few(list), at.String())
	say(v, facts.LiveRobotsUnsure, few(unsure), at.String())
}

// engineWords are parts of the names of robots that work for search engines, and otherRobots of those that do not: they
// copy, measure, preview or train.
var (
	engineWords = []string{"search", "seek", "find", "index"}
	otherRobots = []string{"scrap", "harvest", "grab", "copy", "copier", "archiv", "train", "gpt", "llm", "seo", "rank", "link", "mail", "spam", "leech", "rip", "bad", "evil", "greedy", "fetch", "curl", "wget", "python", "monitor", "preview", "image", "extended", "ads", "-ai", "ai-", "aibot", "download", "mirror", "suck"}
)

// engineDigests are the names of robots of search engines that many people use, as the first 16 digits of their SHA-256: this
// program names nobody else's.
var engineDigests = []string{
	"0436ff7c240bfc81", "0f1ba965abdb41d9", "3249d51150352acf", "428e6cd046662ce8", "4cfd19d535c41163", "503757e1c10b517e",
	"5ec9c2c2913538bb", "6797200567ec3564", "6a42f3b5d1154428", "785e7a271878bf1d", "82e86218880ad2ad", "8671339b7a7da02d",
	"8ef622929b83ea64", "ad19de2265cbdc08", "cb2e47b65461f261", "d730e92e1bbdeea7", "f092670242a37d43", "f34411b7d94f18ab",
	"f7074088de14e56d", "fc974b166c8f5c71",
}

// What a robot is taken for by its name.
const (
	engineRobot = "a search engine's"
	someRobot   = "whose it is cannot be told from its name"
)

// robotOf tells what a robot is taken for, "" for one that is no search engine's.
func robotOf(agent string) string {
	has := func(words []string) bool {
		return slices.ContainsFunc(words, func(word string) bool { return strings.Contains(agent, word) })
	}
	digest := sha256.Sum256([]byte(agent))
	switch {
	case agent == "*":
		return ""
	case slices.Contains(engineDigests, hex.EncodeToString(digest[:8])):
		return engineRobot
	case has(otherRobots):
		return ""
	case has(engineWords):
		return engineRobot
	case robotName.MatchString(agent):
		return someRobot
	}
	return ""
}
