package live

import (
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/policy"
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
	page.RobotsTag, page.RobotsHeader = strings.Join(d.robots, "; "), robotsHeader(d, answer.header)
	canonicals := canonicalLinks(d.canonicals, answer.header, u)
	page.Canonicals, page.Canonical = len(canonicals), firstOf(canonicals)
	v.decide(page, u, d.robots, d.robotsNamed, answer.header.Values("X-Robots-Tag"))
	page.Strangers = d.strangers
	page.Language, page.Charset, page.CharsetEarly = d.lang, d.charset, d.charsetEarly
	page.Viewport, page.Zoomable = d.viewport, d.viewports > 0 && zoomable(d.viewport)
	page.Headings, page.Words, page.Images, page.ImagesBare = d.headings, d.words, d.images, d.imagesBare
	page.Generator, page.Author, page.Verification, page.Tokens = d.generator, d.author, d.otherMetas, d.tokens
	page.CardTitle, page.CardText, page.CardImage, page.CardType = d.card["title"], d.card["description"], d.card["image"], d.card["type"]
	page.Structured, page.StructuredLack, p.logo, page.StructuredBad = structuredData(d.structured)
	page.Alternates, page.Feeds, page.Icons = d.alternates, d.feeds, d.icons
	page.Password, page.Entries, page.Years, page.Copyright = d.password, d.articles, distinct(d.years), d.copyright
	page.Breadcrumbs = d.breadcrumbs || contains(page.Structured, "BreadcrumbList")
	page.Analytics = d.analytics
	page.Forms, page.RobotCheck, page.Letters = d.forms, d.robotCheck, d.letters
	page.Posts, p.given = d.postsTo, onceOnly(d.given, answer.at)
	p.failure, p.registers = d.failure, offersAccount(u.Path, d)
	v.cached(page, answer)
	page.Personal = personal(u, d)
	page.Unused, page.Unsized = d.unused, d.unsized
	page.Loads = countLoads(d.pulls)
	page.Framing, page.FramesLimited = policy.Framing(answer.header)
	page.Sniffing, page.SniffStopped = policy.Sniffing(answer.header)
	page.Referrer, page.ReferrerShort = policy.Referrer(answer.header, d.referrer)
	page.HSTS, page.HSTSSeconds = policy.Transport(answer.header)
	page.ContentPolicy, page.PolicyLets = policy.Scripts(answer.header, d.policies...)
	page.Features, page.FeatureLimits = policy.Features(answer.header)
	for _, said := range []*string{&page.Framing, &page.Sniffing, &page.Referrer, &page.HSTS, &page.ContentPolicy, &page.Features} {
		*said = facts.Shorten(*said, maxText)
	}
	page.Kind = v.kindOf(u, d)
	page.Group = v.groupOf(u.EscapedPath())
	if u.Scheme == "https" {
		page.Insecure, page.InsecureMedia = unencrypted(d.pulls)
	}
	page.Cut = d.cut
	if answer.cut {
		page.Cut = append([]string{cutBody}, d.cut...)
	}
	p.digest, p.heading, p.pulls = d.digest, d.heading, d.pulls
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

// maxInsecure is how many addresses without encryption are kept of a page.
const maxInsecure = 5

// unencrypted lists the first few addresses that are loaded or posted to without https: pictures and media apart, which
// browsers only warn about (W3C, Mixed Content §4.1).
func unencrypted(pulls []pull) (loads, media []string) {
	for _, p := range pulls {
		list := &loads
		if p.kind == pictureKind || p.kind == mediaKind {
			list = &media
		}
		if isLoaded(p.kind) && strings.HasPrefix(p.address, "http:") && len(*list) < maxInsecure && !contains(*list, p.address) {
			*list = append(*list, p.address)
		}
	}
	return loads, media
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

// countLoads is how many different styles and scripts a page loads.
func countLoads(pulls []pull) int {
	var different []string
	for _, p := range pulls {
		if (p.kind == styleKind || p.kind == scriptKind) && !contains(different, p.address) {
			different = append(different, p.address)
		}
	}
	return len(different)
}

var (
	dateListing   = regexp.MustCompile(`^/(?:19|20)\d\d(?:/\d{1,2}){0,2}/?$`)
	signInPage    = regexp.MustCompile(`(?i)/(?:join|register|registration|sign-?up|sign-?in|log-?in|log-?on|account|anmelden|anmeldung|registrieren|konto|inscription|connexion|registro|acceso|accedi|inloggen|wachtwoord|password|lost-?password)(?:\.[a-z]+)?/?$`)
	searchPage    = regexp.MustCompile(`(?i)^/(?:[a-z]{2}/)?(?:search|find|suche|recherche|buscar|cerca|zoeken|pesquisa)(?:-results)?/?$`)
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
	case d.password && d.words <= fewSignInWords && !v.homeSignsIn(), d.forms > 0 && signInPage.MatchString(u.Path):
		return "sign-in"
	case v.saysNotFound(d):
		return "error"
	case searchQuery.MatchString(u.RawQuery), searchPage.MatchString(path):
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

// fewSignInWords is how much a page to sign in on has to say at most, navigation included.
const fewSignInWords = 250

// homeSignsIn tells whether one can sign in on the home page: then other pages have the same box, and are pages all the same.
func (v *visit) homeSignsIn() bool {
	home := v.pages[v.home.String()]
	return home != nil && home.page.Password
}

// errorTitle is how error pages are called that answer as if nothing were wrong.
var errorTitle = regexp.MustCompile(`(?i)^\W*(?:error\W*)?(?:404|410|403|500)\s*(?:$|[-–—:|.!]|error\b|(?:page )?not found\b|forbidden\b|gone\b|internal\b)|^\W*(?:page\s+)?not\s+found\s*(?:$|[-–—:|.!])|^\W*(?:page|seite|pagina|página)\b.{0,20}\b(?:not found|nicht gefunden|introuvable|no encontrada|non trovata|niet gevonden)\b`)

// saysNotFound tells whether a page is an error in the clothes of a page: it is called one, or says what an address says
// that cannot exist.
func (v *visit) saysNotFound(d *document) bool {
	return errorTitle.MatchString(firstOf(d.titles)) || v.nowhere != 0 && d.digest == v.nowhere
}

// groupOf is the type that the intent gives pages below a path; the longest path that fits decides.
func (v *visit) groupOf(path string) string {
	longest, group := 0, ""
	for _, said := range v.Groups {
		if below, kind, ok := strings.Cut(said, " "); ok && strings.HasPrefix(path, below) && path != below && len(below) > longest {
			longest, group = len(below), kind
		}
	}
	return group
}

// noticeWords are what a notice is called, in the languages this was tried in.
var noticeWords = regexp.MustCompile(`(?i)^\W*(?:maintenance|(?:we are |temporarily |site )?(?:closed|offline|unavailable)|out of (?:order|service)|geschlossen|fermé|cerrado|chiuso|gesloten)\W*$|\b(?:(?:under|scheduled|planned|routine|site|for) maintenance|maintenance (?:mode|in progress|break|window)|under construction|coming soon|(?:be right|be|right) back|back (?:soon|shortly|online)|temporarily (?:closed|unavailable|down)|down for|wartungsarbeiten|wartungsmodus|im aufbau|en construction|en mantenimiento|in manutenzione|in onderhoud|launching soon)\b`)

// noticeSentence is what the words of a notice say, where its title says nothing of it. Opening hours do not.
var noticeSentence = regexp.MustCompile(`(?i)\b(?:(?:will|we['’]ll|shall) be (?:right )?back|back (?:soon|shortly|online|within|in (?:a|an|\d+) |at \d)|(?:is|we are|we['’]re|site) (?:temporarily |currently |momentarily )(?:closed|unavailable|offline|down|out of)|temporarily (?:closed|unavailable|offline|down|out of)|unavailable right now|making (?:some |a few )?improvements|(?:down|closed|offline|unavailable) for (?:scheduled |planned |routine )?(?:maintenance|repairs|upgrades?|an? (?:hour|moment|while|upgrade|update))|(?:under|undergoing|performing|carrying out|doing|in) (?:some |scheduled |planned |routine )?maintenance|wartungsarbeiten|in kürze wieder|en maintenance|en mantenimiento|em manutenção|in manutenzione|in onderhoud|bald zurück|vorübergehend nicht|bientôt de retour|momentanément|volvemos pronto|torneremo presto|zo terug)\b`)

// checkBack is what lists say that have nothing in them yet.
var checkBack = regexp.MustCompile(`(?i)\bcheck(?:ing)? back\b`)

// fewSentenceWords is how long a page is at most that such a sentence makes a notice.
const fewSentenceWords = 60

// fewNoticeWords is how long a notice is at most.
const fewNoticeWords = 120

// isNotice tells whether a page is a notice that the site is down or not there yet: short, called one, and leading nowhere.
func isNotice(d *document) bool {
	return d.words <= fewNoticeWords && len(d.links) <= 3 && noticeWords.MatchString(firstOf(d.titles)+" "+d.heading)
}
