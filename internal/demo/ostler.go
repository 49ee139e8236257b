package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/format"
)

// ostler is the stand-in content system without a database: everything is a record in a folder of files, and what
// only the person with the keys should change is in two files beside it.
type ostler struct{}

var ostlerFiles = keptFiles{
	headers: map[string]string{
		".env":                            "# Read before anything else. Not for other people's eyes.\n",
		"ostler.toml":                     "# How this Ostler runs.\n\n[content]\nfolder = \"content\"\n\n[program]\nversion = \"2.1.0\"\n",
		"content/settings/site.yaml":      "# What the site is called, and for whom it is.\n",
		"content/settings/titles.yaml":    "# How titles are put together: :site :motto :page :shelf :between\n",
		"content/settings/mail.yaml":      "# Who writes, and who is written to.\n",
		"content/settings/front.yaml":     "# Which leaf is shown when.\n",
		"content/settings/visitors.yaml":  "# What visitors may do.\n",
		"content/settings/search.json":    "{\n  \"about\": \"What search engines are told.\"\n}\n",
		"content/settings/addresses.toml": "# Where things are found.\n",
		"content/settings/speed.toml":     "# How pages get out of the door faster.\n",
		"content/settings/notice.yaml":    "# The notice on the door.\n",
		"content/settings/notice.txt":     "",
	},
	spellings: map[string]spelling{
		"marks": marks("<page>", ":page", "<list>", ":shelf", "<site>", ":site", "<tagline>", ":motto", "<sep>", ":between",
			"<name>", ":name", "<id>", ":id", "<year>", ":year", "<month>", ":month", "<day>", ":day", "<topic>", ":shelf", "<writer>", ":hand"),
		"shapes": marks("<name>", ":name", "<id>", ":id", "<year>", ":year", "<month>", ":month", "<day>", ":day", "<topic>", ":shelf", "<writer>", ":hand"),
		"rank":   words(ostlerRanks),
		"front":  words(map[string]string{"stream": "newest", "page": "leaf"}),
		"second": words(map[string]string{"no": "never", "offered": "if wanted", "required": "always"}),
		"size":   {store: func(text string, _ bool) any { return kibToM(text) }, read: mToKiB},
	},
	table: []kept{
		{"secret", ".env:OSTLER_KEY", ""}, {"transfer_password", ".env:OSTLER_FERRY_PASSWORD", ""}, {"mailbox_password", ".env:OSTLER_LETTERBOX_PASSWORD", ""},
		{"debug", "ostler.toml:diagnosis.chatty", "yes"}, {"show_errors", "ostler.toml:diagnosis.show_faults", "yes"}, {"code_editing", "ostler.toml:diagnosis.edit_program", "yes"},
		{"report_usage", "ostler.toml:diagnosis.tell_the_makers", "yes"}, {"theme", "ostler.toml:looks.coat", ""},

		{"site_title", "content/settings/site.yaml:title", ""}, {"tagline", "content/settings/site.yaml:motto", ""}, {"lang", "content/settings/site.yaml:language", ""},
		{"zone", "content/settings/site.yaml:clock", ""}, {"icon", "content/settings/site.yaml:pictures.tab", ""}, {"logo", "content/settings/site.yaml:pictures.sign", ""},
		{"footer_line", "content/settings/site.yaml:foot", ""}, {"writer", "content/settings/site.yaml:hand", ""}, {"nav", "content/settings/site.yaml:menu", "words"},
		{"topic_about", "content/settings/site.yaml:shelf_about", ""}, {"signin_title", "content/settings/site.yaml:gate_title", ""}, {"gone", "content/settings/site.yaml:gone", ""},
		{"picture", "content/settings/site.yaml:pictures.shown", ""}, {"picture_title", "content/settings/site.yaml:pictures.shown_title", ""}, {"picture_about", "content/settings/site.yaml:pictures.shown_about", ""},

		{"title_form_home", "content/settings/titles.yaml:front", "marks"}, {"title_form_page", "content/settings/titles.yaml:leaf", "marks"},
		{"title_form_list", "content/settings/titles.yaml:shelf", "marks"}, {"title_sep", "content/settings/titles.yaml:between", ""},

		{"admin_mail", "content/settings/mail.yaml:keeper", ""}, {"mail_name", "content/settings/mail.yaml:from.name", ""}, {"mail_from", "content/settings/mail.yaml:from.address", ""},
		{"mail_posting", "content/settings/mail.yaml:posting", "yes"},

		{"front", "content/settings/front.yaml:shows", "front"}, {"front_page", "content/settings/front.yaml:leaf", ""}, {"splash", "content/settings/front.yaml:curtain", "yes"},
		{"page_missing", "content/settings/front.yaml:leaves.missing", ""}, {"page_error", "content/settings/front.yaml:leaves.fault", ""},
		{"page_search", "content/settings/front.yaml:leaves.search", ""}, {"page_signin", "content/settings/front.yaml:leaves.gate", ""}, {"default_topic", "content/settings/front.yaml:usual_shelf", ""},

		{"comments", "content/settings/visitors.yaml:remarks.on_posts", "yes"}, {"comments_pages", "content/settings/visitors.yaml:remarks.on_leaves", "yes"}, {"comments_held", "content/settings/visitors.yaml:remarks.read_first", "yes"},
		{"register", "content/settings/visitors.yaml:join.open", "yes"}, {"register_role", "content/settings/visitors.yaml:join.rank", "rank"}, {"register_confirm", "content/settings/visitors.yaml:join.by_mail", "yes"},
		{"signin_path", "content/settings/visitors.yaml:gate.address", ""}, {"signin_tries", "content/settings/visitors.yaml:gate.tries", "number"}, {"second_step", "content/settings/visitors.yaml:gate.second_key", "second"},
		{"idle_minutes", "content/settings/visitors.yaml:gate.idle_seconds", "seconds"}, {"upload_from", "content/settings/visitors.yaml:uploads.from_rank", "rank"},
		{"upload_types", "content/settings/visitors.yaml:uploads.endings", "words"}, {"upload_kb", "content/settings/visitors.yaml:uploads.largest", "size"},

		{"description", "content/settings/search.json:description", ""}, {"keywords", "content/settings/search.json:keywords", "phrases"}, {"show_author", "content/settings/search.json:tags.author", "yes"},
		{"show_maker", "content/settings/search.json:tags.maker", "yes"}, {"rights", "content/settings/search.json:tags.rights", ""}, {"verify", "content/settings/search.json:proofs", "lines"},
		{"card_image", "content/settings/search.json:card.picture", ""}, {"cards", "content/settings/search.json:card.shown", "yes"}, {"structured", "content/settings/search.json:structured", "yes"},
		{"hidden", "content/settings/search.json:listed", "not"}, {"nofollow", "content/settings/search.json:followed", "not"}, {"sitemap", "content/settings/search.json:map", "yes"},
		{"list_authors", "content/settings/search.json:shelves.hands", "yes"}, {"list_dates", "content/settings/search.json:shelves.months", "yes"}, {"list_files", "content/settings/search.json:shelves.pictures", "yes"},
		{"list_search", "content/settings/search.json:shelves.found", "yes"}, {"feed_items", "content/settings/search.json:feed.items", "number"}, {"feed_full", "content/settings/search.json:feed.whole", "yes"},
		{"feed_reply", "content/settings/search.json:feed.reply", ""}, {"notify", "content/settings/search.json:ring_the_bell", "yes"},

		{"public_url", "content/settings/addresses.toml:site.public", ""}, {"install_url", "content/settings/addresses.toml:site.inner", ""}, {"one_address", "content/settings/addresses.toml:site.strict", "yes"},
		{"address_form", "content/settings/addresses.toml:posts.shape", "shapes"}, {"topic_prefix", "content/settings/addresses.toml:posts.shelf", ""}, {"address_suffix", "content/settings/addresses.toml:posts.ending", ""},
		{"rewriting", "content/settings/addresses.toml:posts.rewrite", "yes"},

		{"cache", "content/settings/speed.toml:keep.pages", "yes"}, {"cache_objects", "content/settings/speed.toml:keep.pieces", "yes"}, {"cache_queries", "content/settings/speed.toml:keep.answers", "yes"},
		{"cache_warm", "content/settings/speed.toml:keep.ahead", "yes"}, {"cache_marks", "content/settings/speed.toml:keep.marks", "yes"}, {"cache_minutes", "content/settings/speed.toml:keep.seconds", "seconds"},
		{"compress", "content/settings/speed.toml:wire.squeeze", "yes"}, {"minify", "content/settings/speed.toml:wire.shrink", "yes"},

		{"closed", "content/settings/notice.yaml:up", "yes"}, {"closed_mail", "content/settings/notice.yaml:ask", ""}, {"locked", "content/settings/notice.yaml:barred", "yes"},
		{"closed_text", "content/settings/notice.txt:", ""}, {"version", "ostler.toml:program.version", ""},
	},
}

var ostlerRanks = map[string]string{"anybody": "passer-by", "reader": "guest", "writer": "hand", "editor": "reeve", "keeper": "steward"}

func kibToM(text string) string {
	var n int
	_, _ = fmt.Sscan(text, &n)
	return fmt.Sprintf("%dM", n/1024)
}

func mToKiB(stored string) string {
	var n int
	_, _ = fmt.Sscan(strings.TrimSuffix(stored, "M"), &n)
	return fmt.Sprint(n * 1024)
}

func (ostler) keep(in *installation, root string) ([]string, error) {
	in.options["secret"] = in.secret
	written, err := ostlerFiles.write(in.options, root)
	if err != nil {
		return nil, err
	}
	record := func(name string, value any) error {
		written = append(written, name)
		if strings.HasSuffix(name, ".json") {
			data, err := json.MarshalIndent(value, "", "  ")
			if err != nil {
				return err
			}
			return writeFile(filepath.Join(root, name), file{string(data) + "\n", 0o644})
		}
		text := ""
		for _, pair := range value.([][2]any) {
			doc, err := format.Read("yaml", []byte(text), format.Options{})
			if err != nil {
				return err
			}
			changed, err := doc.Set(pair[0].(string), pair[1])
			if err != nil {
				return err
			}
			text = string(changed)
		}
		return writeFile(filepath.Join(root, name), file{text, 0o644})
	}
	for i, p := range in.pages {
		err := record("content/leaves/"+p.slug+".yaml", [][2]any{{"number", int64(i + 1)}, {"title", p.title}, {"kind", map[string]string{"page": "leaf", "post": "news"}[p.kind]},
			{"state", p.status}, {"made", p.published}, {"summary", p.description}, {"listed", !slices.Contains(in.unlisted, p.slug)}, {"words", p.body}})
		if err != nil {
			return nil, err
		}
	}
	for i, a := range in.accounts {
		err := record("content/people/"+a.login+".json", map[string]any{"rank": ostlerRanks[a.role], "since": fmt.Sprintf("2026-05-%02d", i+3), "second_key": a.role == "keeper", "seen": "2026-11-20"})
		if err != nil {
			return nil, err
		}
	}
	for _, e := range in.extensions {
		if err := record("content/add-ons/"+e.name+".json", map[string]any{"kind": e.kind, "on": e.active, "version": e.version, "newest": e.newest}); err != nil {
			return nil, err
		}
	}
	return written, nil
}

func (ostler) open(root string, _ *databaseServer) (keeper, error) { return ostlerKeeper{root}, nil }

type ostlerKeeper struct{ root string }

func (ostlerKeeper) close() {}

func (k ostlerKeeper) options(context.Context) (map[string]string, error) {
	options, err := ostlerFiles.read(readBelow(k.root))
	if err == nil {
		options["maker"] = "Ostler"
	}
	return options, err
}

func (k ostlerKeeper) entries(context.Context) ([]entry, error) {
	names, err := filepath.Glob(filepath.Join(k.root, "content", "leaves", "*.yaml"))
	if err != nil {
		return nil, err
	}
	var list []entry
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		doc, err := format.Read("yaml", data, format.Options{})
		if err != nil {
			return nil, err
		}
		text := func(path string) string {
			e, _ := doc.Lookup(path)
			return strings.TrimPrefix(fmt.Sprint(e.Value), "<nil>")
		}
		e := entry{Slug: strings.TrimSuffix(filepath.Base(name), ".yaml"), Title: text("title"), Kind: map[string]string{"leaf": "page", "news": "post"}[text("kind")],
			Status: text("state"), Published: text("made"), About: text("summary"), Body: text("words"), Unlisted: text("listed") == "false"}
		_, _ = fmt.Sscan(text("number"), &e.ID)
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b entry) int { return a.ID - b.ID })
	return list, nil
}
