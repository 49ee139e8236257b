package live

import (
	"bytes"
	"cmp"
	"hash/maphash"
	"io"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"
)

// A document is what one pass over a page's markup finds. Addresses are absolute; lists are bounded by maxKept.
type document struct {
	base                     *url.URL
	at                       *url.URL // its own address
	postsTo                  []string // addresses that its forms post to
	given                    []hidden // of forms that are sent, what nobody fills in
	titles                   []string // that are not empty, in the HTML namespace
	descriptions             []string
	robots                   []string // contents of robots tags for everybody
	robotsNamed              []string // those for one robot: its name, a colon and the content
	canonicals               []string
	lang, charset            string
	charsetEarly             bool
	viewport                 string
	viewports                int
	headings, words, images  int
	heading                  string // the first
	imagesBare               []string
	unsized                  []string // pictures of which it does not say how wide and high they are
	signsOut                 bool     // somebody is offered to sign out
	unused                   []string // assets of extensions that it does not use
	generator, author        string
	referrer                 string            // what the tag says
	versions                 []string          // of programs, that comments name
	tokens                   []string          // contents of metas that prove whose the site is
	otherMetas               []string          // contents of metas this program has no use for: verification tokens are among them
	card                     map[string]string // title, description, image, type
	structured               []string          // JSON-LD blocks
	feeds, icons, alternates []string
	iconTypes                map[string]string
	links                    []string
	linkTexts                []string // where they are sought
	pulls                    []pull   // what it loads, posts to, or names for others to load
	policies                 []string // content security policies in its head
	strangers                []string // of the hosts that were to be looked for, those that an address in it names
	password, robotCheck     bool
	forms                    int
	registers                bool   // a form to make an account with
	asksMail                 bool   // a form that asks for a mail address and sends it
	letters                  bool   // a form to write something in
	failure                  string // of a program, that it shows
	articles                 int
	years                    []string
	copyright                bool
	breadcrumbs              bool
	bodyClass                string
	analytics                int
	digest                   uint64 // of the words in the body
	lasting                  uint64 // of those that do not tell the hour, where that is sought
	cut                      []string
}

// scripted tells whether a page is made by a script: it has one, and next to nothing else.
func (d *document) scripted() bool {
	return d.words < 60 && d.forms == 0 && slices.ContainsFunc(d.pulls, func(p pull) bool { return p.kind == scriptKind })
}

// The bounds of what is kept of a page. What is more is cut, and that it was is a fact of the page.
const (
	maxKept       = 1000    // texts of a kind
	maxLinks      = 5000    // addresses of a kind
	maxText       = 2000    // bytes of one text
	maxAttributes = 256     // of one tag
	maxStructured = 1 << 20 // bytes of structured data
)

// What of a page may have been cut.
const (
	cutBody       = "body"
	cutTexts      = "texts"
	cutLinks      = "links"
	cutAttributes = "attributes"
)

// note says that something was cut.
func (d *document) note(what string) {
	if !slices.Contains(d.cut, what) {
		d.cut = append(d.cut, what)
	}
}

// short is a text that is not too long.
func (d *document) short(text string) string {
	if len(text) <= maxText {
		return strings.Clone(text)
	}
	d.note(cutTexts)
	return strings.ToValidUTF8(text[:maxText], "")
}

// keep adds a text to a list.
func (d *document) keep(list *[]string, text string) {
	if len(*list) < maxKept {
		*list = append(*list, d.short(text))
	} else {
		d.note(cutTexts)
	}
}

// An analyser is one pass over one page.
type analyser struct {
	document
	wanted          sought // what to look for
	open            openForm
	z               *html.Tokenizer
	foreign         int    // depth inside svg and math, whose titles are not the page's
	inTitle         bool   //
	inHeading       bool   //
	noScript        bool   // in the head
	inBody          bool   //
	anchor          string // the link as it is written
	inLink          bool   // within a link
	offered         bool   //
	inHome          bool   // within a link home
	afterHome       bool   // just behind one
	rawType         string // type of the script that is open
	raw             string // element whose text is not the page's: script, style
	tag             [10]byte
	attributes      map[string]string
	structuredBytes int
	seen            map[string]bool // links as written, since pages repeat them; whether they lead home
}

// Sought is what is looked for in every page.
type sought struct {
	owners    []Owned  // whose assets are whose
	lasting   bool     // whether words tell the hour
	analytics string   // token of the snippet
	strangers []string // hosts that no address should name, in lower case
	linkTexts bool     // the words of its links
}

// analyse reads a page's markup in one pass. The content type is that of the response; the encoding is decided as
// browsers do (HTML Living Standard §13.2.3, Encoding Standard).
func analyse(at *url.URL, body []byte, contentType string, look sought) *document {
	encoding, name, certain := charset.DetermineEncoding(body, contentType)
	a := &analyser{document: document{base: at, at: at, charset: name, card: map[string]string{}, iconTypes: map[string]string{}}, wanted: look, attributes: map[string]string{}, seen: map[string]bool{}}
	a.charsetEarly = certain && name != "windows-1252" || declaresCharset(body, contentType)
	if look.analytics != "" {
		a.analytics = bytes.Count(body, []byte(look.analytics))
	}
	var reader io.Reader = bytes.NewReader(body)
	if name != "utf-8" {
		reader = encoding.NewDecoder().Reader(reader)
	}
	a.z = html.NewTokenizer(reader)
	for a.step() {
	}
	a.closeForm()
	a.failure = failureIn(body)
	a.fromStructured()
	a.unused = unusedIn(a.pulls, body, look.owners)
	return &a.document
}

var charsetShape = regexp.MustCompile(`(?i)<meta[^>]+charset\s*=`)

func declaresCharset(body []byte, contentType string) bool {
	return strings.Contains(strings.ToLower(contentType), "charset=") || charsetShape.Match(body[:min(len(body), 1024)])
}

func (a *analyser) step() bool {
	switch a.z.Next() {
	case html.ErrorToken:
		return false
	case html.CommentToken:
		if says := versionIn(string(a.z.Raw()[:min(len(a.z.Raw()), maxComment)])); says != "" {
			a.keep(&a.versions, says)
		}
	case html.TextToken:
		raw := a.z.Raw()
		a.meets(raw)
		a.text(raw)
	case html.StartTagToken, html.SelfClosingTagToken:
		raw := a.z.Raw()
		a.meets(raw)
		if !a.seenAnchor(raw) {
			a.start(a.name(raw[1:]), raw)
		}
	case html.EndTagToken:
		a.end(a.name(a.z.Raw()[2:]))
	}
	return true
}

// name is a tag's name in lower case, out of the tag as it is written: the tokenizer's own way makes a copy of it,
// and most tags are of no interest. A longer name than any that matters is cut.
func (a *analyser) name(raw []byte) []byte {
	n := 0
	for n < len(raw) && n < len(a.tag) {
		c := raw[n]
		if c <= ' ' || c == '/' || c == '>' {
			break
		}
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		a.tag[n] = c
		n++
	}
	return a.tag[:n]
}

// read reads the attributes of the tag that is open into a map that is used again and again.
func (a *analyser) read() map[string]string {
	clear(a.attributes)
	for _, more := a.z.TagName(); more; {
		if len(a.attributes) == maxAttributes {
			a.note(cutAttributes)
			break
		}
		var key, value []byte
		key, value, more = a.z.TagAttr()
		if _, twice := a.attributes[string(key)]; !twice {
			a.attributes[string(key)] = string(value)
		}
	}
	return a.attributes
}

func (a *analyser) end(name []byte) {
	switch string(name) {
	case "svg", "math":
		a.foreign = max(0, a.foreign-1)
	case "title":
		a.inTitle = false
	case "a":
		a.inHome, a.afterHome, a.inLink, a.offered = false, a.inHome, false, false
	case "button":
		a.offered = false
	case "h1":
		a.inHeading = false
	case "noscript":
		a.noScript = false
	case "script", "style":
		a.raw = ""
	case "form":
		a.closeForm()
	}
}

// opens begins the body with the first element that is none of the head, where nobody has written the tag (HTML Living Standard
// §13.1.2.4). What stands in a noscript is not seen by who runs scripts.
func (a *analyser) opens(name string) {
	if a.inBody {
		return
	}
	switch name {
	case "html", "head", "title", "meta", "link", "script", "style", "base", "template", "body":
	case "noscript":
		a.noScript = true
	default:
		a.inBody = !a.noScript
	}
}

func (a *analyser) start(name, raw []byte) {
	if mayStyle(raw) {
		a.styled(a.read()["style"])
	}
	if !a.breadcrumbs && mayBeTrail(raw) {
		a.breadcrumbs = isTrail(string(name), a.read())
	}
	a.opens(string(name))
	switch string(name) {
	case "svg", "math":
		a.foreign++
	case "html":
		a.lang = a.short(strings.TrimSpace(a.read()["lang"]))
	case "base":
		if href, err := a.base.Parse(a.read()["href"]); err == nil {
			a.base = href
		}
	case "title":
		a.inTitle = a.foreign == 0
	case "meta":
		a.meta(a.read())
	case "link":
		a.link(a.read())
	case "script":
		a.script(a.read())
	case "style":
		a.raw = "style"
	case "body":
		a.inBody = true
		attributes := a.read()
		a.bodyClass = a.short(attributes["class"])
		a.pull(pictureKind, attributes["background"])
	case "a", "area":
		attributes := a.read()
		if href, there := attributes["href"]; there {
			a.inHome, a.inLink = a.leadsHome(href), true
			if len(a.seen) < maxLinks {
				a.seen[a.anchor] = a.inHome
			}
			// What its own page asks not to be followed is no page of the site's (HTML Living Standard §4.6.7.14).
			if !contains(strings.Fields(strings.ToLower(attributes["rel"])), "nofollow") {
				a.add(&a.links, href)
			}
		}
	case "h1":
		a.headings++
		a.inHeading = a.heading == ""
	case "article":
		a.articles++
	case "img":
		a.image(a.read())
	case "iframe", "frame", "embed", "object":
		attributes := a.read()
		a.pull(frameKind, attributes["src"]+attributes["data"])
		a.checksRobots(attributes)
	case "video", "audio", "track":
		attributes := a.read()
		a.pull(mediaKind, attributes["src"])
		a.pull(pictureKind, attributes["poster"])
	case "source":
		attributes := a.read()
		a.pull(mediaKind, attributes["src"])
		a.candidates(attributes["srcset"])
	case "image", "use", "feimage": // of SVG
		attributes := a.read()
		a.pull(pictureKind, cmp.Or(attributes["href"], attributes["xlink:href"]))
	case "form":
		attributes := a.read()
		a.pull(formKind, attributes["action"])
		a.closeForm()
		if a.open = newForm(attributes); a.open.sends {
			a.forms++
		}
	case "button":
		a.offered = true
		attributes := a.read()
		a.pull(formKind, attributes["formaction"])
		a.postsBy(attributes)
	case "input":
		a.input(a.read())
	case "textarea":
		a.open.area = true
	}
}

// seenAnchor tells whether a tag is a link written just as one before: pages repeat them, and nothing is made of
// those.
func (a *analyser) seenAnchor(raw []byte) bool {
	if len(raw) < 3 || raw[1]|0x20 != 'a' || raw[2] > ' ' {
		return false
	}
	a.afterHome, a.offered = false, true
	home, seen := a.seen[string(raw)]
	a.inHome = home
	if !seen {
		a.anchor = string(raw) // reading it changes it
	}
	return seen
}

// add keeps an address, made absolute; what is no web address is left out.
func (a *analyser) add(list *[]string, ref string) {
	ref = strings.TrimSpace(ref)
	if ref == "" || strings.HasPrefix(ref, "#") {
		return
	}
	if len(*list) >= maxLinks || len(ref) > maxText {
		a.note(cutLinks)
		return
	}
	if resolved, err := a.base.Parse(ref); err == nil && (resolved.Scheme == "http" || resolved.Scheme == "https") {
		*list = append(*list, normal(resolved).String())
	}
}

// normal is an address without fragment, written so that equal ones are equal text: RFC 3986 §6.2.2.1 and §6.2.3.
func normal(u *url.URL) *url.URL {
	n := *u
	n.Fragment, n.RawFragment = "", ""
	n.Host = strings.ToLower(n.Host)
	if port := map[string]string{"http": ":80", "https": ":443"}[n.Scheme]; port != "" {
		n.Host = strings.TrimSuffix(n.Host, port)
	}
	if n.Path == "" {
		n.Path = "/"
	}
	return &n
}

func (a *analyser) meta(attributes map[string]string) {
	content := strings.TrimSpace(attributes["content"])
	name := strings.ToLower(attributes["name"])
	property := strings.ToLower(attributes["property"])
	if property == "" && strings.HasPrefix(name, "og:") {
		property = name
	}
	switch {
	case strings.HasPrefix(property, "og:"):
		key := strings.TrimPrefix(property, "og:")
		if key == "image:url" || key == "image:secure_url" { // other names of the same (the Open Graph protocol, structured properties)
			key = "image"
		}
		if a.card[key] == "" && slices.Contains(cardKeys, key) {
			a.card[key] = a.short(content)
		}
		if key == "image" {
			a.pull(cardKind, content)
		}
	case name == "description":
		a.keep(&a.descriptions, content)
	case name == "robots":
		a.keep(&a.robots, strings.ToLower(content))
	case name == "viewport":
		a.viewport = a.short(content)
		a.viewports++
	case name == "generator":
		a.generator = a.short(content)
	case name == "referrer":
		a.referrer = strings.ToLower(a.short(content))
	case name == "author":
		a.author = a.short(content)
	case strings.EqualFold(attributes["http-equiv"], "refresh"):
		if _, to, ok := strings.Cut(strings.ToLower(content), "url="); ok {
			a.add(&a.links, strings.Trim(content[len(content)-len(to):], ` "'`))
		}
	case strings.EqualFold(attributes["http-equiv"], "content-security-policy") && !a.inBody: // elsewhere it counts for nothing (Content Security Policy Level 3 §3.3)
		a.keep(&a.policies, content)
	case robotName.MatchString(name):
		a.keep(&a.robotsNamed, name+": "+strings.ToLower(content))
	case tokenName.MatchString(name) && content != "":
		a.keep(&a.tokens, content)
		a.keep(&a.otherMetas, content)
	case name != "" && content != "" && !slices.Contains(plainMetas, name) && !strings.Contains(name, ":"):
		a.keep(&a.otherMetas, content)
	}
}

// tokenName is how tags are called that prove whose a site is.
var tokenName = regexp.MustCompile(`verif|validat|proof|owner|webmaster|site-?auth|site-?claim`)

// robotName is how the robots that read tags of their own are called.
var robotName = regexp.MustCompile(`^[a-z0-9_.-]*(?:bot|spider|crawler|slurp)(?:[-_][a-z0-9_-]*)?$`)

// cardKeys are the properties for sharing that are looked at (the Open Graph protocol).
var cardKeys = []string{"title", "description", "image", "type"}

// plainMetas are the metas of the HTML standard and others that are no tokens.
var plainMetas = []string{"keywords", "theme-color", "color-scheme", "referrer", "application-name", "rights", "copyright", "date", "format-detection"}

func (a *analyser) link(attributes map[string]string) {
	href := attributes["href"]
	for rel := range strings.FieldsSeq(strings.ToLower(attributes["rel"])) {
		switch rel {
		case "canonical":
			if href = strings.TrimSpace(href); href != "" { // one that names nothing is none
				a.keep(&a.canonicals, href)
			}
		case "icon":
			a.add(&a.icons, href)
			a.pull(pictureKind, href)
			if len(a.icons) > 0 {
				a.iconTypes[a.icons[len(a.icons)-1]] = attributes["type"]
			}
		case "stylesheet":
			a.pull(styleKind, href)
		case "apple-touch-icon", "shortcut":
			a.pull(pictureKind, href)
		case "manifest", "modulepreload", "prefetch", "preload":
			a.pull(preloaded(rel, attributes["as"]), href)
			a.candidates(attributes["imagesrcset"])
		case "alternate":
			a.alternate(attributes)
		}
	}
}

func (a *analyser) alternate(attributes map[string]string) {
	switch kind := attributes["type"]; {
	case strings.Contains(kind, "rss") || strings.Contains(kind, "atom"):
		a.add(&a.feeds, attributes["href"])
	case attributes["hreflang"] != "":
		before := len(a.alternates)
		a.add(&a.alternates, attributes["href"])
		if len(a.alternates) > before {
			a.alternates[before] = strings.ToLower(attributes["hreflang"]) + " " + a.alternates[before]
		}
	}
}

func (a *analyser) script(attributes map[string]string) {
	a.raw, a.rawType = "script", strings.ToLower(attributes["type"])
	a.checksRobots(attributes)
	a.pull(scriptKind, attributes["src"])
}

func (a *analyser) image(attributes map[string]string) {
	src := attributes["src"]
	a.pull(pictureKind, src)
	a.candidates(attributes["srcset"])
	if !sized(attributes) && src != "" && !strings.HasPrefix(src, "data:") && len(a.unsized) < 5 && !slices.Contains(a.unsized, src) {
		a.keep(&a.unsized, src)
	}
	if attributes["role"] == "presentation" || attributes["aria-hidden"] == "true" {
		return
	}
	a.images++
	if _, described := attributes["alt"]; !described && len(a.imagesBare) < 5 {
		a.keep(&a.imagesBare, src)
	}
}

// sized tells whether a picture says how wide and high it is, or in what proportion, so that what follows it stays where it is
// while it comes (HTML Living Standard §4.8.17, CSS Sizing 4 §5.1).
func sized(attributes map[string]string) bool {
	style := strings.ToLower(attributes["style"])
	says := func(name string) bool {
		return attributes[name] != "" || strings.HasPrefix(style, name+":") || strings.Contains(style, ";"+name+":") || strings.Contains(style, " "+name+":")
	}
	return says("width") && says("height") || strings.Contains(style, "aspect-ratio")
}

// signOut are the words of a link or a button to sign out with: who is offered that is signed in.
var signOut = map[string]bool{"sign out": true, "log out": true, "logout": true, "log off": true, "sign off": true, "abmelden": true, "ausloggen": true, "déconnexion": true, "se déconnecter": true, "cerrar sesión": true, "esci": true, "disconnetti": true, "uitloggen": true, "afmelden": true, "sair": true, "wyloguj": true}

// robotChecks are words by which what asks whether one is a robot gives itself away.
var robotChecks = []string{"captcha", "robot-check", "human-check", "not-a-robot"}

// checksRobots looks for such words in what names an element.
func (a *analyser) checksRobots(attributes map[string]string) {
	names := strings.ToLower(attributes["name"] + " " + attributes["class"] + " " + attributes["id"] + " " + attributes["src"])
	a.robotCheck = a.robotCheck || slices.ContainsFunc(robotChecks, func(word string) bool { return strings.Contains(names, word) })
}

func (a *analyser) input(attributes map[string]string) {
	a.checksRobots(attributes)
	a.pull(formKind, attributes["formaction"])
	a.postsBy(attributes)
	if strings.EqualFold(attributes["type"], "image") {
		a.image(attributes)
	}
	hints := strings.ToLower(attributes["autocomplete"])
	a.open.input(attributes, hints)
	if strings.EqualFold(attributes["type"], "password") || strings.Contains(hints, "username") || strings.Contains(hints, "webauthn") {
		a.password = true
	}
}

var (
	yearShape = regexp.MustCompile(`\b(?:19|20)\d\d\b`)
	copySigns = []string{"©", "copyright", "(c) "}
)

// text takes a piece of text as it stands in the markup; its entities are only resolved where they matter.
func (a *analyser) text(raw []byte) {
	switch {
	case a.inTitle:
		if title := strings.Join(strings.Fields(string(a.z.Text())), " "); title != "" {
			a.keep(&a.titles, title)
		}
		return
	case a.raw == "style":
		a.styled(string(raw))
		return
	case a.raw == "script" && a.rawType == "application/ld+json":
		if a.structuredBytes += len(raw); a.structuredBytes > maxStructured || len(a.structured) >= maxKept {
			a.note(cutTexts)
			return
		}
		a.structured = append(a.structured, string(raw))
		return
	case a.raw != "" || !a.inBody:
		return
	}
	a.goesOn(raw)
	if !a.signsOut && len(raw) < 40 && a.offered {
		a.signsOut = signOut[strings.ToLower(strings.Join(strings.Fields(html.UnescapeString(string(raw))), " "))]
	}
	if a.inLink && a.wanted.linkTexts && len(a.linkTexts) < maxKept {
		if words := strings.Join(strings.Fields(html.UnescapeString(string(raw))), " "); len(words) > 2 {
			a.linkTexts = append(a.linkTexts, a.short(words))
		}
	}
	if a.inHeading && a.heading == "" {
		a.heading = a.short(strings.Join(strings.Fields(html.UnescapeString(string(raw))), " "))
	}
	if digits := a.count(raw); !digits || !mayHoldCopyright(raw) {
		return
	}
	lower := strings.ToLower(string(a.z.Text()))
	if slices.ContainsFunc(copySigns, func(sign string) bool { return strings.Contains(lower, sign) }) {
		if years := yearShape.FindAllString(lower, 10); len(years) > 0 {
			a.copyright = true
			for _, year := range years {
				a.keep(&a.years, year)
			}
		}
	}
}

// digestSeed makes digests of one run comparable; they mean nothing outside it.
var digestSeed = maphash.MakeSeed()

// byteKinds tells of each byte whether it belongs to a word (1) and whether it is a digit (2).
var byteKinds = func() (kinds [256]uint8) {
	for c := range kinds {
		if c > ' ' {
			kinds[c] = 1
		}
		if c >= '0' && c <= '9' {
			kinds[c] |= 2
		}
	}
	return kinds
}()

// timeWord is how a short text tells when something was, in the languages this was tried in: such a text is another each hour.
var timeWord = regexp.MustCompile(`(?i)\b\d{1,2}[:.]\d{2}\b(?: ?[ap]\.?m| ?uhr|h)|\b\d{1,2}:\d{2}\b|\b(?:ago|yesterday|today|tonight|just now|minutes?|hours?|days?|vor|gestern|heute|il y a|hier|hace|ayer|fa|ieri|geleden|gisteren)\b`)

// fewTimeWords is how long such a text is at most.
const fewTimeWords = 8

// count counts words and takes the text into the digest of the page. It tells whether there are digits in it.
func (a *analyser) count(raw []byte) (digits bool) {
	words, before, all := 0, uint8(0), uint8(0)
	for _, c := range raw {
		kind := byteKinds[c]
		words += int(kind &^ before & 1)
		before = kind
		all |= kind
	}
	if words > 0 {
		a.words += words
		sum := maphash.Bytes(digestSeed, bytes.TrimSpace(raw))
		a.digest = a.digest*1099511628211 + sum
		if a.wanted.lasting && !(words <= fewTimeWords && timeWord.Match(raw)) {
			a.lasting = a.lasting*1099511628211 + sum
		}
	}
	return all&2 != 0
}

// mayHoldCopyright passes over nearly all text quickly.
func mayHoldCopyright(raw []byte) bool {
	return bytes.Contains(raw, copyrightSign) || bytes.Contains(raw, copyrightWord) || bytes.Contains(raw, copyrightCapitals) || bytes.Contains(raw, parenthesis) || bytes.Contains(raw, copyrightEntity)
}

var (
	copyrightSign     = []byte("©")
	copyrightWord     = []byte("opyright")
	copyrightCapitals = []byte("OPYRIGHT")
	parenthesis       = []byte(") ")
	copyrightEntity   = []byte("&")
)
