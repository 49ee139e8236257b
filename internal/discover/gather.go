package discover

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"weltaxis/internal/dialect"
	"weltaxis/internal/format"
	"weltaxis/internal/progress"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

// A candidate is one stored value that may be a setting.
type candidate struct {
	store   string // name of its store in the draft
	key     string
	words   []word // of the key
	around  []word // of what holds it: section, file, table
	value   any
	text    string
	secret  bool   // its name says that nobody should see it
	origin  string // for people
	section string // what it shares with its neighbours
}

// Bounds of the walk.
const (
	maxDepth   = 7
	maxFiles   = 20_000
	maxConfigs = 400
	maxConfig  = 256 << 10
	maxEntries = 1500 // of one file, table or document
	maxAll     = 20_000
	maxWord    = 40   // of a key, in letters
	maxText    = 2000 // of a value that may be a setting
)

// formatsByEnding are the formats that an ending promises. A file is read as that first, and as what it looks like otherwise.
var formatsByEnding = map[string]string{
	".php": "php", ".ini": "ini", ".cfg": "ini", ".env": "env", ".yaml": "yaml", ".yml": "yaml", ".json": "json", ".toml": "toml",
	".xml": "xml", ".properties": "properties", ".conf": "plain", ".py": "script", ".rb": "script", ".js": "script", ".mjs": "script", ".cjs": "script", ".ts": "script",
	".lua": "script", ".pl": "script", ".pm": "script", ".sh": "env",
}

// noConfiguration are endings of what is shown, played or packed, and of what only looks like settings.
var noConfiguration = []string{".html", ".htm", ".css", ".svg", ".png", ".jpg", ".jpeg", ".gif", ".webp", ".ico", ".woff", ".woff2", ".ttf", ".eot", ".pdf", ".zip", ".gz", ".tar", ".mp3", ".mp4", ".map",
	".md", ".rst", ".log", ".sql", ".lock", ".po", ".mo", ".pot", ".csv", ".tsv", ".db", ".sqlite", ".sqlite3", ".scss", ".less", ".vue", ".jsx", ".tsx", ".twig", ".tpl"}

// foreign are folders with other people's programs, or with nothing that anybody set.
var foreign = []string{"vendor", "node_modules", "cache", "tmp", "temp", "logs", "log", "test", "tests", ".git", ".svn", "media", "uploads", "files", "themes", "templates", "lang", "locale", "i18n", "docs"}

// gather walks the root for configuration files, and reads the database that they name or that was given.
func (d *Draft) gather(ctx context.Context, options Options) error {
	if options.Root != "" {
		if err := d.walk(options.Root); err != nil {
			return err
		}
	}
	at := options.Database
	if at == (dialect.Database{}) {
		at = d.databaseFromConfiguration()
	}
	if at == (dialect.Database{}) {
		return ctx.Err()
	}
	progress.Tell(ctx, "reading the database", 0, 0)
	tables, err := store.Explore(ctx, at, options.Stores)
	if err != nil {
		d.Notes = append(d.Notes, "the database was not looked at: "+err.Error())
		return ctx.Err()
	}
	d.tables(tables)
	return ctx.Err()
}

// A found file is one that was understood.
type configFile struct {
	path, format string
	entries      []format.Entry
}

func (d *Draft) walk(root string) error {
	files := 0
	var passed []string
	byFolder := map[string][]configFile{}
	in, err := tree.Open(root)
	if err != nil {
		return err
	}
	defer in.Close()
	err = tree.Visit(in, ".", func(e tree.Entry, err error) error {
		rel := e.Path
		if err != nil {
			if rel == "." {
				return err
			}
			return nil // what may not be read is no candidate
		}
		if files++; files > maxFiles {
			return fs.SkipAll
		}
		if e.Kind == tree.Folder {
			d.folders = append(d.folders, rel)
			if rel != "." && (slices.Contains(foreign, strings.ToLower(e.Base())) || strings.Count(rel, "/") >= maxDepth) {
				return fs.SkipDir
			}
			return nil
		}
		d.files = append(d.files, rel)
		switch t := readConfig(in, e); {
		case t.read:
			byFolder[path.Dir(rel)] = append(byFolder[path.Dir(rel)], t.file)
		case t.promises:
			passed = append(passed, rel+" ("+t.because+")")
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, folder := range slices.Sorted(maps.Keys(byFolder)) {
		for _, f := range withoutContent(byFolder[folder]) {
			if len(d.configs) < maxConfigs {
				d.addFile(f)
			}
		}
	}
	d.note(len(d.files), passed)
	return nil
}

// A reading of a file: what came of it, or why nothing did.
type tried struct {
	file     configFile
	read     bool
	promises bool   // by its name or its look it is configuration
	because  string // why it was not read
}

// configName is how configuration is called.
var configName = regexp.MustCompile(`(?i)(?:^|[._-])(?:config|configuration|conf|cfg|settings?|options?|preferences|prefs|params?|parameters|setup|defaults|site|local|env|einstellungen|konfiguration|parametres|configuracion|ajustes|impostazioni)(?:[._-]|$)`)

// readConfig reads a file that may be configuration: as its ending promises, or as what it looks like.
func readConfig(in tree.Files, e tree.Entry) tried {
	rel, name := e.Path, strings.ToLower(e.Base())
	promised := formatsByEnding[path.Ext(name)]
	if name == ".env" || strings.HasPrefix(name, ".env.") {
		promised = "env"
	}
	t := tried{promises: promised != "" && promised != "script" && promised != "php" || configName.MatchString(name)}
	switch {
	case e.Kind != tree.File || e.Size == 0 || slices.Contains(noConfiguration, path.Ext(name)):
		t.promises = false
		return t
	case e.Size > maxConfig:
		t.because = fmt.Sprintf("it is larger than %d KiB", maxConfig>>10)
		return t
	}
	data, err := tree.Read(in, rel, maxConfig)
	if err != nil {
		t.because = err.Error()
		return t
	}
	if !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0 {
		t.because = "it is no text"
		return t
	}
	var first error
	for _, formatName := range looksLike(promised, data) {
		doc, err := format.Read(formatName, data, format.Options{Dir: path.Join("/", path.Dir(rel))})
		if err != nil {
			if first == nil {
				first = fmt.Errorf("as %s: %w", formatName, err)
			}
			continue
		}
		f := configFile{path: rel, format: formatName}
		for _, entry := range doc.Entries() {
			if entry.Unresolved == "" {
				f.entries = append(f.entries, entry)
			}
		}
		if len(f.entries) > 0 && (formatName == promised && promised != "script" || speaks(f)) {
			return tried{file: f, read: true}
		}
	}
	switch {
	case first != nil:
		t.because = first.Error()
	default:
		t.because = "hardly any name in it is one that settings have"
	}
	return t
}

// looksLike are the formats to try on a file, the likeliest first: what its ending promises, and what its first signs are
// those of.
func looksLike(promised string, data []byte) []string {
	text := strings.TrimLeft(strings.TrimPrefix(string(data[:min(len(data), 4096)]), "\ufeff"), " \t\r\n")
	var list []string
	add := func(names ...string) {
		for _, name := range names {
			if name != "" && !slices.Contains(list, name) {
				list = append(list, name)
			}
		}
	}
	add(promised)
	switch {
	case strings.HasPrefix(text, "<?php"):
		add("php")
	case strings.HasPrefix(text, "<"):
		add("xml")
	case strings.HasPrefix(text, "{"):
		add("json", "script")
	case sectionLine.MatchString(text):
		add("toml", "ini", "json")
	case strings.HasPrefix(text, "a:") || strings.HasPrefix(text, "O:"):
		add("serialised")
	}
	if promised == "json" || promised == "xml" || promised == "php" {
		return list
	}
	if exportLine.MatchString(text) {
		add("script")
	}
	if assignLine.MatchString(text) {
		add("toml", "env", "ini", "script", "properties", "plain")
	}
	add("yaml", "env", "ini", "properties", "plain", "script")
	return list
}

var (
	sectionLine = regexp.MustCompile(`(?m)^\[[A-Za-z0-9_. "-]+\]\s*(?:[#;].*)?$`)
	assignLine  = regexp.MustCompile(`(?m)^\s*[\w.$-]+\s*=\s*\S`)
	exportLine  = regexp.MustCompile(`(?m)^(?:module\.exports|export default|return\s*\{|local \w|const \w|var \w|our [%$]|\w+ = (?:\{|\[|True|False|None))`)
)

// speaks tells whether enough names in a file are such as settings have: three at least, and a third of them.
func speaks(f configFile) bool {
	known := 0
	for _, e := range f.entries {
		key := e.Path[strings.LastIndexByte(e.Path, '.')+1:]
		if slices.ContainsFunc(wordsOf(key), func(w word) bool { return len(w.concepts) > 0 }) {
			known++
		}
	}
	return known >= 3 && known*3 >= len(f.entries)
}

// note says what was looked at, what of it was read, and why the rest of what looks like settings was not.
func (d *Draft) note(files int, passed []string) {
	text := fmt.Sprintf("%d files were looked at; %d look like settings", files, len(d.configs)+len(passed))
	switch {
	case len(d.configs) == 0 && len(passed) == 0:
		text += ", so nothing was read"
	case len(d.configs) == 0:
		text += "; none could be read"
	default:
		text += fmt.Sprintf("; %d of them could be read", len(d.configs))
	}
	if len(passed) > 0 {
		const most = 5
		if len(d.configs) > 0 {
			text += ", and not"
		}
		text += ": " + strings.Join(passed[:min(len(passed), most)], "; ")
		if more := len(passed) - most; more > 0 {
			text += fmt.Sprintf("; and %d more", more)
		}
	}
	d.Notes = append(d.Notes, text)
}

// withoutContent leaves out the files of a folder that are alike: a record for each page or person is content.
func withoutContent(files []configFile) []configFile {
	if len(files) < 3 {
		return files
	}
	shapes := map[string]int{}
	shape := func(f configFile) string {
		var keys []string
		for _, e := range f.entries {
			keys = append(keys, e.Path)
		}
		slices.Sort(keys)
		return f.format + strings.Join(keys, "\n")
	}
	for _, f := range files {
		shapes[shape(f)]++
	}
	return slices.DeleteFunc(files, func(f configFile) bool { return shapes[shape(f)] >= 3 })
}

func (d *Draft) addFile(f configFile) {
	name := d.storeName(strings.TrimSuffix(path.Base(f.path), path.Ext(f.path)))
	d.stores[name] = dialect.Store{File: f.path, Format: f.format}
	d.configs = append(d.configs, f.path)
	around := wordsOf(strings.TrimSuffix(path.Base(f.path), path.Ext(f.path)) + " " + path.Base(path.Dir(f.path)))
	holders := map[string]bool{}
	for _, e := range f.entries {
		for i, c := range e.Path {
			if c == '.' {
				holders[e.Path[:i]] = true
			}
		}
	}
	for _, e := range f.entries[:min(len(f.entries), maxEntries)] {
		up, key := "", e.Path
		if dot := strings.LastIndexByte(e.Path, '.'); dot >= 0 {
			up, key = e.Path[:dot], e.Path[dot+1:]
		}
		if _, isList := e.Value.([]any); !isList && key != "" && isDigits(key) {
			continue // an item of a list, which stands there as a whole
		}
		if e.Value == nil && holders[e.Path] {
			continue // it only holds others
		}
		d.add(candidate{store: name, key: e.Path, words: wordsOf(key), around: append(slices.Clone(wordsOf(up)), around...), value: e.Value,
			origin: fmt.Sprintf("%s, line %d", f.path, e.Line), section: name + "/" + up})
	}
}

func (d *Draft) add(c candidate) {
	if text, single := dialect.Text(c.value); single {
		c.text = text
	} else if items, isList := c.value.([]any); isList {
		var texts []string
		for _, item := range items {
			if text, single := dialect.Text(item); single {
				texts = append(texts, text)
			}
		}
		c.text = strings.Join(texts, ", ")
	}
	if len(c.text) > maxText || len(d.candidates) >= maxAll {
		return
	}
	for _, w := range c.words {
		c.secret = c.secret || slices.ContainsFunc(w.concepts, func(concept string) bool { return concept == "password" || concept == "secret" })
	}
	d.candidates = append(d.candidates, c)
}

// storeName is a name no other store of the draft has.
func (d *Draft) storeName(wish string) string {
	wish = strings.Trim(notName.ReplaceAllString(strings.ToLower(wish), "_"), "_")
	if wish == "" {
		wish = "config"
	}
	name := wish
	for n := 2; ; n++ {
		if _, taken := d.stores[name]; !taken {
			return name
		}
		name = fmt.Sprintf("%s_%d", wish, n)
	}
}

// databaseKeys are the words by which a configuration says where its database is.
var databaseKeys = map[string][]string{
	"driver": {"driver", "type", "engine", "dbtype", "connection", "adapter", "dialect", "client"}, "host": {"host", "server", "hostname", "servername"}, "port": {"port"},
	"socket": {"socket"}, "name": {"name", "database", "dbname", "db", "schema", "basename"}, "user": {"user", "username", "login", "utilisateur", "benutzer"},
	"password": {"password", "pass", "passwd", "pwd", "passwort", "pw"}, "sqlite": {"file", "path", "filename", "datei", "fichier"}, "prefix": {"prefix", "tableprefix", "praefix", "prefixe"},
}

// databaseFromConfiguration finds the entries that say where the database is, and makes variables of them.
func (d *Draft) databaseFromConfiguration() dialect.Database {
	groups := map[string][]candidate{}
	for _, c := range d.candidates {
		about := false
		for _, w := range append(slices.Clone(c.words), c.around...) {
			about = about || slices.Contains(w.concepts, "database") || strings.HasPrefix(w.text, "db") || w.text == "sql"
		}
		if about {
			groups[c.section] = append(groups[c.section], c)
		}
	}
	best, most := "", 1
	found := map[string]map[string]candidate{}
	for section, list := range groups {
		roles := map[string]candidate{}
		for _, c := range list {
			for role, words := range databaseKeys {
				last := ""
				if n := len(c.words); n > 0 {
					last = c.words[n-1].text
				}
				if slices.Contains(words, last) || slices.Contains(words, strings.TrimPrefix(last, "db")) {
					if _, taken := roles[role]; !taken {
						roles[role] = c
					}
				}
			}
		}
		if found[section] = roles; len(roles) > most || len(roles) == most && most > 1 && section < best {
			best, most = section, len(roles)
		}
	}
	if best == "" {
		return d.databaseFile()
	}
	return d.useDatabase(found[best])
}

// useDatabase writes the variables down, and gives what they stand for.
func (d *Draft) useDatabase(roles map[string]candidate) dialect.Database {
	at, spec := dialect.Database{}, dialect.Database{}
	for role, into := range map[string][2]*string{"driver": {&at.Driver, &spec.Driver}, "sqlite": {&at.SQLite, &spec.SQLite}, "host": {&at.Host, &spec.Host}, "port": {&at.Port, &spec.Port},
		"socket": {&at.Socket, &spec.Socket}, "name": {&at.Name, &spec.Name}, "user": {&at.User, &spec.User}, "password": {&at.Password, &spec.Password}} {
		if c, there := roles[role]; there && c.text != "" {
			*into[0], *into[1] = c.text, "{db_"+role+"}"
			d.variables["db_"+role] = dialect.Variable{From: c.store + "/" + c.key}
		}
	}
	if c, there := roles["prefix"]; there {
		d.prefix = c.text
		d.variables["prefix"] = dialect.Variable{From: c.store + "/" + c.key}
	}
	word := strings.ToLower(at.Driver)
	switch {
	case strings.Contains(word, "pg") || strings.Contains(word, "postgres"):
		at.Driver = dialect.PostgreSQL
	case strings.Contains(word, "my") || strings.Contains(word, "maria"):
		at.Driver = dialect.MySQL
	case at.SQLite != "" || strings.Contains(word, "lite"):
		at.Driver = dialect.SQLite
		if at.SQLite == "" {
			at.SQLite, spec.SQLite = at.Name, spec.Name
		}
	case at.Port == "5432":
		at.Driver = dialect.PostgreSQL
	default:
		at.Driver = dialect.MySQL
	}
	if v, there := d.variables["db_driver"]; there {
		v.Words = map[string]string{roles["driver"].text: at.Driver}
		if roles["driver"].text == at.Driver {
			v.Words = nil
		}
		d.variables["db_driver"] = v
	} else {
		spec.Driver = at.Driver
	}
	if at.Driver == dialect.SQLite {
		at = dialect.Database{Driver: at.Driver, SQLite: at.SQLite}
		spec = dialect.Database{Driver: spec.Driver, SQLite: spec.SQLite}
		for _, name := range []string{"db_host", "db_port", "db_socket", "db_user", "db_password", "db_name"} {
			if "{"+name+"}" != spec.SQLite {
				delete(d.variables, name)
			}
		}
	}
	d.database = spec
	return at
}

// databaseFile finds a SQLite file that no configuration names.
func (d *Draft) databaseFile() dialect.Database {
	for _, file := range d.files {
		if slices.Contains([]string{".db", ".sqlite", ".sqlite3"}, path.Ext(file)) {
			d.database = dialect.Database{SQLite: file}
			return d.database
		}
	}
	return dialect.Database{}
}

// tables finds those that hold settings: keys and values, or one wide row.
func (d *Draft) tables(tables []store.Table) {
	for _, t := range tables {
		d.Tables = append(d.Tables, t.Name)
		name := t.Name
		if d.prefix != "" && strings.HasPrefix(name, d.prefix) {
			name = "{prefix}" + strings.TrimPrefix(name, d.prefix)
		}
		if key, value, where, ok := keyValueColumns(t); ok {
			d.addKeyValues(t, name, key, value, where)
		} else if len(t.Rows) > 0 && len(t.Rows) <= 3 && len(t.Columns) >= 6 {
			d.addRow(t, name)
		}
	}
}

var (
	keyNames   = []string{"name", "key", "option", "setting", "k", "word", "code", "var", "varname", "param", "parameter", "id", "ident", "path", "schluessel", "cle", "clave", "nom"}
	valueNames = []string{"value", "val", "content", "data", "v", "setting_value", "wert", "valeur", "valor", "text"}
	siteNames  = []string{"site", "site_id", "siteid", "domain_id", "tenant", "shop_id", "mandant", "host_id"}
)

// keyValueColumns tells whether a table looks like keys and values, and which rows are this site's where several
// sites share it.
func keyValueColumns(t store.Table) (key, value int, where map[string]string, ok bool) {
	pick := func(names []string) int {
		return slices.IndexFunc(t.Columns, func(c string) bool {
			c = strings.ToLower(c)
			return slices.ContainsFunc(names, func(n string) bool { return c == n || strings.HasSuffix(c, "_"+n) && len(n) > 2 })
		})
	}
	value = pick(valueNames)
	key = -1
	for _, name := range keyNames {
		if i := pick([]string{name}); i >= 0 && i != value && textual(t, i) {
			key = i
			break
		}
	}
	site := pick(siteNames)
	if (key < 0 || value < 0) && len(t.Rows) >= 8 {
		key, value, site = pairedColumns(t)
	}
	if key < 0 || value < 0 || len(t.Columns) > 8 || len(t.Rows) < 4 {
		return 0, 0, nil, false
	}
	if site >= 0 && site != key && site != value {
		counts := map[string]int{}
		for _, row := range t.Rows {
			counts[row[site]]++
		}
		most := ""
		for id, n := range counts {
			if most == "" || n > counts[most] || n == counts[most] && id < most {
				most = id
			}
		}
		where = map[string]string{t.Columns[site]: most}
		t.Rows = slices.DeleteFunc(slices.Clone(t.Rows), func(row []string) bool { return row[site] != most })
	}
	seen := map[string]bool{}
	for _, row := range t.Rows {
		if seen[row[key]] {
			return 0, 0, nil, false
		}
		seen[row[key]] = true
	}
	return key, value, where, true
}

// pairedColumns finds keys and values by what is in them, whatever the columns are called: of two columns, or three of
// which one tells sites apart, the one whose texts are mostly made of words that settings are called by holds the keys.
// What it does not find is -1.
func pairedColumns(t store.Table) (key, value, site int) {
	key, value, site = -1, -1, -1
	if len(t.Columns) < 2 || len(t.Columns) > 3 {
		return key, value, site
	}
	for i := range t.Columns {
		switch {
		case len(t.Columns) == 3 && site < 0 && distinctIn(t, i)*4 <= len(t.Rows):
			site = i
		case key < 0 && textual(t, i) && speaksOfSettings(t, i):
			key = i
		default:
			value = i
		}
	}
	if len(t.Columns) == 3 && site < 0 {
		return -1, -1, -1
	}
	return key, value, site
}

func distinctIn(t store.Table, column int) int {
	seen := map[string]bool{}
	for _, row := range t.Rows {
		seen[row[column]] = true
	}
	return len(seen)
}

// speaksOfSettings tells whether most texts of a column hold a word that the lexicon knows.
func speaksOfSettings(t store.Table, column int) bool {
	known := 0
	for _, row := range t.Rows {
		if slices.ContainsFunc(wordsOf(row[column]), func(w word) bool { return len(w.concepts) > 0 }) {
			known++
		}
	}
	return known*2 > len(t.Rows)
}

// textual tells whether a column holds words rather than numbers.
func textual(t store.Table, column int) bool {
	words := 0
	for _, row := range t.Rows {
		if row[column] != "" && !isDigits(row[column]) && len(row[column]) < 120 && !strings.ContainsAny(row[column], " \n") {
			words++
		}
	}
	return words*4 >= len(t.Rows)*3
}

func (d *Draft) addKeyValues(t store.Table, name string, key, value int, where map[string]string) {
	st := d.storeName(strings.TrimPrefix(name, "{prefix}"))
	d.stores[st] = dialect.Store{Database: "main", Table: name, Key: t.Columns[key], Value: t.Columns[value], Where: where}
	around := wordsOf(strings.TrimPrefix(t.Name, d.prefix))
	for _, row := range t.Rows {
		mine := true
		for column, is := range where {
			mine = mine && row[slices.Index(t.Columns, column)] == is
		}
		if mine {
			d.addCell(st, row[key], around, row[value], fmt.Sprintf("table %s, row %s", t.Name, row[key]))
		}
	}
}

func (d *Draft) addRow(t store.Table, name string) {
	st := d.storeName(strings.TrimPrefix(name, "{prefix}"))
	where := map[string]string{}
	if strings.EqualFold(t.Columns[0], "id") {
		where[t.Columns[0]] = t.Rows[0][0]
	} else if len(t.Rows) > 1 {
		return
	}
	d.stores[st] = dialect.Store{Database: "main", Table: name, Where: where}
	around := wordsOf(strings.TrimPrefix(t.Name, d.prefix))
	for i, column := range t.Columns {
		d.addCell(st, column, around, t.Rows[0][i], fmt.Sprintf("table %s, column %s", t.Name, column))
	}
}

// addCell takes a value, or what lies in it when it is itself a document.
func (d *Draft) addCell(st, key string, around []word, text, origin string) {
	formatName, is := store.IsDocument(text)
	if !is {
		up := ""
		if dot := strings.LastIndexAny(key, "./:"); dot > 0 {
			up = key[:dot]
		}
		d.add(candidate{store: st, key: key, words: wordsOf(key), around: around, value: text, origin: origin, section: st + "/" + up})
		return
	}
	doc, err := format.Read(formatName, []byte(text), format.Options{})
	if err != nil {
		return
	}
	inner := d.storeName(key)
	d.stores[inner] = dialect.Store{Inside: st + "/" + key, Format: formatName}
	around = append(slices.Clone(wordsOf(key)), around...)
	entries := doc.Entries()
	for _, e := range entries[:min(len(entries), maxEntries)] {
		if e.Unresolved != "" {
			continue
		}
		up, last := "", e.Path
		if dot := strings.LastIndexByte(e.Path, '.'); dot >= 0 {
			up, last = e.Path[:dot], e.Path[dot+1:]
		}
		if isDigits(last) {
			continue
		}
		d.add(candidate{store: inner, key: e.Path, words: wordsOf(last), around: append(slices.Clone(wordsOf(up)), around...), value: e.Value,
			origin: origin + ", in it " + e.Path, section: inner + "/" + up})
	}
}
