package facts

import (
	"slices"
	"strings"
)

// An Entry gives one name its type and its meaning. Adding a name is adding an entry to the table; rules,
// dialects, the site file and the documentation follow from it.
type Entry struct {
	Name    string   // in full: settings.site.title
	Type    Type     //
	Words   []string // for Words: the words it may be
	Meaning string   // one line
}

var (
	roleWords    = []string{"lowest", "author", "editor", "highest"}
	stageWords   = []string{"building", "live", "retiring"}
	purposeWords = []string{"brochure", "shop", "magazine", "community"}
	// LowestRole and HighestRole are the ends of what an account may do.
	LowestRole, HighestRole = roleWords[0], roleWords[len(roleWords)-1]
)

// catalogue is the neutral vocabulary, in the order of work.
var catalogue = []Entry{
	{"intent.stage", Words, stageWords, "whether the site is being built, live or on its way out"},
	{"intent.address", URL, nil, "the one true address of the site"},
	{"intent.purpose", Words, purposeWords, "what the site is for"},
	{"intent.stands_behind", Words, []string{"organisation", "person"}, "who stands behind the site"},
	{"intent.brand", String, nil, "the name people know the site by"},
	{"intent.words", List, nil, "groups of words the site wants to be found under, the most wanted first"},
	{"intent.separator", String, nil, "what stands between the parts of a title"},
	{"intent.authors", Words, []string{"one", "several"}, "how many people write"},
	{"intent.language", String, nil, "language of the audience (RFC 5646)"},
	{"intent.country", String, nil, "the one country the audience is in"},
	{"intent.time_zone", Zone, nil, "time zone of the audience"},
	{"intent.hosting", Words, []string{"shared", "own"}, "a shared server, or one of one's own"},
	{"intent.web_user", String, nil, "the user the web server runs as"},
	{"intent.mail_domains", List, nil, "domains whose mailboxes are the site's own"},
	{"intent.sub_folder", Bool, nil, "the content system lives in a folder below the public address"},
	{"intent.maintenance_until", Date, nil, "when maintenance that is meant ends"},
	{"intent.links_allowed", Bool, nil, "symbolic links may lead out of the site's root"},

	{"intent.building_hosts", List, nil, "hosts the site was built under, which nothing should name any more"},
	{"intent.tokens", List, nil, "verification tokens that the home page should carry"},
	{"intent.analytics", String, nil, "token of the analytics snippet"},
	{"intent.languages", List, nil, "languages the site is offered in, when there are several"},
	{"intent.sign_in_host", String, nil, "host that the login page leads to, when it is not the site's own"},

	{"settings.site.title", String, nil, "the site's title"},
	{"settings.site.tagline", String, nil, "the line under the title"},
	{"settings.title.home", Pattern, nil, "title of the front page: {site} {tagline} {separator} and own words"},
	{"settings.title.inner", Pattern, nil, "title of inner pages: {page} {site} {tagline} {separator}"},
	{"settings.title.listing", Pattern, nil, "title of listing pages: {listing} {site} {tagline} {separator}"},
	{"settings.title.separator", String, nil, "what stands for {separator}"},

	{"settings.site.language", String, nil, "language the pages are in (RFC 5646)"},
	{"settings.site.time_zone", Zone, nil, "time zone in which dates are shown and posts are published"},
	{"settings.site.icon", URL, nil, "icon for the browser tab"},
	{"settings.site.logo", URL, nil, "logo"},
	{"settings.site.copyright", String, nil, "copyright line at the foot of the pages"},
	{"settings.site.address", URL, nil, "public address"},
	{"settings.site.install_address", URL, nil, "address the content system itself is reached under"},
	{"settings.mail.admin", Mail, nil, "administrator's address; sign-ups and forms go there"},
	{"settings.mail.sender_name", String, nil, "sender's name in automatic mail"},
	{"settings.mail.sender_address", Mail, nil, "sender's address in automatic mail"},
	{"settings.front.shows", Words, []string{"posts", "page"}, "what the front page shows"},
	{"settings.front.page", String, nil, "the page assigned as front page"},
	{"settings.front.page_published", Bool, nil, "that page is published"},
	{"settings.front.splash", Bool, nil, "an intro page stands before the front page"},
	{"settings.page.not_found", String, nil, "page assigned for addresses that do not exist"},
	{"settings.page.error", String, nil, "page assigned for server errors"},
	{"settings.page.search", String, nil, "page assigned for search results"},
	{"settings.page.login", String, nil, "page assigned for signing in"},
	{"settings.posts.default_category", String, nil, "category of posts that name none"},
	{"settings.posts.scheduled", Int, nil, "posts waiting for their hour"},
	{"settings.posts.sample", Int, nil, "posts, pages and comments that the install came with"},
	{"settings.comments.open", Bool, nil, "visitors may comment on new posts"},
	{"settings.comments.on_pages", Bool, nil, "visitors may comment on standing pages"},
	{"settings.comments.moderated", Bool, nil, "comments wait for approval"},

	{"settings.meta.description", String, nil, "description for pages without one of their own"},
	{"settings.meta.keywords", List, nil, "keywords for pages without their own"},
	{"settings.meta.author_shown", Bool, nil, "pages carry an author tag"},
	{"settings.meta.generator_shown", Bool, nil, "pages name the content system"},
	{"settings.meta.rights", String, nil, "content-rights text in the head"},
	{"settings.meta.verification", List, nil, "verification tokens of search engines"},
	{"settings.card.image", URL, nil, "picture for pages shared without one of their own"},
	{"settings.card.shown", Bool, nil, "pages carry properties for sharing"},
	{"settings.structured.shown", Bool, nil, "pages carry structured data"},

	{"settings.meta.robots_index", Bool, nil, "search engines may list the site"},
	{"settings.meta.robots_follow", Bool, nil, "search engines may follow its links"},
	{"settings.sitemap.offered", Bool, nil, "a sitemap is offered"},
	{"settings.listing.author_indexed", Bool, nil, "author listings may be listed by search engines"},
	{"settings.listing.date_indexed", Bool, nil, "date listings may be listed by search engines"},
	{"settings.listing.file_indexed", Bool, nil, "pages of single uploaded files may be listed by search engines"},
	{"settings.listing.search_indexed", Bool, nil, "search results may be listed by search engines"},
	{"settings.feed.items", Int, nil, "entries in a feed"},
	{"settings.feed.full", Bool, nil, "feeds carry the whole text rather than a summary"},
	{"settings.feed.reply", Mail, nil, "address that readers of a feed reply to"},
	{"settings.notify.new_posts", Bool, nil, "notices of new posts are sent out"},

	{"settings.permalink.pattern", Pattern, nil, "address of a post: {name} {id} {year} {month} {day} {category} {author}"},
	{"settings.permalink.category_prefix", String, nil, "what stands before a category's name in its address"},
	{"settings.permalink.suffix", String, nil, "file suffix at the end of addresses"},
	{"settings.permalink.rewriting", Bool, nil, "the web server is relied on to rewrite addresses"},

	{"settings.cache.page", Bool, nil, "whole pages are cached"},
	{"settings.cache.object", Bool, nil, "objects are cached"},
	{"settings.cache.database", Bool, nil, "database answers are cached"},
	{"settings.cache.preload", Bool, nil, "the page cache is filled ahead of visitors"},
	{"settings.cache.debug", Bool, nil, "the cache's own debug or preview mode"},
	{"settings.cache.lifetime", Duration, nil, "how long a cached page is kept"},
	{"settings.delivery.compression", Bool, nil, "responses are compressed"},
	{"settings.delivery.minify", Bool, nil, "styles and scripts are minified"},

	{"settings.registration.open", Bool, nil, "visitors may register"},
	{"settings.registration.role", Words, roleWords, "what a new account may do"},
	{"settings.registration.confirm_mail", Bool, nil, "a new account is confirmed by mail"},
	{"settings.accounts.highest", Int, nil, "accounts with the highest role"},
	{"settings.login.path", String, nil, "where one signs in"},
	{"settings.login.attempts", Int, nil, "failed attempts before a pause; 0 for no limit"},
	{"settings.login.second_factor", Words, []string{"off", "offered", "required"}, "second factor for the highest role"},
	{"settings.session.idle", Duration, nil, "staff are signed out after this long without a click"},
	{"settings.upload.role", Words, append([]string{"anybody"}, roleWords...), "the lowest role that may upload"},
	{"settings.upload.types", List, nil, "endings of the files that may be uploaded"},
	{"settings.upload.size", Size, nil, "largest upload"},
	{"settings.debug.on", Bool, nil, "the content system runs in debug mode"},
	{"settings.debug.errors_shown", Bool, nil, "errors are shown to visitors"},
	{"settings.code.editing", Bool, nil, "program files can be edited from the administration pages"},
	{"settings.security.secret", Secret, nil, "the key that signs sessions"},
	{"settings.security.transfer_password", Secret, nil, "stored password for file transfer"},
	{"settings.security.mailbox_password", Secret, nil, "stored password of the mailbox for posting by mail"},
	{"settings.mail.posting", Bool, nil, "posts may be sent in by mail"},
	{"settings.usage.reporting", Bool, nil, "usage is reported to others"},
	{"settings.system.version", Version, nil, "version of the content system"},

	{"live.address", URL, nil, "the address that was looked at"},
	{"live.preferred", Bool, nil, "that is the one true address of the intent"},
	{"live.home.status", Int, nil, "HTTP status of the home page"},
	{"live.home.title", String, nil, "title of the home page"},
	{"live.home.titles", Int, nil, "title elements on the home page"},
	{"live.home.title_pixels", Int, nil, "estimated width of its title in results"},
	{"live.home.description", String, nil, "description of the home page"},
	{"live.home.descriptions", Int, nil, "description tags on the home page"},
	{"live.home.indexable", Bool, nil, "search engines may list the home page"},
	{"live.home.noindex", Bool, nil, "tag or header of the home page says noindex"},
	{"live.home.robots", String, nil, "what tag, header and robots.txt say of the home page, in plain words"},
	{"live.home.language", String, nil, "lang attribute of the home page"},
	{"live.home.generator", String, nil, "generator tag or header of the home page"},
	{"live.home.author", String, nil, "author tag of the home page"},
	{"live.home.verification", List, nil, "contents of its verification tags"},
	{"live.home.structured", List, nil, "types of its structured data"},
	{"live.home.structured_lack", List, nil, "fields that its structured data lacks"},
	{"live.home.copyright", Bool, nil, "there is a copyright line with a year"},
	{"live.home.years", List, nil, "years in that line"},
	{"live.home.linked_titles", List, nil, "titles of the pages that the home page links to"},
	{"live.home.hit", Bool, nil, "a cache answered for the home page"},
	{"live.home.headers", List, nil, "headers of the home page's answer; of cookies only the names"},
	{"live.home.feeds", List, nil, "feeds announced on the home page"},
	{"live.icon.answers", Bool, nil, "an icon answers"},
	{"live.icon.is", String, nil, "what its bytes are"},
	{"live.icon.claims", String, nil, "what it says it is"},
	{"live.not_found.status", Int, nil, "status of an address that cannot exist"},
	{"live.not_found.own", Bool, nil, "that answer is a page of the site, with a link home"},
	{"live.robots.status", Int, nil, "status of robots.txt"},
	{"live.robots.readable", Bool, nil, "robots.txt is one, and within 500 KiB"},
	{"live.robots.sitemaps", List, nil, "sitemaps that robots.txt names"},
	{"live.robots.assets_barred", List, nil, "styles and scripts that robots.txt keeps search engines from"},
	{"live.robots.private", List, nil, "private paths that robots.txt names and that answer; the first few"},
	{"live.login.path", String, nil, "where the login page was looked for"},
	{"live.login.password", Bool, nil, "it has a form to sign in with"},
	{"live.login.host", String, nil, "the host it is on in the end"},
	{"live.previous", Bool, nil, "there is an earlier snapshot to compare with"},
	{"live.lost", List, nil, "addresses that answered then, and now neither answer nor redirect permanently; the first few"},
	{"live.sitemap.answers", Bool, nil, "a sitemap answers"},
	{"live.sitemap.valid", Bool, nil, "it is well-formed and within its bounds"},
	{"live.sitemap.addresses", Int, nil, "addresses it names"},
	{"live.sitemap.wrong", List, nil, "addresses in it that do not belong there, with why; the first few"},
	{"live.sitemap.missing", List, nil, "indexable pages that it lacks; the first few"},
	{"live.sitemap.orphans", List, nil, "addresses in it that no page links to; the first few"},
	{"live.feed.valid", Bool, nil, "the announced feed answers and is well-formed"},
	{"live.feed.items", Int, nil, "entries in it"},
	{"live.feed.reply", String, nil, "address that its readers reply to"},
	{"live.count.indexable", Int, nil, "indexable pages that were seen"},
	{"live.count.content", Int, nil, "content pages that answered, besides the home page"},
	{"live.count.described", Int, nil, "of these, those with a description that no other page has"},
	{"live.hosts", List, nil, "hosts that pages link to or load from"},
	{"live.logo.width", Int, nil, "width of the logo that structured data names"},
	{"live.logo.height", Int, nil, "its height"},
	{"live.certificate.trusted", Bool, nil, "the certificate is one that this machine trusts"},

	{"settings.maintenance.on", Bool, nil, "visitors get a maintenance notice"},
	{"settings.maintenance.message", String, nil, "text of that notice"},
	{"settings.maintenance.contact", Mail, nil, "mailbox named in that notice"},
	{"settings.lock.on", Bool, nil, "the whole site asks for name and password"},
}

var byName = func() map[string]*Entry {
	index := make(map[string]*Entry, len(catalogue))
	for i := range catalogue {
		index[catalogue[i].Name] = &catalogue[i]
	}
	return index
}()

// Served pairs settings with the reading of the live source that shows them most plainly.
var Served = map[string]string{
	"settings.site.title": "live.home.title", "settings.title.home": "live.home.title", "settings.meta.description": "live.home.description",
	"settings.site.language": "live.home.language", "settings.meta.robots_index": "live.home.robots", "settings.meta.generator_shown": "live.home.generator",
	"settings.meta.author_shown": "live.home.author", "settings.meta.verification": "live.home.verification", "settings.sitemap.offered": "live.sitemap.answers",
	"settings.front.shows": "live.home.shows", "settings.feed.items": "live.feed.items", "settings.feed.reply": "live.feed.reply",
	"settings.page.not_found": "live.not_found.status", "settings.site.icon": "live.icon.is", "settings.site.copyright": "live.home.years",
	"settings.structured.shown": "live.home.structured", "settings.site.address": "live.address",
}

// Catalogue lists every name a reading may have, in the order of work. The caller does not change it.
func Catalogue() []Entry { return catalogue }

// Lookup finds a full name in the catalogue, or the field of a list as <list>.<field>.
func Lookup(name string) (Entry, bool) {
	if entry, ok := byName[name]; ok {
		return *entry, true
	}
	for list, fields := range Lists {
		field, ok := strings.CutPrefix(name, list+".")
		if !ok {
			continue
		}
		if i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == field }); i >= 0 {
			return Entry{name, fields[i].Type, fields[i].Words, fields[i].Meaning}, true
		}
	}
	return Entry{}, false
}

// Of lists the entries of one source.
func Of(source string) []Entry {
	var found []Entry
	for _, entry := range catalogue {
		if SourceOf(entry.Name) == source {
			found = append(found, entry)
		}
	}
	return found
}

// Names lists the names of one source without it: site.title.
func Names(source string) []string {
	var names []string
	for _, entry := range Of(source) {
		names = append(names, strings.TrimPrefix(entry.Name, source+"."))
	}
	return names
}

// SourceOf is the first part of a full name.
func SourceOf(name string) string {
	source, _, _ := strings.Cut(name, ".")
	return source
}

// Check tells whether a value may stand under the entry: it has the type, and is one of the words.
func (e Entry) Check(v Value) bool {
	return v.Type() == e.Type && (e.Type != Words || slices.Contains(e.Words, v.Text()))
}

// own are the settings that say who a site is rather than how it is kept: they are not carried to another site.
var own = []string{"site.", "mail.", "meta.description", "meta.keywords", "meta.verification", "meta.rights", "card.image", "front.page", "front.page_published", "page.", "posts.", "maintenance.",
	"security.", "system.", "login.path", "title.home", "accounts.", "feed.reply", "lock."}

// Own tells whether a setting, without its source, is the site's own.
func Own(name string) bool {
	return slices.ContainsFunc(own, func(prefix string) bool {
		return name == prefix || strings.HasSuffix(prefix, ".") && strings.HasPrefix(name, prefix)
	})
}
