package live

import (
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/width"
)

// describe turns what one pass found into the facts of a page.
func (v *visit) describe(p *visited, address string, depth int, answer *response, d *document) {
	u := answer.url
	page := &p.page
	page.Address, page.Path, page.Depth = address, u.RequestURI(), depth
	page.Titles, page.Title = len(d.titles), firstOf(d.titles)
	page.TitlePixels = width.Pixels(page.Title, width.TitleSize)
	page.Descriptions, page.Description = len(d.descriptions), firstOf(d.descriptions)
	page.DescPixels = width.Pixels(page.Description, width.DescriptionSize)
	page.RobotsTag, page.RobotsHeader = strings.Join(d.robots, "; "), d.short(strings.ToLower(strings.Join(answer.header.Values("X-Robots-Tag"), "; ")))
	page.Canonicals = len(d.canonicals)
	if c := firstOf(d.canonicals); c != "" {
		page.Canonical = c
	}
	v.decideRobots(page, u)
	page.Language, page.Charset, page.CharsetEarly = d.lang, d.charset, d.charsetEarly
	page.Viewport, page.Zoomable = d.viewport, d.viewports > 0 && zoomable(d.viewport)
	page.Headings, page.Words, page.Images, page.ImagesBare = d.headings, d.words, d.images, d.imagesBare
	page.Generator, page.Author, page.Verification = d.generator, d.author, d.otherMetas
	page.CardTitle, page.CardText, page.CardImage, page.CardType = d.card["title"], d.card["description"], d.card["image"], d.card["type"]
	page.Structured, page.StructuredLack, p.logo, page.StructuredBad = structuredData(d.structured)
	page.Alternates, page.Feeds, page.Icons = d.alternates, d.feeds, d.icons
	page.Password, page.Entries, page.Years, page.Copyright = d.password, d.articles, distinct(d.years), d.copyright
	page.Breadcrumbs = d.breadcrumbs || contains(page.Structured, "BreadcrumbList")
	page.Analytics = d.analytics
	page.Forms, page.RobotCheck = d.forms, d.robotCheck
	page.Hit, page.CacheSays = cacheHit(answer.header)
	page.Kind = v.kindOf(u, d)
	if u.Scheme == "https" {
		page.Insecure, page.InsecureMedia = unencrypted(d.loads), unencrypted(d.media)
	}
	page.Cut = d.cut
	if answer.cut {
		page.Cut = append([]string{cutBody}, d.cut...)
	}
	p.digest = d.digest
	if len(p.assets) == 0 {
		p.assets = d.assets
	}
}

func firstOf(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

func contains(list []string, word string) bool {
	for _, item := range list {
		if item == word {
			return true
		}
	}
	return false
}

// unencrypted lists the first few addresses that are not https.
func unencrypted(list []string) []string {
	var found []string
	for _, address := range list {
		if strings.HasPrefix(address, "http:") && len(found) < 5 {
			found = append(found, address)
		}
	}
	return found
}

// decideRobots works out what tag, header and robots.txt mean together for a search engine. What robots.txt keeps
// it from is never read, so neither tag nor header is.
func (v *visit) decideRobots(page *facts.Page, u *url.URL) {
	may, keeps := v.engineMay(u)
	page.Disallowed = !may
	tag, header := robotsSays(page.RobotsTag), robotsSays(page.RobotsHeader)
	page.NoIndex = tag.noindex || header.noindex
	elsewhere := false
	if canonical, err := u.Parse(page.Canonical); err == nil && page.Canonical != "" {
		elsewhere = !facts.SameAddress(canonical.String(), u.String()) && canonical.String() != u.String()
	}
	page.Indexable = !page.Disallowed && !page.NoIndex && !elsewhere
	switch {
	case page.Disallowed && page.NoIndex:
		page.Robots = keeps + " keeps engines out, so they never read the noindex: it may be listed by its address alone"
	case page.Disallowed:
		page.Robots = keeps + " keeps engines out: it may still be listed by its address alone"
	case tag.noindex && header.noindex:
		page.Robots = "not listed: tag and header say so"
	case tag.noindex:
		page.Robots = "not listed: the tag says so"
	case header.noindex:
		page.Robots = "not listed: the header says so"
	case elsewhere:
		page.Robots = "listed under another address, which its canonical link names"
	default:
		page.Robots = "listed"
	}
	if tag.nofollow || header.nofollow {
		page.Robots += "; its links are not followed"
	}
}

type robotsWords struct{ noindex, nofollow bool }

// botPrefix is the name of one robot before its rules in a header; such rules are not for everybody.
var botPrefix = regexp.MustCompile(`^[a-z][a-z0-9_-]*bot[a-z0-9_-]*\s*:`)

// robotsSays reads the words of robots tags or headers that are meant for everybody.
func robotsSays(text string) robotsWords {
	var w robotsWords
	for part := range strings.SplitSeq(text, ";") {
		if botPrefix.MatchString(strings.TrimSpace(part)) {
			continue
		}
		for word := range strings.SplitSeq(part, ",") {
			switch strings.TrimSpace(word) {
			case "noindex":
				w.noindex = true
			case "nofollow":
				w.nofollow = true
			case "none":
				w.noindex, w.nofollow = true, true
			}
		}
	}
	return w
}

var scaleShape = regexp.MustCompile(`(?:maximum-scale\s*=\s*([0-9.]+))|(?:user-scalable\s*=\s*(no|0))`)

// zoomable tells whether a viewport lets one zoom to twice the size (WCAG 2.2, success criterion 1.4.4).
func zoomable(viewport string) bool {
	for _, m := range scaleShape.FindAllStringSubmatch(strings.ToLower(viewport), -1) {
		if m[2] != "" {
			return false
		}
		if scale, err := strconv.ParseFloat(m[1], 64); err == nil && scale < 2 {
			return false
		}
	}
	return strings.Contains(viewport, "width")
}

// cacheHit reads the headers by which a shared cache tells that it answered: Cache-Status (RFC 9211), Age (RFC
// 9111 §5.1), and the usual ones that hold the word hit.
func cacheHit(header http.Header) (hit bool, says string) {
	for name, values := range header {
		lower := strings.ToLower(name)
		value := strings.ToLower(strings.Join(values, ", "))
		if strings.Contains(lower, "cache") && lower != "cache-control" && regexpHit.MatchString(value) {
			return true, name + ": " + strings.Join(values, ", ")
		}
	}
	if age, err := strconv.Atoi(header.Get("Age")); err == nil && age > 0 {
		return true, "Age: " + header.Get("Age")
	}
	return false, ""
}

var regexpHit = regexp.MustCompile(`\bhit\b`)

var (
	dateListing   = regexp.MustCompile(`^/(?:19|20)\d\d(?:/\d{1,2}){0,2}/?$`)
	searchQuery   = regexp.MustCompile(`(?:^|&)(?:q|s|query|search)=`)
	listingFolder = regexp.MustCompile(`/(?:author|authors|writer|writers|by|topic|topics|tag|tags|category|categories)/`)
	authorFolder  = regexp.MustCompile(`/(?:author|authors|writer|writers|by)/`)
	filePage      = regexp.MustCompile(`/(?:attachments?|file|picture|photo|image)/[^/.]+/?$`)
)

// fewWords is what the page of a single file has to say at most, navigation included; more is a page about it.
const fewWords = 150

// kindOf guesses what a page is from its address, in the words the trade uses, and from its markup.
func (v *visit) kindOf(u *url.URL, d *document) string {
	switch path := u.EscapedPath(); {
	case u.String() == v.home.String():
		return "home"
	case searchQuery.MatchString(u.RawQuery):
		return "search"
	case authorFolder.MatchString(path):
		return "author listing"
	case dateListing.MatchString(path):
		return "date listing"
	case filePage.MatchString(path) && d.words <= fewWords:
		return "file"
	case listingFolder.MatchString(path), d.articles > 1:
		return "listing"
	}
	return "content"
}
