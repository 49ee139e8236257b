package facts

import (
	"encoding/json"
	"slices"
	"strings"
)

// The lists of the runtime source.
const (
	ListFolders  = "runtime.folders"
	ListTroubles = "runtime.troubles"
)

// A RuntimeField is one thing that the language runtime has been told: a term of its own for the site's root, and a field of every
// folder in which it is another.
type RuntimeField struct {
	Field
	Directive string // as the runtime calls it
	Set       string // where it may be set
}

// Where a directive may be set (PHP manual, "Where a configuration setting may be set").
const (
	setAnywhere  = "php.ini, the pool, the web server, a folder's own file, and by a program"
	setForFolder = "php.ini, the pool, the web server and a folder's own file"
	setBySystem  = "php.ini, the pool's php_admin_value and the web server's; not for a folder"
)

// RuntimeFieldOf finds a field by its name, with or without the source, or by what the runtime calls it.
func RuntimeFieldOf(name string) (RuntimeField, bool) {
	name = strings.TrimPrefix(name, Runtime.All())
	i := slices.IndexFunc(RuntimeFields, func(f RuntimeField) bool { return f.Name == name || f.Directive == name })
	if i < 0 {
		return RuntimeField{}, false
	}
	return RuntimeFields[i], true
}

// RuntimeFields are all of them, in the order in which they are shown.
var RuntimeFields = []RuntimeField{
	{Field{Name: "errors_shown", Type: Bool, Meaning: "errors are shown to visitors (display_errors)"}, "display_errors", setAnywhere},
	{Field{Name: "startup_errors_shown", Type: Bool, Meaning: "so are those of its start (display_startup_errors)"}, "display_startup_errors", setAnywhere},
	{Field{Name: "errors_kept", Type: Bool, Meaning: "errors are written into a log (log_errors)"}, "log_errors", setAnywhere},
	{Field{Name: "error_log", Type: String, Meaning: "the file of that log; nothing for the web server's own (error_log)"}, "error_log", setAnywhere},
	{Field{Name: "announced", Type: Bool, Meaning: "it names itself in a header (expose_php)"}, "expose_php", setBySystem},
	{Field{Name: "remote_open", Type: Bool, Meaning: "programs may open addresses like files (allow_url_fopen)"}, "allow_url_fopen", setBySystem},
	{Field{Name: "remote_include", Type: Bool, Meaning: "programs may run what lies at an address (allow_url_include)"}, "allow_url_include", setBySystem},
	{Field{Name: "uploads", Type: Bool, Meaning: "files may be uploaded (file_uploads)"}, "file_uploads", setBySystem},
	{Field{Name: "upload_limit", Type: Size, Meaning: "the largest file that is taken (upload_max_filesize)"}, "upload_max_filesize", setForFolder},
	{Field{Name: "request_limit", Type: Size, Meaning: "the largest request that is taken; 0 for any (post_max_size)"}, "post_max_size", setForFolder},
	{Field{Name: "upload_count", Type: Int, Meaning: "most files in one request (max_file_uploads)"}, "max_file_uploads", setForFolder},
	{Field{Name: "input_fields", Type: Int, Meaning: "most fields of a form (max_input_vars)"}, "max_input_vars", setForFolder},
	{Field{Name: "memory_limit", Type: Size, Meaning: "most memory of one request; below 0 for any (memory_limit)"}, "memory_limit", setAnywhere},
	{Field{Name: "time_limit", Type: Duration, Meaning: "the longest a request may compute; 0 for ever (max_execution_time)"}, "max_execution_time", setAnywhere},
	{Field{Name: "loads_before", Type: String, Meaning: "what is run before every program, as a firewall's loader; nothing for none (auto_prepend_file)"}, "auto_prepend_file", setForFolder},
	{Field{Name: "loads_after", Type: String, Meaning: "what is run after every program; nothing for none (auto_append_file)"}, "auto_append_file", setForFolder},
	{Field{Name: "confined_to", Type: String, Meaning: "the folders that programs may open files in; nothing for all (open_basedir)"}, "open_basedir", setAnywhere},
	{Field{Name: "functions_off", Type: String, Meaning: "functions that are switched off (disable_functions)"}, "disable_functions", setBySystem},
	{Field{Name: "session_name", Type: String, Meaning: "the name of the session's cookie (session.name)"}, "session.name", setAnywhere},
	{Field{Name: "session_http_only", Type: Bool, Meaning: "scripts of a page do not see that cookie (session.cookie_httponly)"}, "session.cookie_httponly", setAnywhere},
	{Field{Name: "session_secure", Type: Bool, Meaning: "it is only sent over an encrypted connection (session.cookie_secure)"}, "session.cookie_secure", setAnywhere},
	{Field{Name: "session_same_site", Type: String, Meaning: "whether other sites' requests carry it; nothing when that is not said (session.cookie_samesite)"}, "session.cookie_samesite", setAnywhere},
	{Field{Name: "session_strict", Type: Bool, Meaning: "a session that the site did not begin is not taken (session.use_strict_mode)"}, "session.use_strict_mode", setAnywhere},
	{Field{Name: "session_cookie_only", Type: Bool, Meaning: "a session in an address is not taken (session.use_only_cookies)"}, "session.use_only_cookies", setAnywhere},
	{Field{Name: "session_in_address", Type: Bool, Meaning: "sessions are written into addresses (session.use_trans_sid)"}, "session.use_trans_sid", setAnywhere},
	{Field{Name: "session_cookie_life", Type: Duration, Meaning: "how long the cookie lives; 0 until the browser closes (session.cookie_lifetime)"}, "session.cookie_lifetime", setAnywhere},
	{Field{Name: "session_kept", Type: Duration, Meaning: "how long a session without a click is kept (session.gc_maxlifetime)"}, "session.gc_maxlifetime", setAnywhere},
	{Field{Name: "session_folder", Type: String, Meaning: "where sessions are kept (session.save_path)"}, "session.save_path", setAnywhere},
	{Field{Name: "output_compressed", Type: Bool, Meaning: "the runtime compresses what it answers (zlib.output_compression)"}, "zlib.output_compression", setAnywhere},
	{Field{Name: "byte_code", Type: Bool, Meaning: "programs are kept as byte-code (opcache.enable)"}, "opcache.enable", setAnywhere},
	{Field{Name: "charset", Type: String, Meaning: "the charset that its pages say (default_charset)"}, "default_charset", setAnywhere},
}

// The terms of what the language runtime has been told. Those of its directives are made of RuntimeFields.
var (
	RuntimeKind    = textKey(Runtime, String, "kind", "how programs are run: PHP-FPM, or PHP in Apache")
	RuntimeVersion = textKey(Runtime, Version, "version", "its version, as the package says by which it was installed, or else its branch")
	RuntimeBranch  = textKey(Runtime, String, "branch", "whose the version is: its makers', or a distribution's, which mends it longer")
	RuntimeMended  = amountKey(Runtime, Date, "mended_until", "until when flaws in it are mended, by whoever it comes from")
	RuntimeModules = listKey(Runtime, "modules", "modules that its files load")
	RuntimeMissing = listKey(Runtime, "modules_missing", "modules that the dialect says the content system relies on, and that are not loaded").follows("runtime.modules")
	RuntimeRelied  = listKey(Runtime, "modules_relied", "settings that are switched on and rely on a module that is not loaded, each with the module").follows("runtime.modules")
	runtimeTerms   = runtimeKeys()
)

// The fields of a folder that tell of what is run before every program beside what that is: whether it is there, and what was to be.
const (
	LoaderThere   = "loader_there"
	LoaderDropped = "loader_dropped"
)

func runtimeKeys() map[string]*Term {
	terms := map[string]*Term{}
	for _, row := range RuntimeFields {
		terms[row.Name] = declare(Runtime, row.Type, row.Name, row.Meaning, func(v Value) Value { return v }).Term
	}
	return terms
}

// RuntimeReading is what a directive says for the site's root.
func RuntimeReading(row RuntimeField, v Value, at Origin) Reading {
	return Reading{Source: Runtime, Name: runtimeTerms[row.Name].Short(), Value: v, Origin: at}
}

// A Folder is a folder of the site in which the runtime has been told something: the root, and each folder in which something is
// another, or comes from another line.
type Folder struct {
	Address string   `json:"path"` // of it, ending in a slash
	Own     []string `json:"own"`  // fields that are another here than in the folder above, or come from another line; of the root none
	Cells   Cells    `json:"fields"`
}

// folderList are all fields of the list.
var folderList = func() []Field {
	fields := []Field{{Name: "path", Type: String, Meaning: "the address of the folder"},
		{Name: "own", Type: List, Meaning: "fields that are another here than in the folder above, or come from another line; of the root none"}}
	for _, row := range RuntimeFields {
		row.Steady.Follows = []string{Runtime.Name(row.Name)}
		fields = append(fields, row.Field)
	}
	fields = append(fields, Field{Name: LoaderThere, Type: Bool, Meaning: "what is run before every program is there; it is if there is nothing to be run"},
		Field{Name: LoaderDropped, Type: String, Meaning: "what was to be run before every program, and is not here; nothing when nothing was, or something is"})
	return fields
}()

// Subject is the folder's address.
func (f *Folder) Subject() string { return f.Address }

// Identity is the folder's address.
func (f *Folder) Identity() string { return f.Address }

// Origin is the folder itself.
func (f *Folder) Origin() Origin { return Origin{Path: f.Address} }

// Field implements Item.
func (f *Folder) Field(name string) (Value, bool) {
	switch name {
	case "path":
		return TextOf(String, f.Address), true
	case "own":
		return ListOf(f.Own...), true
	}
	return f.Cells.value(name)
}

// Why implements Item.
func (f *Folder) Why(field string) Reason {
	return f.Cells.why(field, "nothing was worked out for it", f.Origin())
}

// OriginOf implements Item.
func (f *Folder) OriginOf(field string) Origin { return f.Cells.originOf(field, f.Origin()) }

// UnmarshalJSON reads a folder; the catalogue says what types its fields have.
func (f *Folder) UnmarshalJSON(raw []byte) (err error) {
	var shape struct {
		Address string              `json:"path"`
		Own     []string            `json:"own"`
		Cells   map[string]cellJSON `json:"fields"`
	}
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	f.Address, f.Own = shape.Address, shape.Own
	f.Cells, err = cellsOf(shape.Cells, folderList)
	return err
}

// A Trouble is a line for the runtime that does not do what it says.
type Trouble struct {
	Kind    string `json:"kind"`
	Line    string `json:"line"` // as it is written
	At      Origin `json:"at"`
	Because string `json:"because"`

	lacks lacking
}

// The kinds of trouble.
const (
	LinesLost     = "lost"      // nothing after a mistake is read
	NoSize        = "no size"   // a size that is none
	WorkerDepends = "worker"    // it stays in a worker, and so holds for other places or does not
	NoEffect      = "no effect" // it may not be set there, or something else beats it
)

var troubleTable = tableOf(
	oneOf("kind", []string{LinesLost, NoSize, WorkerDepends, NoEffect}, "lost: a mistake, after which nothing of the file is read; no size: a size that is none; worker: it stays in whichever worker it was sent to; no effect: it may not be set there, or something else beats it", func(t *Trouble) string { return t.Kind }),
	text("line", "the line, as it is written", func(t *Trouble) string { return t.Line }),
	text("at", "where it stands", func(t *Trouble) string { return t.At.String() }).varies(),
	text("file", "the file it stands in", func(t *Trouble) string { return t.At.File }).keyed("at"),
	number("number", "its line there", func(t *Trouble) int { return t.At.Line }).keyed("at").varies(),
	text("because", "what is the matter with it", func(t *Trouble) string { return t.Because }),
)

// Subject is the line and where it stands.
func (t *Trouble) Subject() string { return t.Line + " at " + t.At.String() }

// Identity is the kind, the line and its file.
func (t *Trouble) Identity() string { return t.Kind + " " + t.Line + " in " + t.At.File }

// Origin is where the line stands.
func (t *Trouble) Origin() Origin { return t.At }

// Field implements Item.
func (t *Trouble) Field(name string) (Value, bool) { return troubleTable.field(t, t.lacks, name) }

// Why implements Item.
func (t *Trouble) Why(field string) Reason {
	return Reason{troubleTable.reason(t, t.lacks, field), t.At}
}

// OriginOf implements Item.
func (t *Trouble) OriginOf(string) Origin { return t.At }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (t *Trouble) UnmarshalJSON(raw []byte) (err error) {
	type plain Trouble
	if err := json.Unmarshal(raw, (*plain)(t)); err != nil {
		return err
	}
	t.lacks, err = troubleTable.lacks(raw)
	return err
}
