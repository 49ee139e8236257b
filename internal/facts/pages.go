package facts

import (
	"encoding/json"
	"fmt"
)

// The lists of the live source.
const (
	ListPages     = "live.pages"
	ListSpellings = "live.spellings"
	ListLinks     = "live.links"
	ListAssets    = "live.assets"
	ListArrivals  = "live.arrivals"
	ListCookies   = "live.cookies"
	ListRepeats   = "live.repeats"
)

// A column is one field of a list with where its value is in an item.
type column[T any] struct {
	Field
	get   func(*T) (Value, bool)
	key   string          // of the item's JSON that it is worked out from; its name when empty
	since int             // the format of snapshots that first has it; 1 when 0
	why   func(*T) string // why get has no value
	from  func(*T) Origin // where it was seen, when not where the item was
	home  bool            // it is a term of the home page as well
}

func text[T any](name, meaning string, get func(*T) string) column[T] {
	return column[T]{Field: Field{Name: name, Type: String, Meaning: meaning}, get: func(t *T) (Value, bool) { return TextOf(String, get(t)), true }}
}

func oneOf[T any](name string, words []string, meaning string, get func(*T) string) column[T] {
	return column[T]{Field: Field{Name: name, Type: Words, Words: words, Meaning: meaning}, get: func(t *T) (Value, bool) { return TextOf(Words, get(t)), true }}
}

func number[T any](name, meaning string, get func(*T) int) column[T] {
	return column[T]{Field: Field{Name: name, Type: Int, Meaning: meaning}, get: func(t *T) (Value, bool) { return NumberOf(Int, int64(get(t))), true }}
}

func yes[T any](name, meaning string, get func(*T) bool) column[T] {
	return column[T]{Field: Field{Name: name, Type: Bool, Meaning: meaning}, get: func(t *T) (Value, bool) { return BoolOf(get(t)), true }}
}

func texts[T any](name, meaning string, get func(*T) []string) column[T] {
	return column[T]{Field: Field{Name: name, Type: List, Meaning: meaning}, get: func(t *T) (Value, bool) { return ListOf(get(t)...), true }}
}

// onHome makes a column a term of the home page as well.
func (c column[T]) onHome() column[T] { c.home = true; return c }

// keyed says which key of the JSON a column is worked out from.
func (c column[T]) keyed(key string) column[T] { c.key = key; return c }

// varies says that it differs from look to look though nothing was changed.
func (c column[T]) varies() column[T] { c.Steady.Varies = true; return c }

// follows says from which fields of the item, or lists, it is worked out.
func (c column[T]) follows(names ...string) column[T] { c.Steady.Follows = names; return c }

// sinceFormat says which format of snapshots first has a column.
func (c column[T]) sinceFormat(format int) column[T] { c.since = format; return c }

// A table is the columns of a list, by name.
type table[T any] struct {
	columns []column[T]
	byName  map[string]*column[T]
}

func tableOf[T any](columns ...column[T]) table[T] {
	t := table[T]{columns, map[string]*column[T]{}}
	for i := range columns {
		c := &columns[i]
		if c.key == "" {
			c.key = c.Name
		}
		c.since = max(c.since, 1)
		t.byName[c.Name] = c
	}
	return t
}

func (t table[T]) fields() []Field {
	fields := make([]Field, len(t.columns))
	for i, c := range t.columns {
		fields[i] = c.Field
	}
	return fields
}

// field is the value of one of the columns.
func (t table[T]) field(item *T, lacks lacking, name string) (Value, bool) {
	c := t.byName[name]
	if c == nil || lacks[c.key] {
		return Value{}, false
	}
	return c.get(item)
}

// reason says why a column has no value.
func (t table[T]) reason(item *T, lacks lacking, name string) string {
	c := t.byName[name]
	switch {
	case c == nil:
		return "there is no such field"
	case lacks[c.key] && c.since > 1:
		return fmt.Sprintf("the snapshot is older than this is looked at: it is held since format %d", c.since)
	case lacks[c.key]:
		return "the snapshot does not hold it"
	case c.why != nil:
		return c.why(item)
	}
	return ""
}

// origin is where a column's value was seen.
func (t table[T]) origin(item *T, otherwise Origin, name string) Origin {
	if c := t.byName[name]; c != nil && c.from != nil {
		return c.from(item)
	}
	return otherwise
}

// lacking are the keys that an item's JSON did not have: what it says of them is not known, and not nothing.
type lacking map[string]bool

// lacks finds them.
func (t table[T]) lacks(raw []byte) (lacking, error) {
	var there map[string]json.RawMessage
	if err := json.Unmarshal(raw, &there); err != nil {
		return nil, err
	}
	var lacks lacking
	for _, c := range t.columns {
		if _, has := there[c.key]; !has {
			if lacks == nil {
				lacks = lacking{}
			}
			lacks[c.key] = true
		}
	}
	return lacks, nil
}

// A Page is one address that answered with a page, as a visitor who is not signed in gets it.
type Page struct {
	Address        string   `json:"address"` // as it was asked for
	Path           string   `json:"path"`    // with the query
	Kind           string   `json:"kind"`    // home, content, listing, file, search
	Status         int      `json:"status"`
	Depth          int      `json:"depth"`  // clicks from home; -1 when only a sitemap names it
	Linked         bool     `json:"linked"` // some page links to it
	InSitemap      bool     `json:"in_sitemap"`
	Title          string   `json:"title"`
	Titles         int      `json:"titles"`
	TitlePixels    int      `json:"title_pixels"`
	TitleShared    int      `json:"title_shared"` // other pages that are meant to be listed, with the same title
	Description    string   `json:"description"`
	Descriptions   int      `json:"descriptions"`
	DescPixels     int      `json:"description_pixels"`
	DescShared     int      `json:"description_shared"` // other pages that are meant to be listed, with the same description
	RobotsTag      string   `json:"robots_tag"`
	RobotsHeader   string   `json:"robots_header"`
	Disallowed     bool     `json:"disallowed"`   // by robots.txt, for a search engine
	Indexable      bool     `json:"indexable"`    // status 200, and neither tag nor header nor robots.txt nor canonical says no
	NoIndex        bool     `json:"noindex"`      // tag or header says so
	Meant          bool     `json:"meant"`        // it will be listed once what hides the whole site is taken away
	HiddenBy       string   `json:"hidden_by"`    // tag, header, tag and header, robots.txt, failing robots.txt, or ""
	RobotsLine     int      `json:"robots_line"`  // the line of robots.txt that keeps search engines out; 0 for none
	Elsewhere      bool     `json:"elsewhere"`    // its canonical link names another address
	WithSite       bool     `json:"with_site"`    // what hides it hides the whole site
	NamedRobots    []string `json:"named_robots"` // robots that are told by name to keep out, each with where
	Robots         string   `json:"robots"`       // in plain words, what together they mean
	Canonical      string   `json:"canonical"`
	Canonicals     int      `json:"canonicals"`
	CanonicalWorks string   `json:"canonical_works"` // answers, redirects, fails, noindex, foreign, or "" without one
	CanonicalCrowd int      `json:"canonical_crowd"` // pages that name the same other address as canonical, this one among them
	Language       string   `json:"language"`
	Charset        string   `json:"charset"`
	CharsetEarly   bool     `json:"charset_early"` // declared in the header or within the first 1024 bytes
	Viewport       string   `json:"viewport"`
	Zoomable       bool     `json:"zoomable"`
	Headings       int      `json:"headings"` // h1
	Words          int      `json:"words"`
	Images         int      `json:"images"`
	ImagesBare     []string `json:"images_bare"` // content images without an alt attribute, the first few
	Generator      string   `json:"generator"`
	Author         string   `json:"author"`
	Tokens         []string `json:"tokens"`       // contents of meta tags whose name speaks of proof of ownership
	Verification   []string `json:"verification"` // contents of meta tags that are no others known
	CardTitle      string   `json:"card_title"`
	CardText       string   `json:"card_text"`
	CardImage      string   `json:"card_image"`
	CardType       string   `json:"card_type"`
	CardWidth      int      `json:"card_width"`       // pixels; 0 when not fetched or no picture
	CardHeight     int      `json:"card_height"`      //
	StructuredBad  int      `json:"structured_bad"`   // JSON-LD blocks that do not parse
	Structured     []string `json:"structured"`       // types, such as Organization
	StructuredLack []string `json:"structured_lack"`  // fields our list asks for and a block lacks: Article.author
	Insecure       []string `json:"insecure"`         // addresses an encrypted page loads or posts to unencrypted, the first few
	InsecureMedia  []string `json:"insecure_media"`   // the same for pictures and media
	AlternatesBad  []string `json:"alternates_wrong"` // alternates that do not answer, or do not name the page back
	Alternates     []string `json:"alternates"`       // language and address, such as "de https://..."
	Feeds          []string `json:"feeds"`            // announced in the head
	Icons          []string `json:"icons"`
	Password       bool     `json:"password"`    // a form with a password, user name or passkey control
	Forms          int      `json:"forms"`       // that send something
	Posts          []string `json:"posts"`       // addresses that its forms post to
	Once           []string `json:"once"`        // fields of them that hold what looks as made for one visit
	Letters        bool     `json:"letters"`     // one of them is to write something in
	RobotCheck     bool     `json:"robot_check"` // something on the page asks whether one is a robot
	Entries        int      `json:"entries"`     // articles on a listing
	Years          []string `json:"years"`       // in the copyright line
	Copyright      bool     `json:"copyright"`
	Breadcrumbs    bool     `json:"breadcrumbs"`
	Analytics      int      `json:"analytics"` // times that the analytics token stands in it
	Hit            bool     `json:"hit"`       // a cache answered, as the headers say
	CacheSays      string   `json:"cache_says"`
	Twin           string   `json:"twin"`      // another address that answers with the same content and is not canonical to this one
	Cut            []string `json:"cut"`       // what of it was more than is read
	Own            string   `json:"own"`       // what the content system knows the page by, "" when it does not tell
	Group          string   `json:"group"`     // the type of structured data that the intent gives pages below its path
	Unread         string   `json:"unread"`    // what stood in the way of reading it as it was meant: a header, or ""
	Strangers      []string `json:"strangers"` // hosts of the intent's building_hosts that it names
	Framing        string   `json:"framing"`   // what limits who may show it in a frame, as its headers say it
	FramesLimited  bool     `json:"frames_limited"`
	Sniffing       string   `json:"sniffing"` // X-Content-Type-Options
	SniffStopped   bool     `json:"sniff_stopped"`
	Referrer       string   `json:"referrer"` // Referrer-Policy, and the page's own tag
	ReferrerShort  bool     `json:"referrer_short"`
	HSTS           string   `json:"hsts"`           // Strict-Transport-Security
	HSTSSeconds    int64    `json:"hsts_seconds"`   // for which browsers are to come encrypted; -1 when it says nothing that counts
	ContentPolicy  string   `json:"content_policy"` // Content-Security-Policy
	PolicyLets     []string `json:"policy_lets"`    // what it lets run besides what the site means to, the worst first
	Features       string   `json:"features"`       // Permissions-Policy
	FeatureLimits  int      `json:"feature_limits"` // features that it keeps from others
	CacheControl   string   `json:"cache_control"`
	Fresh          int64    `json:"fresh"` // seconds for which a shared cache may keep it, as it says itself; -1 when it does not
	Vary           string   `json:"vary"`
	Validator      bool     `json:"validator"` // it carries an ETag or a Last-Modified
	Outcome        string   `json:"outcome"`   // what became of the request at a cache, as the headers say: hit, stale, bypass, miss, untold
	Private        bool     `json:"private"`   // it says that shared caches are not to keep it
	SetsSession    bool     `json:"sets_session"`
	Personal       string   `json:"personal"` // why it is somebody's own, "" when it is everybody's
	Compressed     string   `json:"compressed"`
	Size           int      `json:"size"`        // bytes of markup
	Sent           int      `json:"sent"`        // bytes that were sent
	Weight         int      `json:"weight"`      // KiB that are sent, with what it loads of the site's own
	Loads          int      `json:"loads"`       // styles and scripts that it names
	Unused         []string `json:"unused"`      // of an extension that it does not use, by the dialect's account
	Unsized        []string `json:"unsized"`     // pictures of which it does not say how large they are shown
	CardUnseen     string   `json:"card_unseen"` // why the picture for sharing could not be measured, "" when it was

	lacks lacking
}

var pageTable = tableOf(
	text("address", "the page's address", func(p *Page) string { return p.Address }).follows("path", "settings.site.address", "live.address"),
	text("path", "path and query", func(p *Page) string { return p.Path }),
	text("kind", "home, content, listing, author listing, date listing, file (the page of a single uploaded file), search, sign-in or error (which answers as a page does)", func(p *Page) string { return p.Kind }),
	number("status", "HTTP status", func(p *Page) int { return p.Status }).onHome().follows("settings.maintenance.on", "settings.lock.on"),
	number("depth", "clicks from home, -1 when only a sitemap names it", func(p *Page) int { return p.Depth }).follows("linked", ListPages).follows(ListPages),
	yes("linked", "some page links to it", func(p *Page) bool { return p.Linked }),
	yes("in_sitemap", "a sitemap names it", func(p *Page) bool { return p.InSitemap }).follows("live.sitemap.answers"),
	text("title", "the title", func(p *Page) string { return p.Title }).onHome().follows("settings.site.title", "settings.site.tagline", "settings.title.home", "settings.title.inner", "settings.title.listing", "settings.title.separator"),
	number("titles", "title elements that are not empty", func(p *Page) int { return p.Titles }).onHome().follows("title"),
	number("title_pixels", "estimated width of the title in results", func(p *Page) int { return p.TitlePixels }).onHome().follows("title"),
	number("title_shared", "other pages that are meant to be listed, with the same title", func(p *Page) int { return p.TitleShared }).follows("title", ListPages),
	text("description", "the description", func(p *Page) string { return p.Description }).onHome().follows("settings.meta.description", "settings.site.title"),
	number("descriptions", "description tags", func(p *Page) int { return p.Descriptions }).onHome().follows("description"),
	number("description_pixels", "estimated width of the description in results", func(p *Page) int { return p.DescPixels }).follows("description"),
	number("description_shared", "other pages that are meant to be listed, with the same description of their own", func(p *Page) int { return p.DescShared }).follows("description", ListPages),
	text("robots_tag", "what the robots tag says", func(p *Page) string { return p.RobotsTag }).follows("settings.meta.robots_index", "settings.meta.robots_follow", "settings.listing.author_indexed", "settings.listing.date_indexed", "settings.listing.file_indexed", "settings.listing.search_indexed"),
	text("robots_header", "what the X-Robots-Tag header says", func(p *Page) string { return p.RobotsHeader }),
	text("robots", "what tag, header and robots.txt mean together", func(p *Page) string { return p.Robots }).onHome().follows("robots_tag", "robots_header", "disallowed", "status", "canonical", "unread"),
	yes("disallowed", "robots.txt keeps search engines out", func(p *Page) bool { return p.Disallowed }).follows("live.robots.status", "live.robots.line"),
	yes("indexable", "search engines may list it", func(p *Page) bool { return p.Indexable }).onHome().follows("robots_tag", "robots_header", "disallowed", "status", "canonical", "live.robots.status"),
	yes("noindex", "tag or header says noindex", func(p *Page) bool { return p.NoIndex }).onHome().follows("robots_tag", "robots_header"),
	yes("meant", "it will be listed once what hides the whole site is taken away", func(p *Page) bool { return p.Meant }).sinceFormat(3).follows("robots_tag", "robots_header", "disallowed", "status", "canonical", ListPages),
	text("hidden_by", "what keeps search engines from listing it: tag, header, tag and header, robots.txt, or failing robots.txt; nothing when nothing does", func(p *Page) string { return p.HiddenBy }).onHome().sinceFormat(3).follows("robots_tag", "robots_header", "disallowed", "live.robots.status"),
	number("robots_line", "the line of robots.txt that keeps search engines out, 0 for none", func(p *Page) int { return p.RobotsLine }).onHome().sinceFormat(3).follows("disallowed", "live.robots.line"),
	yes("elsewhere", "its canonical link names another address", func(p *Page) bool { return p.Elsewhere }).onHome().sinceFormat(3).follows("canonical", "settings.site.address"),
	yes("with_site", "what hides it hides the whole site", func(p *Page) bool { return p.WithSite }).sinceFormat(3).follows("robots_tag", "robots_header", "disallowed", ListPages),
	texts("named_robots", "robots that tag or header tell by name to keep out", func(p *Page) []string { return p.NamedRobots }).sinceFormat(3).follows("robots_tag", "robots_header"),
	text("canonical", "the canonical address", func(p *Page) string { return p.Canonical }).onHome().follows("live.address"),
	number("canonicals", "canonical links", func(p *Page) int { return p.Canonicals }).follows("canonical"),
	column[Page]{Field: Field{Name: "canonical_works", Type: String, Meaning: "whether the canonical address answers, redirects, fails, is noindex or foreign"}, get: func(p *Page) (Value, bool) {
		return TextOf(String, p.CanonicalWorks), p.CanonicalWorks != "not looked at"
	}, why: func(p *Page) string { return "its canonical address, " + p.Canonical + ", was not looked at" }}.follows("canonical", "status"),
	text("language", "the lang attribute", func(p *Page) string { return p.Language }).onHome().follows("settings.site.language"),
	text("charset", "the character encoding", func(p *Page) string { return p.Charset }),
	yes("charset_early", "the encoding is declared in the header or the first 1024 bytes", func(p *Page) bool { return p.CharsetEarly }).follows("charset"),
	text("viewport", "the viewport tag", func(p *Page) string { return p.Viewport }),
	yes("zoomable", "the viewport lets one zoom", func(p *Page) bool { return p.Zoomable }).follows("viewport"),
	number("headings", "h1 headings", func(p *Page) int { return p.Headings }),
	number("words", "words of text", func(p *Page) int { return p.Words }).follows("settings.posts.shown", "settings.posts.full", "entries", ListLinks+".", ListPages+".", "settings.pages.title", "settings.pages.description", "live.home.linked_titles", "settings.site.title", "settings.site.tagline", "settings.site.copyright", "headings", "images", "forms", "breadcrumbs", "strangers"),
	number("images", "content images", func(p *Page) int { return p.Images }).follows("live.assets.", "live.assets.pages"),
	texts("images_bare", "images without alternative text", func(p *Page) []string { return p.ImagesBare }).follows("images"),
	text("generator", "the generator tag", func(p *Page) string { return p.Generator }).onHome().follows("settings.meta.generator_shown", "settings.system.version"),
	text("author", "the author tag", func(p *Page) string { return p.Author }).onHome().follows("settings.meta.author_shown"),
	texts("verification", "contents of meta tags that are no others known, verification tags among them", func(p *Page) []string { return p.Verification }).onHome().varies(),
	texts("tokens", "contents of meta tags whose name speaks of proof of ownership", func(p *Page) []string { return p.Tokens }).onHome().sinceFormat(3).follows("settings.meta.verification"),
	text("card_title", "title for sharing", func(p *Page) string { return p.CardTitle }).follows("settings.card.shown", "title"),
	text("card_text", "description for sharing", func(p *Page) string { return p.CardText }).follows("settings.card.shown", "description"),
	text("card_image", "picture for sharing", func(p *Page) string { return p.CardImage }).follows("settings.card.shown", "settings.card.image", "settings.site.address", "live.address"),
	text("card_type", "type for sharing", func(p *Page) string { return p.CardType }).follows("settings.card.shown"),
	number("canonical_crowd", "pages that name the same other address as canonical, this one among them", func(p *Page) int { return p.CanonicalCrowd }).sinceFormat(3).follows("canonical", ListPages),
	measured("card_width", "width of that picture", func(p *Page) int { return p.CardWidth }).follows("card_image", "live.assets.size", "live.assets.width"),
	measured("card_height", "height of that picture", func(p *Page) int { return p.CardHeight }).follows("card_image", "live.assets.size", "live.assets.width"),
	number("structured_bad", "JSON-LD blocks that do not parse", func(p *Page) int { return p.StructuredBad }).follows("structured"),
	texts("structured", "types of structured data", func(p *Page) []string { return p.Structured }).onHome().follows("settings.structured.shown"),
	texts("structured_lack", "fields that structured data lacks", func(p *Page) []string { return p.StructuredLack }).onHome().follows("structured"),
	texts("insecure", "what the page loads or posts unencrypted", func(p *Page) []string { return p.Insecure }),
	texts("insecure_media", "pictures and media loaded unencrypted", func(p *Page) []string { return p.InsecureMedia }),
	texts("alternates", "alternates in other languages", func(p *Page) []string { return p.Alternates }),
	texts("alternates_wrong", "alternates that do not answer, or do not name the page back", func(p *Page) []string { return p.AlternatesBad }).sinceFormat(3).follows("alternates", ListPages),
	texts("feeds", "feeds announced in the head", func(p *Page) []string { return p.Feeds }).onHome().follows("settings.site.title", "settings.feed.items", "settings.site.address", "live.address"),
	texts("icons", "icons linked in the head", func(p *Page) []string { return p.Icons }).follows("settings.site.icon", "settings.site.address", "live.address"),
	yes("password", "a form to sign in with", func(p *Page) bool { return p.Password }).follows("settings.page.login"),
	number("forms", "forms that send something", func(p *Page) int { return p.Forms }),
	texts("posts", "addresses that its forms post to", func(p *Page) []string { return p.Posts }).sinceFormat(11).follows("forms", "settings.site.address"),
	texts("once", "fields of its forms that hold what looks as made for one visitor or one visit, by what they are called", func(p *Page) []string { return p.Once }).sinceFormat(11).follows("forms"),
	yes("letters", "a form to write something in, which is sent", func(p *Page) bool { return p.Letters }).sinceFormat(8).follows("forms"),
	yes("robot_check", "something on the page asks whether one is a robot", func(p *Page) bool { return p.RobotCheck }).follows("forms"),
	number("entries", "articles on a listing", func(p *Page) int { return p.Entries }).follows("settings.posts.shown"),
	texts("years", "years in the copyright line", func(p *Page) []string { return p.Years }).onHome().follows("settings.site.copyright"),
	yes("copyright", "there is a copyright line", func(p *Page) bool { return p.Copyright }).onHome().follows("years"),
	yes("breadcrumbs", "there are breadcrumbs", func(p *Page) bool { return p.Breadcrumbs }),
	number("analytics", "times that the analytics token stands in it", func(p *Page) int { return p.Analytics }),
	yes("hit", "a cache answered", func(p *Page) bool { return p.Hit }).onHome().varies(),
	text("cache_says", "the header that tells of a cache", func(p *Page) string { return p.CacheSays }).varies(),
	text("twin", "another address with the same content", func(p *Page) string { return p.Twin }).follows("words", "canonical", ListPages),
	column[Page]{Field: Field{Name: "shows", Type: Words, Words: showsWords, Meaning: "posts, when it lists several, or a page"}, get: func(p *Page) (Value, bool) {
		return TextOf(Words, showsWords[map[bool]int{true: 0, false: 1}[p.Entries > 1]]), true
	}}.keyed("entries").onHome().follows("entries"),
	texts("cut", "what of it was more than is read, and cut: body, texts, links or attributes", func(p *Page) []string { return p.Cut }).sinceFormat(2).follows("words"),
	text("own", "what the content system knows the page by", func(p *Page) string { return p.Own }).sinceFormat(2).varies(),
	text("group", "the type of structured data that the intent gives pages below its path; nothing when it gives none", func(p *Page) string { return p.Group }).sinceFormat(3).follows("intent.groups", "path"),
	text("unread", "the header that stood in the way of reading it as it was meant; nothing when none did", func(p *Page) string { return p.Unread }).sinceFormat(3),
	texts("strangers", "hosts that the site was built under, and that an address on it names", func(p *Page) []string { return p.Strangers }).sinceFormat(3).follows("intent.building_hosts"),
	text("framing", "what limits who may show it in a frame: X-Frame-Options, or frame-ancestors of its policy; nothing when nothing is said", func(p *Page) string { return p.Framing }).sinceFormat(5).follows("server.answers.framing", "server.answers.content_policy"),
	yes("frames_limited", "others may not show it in a frame", func(p *Page) bool { return p.FramesLimited }).sinceFormat(5).follows("framing"),
	text("sniffing", "X-Content-Type-Options", func(p *Page) string { return p.Sniffing }).sinceFormat(5).follows("server.answers.nosniff"),
	yes("sniff_stopped", "browsers do not guess what it is", func(p *Page) bool { return p.SniffStopped }).sinceFormat(5).follows("sniffing"),
	text("referrer", "Referrer-Policy, and after it what a tag of the page says", func(p *Page) string { return p.Referrer }).sinceFormat(5).follows("server.answers.referrer"),
	yes("referrer_short", "other sites that it leads to are told no more than the site's address, or nothing", func(p *Page) bool { return p.ReferrerShort }).sinceFormat(5).follows("referrer"),
	text("hsts", "Strict-Transport-Security", func(p *Page) string { return p.HSTS }).sinceFormat(7).onHome().follows("server.answers.hsts"),
	column[Page]{Field: Field{Name: "hsts_seconds", Type: Int, Meaning: "seconds for which browsers are to come encrypted; -1 when nothing is said that counts"}, get: func(p *Page) (Value, bool) { return NumberOf(Int, p.HSTSSeconds), true }}.sinceFormat(7).onHome().follows("hsts"),
	text("content_policy", "Content-Security-Policy", func(p *Page) string { return p.ContentPolicy }).sinceFormat(7).onHome().follows("server.answers.content_policy"),
	texts("policy_lets", "what that lets run besides what the site means to, the worst first; everything without one", func(p *Page) []string { return p.PolicyLets }).sinceFormat(7).onHome().follows("content_policy"),
	text("features", "Permissions-Policy", func(p *Page) string { return p.Features }).sinceFormat(7).onHome().follows("server.answers.permissions_policy"),
	number("feature_limits", "features of browsers that it keeps from others", func(p *Page) int { return p.FeatureLimits }).sinceFormat(7).onHome().follows("features"),
	text("cache_control", "Cache-Control", func(p *Page) string { return p.CacheControl }).sinceFormat(6).follows("server.answers.cache_control"),
	column[Page]{Field: Field{Name: "fresh", Type: Int, Meaning: "seconds for which a shared cache may keep it, as it says itself; -1 when it does not"}, get: func(p *Page) (Value, bool) { return NumberOf(Int, p.Fresh), true }}.sinceFormat(6).follows("cache_control"),
	text("vary", "Vary", func(p *Page) string { return p.Vary }).sinceFormat(6).follows("server.answers.vary", "compressed"),
	yes("validator", "it carries an ETag or a Last-Modified", func(p *Page) bool { return p.Validator }).sinceFormat(6),
	oneOf("outcome", outcomeWords, "what became of the request at a cache, as headers say", func(p *Page) string { return p.Outcome }).sinceFormat(6).varies(),
	yes("private", "it says that shared caches are not to keep it", func(p *Page) bool { return p.Private }).sinceFormat(6).follows("cache_control"),
	yes("sets_session", "it sets a cookie that carries a session", func(p *Page) bool { return p.SetsSession }).sinceFormat(6).follows("live.cookies."),
	text("personal", "why it is somebody's own, as a cart or an account is; nothing when it is everybody's", func(p *Page) string { return p.Personal }).sinceFormat(6),
	text("compressed", "how it was compressed; nothing when it was not", func(p *Page) string { return p.Compressed }).onHome().sinceFormat(6).follows("server.answers.compressed", "settings.delivery.compression"),
	number("size", "bytes of its markup", func(p *Page) int { return p.Size }).sinceFormat(6).varies(),
	number("sent", "bytes that were sent for it", func(p *Page) int { return p.Sent }).sinceFormat(6).varies(),
	number("weight", "KiB that are sent, with the styles, scripts, fonts and pictures of the site's own that it loads", func(p *Page) int { return p.Weight }).sinceFormat(6).varies(),
	number("loads", "styles and scripts that it loads", func(p *Page) int { return p.Loads }).sinceFormat(6).follows(ListAssets),
	texts("unused", "styles and scripts of extensions that it does not use, by the dialect's account", func(p *Page) []string { return p.Unused }).sinceFormat(6).follows(ListAssets, "settings.extensions"),
	texts("unsized", "pictures of which it does not say how wide and high they are, the first few", func(p *Page) []string { return p.Unsized }).sinceFormat(6).follows("images"),
)

// measured is a length of the picture for sharing, which is not known when nobody could look at it.
func measured(name, meaning string, get func(*Page) int) column[Page] {
	return column[Page]{Field: Field{Name: name, Type: Int, Meaning: meaning}, get: func(p *Page) (Value, bool) {
		return NumberOf(Int, int64(get(p))), p.CardUnseen == ""
	}, why: func(p *Page) string {
		return "the picture for sharing, " + p.CardImage + ", could not be measured: " + p.CardUnseen
	}}
}

// ofTheAnswer are the columns that are known of a page whose text could not be read.
var ofTheAnswer = map[string]bool{"address": true, "path": true, "status": true, "depth": true, "linked": true, "in_sitemap": true,
	"robots_header": true, "disallowed": true, "hit": true, "cache_says": true, "own": true, "unread": true, "cache_control": true, "fresh": true, "vary": true, "validator": true, "outcome": true, "private": true, "sets_session": true}

// homeTerms are the columns of the page table that are terms of the home page as well, by their name.
var homeTerms = func() map[string]*Term {
	terms := map[string]*Term{}
	for _, c := range pageTable.columns {
		if c.home {
			terms[c.Name] = declare[Value](Live, c.Type, "home."+c.Name, c.Meaning+", of the home page", nil).Term
			terms[c.Name].Words = c.Words
			terms[c.Name].Steady = c.Steady.onHome(c.Name)
		}
	}
	return terms
}()

// home is the term of the home page that a column is.
func home(name string) *Term {
	if term := homeTerms[name]; term != nil {
		return term
	}
	panic("the home page has no column " + name) // the table is part of the program
}

// The terms of the home page that this program reads or makes by themselves.
var (
	HomeStatus       = Key[int]{home("status"), func(n int) Value { return NumberOf(Int, int64(n)) }}
	HomeTitle        = home("title")
	HomeDescription  = home("description")
	HomeLanguage     = home("language")
	HomeRobots       = home("robots")
	HomeGenerator    = home("generator")
	HomeAuthor       = home("author")
	HomeVerification = home("verification")
	HomeShows        = home("shows")
	HomeYears        = home("years")
	HomeStructured   = home("structured")
	HomeCompressed   = home("compressed")
	HomeIndexable    = home("indexable")
	HomeHiddenBy     = home("hidden_by")
	HomeLinkedTitles = listKey(Live, "home.linked_titles", "titles of the pages that the home page links to, and the words of the links").follows(ListPages)
	HomeHeaders      = listKey(Live, "home.headers", "headers of the home page's answer; of cookies only the names").follows("live.pages.compressed", "live.pages.vary", "live.pages.cache_control", "live.pages.framing", "live.pages.sniffing", "live.pages.referrer", "live.pages.robots_header", ListAnswers)
)

// HomeReadings are what the page says as the home page.
func (p *Page) HomeReadings() []Reading {
	var readings []Reading
	for _, c := range pageTable.columns {
		if value, known := p.Field(c.Name); c.home && known {
			readings = append(readings, Reading{Source: Live, Name: homeTerms[c.Name].Short(), Value: value, Origin: p.Origin()})
		}
	}
	return readings
}

// Subject is the page's path.
func (p *Page) Subject() string { return p.Path }

// Identity is what the content system knows the page by, where it tells, so that a page that moves is the same one;
// else its path.
func (p *Page) Identity() string {
	if p.Own != "" {
		return "page " + p.Own
	}
	return p.Path
}

// Origin is the page's address.
func (p *Page) Origin() Origin {
	o := Origin{URL: p.Address}
	if p.Hit {
		o.Header = p.CacheSays
	}
	return o
}

// Field implements Item.
func (p *Page) Field(name string) (Value, bool) {
	if p.Unread != "" && !ofTheAnswer[name] {
		return Value{}, false
	}
	return pageTable.field(p, p.lacks, name)
}

// Why implements Item.
func (p *Page) Why(field string) Reason {
	if p.Unread != "" && !ofTheAnswer[field] {
		return Reason{"the page could not be read: " + p.Unread, p.Origin()}
	}
	return Reason{pageTable.reason(p, p.lacks, field), p.OriginOf(field)}
}

// OriginOf implements Item.
func (p *Page) OriginOf(field string) Origin { return pageTable.origin(p, p.Origin(), field) }

// A Spelling is another way to write the site's address, and where it leads.
type Spelling struct {
	Address   string `json:"address"`
	Status    int    `json:"status"` // of the first answer
	Final     string `json:"final"`  // where the redirects end
	Steps     int    `json:"steps"`
	Permanent bool   `json:"permanent"` // every step is 301 or 308
	Preferred bool   `json:"preferred"` // Final is the same path under the one true address
	Kind      string `json:"kind"`      // scheme, host or slash

	lacks lacking
}

var spellingTable = tableOf(
	text("address", "the spelling", func(s *Spelling) string { return s.Address }),
	number("status", "status of the first answer", func(s *Spelling) int { return s.Status }).follows("final", "server.answers.location", "server.answers.status", "settings.site.address", "server.answers.location", "server.answers.status"),
	text("final", "where it leads", func(s *Spelling) string { return s.Final }),
	number("steps", "redirects on the way", func(s *Spelling) int { return s.Steps }).follows("final", "status"),
	yes("permanent", "every redirect is permanent", func(s *Spelling) bool { return s.Permanent }).follows("status", "final", "steps"),
	yes("preferred", "it leads to the same path of the one true address", func(s *Spelling) bool { return s.Preferred }).follows("final", "live.preferred"),
	text("kind", "scheme, host or slash", func(s *Spelling) string { return s.Kind }),
)

// Subject is the spelling itself.
func (s *Spelling) Subject() string { return s.Address }

// Identity is the spelling itself.
func (s *Spelling) Identity() string { return s.Address }

// Origin is the spelling itself.
func (s *Spelling) Origin() Origin { return Origin{URL: s.Address} }

// Field implements Item.
func (s *Spelling) Field(name string) (Value, bool) { return spellingTable.field(s, s.lacks, name) }

// Why implements Item.
func (s *Spelling) Why(field string) Reason {
	return Reason{spellingTable.reason(s, s.lacks, field), s.OriginOf(field)}
}

// OriginOf implements Item.
func (s *Spelling) OriginOf(field string) Origin { return spellingTable.origin(s, s.Origin(), field) }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (s *Spelling) UnmarshalJSON(raw []byte) (err error) {
	type plain Spelling
	if err := json.Unmarshal(raw, (*plain)(s)); err != nil {
		return err
	}
	s.lacks, err = spellingTable.lacks(raw)
	return err
}

// A Link is an internal link that does not lead straight to a page: it fails, or it is redirected.
type Link struct {
	Address string `json:"address"`
	From    string `json:"from"` // the first page that has it
	Status  int    `json:"status"`
	Steps   int    `json:"steps"`
	Final   string `json:"final"`
	Loop    bool   `json:"loop"`

	lacks lacking
}

var linkTable = tableOf(
	text("address", "where it points", func(l *Link) string { return l.Address }),
	text("from", "the first page that has it", func(l *Link) string { return l.From }).varies(),
	number("status", "status at the end", func(l *Link) int { return l.Status }),
	number("steps", "redirects on the way", func(l *Link) int { return l.Steps }).follows("status", "final"),
	text("final", "where it ends", func(l *Link) string { return l.Final }),
	yes("loop", "the redirects never end", func(l *Link) bool { return l.Loop }).follows("status"),
)

// Subject is where the link points.
func (l *Link) Subject() string { return l.Address }

// Identity is where the link points.
func (l *Link) Identity() string { return l.Address }

// Origin is the page that has the link.
func (l *Link) Origin() Origin { return Origin{URL: l.From} }

// Field implements Item.
func (l *Link) Field(name string) (Value, bool) { return linkTable.field(l, l.lacks, name) }

// Why implements Item.
func (l *Link) Why(field string) Reason {
	return Reason{linkTable.reason(l, l.lacks, field), l.OriginOf(field)}
}

// OriginOf implements Item.
func (l *Link) OriginOf(field string) Origin { return linkTable.origin(l, l.Origin(), field) }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (l *Link) UnmarshalJSON(raw []byte) (err error) {
	type plain Link
	if err := json.Unmarshal(raw, (*plain)(l)); err != nil {
		return err
	}
	l.lacks, err = linkTable.lacks(raw)
	return err
}

// An Asset is something that pages name beside other pages: a style, a script, a font, a picture, media.
type Asset struct {
	Address string   `json:"address"`
	Kind    string   `json:"kind"`
	From    string   `json:"from"`  // the page or style that first names it
	Pages   int      `json:"pages"` // pages that name it
	On      []string `json:"on"`    // the paths of the first few
	Status  int      `json:"status"`
	Final   string   `json:"final"` // where its redirects end

	Owner        string `json:"owner"`      // whose it is: theme NAME, extension NAME, uploads, system, or site
	Sent         int    `json:"sent"`       // bytes that were sent; -1 when that was not seen
	Size         int    `json:"size"`       // bytes of it; -1 when that was not seen
	Compressed   string `json:"compressed"` // how
	Saves        int    `json:"saves"`      // bytes that leaving out what means nothing would save, of a style or script; -1 when that was not tried
	Named        bool   `json:"named"`      // by its content: a digest or a version stands in its name or query
	CacheControl string `json:"cache_control"`
	Fresh        int64  `json:"fresh"` // seconds for which a browser may keep it, as it says itself; -1 when it does not
	Vary         string `json:"vary"`
	Validator    bool   `json:"validator"`
	NotModified  string `json:"not_modified"` // yes or no: what a conditional request got; "" when none was made
	Type         string `json:"type"`         // Content-Type
	Format       string `json:"format"`       // of pictures: what the bytes are
	Width        int    `json:"width"`        // of pictures, in pixels; 0 when that was not seen
	Height       int    `json:"height"`

	lacks lacking
}

// seen is a column that is unknown when nobody saw it.
func seen(name, meaning string, get func(*Asset) int) column[Asset] {
	return column[Asset]{Field: Field{Name: name, Type: Int, Meaning: meaning}, get: func(a *Asset) (Value, bool) { return NumberOf(Int, int64(get(a))), get(a) >= 0 },
		since: 6, why: func(a *Asset) string { return "not all of it was fetched" }}
}

var assetTable = tableOf(
	text("address", "its address", func(a *Asset) string { return a.Address }),
	text("kind", "style, script, font, picture, media, frame, file, card (the picture of a shared page) or said (in structured data)", func(a *Asset) string { return a.Kind }),
	text("from", "the page or style that first names it", func(a *Asset) string { return a.From }).varies(),
	number("pages", "pages that name it", func(a *Asset) int { return a.Pages }).follows(ListPages, "live.pages.structured", "settings.structured.shown", "settings.site.logo", "settings.card.shown", "settings.card.image"),
	number("status", "status at the end", func(a *Asset) int { return a.Status }),
	text("final", "where it ends", func(a *Asset) string { return a.Final }).follows("status"),
	texts("on", "the paths of the first few pages that name it", func(a *Asset) []string { return a.On }).sinceFormat(6).varies(),
	text("owner", "whose it is: theme or extension, with its name, uploads, system, or site", func(a *Asset) string { return a.Owner }).sinceFormat(6).follows("address"),
	seen("sent", "bytes that were sent for it", func(a *Asset) int { return a.Sent }).varies(),
	seen("size", "bytes of it", func(a *Asset) int { return a.Size }),
	text("compressed", "how it was compressed; nothing when it was not", func(a *Asset) string { return a.Compressed }).sinceFormat(6),
	seen("saves", "of styles and scripts: bytes that leaving out what means nothing would save", func(a *Asset) int { return a.Saves }).follows("size"),
	yes("named", "a digest or a version stands in its name or query", func(a *Asset) bool { return a.Named }).sinceFormat(6).follows("address"),
	text("cache_control", "Cache-Control", func(a *Asset) string { return a.CacheControl }).sinceFormat(6),
	column[Asset]{Field: Field{Name: "fresh", Type: Int, Meaning: "seconds for which a browser may keep it, as it says itself; -1 when it does not"}, get: func(a *Asset) (Value, bool) { return NumberOf(Int, a.Fresh), true }}.sinceFormat(6).follows("cache_control"),
	text("vary", "Vary", func(a *Asset) string { return a.Vary }).sinceFormat(6),
	yes("validator", "it carries an ETag or a Last-Modified", func(a *Asset) bool { return a.Validator }).sinceFormat(6),
	column[Asset]{Field: Field{Name: "tried", Type: Bool, Meaning: "a conditional request was made of it, as of the first few"}, get: func(a *Asset) (Value, bool) { return BoolOf(a.NotModified != ""), true }, key: "not_modified", since: 6}.varies(),
	column[Asset]{Field: Field{Name: "not_modified", Type: Bool, Meaning: "a conditional request got 304"}, get: func(a *Asset) (Value, bool) { return BoolOf(a.NotModified == "yes"), a.NotModified != "" },
		since: 6, why: func(a *Asset) string { return "no conditional request was made of it" }}.varies(),
	text("type", "Content-Type", func(a *Asset) string { return a.Type }).sinceFormat(6),
	text("format", "of pictures: what the bytes are; nothing when that was not seen", func(a *Asset) string { return a.Format }).sinceFormat(6).follows("size", "type"),
	number("width", "of pictures: pixels, 0 when that was not seen", func(a *Asset) int { return a.Width }).sinceFormat(6).follows("size", "format"),
	number("height", "likewise", func(a *Asset) int { return a.Height }).sinceFormat(6).follows("size", "format", "width"),
)

// Subject is the asset's address.
func (a *Asset) Subject() string { return a.Address }

// Identity is the asset's address.
func (a *Asset) Identity() string { return a.Address }

// Origin is the page that names it.
func (a *Asset) Origin() Origin { return Origin{URL: a.From} }

// Field implements Item.
func (a *Asset) Field(name string) (Value, bool) { return assetTable.field(a, a.lacks, name) }

// Why implements Item.
func (a *Asset) Why(field string) Reason {
	return Reason{assetTable.reason(a, a.lacks, field), a.OriginOf(field)}
}

// OriginOf implements Item.
func (a *Asset) OriginOf(field string) Origin { return assetTable.origin(a, a.Origin(), field) }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (a *Asset) UnmarshalJSON(raw []byte) (err error) {
	type plain Asset
	if err := json.Unmarshal(raw, (*plain)(a)); err != nil {
		return err
	}
	a.lacks, err = assetTable.lacks(raw)
	return err
}

// An Arrival is a page as somebody gets it who comes from a search result.
type Arrival struct {
	Address string `json:"address"`
	Path    string `json:"path"`
	Same    bool   `json:"same"`
	Differs string `json:"differs"` // in what, "" when it is the same

	lacks lacking
}

var arrivalTable = tableOf(
	text("address", "the page's address", func(a *Arrival) string { return a.Address }).follows("path"),
	text("path", "path and query", func(a *Arrival) string { return a.Path }),
	yes("same", "it is what other visitors get", func(a *Arrival) bool { return a.Same }),
	text("differs", "in what it is not; nothing when it is", func(a *Arrival) string { return a.Differs }).follows("same"),
)

// Subject is the page's path.
func (a *Arrival) Subject() string { return a.Path }

// Identity is the page's path.
func (a *Arrival) Identity() string { return a.Path }

// Origin is the page's address.
func (a *Arrival) Origin() Origin { return Origin{URL: a.Address} }

// Field implements Item.
func (a *Arrival) Field(name string) (Value, bool) { return arrivalTable.field(a, a.lacks, name) }

// Why implements Item.
func (a *Arrival) Why(field string) Reason {
	return Reason{arrivalTable.reason(a, a.lacks, field), a.OriginOf(field)}
}

// OriginOf implements Item.
func (a *Arrival) OriginOf(field string) Origin {
	return arrivalTable.origin(a, a.Origin(), field)
}

// UnmarshalJSON notes what the snapshot does not hold of it.
func (a *Arrival) UnmarshalJSON(raw []byte) (err error) {
	type plain Arrival
	if err := json.Unmarshal(raw, (*plain)(a)); err != nil {
		return err
	}
	a.lacks, err = arrivalTable.lacks(raw)
	return err
}
