package facts

// The lists of the live source.
const (
	ListPages     = "live.pages"
	ListSpellings = "live.spellings"
	ListLinks     = "live.links"
)

// A column is one field of a list with where its value is in an item.
type column[T any] struct {
	Field
	get func(*T) (Value, bool)
}

func text[T any](name, meaning string, get func(*T) string) column[T] {
	return column[T]{Field{Name: name, Type: String, Meaning: meaning}, func(t *T) (Value, bool) { return TextOf(String, get(t)), true }}
}

func number[T any](name, meaning string, get func(*T) int) column[T] {
	return column[T]{Field{Name: name, Type: Int, Meaning: meaning}, func(t *T) (Value, bool) { return NumberOf(Int, int64(get(t))), true }}
}

func yes[T any](name, meaning string, get func(*T) bool) column[T] {
	return column[T]{Field{Name: name, Type: Bool, Meaning: meaning}, func(t *T) (Value, bool) { return BoolOf(get(t)), true }}
}

func texts[T any](name, meaning string, get func(*T) []string) column[T] {
	return column[T]{Field{Name: name, Type: List, Meaning: meaning}, func(t *T) (Value, bool) { return ListOf(get(t)...), true }}
}

func fieldsOf[T any](columns []column[T]) []Field {
	fields := make([]Field, len(columns))
	for i, c := range columns {
		fields[i] = c.Field
	}
	return fields
}

func indexOf[T any](columns []column[T]) map[string]func(*T) (Value, bool) {
	index := map[string]func(*T) (Value, bool){}
	for _, c := range columns {
		index[c.Name] = c.get
	}
	return index
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
	TitleShared    int      `json:"title_shared"` // other indexable pages with the same title
	Description    string   `json:"description"`
	Descriptions   int      `json:"descriptions"`
	DescPixels     int      `json:"description_pixels"`
	DescShared     int      `json:"description_shared"` // other indexable pages with the same description
	RobotsTag      string   `json:"robots_tag"`
	RobotsHeader   string   `json:"robots_header"`
	Disallowed     bool     `json:"disallowed"` // by robots.txt, for a search engine
	Indexable      bool     `json:"indexable"`  // status 200, and neither tag nor header nor robots.txt nor canonical says no
	NoIndex        bool     `json:"noindex"`    // tag or header says so
	Robots         string   `json:"robots"`     // in plain words, what together they mean
	Canonical      string   `json:"canonical"`
	Canonicals     int      `json:"canonicals"`
	CanonicalWorks string   `json:"canonical_works"` // answers, redirects, fails, noindex, foreign, or "" without one
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
	Verification   []string `json:"verification"` // contents of meta tags whose name speaks of verification
	CardTitle      string   `json:"card_title"`
	CardText       string   `json:"card_text"`
	CardImage      string   `json:"card_image"`
	CardType       string   `json:"card_type"`
	CardWidth      int      `json:"card_width"`      // pixels; 0 when not fetched or no picture
	CardHeight     int      `json:"card_height"`     //
	StructuredBad  int      `json:"structured_bad"`  // JSON-LD blocks that do not parse
	Structured     []string `json:"structured"`      // types, such as Organization
	StructuredLack []string `json:"structured_lack"` // fields our list asks for and a block lacks: Article.author
	Insecure       []string `json:"insecure"`        // addresses an encrypted page loads or posts to unencrypted, the first few
	InsecureMedia  []string `json:"insecure_media"`  // the same for pictures and media
	Alternates     []string `json:"alternates"`      // language and address, such as "de https://..."
	Feeds          []string `json:"feeds"`           // announced in the head
	Icons          []string `json:"icons"`
	Password       bool     `json:"password"`    // a form with a password, user name or passkey control
	Forms          int      `json:"forms"`       // that send something
	RobotCheck     bool     `json:"robot_check"` // something on the page asks whether one is a robot
	Entries        int      `json:"entries"`     // articles on a listing
	Years          []string `json:"years"`       // in the copyright line
	Copyright      bool     `json:"copyright"`
	Breadcrumbs    bool     `json:"breadcrumbs"`
	Analytics      int      `json:"analytics"` // times that the analytics token stands in it
	Hit            bool     `json:"hit"`       // a cache answered, as the headers say
	CacheSays      string   `json:"cache_says"`
	Twin           string   `json:"twin"` // another address that answers with the same content and is not canonical to this one
}

var pageColumns = []column[Page]{
	text("address", "the page's address", func(p *Page) string { return p.Address }),
	text("path", "path and query", func(p *Page) string { return p.Path }),
	text("kind", "home, content, listing, file (the page of a single uploaded file) or search", func(p *Page) string { return p.Kind }),
	number("status", "HTTP status", func(p *Page) int { return p.Status }),
	number("depth", "clicks from home, -1 when only a sitemap names it", func(p *Page) int { return p.Depth }),
	yes("linked", "some page links to it", func(p *Page) bool { return p.Linked }),
	yes("in_sitemap", "a sitemap names it", func(p *Page) bool { return p.InSitemap }),
	text("title", "the title", func(p *Page) string { return p.Title }),
	number("titles", "title elements that are not empty", func(p *Page) int { return p.Titles }),
	number("title_pixels", "estimated width of the title in results", func(p *Page) int { return p.TitlePixels }),
	number("title_shared", "other indexable pages with the same title", func(p *Page) int { return p.TitleShared }),
	text("description", "the description", func(p *Page) string { return p.Description }),
	number("descriptions", "description tags", func(p *Page) int { return p.Descriptions }),
	number("description_pixels", "estimated width of the description in results", func(p *Page) int { return p.DescPixels }),
	number("description_shared", "other indexable pages with the same description of their own", func(p *Page) int { return p.DescShared }),
	text("robots_tag", "what the robots tag says", func(p *Page) string { return p.RobotsTag }),
	text("robots_header", "what the X-Robots-Tag header says", func(p *Page) string { return p.RobotsHeader }),
	text("robots", "what tag, header and robots.txt mean together", func(p *Page) string { return p.Robots }),
	yes("disallowed", "robots.txt keeps search engines out", func(p *Page) bool { return p.Disallowed }),
	yes("indexable", "search engines may list it", func(p *Page) bool { return p.Indexable }),
	yes("noindex", "tag or header says noindex", func(p *Page) bool { return p.NoIndex }),
	text("canonical", "the canonical address", func(p *Page) string { return p.Canonical }),
	number("canonicals", "canonical links", func(p *Page) int { return p.Canonicals }),
	{Field{Name: "canonical_works", Type: String, Meaning: "whether the canonical address answers, redirects, fails, is noindex or foreign"}, func(p *Page) (Value, bool) {
		return TextOf(String, p.CanonicalWorks), p.CanonicalWorks != "not looked at"
	}},
	text("language", "the lang attribute", func(p *Page) string { return p.Language }),
	text("charset", "the character encoding", func(p *Page) string { return p.Charset }),
	yes("charset_early", "the encoding is declared in the header or the first 1024 bytes", func(p *Page) bool { return p.CharsetEarly }),
	text("viewport", "the viewport tag", func(p *Page) string { return p.Viewport }),
	yes("zoomable", "the viewport lets one zoom", func(p *Page) bool { return p.Zoomable }),
	number("headings", "h1 headings", func(p *Page) int { return p.Headings }),
	number("words", "words of text", func(p *Page) int { return p.Words }),
	number("images", "content images", func(p *Page) int { return p.Images }),
	texts("images_bare", "images without alternative text", func(p *Page) []string { return p.ImagesBare }),
	text("generator", "the generator tag", func(p *Page) string { return p.Generator }),
	text("author", "the author tag", func(p *Page) string { return p.Author }),
	texts("verification", "contents of verification tags", func(p *Page) []string { return p.Verification }),
	text("card_title", "title for sharing", func(p *Page) string { return p.CardTitle }),
	text("card_text", "description for sharing", func(p *Page) string { return p.CardText }),
	text("card_image", "picture for sharing", func(p *Page) string { return p.CardImage }),
	text("card_type", "type for sharing", func(p *Page) string { return p.CardType }),
	number("card_width", "width of that picture", func(p *Page) int { return p.CardWidth }),
	number("card_height", "height of that picture", func(p *Page) int { return p.CardHeight }),
	number("structured_bad", "JSON-LD blocks that do not parse", func(p *Page) int { return p.StructuredBad }),
	texts("structured", "types of structured data", func(p *Page) []string { return p.Structured }),
	texts("structured_lack", "fields that structured data lacks", func(p *Page) []string { return p.StructuredLack }),
	texts("insecure", "what the page loads or posts unencrypted", func(p *Page) []string { return p.Insecure }),
	texts("insecure_media", "pictures and media loaded unencrypted", func(p *Page) []string { return p.InsecureMedia }),
	texts("alternates", "alternates in other languages", func(p *Page) []string { return p.Alternates }),
	texts("feeds", "feeds announced in the head", func(p *Page) []string { return p.Feeds }),
	texts("icons", "icons linked in the head", func(p *Page) []string { return p.Icons }),
	yes("password", "a form to sign in with", func(p *Page) bool { return p.Password }),
	number("forms", "forms that send something", func(p *Page) int { return p.Forms }),
	yes("robot_check", "something on the page asks whether one is a robot", func(p *Page) bool { return p.RobotCheck }),
	number("entries", "articles on a listing", func(p *Page) int { return p.Entries }),
	texts("years", "years in the copyright line", func(p *Page) []string { return p.Years }),
	yes("copyright", "there is a copyright line", func(p *Page) bool { return p.Copyright }),
	yes("breadcrumbs", "there are breadcrumbs", func(p *Page) bool { return p.Breadcrumbs }),
	number("analytics", "times that the analytics token stands in it", func(p *Page) int { return p.Analytics }),
	yes("hit", "a cache answered", func(p *Page) bool { return p.Hit }),
	text("cache_says", "the header that tells of a cache", func(p *Page) string { return p.CacheSays }),
	text("twin", "another address with the same content", func(p *Page) string { return p.Twin }),
}

var pageIndex = indexOf(pageColumns)

// Subject is the page's path.
func (p *Page) Subject() string { return p.Path }

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
	if get := pageIndex[name]; get != nil {
		return get(p)
	}
	return Value{}, false
}

// A Spelling is another way to write the site's address, and where it leads.
type Spelling struct {
	Address   string `json:"address"`
	Status    int    `json:"status"` // of the first answer
	Final     string `json:"final"`  // where the redirects end
	Steps     int    `json:"steps"`
	Permanent bool   `json:"permanent"` // every step is 301 or 308
	Preferred bool   `json:"preferred"` // Final is the same path under the one true address
	Kind      string `json:"kind"`      // scheme, host, slash or index
}

var spellingColumns = []column[Spelling]{
	text("address", "the spelling", func(s *Spelling) string { return s.Address }),
	number("status", "status of the first answer", func(s *Spelling) int { return s.Status }),
	text("final", "where it leads", func(s *Spelling) string { return s.Final }),
	number("steps", "redirects on the way", func(s *Spelling) int { return s.Steps }),
	yes("permanent", "every redirect is permanent", func(s *Spelling) bool { return s.Permanent }),
	yes("preferred", "it leads to the same path of the one true address", func(s *Spelling) bool { return s.Preferred }),
	text("kind", "scheme, host, slash or index", func(s *Spelling) string { return s.Kind }),
}

var spellingIndex = indexOf(spellingColumns)

// Subject is the spelling itself.
func (s *Spelling) Subject() string { return s.Address }

// Origin is the spelling itself.
func (s *Spelling) Origin() Origin { return Origin{URL: s.Address} }

// Field implements Item.
func (s *Spelling) Field(name string) (Value, bool) {
	if get := spellingIndex[name]; get != nil {
		return get(s)
	}
	return Value{}, false
}

// A Link is an internal link that does not lead straight to a page: it fails, or it is redirected.
type Link struct {
	Address string `json:"address"`
	From    string `json:"from"` // the first page that has it
	Status  int    `json:"status"`
	Steps   int    `json:"steps"`
	Final   string `json:"final"`
	Loop    bool   `json:"loop"`
}

var linkColumns = []column[Link]{
	text("address", "where it points", func(l *Link) string { return l.Address }),
	text("from", "the first page that has it", func(l *Link) string { return l.From }),
	number("status", "status at the end", func(l *Link) int { return l.Status }),
	number("steps", "redirects on the way", func(l *Link) int { return l.Steps }),
	text("final", "where it ends", func(l *Link) string { return l.Final }),
	yes("loop", "the redirects never end", func(l *Link) bool { return l.Loop }),
}

var linkIndex = indexOf(linkColumns)

// Subject is where the link points.
func (l *Link) Subject() string { return l.Address }

// Origin is the page that has the link.
func (l *Link) Origin() Origin { return Origin{URL: l.From} }

// Field implements Item.
func (l *Link) Field(name string) (Value, bool) {
	if get := linkIndex[name]; get != nil {
		return get(l)
	}
	return Value{}, false
}
