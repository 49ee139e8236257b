package discover

import "strings"

// A wanted setting is what speaks for a place being its own: concepts that the key must have (any of those with |
// between), concepts that speak for it, and concepts that speak against it.
type wanted struct {
	need, like, not string
	shape           string // of the value; "" for what its type says
}

// thesaurus says how the neutral settings are recognised.
var thesaurus = map[string]wanted{
	"site.title":                 {"title|name", "site", "sender mail separator inner front listing login error missing page author card pattern category user database generator comment session contact feed admin search theme image", "text"},
	"site.tagline":               {"tagline", "site", "pattern separator", "text"},
	"title.home":                 {"title front", "pattern meta", "page separator shows inner", "pattern"},
	"title.inner":                {"title page|inner|post", "pattern meta", "front listing separator shows login missing error search", "pattern"},
	"title.listing":              {"title listing", "pattern meta category", "front separator inner shows date author file search", "pattern"},
	"title.separator":            {"separator", "title", "keywords", "separator"},
	"site.language":              {"language", "site", "", "language"},
	"site.time_zone":             {"zone", "time site", "", "zone"},
	"site.icon":                  {"icon", "site", "logo", "picture"},
	"site.logo":                  {"logo", "site image", "icon", "picture"},
	"site.copyright":             {"copyright|rights", "site message", "meta tag", "text"},
	"site.address":               {"address", "site front", "install mail admin image feed permalink pattern login prefix suffix sitemap card logo icon database contact", "url"},
	"site.install_address":       {"address install|admin|site", "install", "mail image feed pattern front", "url"},
	"mail.admin":                 {"mail|admin", "admin contact site", "sender reply name maintain feed password posting user mailbox", "mail"},
	"mail.sender_name":           {"sender|mail name|sender", "mail sender name", "address reply admin user password", "text"},
	"mail.sender_address":        {"sender|mail", "sender mail address", "name reply admin feed maintain contact", "mail"},
	"mail.posting":               {"posting|mailbox|mail post|posting|mailbox|open", "mail open", "password sender admin confirm register", "bool"},
	"front.shows":                {"front shows|pattern|types", "page post", "title meta address", "word"},
	"front.page":                 {"front page", "site", "title shows meta pattern cache", "slug"},
	"front.splash":               {"splash", "open", "message", "bool"},
	"page.not_found":             {"missing", "page", "title", "slug"},
	"page.error":                 {"error page", "page", "title print debug open", "slug"},
	"page.search":                {"search page", "page", "title index listing", "slug"},
	"page.login":                 {"login page", "page", "title attempts second secret", "slug"},
	"posts.default_category":     {"default category", "post", "title prefix", "slug"},
	"comments.open":              {"comment open|shows|post", "open post site", "moderate page count", "bool"},
	"comments.on_pages":          {"comment page", "open", "moderate count", "bool"},
	"comments.moderated":         {"comment moderate", "", "open count", "bool"},
	"meta.description":           {"describe", "meta site", "title keywords page card category feed", "text"},
	"meta.keywords":              {"keywords", "meta site", "title separator message", "list"},
	"meta.author_shown":          {"author tag|meta|shows|print", "tag meta shows", "listing name index title page default", "bool"},
	"meta.generator_shown":       {"generator", "tag meta shows", "name", "bool"},
	"meta.rights":                {"rights", "meta tag", "copyright", "text"},
	"meta.verification":          {"verify", "meta site search", "mail register confirm", "token"},
	"card.image":                 {"card image", "default", "size", "picture"},
	"card.shown":                 {"card", "open shows meta", "image title describe", "bool"},
	"structured.shown":           {"structured", "open shows", "permalink", "bool"},
	"meta.robots_index":          {"index|hide search|index|hide|site|meta", "hide meta site search", "follow listing date author file sitemap database post category maintain", "bool"},
	"meta.robots_follow":         {"follow", "index meta", "date listing", "bool"},
	"sitemap.offered":            {"sitemap", "open site", "index listing count date", "bool"},
	"listing.author_indexed":     {"author listing|index|hide", "index hide listing meta", "date file search tag", "bool"},
	"listing.date_indexed":       {"date listing|index|hide", "index hide listing meta", "author file search pattern", "bool"},
	"listing.file_indexed":       {"file listing|index|hide|page", "index hide listing meta", "author date search size types upload cache", "bool"},
	"listing.search_indexed":     {"search listing|index|hide", "index hide listing meta", "author date file page site", "bool"},
	"feed.items":                 {"feed count|post", "count post", "full reply mail", "count"},
	"feed.full":                  {"feed full", "", "count reply", "bool"},
	"feed.reply":                 {"feed reply|mail|contact", "reply mail", "count full", "mail"},
	"notify.new_posts":           {"notify", "post open", "mail comment", "bool"},
	"permalink.pattern":          {"permalink|address pattern|permalink", "pattern permalink post", "prefix suffix rewrite category title site install", "address pattern"},
	"permalink.category_prefix":  {"category prefix|permalink|address", "prefix permalink", "default title pattern", "slug"},
	"permalink.suffix":           {"suffix", "permalink address", "upload types", "suffix"},
	"permalink.rewriting":        {"rewrite", "permalink address open", "pattern", "bool"},
	"cache.page":                 {"cache", "page open site", "object query preload debug lifetime size secret", "bool"},
	"cache.object":               {"cache object", "open", "page lifetime", "bool"},
	"cache.database":             {"cache query|database", "open", "page lifetime", "bool"},
	"cache.preload":              {"preload", "cache", "lifetime", "bool"},
	"cache.debug":                {"cache debug", "", "lifetime error", "bool"},
	"cache.lifetime":             {"cache lifetime", "", "session debug", "duration"},
	"delivery.compression":       {"compress", "open", "image minify", "bool"},
	"delivery.minify":            {"minify", "open", "image", "bool"},
	"registration.open":          {"register", "open user", "role confirm default title mail", "bool"},
	"registration.role":          {"register|default|user role", "register default", "upload", "word"},
	"registration.confirm_mail":  {"confirm", "register mail", "role", "bool"},
	"login.path":                 {"login permalink|address|suffix|prefix|login", "address permalink", "page attempts second title session", "path"},
	"login.attempts":             {"attempts", "login count", "second lifetime", "count"},
	"login.second_factor":        {"second", "login", "attempts session count lifetime", "word"},
	"session.idle":               {"session|lifetime|login lifetime|session", "session lifetime login", "cache", "duration"},
	"upload.role":                {"upload role", "", "size types", "word"},
	"upload.types":               {"upload types|suffix|file", "types", "size role", "list"},
	"upload.size":                {"upload size|count", "size", "types role", "size"},
	"debug.on":                   {"debug", "open", "cache error print", "bool"},
	"debug.errors_shown":         {"error print|shows|open", "print", "page missing title", "bool"},
	"code.editing":               {"code code|open|hide", "open admin", "permalink title", "bool"},
	"security.secret":            {"secret", "login session site", "password verify transfer mailbox mail", "secret"},
	"security.transfer_password": {"transfer password", "", "mailbox", "secret"},
	"security.mailbox_password":  {"mailbox|mail|posting password", "mailbox posting", "transfer", "secret"},
	"usage.reporting":            {"usage", "open", "role", "bool"},
	"system.version":             {"version", "site", "language database part theme", "version"},
	"maintenance.on":             {"maintain", "open site", "message contact mail lock", "bool"},
	"maintenance.message":        {"maintain message", "", "contact mail open", "text"},
	"maintenance.contact":        {"maintain contact|mail", "contact mail", "message", "mail"},
	"lock.on":                    {"lock", "open site", "attempts maintain message", "bool"},
}

// groups takes "a|b c" apart into its alternatives.
func groups(text string) [][]string {
	var all [][]string
	for group := range strings.FieldsSeq(text) {
		all = append(all, strings.Split(group, "|"))
	}
	return all
}
