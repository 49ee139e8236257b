package demo

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// hobnail is the stand-in content system for shops: an INI file, a table with one wide row and values inside
// values, a table of further words with a column for the site, and three files for what its parts keep.
type hobnail struct{}

var hobnailFiles = keptFiles{
	headers: map[string]string{
		"hobnail.ini":          "; Hobnail reads this first.\n[site]\nnumber = 1\n",
		"etc/delivery.xml":     "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!-- How pages are delivered. -->\n<delivery>\n  <keep>\n    <by>disk</by>\n  </keep>\n  <wire>\n    <by>itself</by>\n  </wire>\n</delivery>\n",
		"etc/counter.conf":     "# The shutter over the counter.\n",
		"etc/clerk.properties": "# Who serves at the counter.\n",
		"looks.serialised":     `a:0:{}`,
		"search.json":          "{}",
	},
	spellings: map[string]spelling{
		"marks": marks("<page>", "%p", "<list>", "%l", "<site>", "%s", "<tagline>", "%t", "<sep>", "%-"),
		"shapes": marks("<name>", "[name]", "<id>", "[no]", "<year>", "[yyyy]", "<month>", "[mm]", "<day>", "[dd]",
			"<topic>", "[dept]", "<writer>", "[clerk]"),
		"level":  words(hobnailLevels),
		"front":  words(map[string]string{"stream": "0", "page": "1"}),
		"second": words(map[string]string{"no": "0", "offered": "1", "required": "2"}),
		"bytes":  times(1024),
		"age":    {store: func(text string, typed bool) any { return fmt.Sprintf("max-age=%s", times(60).store(text, false)) }, read: func(stored string) string { return times(60).read(strings.TrimPrefix(stored, "max-age=")) }},
	},
	table: []kept{
		{"scheme", "hobnail.ini:site.encrypted", "yes"}, {"host", "hobnail.ini:site.host", ""}, {"one_address", "hobnail.ini:site.one_address", "yes"}, {"inner_url", "hobnail.ini:site.inner_address", ""},
		{"debug", "hobnail.ini:workshop.debug", "yes"}, {"show_errors", "hobnail.ini:workshop.print_errors", "yes"}, {"code_editing", "hobnail.ini:workshop.no_code_editing", "not"},
		{"secret", "hobnail.ini:keys.sign_with", ""}, {"transfer_password", "hobnail.ini:keys.upload_password", ""}, {"version", "hobnail.ini:site.version", ""},

		{"title_form_home", "looks.serialised:titles_front", "marks"}, {"title_form_page", "looks.serialised:titles_inner", "marks"}, {"title_form_list", "looks.serialised:titles_list", "marks"},
		{"title_sep", "looks.serialised:titles_between", ""}, {"icon", "looks.serialised:icon", ""}, {"logo", "looks.serialised:logo", ""}, {"footer_line", "looks.serialised:footer", ""},
		{"theme", "looks.serialised:skin", ""}, {"comments", "looks.serialised:reviews", "yes"}, {"comments_pages", "looks.serialised:reviews_on_pages", "yes"}, {"comments_held", "looks.serialised:reviews_held", "yes"},

		{"hidden", "search.json:hide", "yes"}, {"nofollow", "search.json:no_follow", "yes"}, {"sitemap", "search.json:map", "yes"}, {"list_authors", "search.json:clerks_listed", "yes"},
		{"list_dates", "search.json:dates_listed", "yes"}, {"list_files", "search.json:files_listed", "yes"}, {"list_search", "search.json:finds_listed", "yes"},
		{"show_author", "search.json:tag_author", "yes"}, {"show_maker", "search.json:tag_maker", "yes"}, {"rights", "search.json:tag_rights", ""}, {"verify", "search.json:proofs", "lines"},
		{"cards", "search.json:cards", "yes"}, {"card_image", "search.json:card_picture", ""}, {"structured", "search.json:structured", "yes"},

		{"cache", "etc/delivery.xml:keep.pages", "yes"}, {"cache_objects", "etc/delivery.xml:keep.objects", "yes"}, {"cache_queries", "etc/delivery.xml:keep.queries", "yes"}, {"cache_warm", "etc/delivery.xml:keep.warm", "yes"},
		{"cache_marks", "etc/delivery.xml:keep.marks", "yes"}, {"cache_minutes", "etc/delivery.xml:keep.age", "age"}, {"compress", "etc/delivery.xml:wire.compress", "yes"}, {"minify", "etc/delivery.xml:wire.shrink", "yes"},

		{"closed", "etc/counter.conf:shutter", "yes"}, {"closed_text", "etc/counter.conf:sign", ""}, {"closed_mail", "etc/counter.conf:bell", ""}, {"locked", "etc/counter.conf:bolt", "yes"},

		{"signin_path", "etc/clerk.properties:door", ""}, {"signin_tries", "etc/clerk.properties:door.tries", "number"}, {"second_step", "etc/clerk.properties:door.second", "second"},
		{"idle_minutes", "etc/clerk.properties:door.idle", "number"}, {"upload_from", "etc/clerk.properties:upload.level", "level"}, {"upload_types", "etc/clerk.properties:upload.types", "words"},
		{"upload_kb", "etc/clerk.properties:upload.bytes", "bytes"}, {"register", "etc/clerk.properties:join", "yes"}, {"register_role", "etc/clerk.properties:join.level", "level"},
		{"register_confirm", "etc/clerk.properties:join.confirm", "yes"},
	},
}

var hobnailLevels = map[string]string{"anybody": "0", "reader": "1", "writer": "4", "editor": "7", "keeper": "9"}

// hobnailColumns are the columns of the wide row, and hobnailWords the rows of the table with a column for the site.
var (
	hobnailColumns = [][2]string{{"title", "site_title"}, {"strapline", "tagline"}, {"language", "lang"}, {"zone", "zone"}, {"blurb", "description"}, {"words", "keywords"},
		{"front", "front"}, {"front_page", "front_page"}, {"missing_page", "page_missing"}, {"fault_page", "page_error"}, {"find_page", "page_search"}, {"door_page", "page_signin"},
		{"department", "default_topic"}, {"address_shape", "address_form"}, {"address_prefix", "topic_prefix"}, {"address_ending", "address_suffix"}, {"rewrite", "rewriting"}}
	hobnailWords = [][2]string{{"mail.admin", "admin_mail"}, {"mail.name", "mail_name"}, {"mail.from", "mail_from"}, {"mail.posting", "mail_posting"}, {"mail.posting_password", "mailbox_password"},
		{"intro", "splash"}, {"feed.items", "feed_items"}, {"feed.full", "feed_full"}, {"feed.reply", "feed_reply"}, {"ping", "notify"}, {"usage", "report_usage"},
		{"clerk", "writer"}, {"menu", "nav"}, {"department.about", "topic_about"}, {"door.title", "signin_title"}, {"gone", "gone"},
		{"picture", "picture"}, {"picture.title", "picture_title"}, {"picture.about", "picture_about"}}
	hobnailSpelt = map[string]string{"front": "front", "address_form": "shapes", "rewriting": "yes", "mail_posting": "yes", "splash": "yes", "feed_full": "yes", "notify": "yes", "report_usage": "yes"}
)

const hobnailSchema = `
CREATE TABLE hob_site (id INTEGER PRIMARY KEY, title TEXT, strapline TEXT, language TEXT, zone TEXT, blurb TEXT, words TEXT, front TEXT, front_page TEXT,
  missing_page TEXT, fault_page TEXT, find_page TEXT, door_page TEXT, department TEXT, address_shape TEXT, address_prefix TEXT, address_ending TEXT, rewrite TEXT, looks TEXT, search TEXT);
CREATE TABLE hob_words (site_id INTEGER NOT NULL, word VARCHAR(120) NOT NULL, content TEXT, PRIMARY KEY (site_id, word));
CREATE TABLE hob_accounts (id INTEGER PRIMARY KEY, login VARCHAR(190) NOT NULL UNIQUE, role TEXT NOT NULL, joined TEXT NOT NULL, second_step INTEGER NOT NULL, seen TEXT);
CREATE TABLE hob_extensions (id INTEGER PRIMARY KEY, name TEXT NOT NULL, kind TEXT NOT NULL, active INTEGER NOT NULL, version TEXT NOT NULL, newest TEXT);
CREATE TABLE hob_forms (id INTEGER PRIMARY KEY, name TEXT NOT NULL, recipient TEXT NOT NULL, robot_check INTEGER NOT NULL);
CREATE TABLE hob_hosts (id INTEGER PRIMARY KEY, host TEXT NOT NULL, leads_on INTEGER NOT NULL);
CREATE TABLE hob_copies (id INTEGER PRIMARY KEY, path TEXT NOT NULL, made TEXT NOT NULL);
CREATE TABLE hob_pages (id INTEGER PRIMARY KEY, slug VARCHAR(190) NOT NULL UNIQUE, title TEXT NOT NULL, kind TEXT NOT NULL, status TEXT NOT NULL,
  published TEXT NOT NULL, description TEXT NOT NULL, body TEXT NOT NULL, unlisted INTEGER NOT NULL)
`

func (hobnail) keep(in *installation, root string) ([]string, error) {
	options := in.options
	options["secret"] = in.secret
	scheme, host, _ := strings.Cut(options["public_url"], "://")
	options["host"], options["scheme"], options["inner_url"] = host, map[bool]string{true: "yes", false: "no"}[scheme == "https"], options["install_url"]
	texts, err := hobnailFiles.documents(options)
	if err != nil {
		return nil, err
	}
	inside := map[string]string{"looks": texts["looks.serialised"], "search": texts["search.json"]}
	delete(texts, "looks.serialised")
	delete(texts, "search.json")
	where := "driver = sqlite\nfile = data/hobnail.db\nprefix = hob_\n"
	if d := in.database; d != nil {
		where = fmt.Sprintf("driver = %s\nserver = 127.0.0.1:%s\nname = %s\nuser = %s\npassword = \"%s\"\nprefix = hob_\n", d.driver, d.port, d.name, d.user, d.password)
	}
	texts["hobnail.ini"] += "\n[database]\n" + where
	var written []string
	for name, text := range texts {
		written = append(written, name)
		if err := writeFile(filepath.Join(root, name), file{text, 0o644}); err != nil {
			return nil, err
		}
	}
	fill := func(insert func(string, ...any) error) error { return in.fillHobnail(insert, inside) }
	if in.database != nil {
		return written, in.fillServer(hobnailSchema, fill)
	}
	return append(written, "data/hobnail.db"), writeSQLite(filepath.Join(root, "data", "hobnail.db"), hobnailSchema, fill)
}

func (in *installation) fillHobnail(insert func(string, ...any) error, inside map[string]string) error {
	spelt := func(option string) any {
		return hobnailFiles.spelling(hobnailSpelt[option]).store(in.options[option], false)
	}
	row := []any{1}
	for _, column := range hobnailColumns {
		row = append(row, spelt(column[1]))
	}
	if err := insert("hob_site", append(row, inside["looks"], inside["search"])...); err != nil {
		return err
	}
	for _, word := range hobnailWords {
		if err := insert("hob_words", 1, word[0], spelt(word[1])); err != nil {
			return err
		}
		// Another site shares the table.
		if err := insert("hob_words", 2, word[0], "of another site"); err != nil {
			return err
		}
	}
	return in.fillLists(insert, "hob_")
}

func (hobnail) open(root string, database *databaseServer) (keeper, error) {
	db, err := database.openSQL(filepath.Join(root, "data", "hobnail.db"))
	return &hobnailKeeper{root, db}, err
}

type hobnailKeeper struct {
	root string
	db   *sql.DB
}

func (k *hobnailKeeper) close() { k.db.Close() }

func (k *hobnailKeeper) options(ctx context.Context) (map[string]string, error) {
	var names []string
	for _, column := range hobnailColumns {
		names = append(names, column[0])
	}
	values := make([]sql.NullString, len(names)+2)
	into := make([]any, len(values))
	for i := range values {
		into[i] = &values[i]
	}
	if err := k.db.QueryRowContext(ctx, "SELECT "+strings.Join(names, ", ")+", looks, search FROM hob_site WHERE id = 1").Scan(into...); err != nil {
		return nil, err
	}
	inside := map[string]string{"looks.serialised": values[len(names)].String, "search.json": values[len(names)+1].String}
	options, err := hobnailFiles.read(func(name string) ([]byte, error) {
		if text, is := inside[name]; is {
			return []byte(text), nil
		}
		return os.ReadFile(filepath.Join(k.root, name))
	})
	if err != nil {
		return nil, err
	}
	read := func(option, stored string) {
		options[option] = hobnailFiles.spelling(hobnailSpelt[option]).read(stored)
	}
	for i, column := range hobnailColumns {
		read(column[1], values[i].String)
	}
	found, err := pairs(ctx, k.db, "SELECT word, content FROM hob_words WHERE site_id = 1")
	if err != nil {
		return nil, err
	}
	for _, word := range hobnailWords {
		read(word[1], found[word[0]])
	}
	options["public_url"] = map[string]string{"yes": "https://", "no": "http://"}[options["scheme"]] + options["host"]
	options["install_url"], options["maker"] = options["inner_url"], "Hobnail"
	return options, nil
}

func (k *hobnailKeeper) entries(ctx context.Context) ([]entry, error) {
	return readEntries(ctx, k.db, "hob_pages")
}
