package facts

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// The lists that sources fill and rules walk with "each". Those of the settings are records.
const (
	ListClasses    = "files.classes"
	ListTraces     = "files.traces"
	ListAccounts   = "settings.accounts"
	ListExtensions = "settings.extensions"
	ListScheduled  = "settings.scheduled"
	ListRecords    = "settings.pages"
	ListForms      = "settings.forms"
	ListAliases    = "settings.aliases"
	ListBackups    = "settings.backups"
	ListKeys       = "settings.keys"
)

// An Item is one entry of a list.
type Item interface {
	// Subject names the item, the same from run to run.
	Subject() string
	// Identity is what the item is, whatever is wrong with it: the same when that changes.
	Identity() string
	// Origin is where it was seen.
	Origin() Origin
	// OriginOf is where one of its fields was seen.
	OriginOf(field string) Origin
	// Field is the value of one of the list's fields; false when it is not known.
	Field(name string) (Value, bool)
	// Why says why a field is not known.
	Why(field string) Reason
}

// A Reason says why something is not known, and what stands in the way, where that has a place.
type Reason struct {
	Because string
	Origin  Origin
}

// A Field is one thing known of every item of a list.
type Field struct {
	Name    string
	Type    Type
	Words   []string
	Meaning string
	Shows   string // the field that is shown as the reading when a rule used this one; itself when empty
	Steady  Steadiness
}

// whoMay is what it follows from who may do what with an entry.
var whoMay = []string{"mode", "owner", "group", "list", "open", "read_only", "files.web_user"}

// Lists is the catalogue of lists.
var Lists = map[string][]Field{
	ListClasses: {
		{Name: "role", Type: String, Meaning: "what the entries are for: config, code, uploads, cache, override, private, backup, temporary, other"},
		{Name: "kind", Type: Words, Words: []string{"file", "folder", "link", "other"}, Meaning: "what the entries are"},
		{Name: "content", Type: Words, Words: []string{"program", "command", "inert", "disguised", "dormant", "scripting", "page", "picture", "data", "none"}, Meaning: "what the ending of the name promises and the content bears out; command is a file that may be run, and by its first bytes or its place is; inert a program without a statement that does anything; disguised a program in the name of something else; dormant what begins as a program does and nothing runs; scripting a picture that carries a script"},
		{Name: "public", Type: Bool, Meaning: "the entries lie in the folder that the web server serves"},
		{Name: "answer", Type: Words, Words: []string{"served", "run", "refused", "elsewhere"}, Meaning: "what the web server's configuration makes of their addresses: served as they are, run as programs, refused, or answered by something else", Steady: Steadiness{Follows: []string{ListAnswers}}},
		{Name: "address", Type: String, Meaning: "an address at which the web server gives the file to whoever asks, or has it run, by a folder that is served, a link, another name of a folder or what is rewritten; nothing where there is none", Steady: Steadiness{Follows: []string{"answer"}}},
		{Name: "within", Type: String, Meaning: "what the folder is for that they lie in, as role"},
		{Name: "open", Type: Bool, Meaning: "everybody on the server gets to where they lie"},
		{Name: "ends", Type: String, Meaning: "of links: where they lead: inside, outside or nowhere; nothing for what is no link"},
		{Name: "target", Type: String, Meaning: "of links: what they lead to"},
		{Name: "mode", Type: Mode, Meaning: "permission bits, with the set-user, set-group and sticky ones"},
		{Name: "owner", Type: String, Meaning: "owner's name, or number where it has none"},
		{Name: "group", Type: String, Meaning: "group's name, or number where it has none"},
		{Name: "count", Type: Int, Meaning: "how many entries are alike"},
		{Name: "named", Type: String, Meaning: "the path of the first of them, and how many more there are", Steady: Steadiness{Varies: true}},
		{Name: "owner_write", Type: Bool, Meaning: "the owner may write", Shows: "mode", Steady: Steadiness{Follows: []string{"mode"}}},
		{Name: "group_write", Type: Bool, Meaning: "the group may write", Shows: "mode", Steady: Steadiness{Follows: []string{"mode"}}},
		{Name: "world_write", Type: Bool, Meaning: "everybody may write", Shows: "mode", Steady: Steadiness{Follows: []string{"mode"}}},
		{Name: "world_read", Type: Bool, Meaning: "everybody may read", Shows: "mode", Steady: Steadiness{Follows: []string{"mode"}}},
		{Name: "sticky", Type: Bool, Meaning: "only an entry's owner may remove it from the folder", Shows: "mode", Steady: Steadiness{Follows: []string{"mode"}}},
		{Name: "list", Type: String, Meaning: "the access control list, in one line; nothing when there is none"},
		{Name: "web_reads", Type: Bool, Meaning: "the web server may read, or look into the folder", Shows: "mode", Steady: Steadiness{Follows: whoMay}},
		{Name: "web_writes", Type: Bool, Meaning: "the web server may write", Shows: "mode", Steady: Steadiness{Follows: whoMay}},
		{Name: "readers", Type: String, Meaning: "who may read besides the owner, the web server and the superuser: everybody, or accounts; nothing for nobody", Shows: "mode", Steady: Steadiness{Follows: whoMay}},
		{Name: "writers", Type: String, Meaning: "who may write besides those", Shows: "mode", Steady: Steadiness{Follows: whoMay}},
		{Name: "who_reads", Type: String, Meaning: "who may read, in words", Shows: "mode", Steady: Steadiness{Follows: whoMay}},
		{Name: "who_writes", Type: String, Meaning: "who may write, in words", Shows: "mode", Steady: Steadiness{Follows: whoMay}},
		{Name: "set_id", Type: Bool, Meaning: "whoever runs it gets the rights of its owner or group", Shows: "mode", Steady: Steadiness{Follows: []string{"mode"}}},
		{Name: "read_only", Type: Bool, Meaning: "nobody but the superuser can write there, by the way it is mounted, or by a mark that they carry (immutable)", Shows: "mode"},
		{Name: "web_owns", Type: Bool, Meaning: "they belong to whom the web server runs as, who may change their mode and then write", Shows: "owner", Steady: Steadiness{Follows: []string{"owner", "files.web_user"}}},
		{Name: "powers", Type: Bool, Meaning: "whoever runs it gets some of the superuser's powers (capabilities)", Shows: "mode"},
		{Name: "new_writers", Type: String, Meaning: "of folders: who may write to what is made there, besides its owner, the web server and the superuser, by a default list of access: everybody, or accounts; nothing for nobody", Shows: "named", Steady: Steadiness{Follows: []string{"new_list"}}},
		{Name: "new_list", Type: String, Meaning: "of folders: the list of access that what is made there gets, in one line; nothing when there is none", Shows: "named"},
		{Name: "no_run", Type: Bool, Meaning: "nothing is run where they lie, by the way it is mounted"},
		{Name: "no_set_id", Type: Bool, Meaning: "set-user and set-group bits mean nothing where they lie, by the way it is mounted"},
	},
	ListAccounts: {
		{Name: "name", Type: String, Meaning: "the name the account signs in with"},
		{Name: "role", Type: Words, Words: roleWords, Meaning: "what the account may do"},
		{Name: "created", Type: Date, Meaning: "when it was made"},
		{Name: "second_factor", Type: Bool, Meaning: "it signs in with a second factor"},
		{Name: "last_seen", Type: Date, Meaning: "when it last signed in", Steady: Steadiness{Varies: true}},
	},
	ListExtensions: {
		{Name: "name", Type: String, Meaning: "what it is called"},
		{Name: "kind", Type: Words, Words: []string{"extension", "theme"}, Meaning: "what it is"},
		{Name: "active", Type: Bool, Meaning: "it is switched on"},
		{Name: "keeps_pages", Type: Bool, Meaning: "it is a page cache: it keeps whole pages"},
		{Name: "version", Type: Version, Meaning: "its version"},
		{Name: "newest", Type: Version, Meaning: "the newest version that the content system knows of", Steady: Steadiness{Varies: true}},
		{Name: "does", Type: String, Meaning: "what it is for, in the content system's own word"},
		{Name: "parent", Type: String, Meaning: "of themes: the one that it is made on top of; nothing when it stands alone"},
	},
	ListScheduled: {
		{Name: "name", Type: String, Meaning: "title or name of the post"},
		{Name: "due", Type: Date, Meaning: "when it is to be published"},
	},
	ListRecords: {
		{Name: "path", Type: String, Meaning: "the part of the page's address that is its own"},
		{Name: "kind", Type: Words, Words: []string{"page", "post"}, Meaning: "a standing page or a post"},
		{Name: "published", Type: Bool, Meaning: "visitors may see it"},
		{Name: "title", Type: String, Meaning: "its own title"},
		{Name: "description", Type: String, Meaning: "its own description; empty when it has none"},
		{Name: "indexable", Type: Bool, Meaning: "its own decision: search engines may list it"},
	},
	ListForms: {
		{Name: "name", Type: String, Meaning: "what it is called"},
		{Name: "recipient", Type: Mail, Meaning: "whom it is sent to"},
		{Name: "robot_check", Type: Bool, Meaning: "it asks whether one is a robot"},
	},
	ListAliases: {
		{Name: "host", Type: String, Meaning: "a further name the site answers under"},
		{Name: "redirects", Type: Bool, Meaning: "it leads to the one true address"},
	},
	ListBackups: {
		{Name: "path", Type: String, Meaning: "where it lies"},
		{Name: "taken", Type: Date, Meaning: "when it was made"},
		{Name: "lies", Type: Words, Words: []string{"served", "within", "outside"}, Meaning: "in the folder that the web server serves, elsewhere in the site's folder, or outside of it", Steady: Steadiness{Follows: []string{"path"}}},
		{Name: "there", Type: Bool, Meaning: "it is where it is said to lie", Steady: Steadiness{Follows: []string{"path"}}},
	},
	ListKeys: {
		{Name: "name", Type: String, Meaning: "what it is called"},
		{Name: "service", Type: String, Meaning: "the service that has it, or that is called: a name or a host"},
		{Name: "kind", Type: Words, Words: []string{"key", "call"}, Meaning: "a key with which others come in, or a call that goes out to them"},
		{Name: "created", Type: Date, Meaning: "when it was made"},
		{Name: "last_used", Type: Date, Meaning: "when it was last used", Steady: Steadiness{Varies: true}},
	},
	ListInstalled: {
		{Name: "name", Type: String, Meaning: "what it is called"},
		{Name: "kind", Type: Words, Words: PartKinds, Meaning: "what it is"},
		{Name: "active", Type: Bool, Meaning: "it is switched on", Steady: Steadiness{Varies: true}},
		{Name: "version", Type: Version, Meaning: "its version", Steady: Steadiness{Varies: true}},
		{Name: "behind", Type: Bool, Meaning: "there is a newer one that it ought to be, by the order of its ecosystem", Steady: Steadiness{Varies: true}},
		{Name: "newest", Type: Version, Meaning: "which that is: the newest of its branch, or of the next one that is mended", Steady: Steadiness{Varies: true}},
		{Name: "behind_since", Type: Date, Meaning: "when the first that is newer came out", Steady: Steadiness{Varies: true}},
		{Name: "supported", Type: Bool, Meaning: "its branch is mended", Steady: Steadiness{Varies: true}},
		{Name: "supported_until", Type: Date, Meaning: "until when", Steady: Steadiness{Varies: true}},
		{Name: "last_release", Type: Date, Meaning: "when its last version came out", Steady: Steadiness{Varies: true}},
		{Name: "withdrawn", Type: String, Meaning: "that it was taken back by those who made it, with when and why; nothing when it was not", Steady: Steadiness{Varies: true}},
	},
	ListFlaws: {
		{Name: "name", Type: String, Meaning: "what has it"},
		{Name: "version", Type: Version, Meaning: "in which version it is installed"},
		{Name: "id", Type: String, Meaning: "what the flaw is known by"},
		{Name: "severity", Type: Words, Words: []string{"unscored", "low", "medium", "high", "critical"}, Meaning: "how bad it is, by the score of the advisory", Steady: Steadiness{Varies: true}},
		{Name: "fixed", Type: String, Meaning: "the first later version without it; nothing when none is named", Steady: Steadiness{Varies: true}},
		{Name: "about", Type: String, Meaning: "what it is about", Steady: Steadiness{Varies: true}},
	},
	ListAltered: {
		{Name: "path", Type: String, Meaning: "where it lies"},
		{Name: "state", Type: Words, Words: []string{"changed", "missing", "added"}, Meaning: "what is otherwise than its list has it"},
	},
	ListStrange: {
		{Name: "path", Type: String, Meaning: "where it lies"},
		{Name: "what", Type: Words, Words: []string{"came", "changed"}, Meaning: "whether it is new, or what it holds changed"},
		{Name: "changed", Type: Date, Meaning: "when what it holds was last changed, as the file says"},
		{Name: "since", Type: Date, Meaning: "the last look that did not show it"},
	},
	ListPages:     pageTable.fields(),
	ListSpellings: spellingTable.fields(),
	ListNames:     nameTable.fields(),
	ListLinks:     linkTable.fields(),
	ListAssets:    assetTable.fields(),
	ListArrivals:  arrivalTable.fields(),
	ListCookies:   cookieTable.fields(),
	ListRepeats:   repeatTable.fields(),
	ListTraces:    traceTable.fields(),
	ListPrograms:  programTable.fields(),
	ListSigns:     tellingTable.fields(),
	ListLeaks:     leakTable.fields(),
	ListDoors:     doorTable.fields(),
	ListAnswers:   answerList,
	ListShadowed:  shadowedTable.fields(),
	ListFolders:   folderList,
	ListTroubles:  troubleTable.fields(),
}

// A Class is many entries of a file tree that are alike in everything that decides whether they are as they
// should be. What is kept singly (configuration, overrides, set-id files, private things in the public folder)
// is a class of one.
type Class struct {
	Role     string   `json:"role"`
	Kind     string   `json:"kind"`
	Content  string   `json:"content"`
	Public   bool     `json:"public"`
	Served   string   `json:"served,omitempty"` // "unknown" when nobody says which folder the web server serves
	Within   string   `json:"within,omitempty"` // the role of the folder, where it is another
	Closed   bool     `json:"closed,omitempty"` // a folder above keeps others out
	Ends     string   `json:"ends,omitempty"`   // of links: inside, outside, nowhere
	Target   string   `json:"target,omitempty"`
	Mode     string   `json:"mode,omitempty"` // four octal digits; "" where the system has no modes
	Owner    string   `json:"owner,omitempty"`
	Group    string   `json:"group,omitempty"`
	Count    int      `json:"count"`
	Paths    []string `json:"paths"`           // the first few, sorted
	Under    string   `json:"under,omitempty"` // the folder that all of them lie in or below
	Single   bool     `json:"single,omitempty"`
	Answer   string   `json:"answer,omitempty"` // what the web server makes of their addresses; "" when nobody could tell
	AnswerAt Origin   `json:"answer_at,omitzero"`
	// Address is one at which it is served or run, "" where there is none; Reached tells that all were worked out that could lead there.
	Address string `json:"address,omitempty"`
	Reached bool   `json:"reached,omitempty"`
	List    string `json:"list,omitempty"` // the access control list, beside what the mode says: user:NAME:rw-,mask::rw-
	// Who may do what, besides the owner and the superuser. Web is what the web server may, as rw-; "" when nobody knows whom it
	// runs as. Readers and Writers are joined by commas: everybody, or accounts; Unsure is a group of which nobody knows who is in
	// it. Each says that it is so of every entry, and not only of the first.
	Web     string `json:"web,omitempty"`
	Readers string `json:"readers,omitempty"`
	Writers string `json:"writers,omitempty"`
	Unsure  string `json:"unsure,omitempty"`
	Each    bool   `json:"each,omitempty"`
	Asked   bool   `json:"asked,omitempty"`    // it was worked out at all
	WebOwns bool   `json:"web_owns,omitempty"` // the web server runs as the owner
	Shared  bool   `json:"shared,omitempty"`   // others have accounts here who have nothing to do with the site
	// What the place takes from everybody by the way it is mounted.
	ReadOnly bool `json:"read_only,omitempty"`
	// Powers are those of the superuser that who runs it gets; NewWriters and NewList what is made in a folder gets by its default list.
	Marked     bool   `json:"marked,omitempty"` // it was looked at what they carry beside mode and list
	Powers     bool   `json:"powers,omitempty"`
	NewWriters string `json:"new_writers,omitempty"`
	NewList    string `json:"new_list,omitempty"`
	NoRun      bool   `json:"no_run,omitempty"`
	NoSetID    bool   `json:"no_set_id,omitempty"`

	// Tries are those of which all addresses are to be worked out.
	Tries Tries `json:"-"`

	lacks lacking
}

// Tries are entries of a class, by their paths as they are: of what is private each, of programs one of each folder and ending. All tells that there are no more.
type Tries struct {
	Paths []string
	All   bool
}

// A Likeness is in what the entries of a class are alike.
type Likeness struct {
	Role    string `json:"role"`
	Kind    string `json:"kind"`
	Content string `json:"content"`
	Public  bool   `json:"public"`
	Mode    string `json:"mode,omitempty"`
	Owner   string `json:"owner,omitempty"`
	Group   string `json:"group,omitempty"`
	Path    string `json:"path,omitempty"`   // of what is kept singly
	Within  string `json:"within,omitempty"` // the role of the folder, where it is another
	Closed  bool   `json:"closed,omitempty"` // a folder above keeps others out
	List    string `json:"list,omitempty"`   // the access control list
	NewList string `json:"new_list,omitempty"`
	May     string `json:"may,omitempty"` // who may do what, where it is so of every entry
}

// String is the path of what is kept singly, and of what is not, all in which the entries are alike.
func (l Likeness) String() string {
	if l.Path != "" {
		return l.Path
	}
	parts := []string{l.Role, l.Kind, l.Content, l.Mode, l.Owner + ":" + l.Group}
	if l.Public {
		parts = append(parts, "public")
	}
	if l.Within != "" {
		parts = append(parts, "within", l.Within)
	}
	if l.Closed {
		parts = append(parts, "closed")
	}
	if l.List != "" {
		parts = append(parts, l.List)
	}
	if l.NewList != "" {
		parts = append(parts, "new "+l.NewList)
	}
	return strings.Join(parts, " ")
}

// InWords is a likeness as one says it.
func (l Likeness) InWords() string {
	if l.Path != "" {
		return l.Path
	}
	text := l.Role + " " + l.Kind + "s"
	if words := map[string]string{"program": "programs", "command": "commands", "page": "pages, styles or scripts", "picture": "pictures", "data": "data", "inert": "programs that do nothing", "disguised": "programs in other names", "dormant": "what begins as programs do", "scripting": "pictures with scripts"}[l.Content]; words != "" {
		text += " that are " + words
	}
	if l.Public {
		text += ", served"
	}
	return text + ", of " + l.Owner + ":" + l.Group
}

// Likeness is in what the entries are alike.
func (c *Class) Likeness() Likeness {
	l := Likeness{Role: c.Role, Kind: c.Kind, Content: c.Content, Public: c.Public, Mode: c.Mode, Owner: c.Owner, Group: c.Group, Within: c.Within, Closed: c.Closed, List: c.List, NewList: c.NewList}
	if c.Each {
		l.May = strings.TrimRight(strings.Join([]string{c.Web, c.Readers, c.Writers}, "|"), "|")
	}
	if c.Single && len(c.Paths) > 0 {
		l.Path = c.Paths[0]
	}
	return l
}

// Subject is the class's likeness in words.
func (c *Class) Subject() string { return c.Likeness().String() }

// Identity is what part the entries play, whatever their mode and owner: a file whose mode changes is the same one.
func (c *Class) Identity() string {
	l := c.Likeness()
	if l.Path != "" {
		return l.Path
	}
	l.Mode, l.Owner, l.Group, l.Closed, l.List, l.NewList = "", "", "", false, "", ""
	return strings.Join(strings.Fields(l.String()), " ")
}

// OriginOf implements Item.
func (c *Class) OriginOf(field string) Origin {
	if (field == "answer" || field == "address") && c.Answer != "" {
		return c.AnswerAt
	}
	return c.Origin()
}

// Why implements Item.
func (c *Class) Why(field string) Reason {
	switch {
	case c.lacks[field]:
		return Reason{"the snapshot does not hold it", c.Origin()}
	case field == "public" && c.Served != "":
		return Reason{"nobody says which folder the web server serves; say files: {root: ..., public: FOLDER} in the site file", c.Origin()}
	case field == "address" && c.Mode != "" && !c.Asked:
		return Reason{isOlder, c.Origin()}
	case field == "answer" || field == "address":
		return Reason{"what the web server makes of it was not worked out, or cannot be told", c.Origin()}
	case field == "owner" || field == "group":
		return Reason{"nobody could tell to whom it belongs", c.Origin()}
	case (field == "readers" || field == "writers") && c.Unsure != "":
		return Reason{"this machine does not know who is in the group " + c.Unsure, c.Origin()}
	case slices.Contains([]string{"powers", "new_writers", "new_list"}, field) && c.Mode != "", (field == "web_reads" || field == "web_writes" || field == "web_owns") && c.Mode != "" && !c.Asked:
		return Reason{isOlder, c.Origin()}
	case (field == "web_reads" || field == "web_writes") && c.Mode != "":
		return Reason{"nobody knows whom the web server runs as; say intent.web_user in the site file", c.Origin()}
	}
	return Reason{"this system has no permission bits", c.Origin()}
}

// UnmarshalJSON notes what the snapshot does not hold of it.
func (c *Class) UnmarshalJSON(raw []byte) error {
	type plain Class
	if err := json.Unmarshal(raw, (*plain)(c)); err != nil {
		return err
	}
	var there map[string]json.RawMessage
	if err := json.Unmarshal(raw, &there); err != nil {
		return err
	}
	for _, name := range []string{"role", "kind", "content", "public", "count"} {
		if _, has := there[name]; !has {
			if c.lacks == nil {
				c.lacks = lacking{}
			}
			c.lacks[name] = true
		}
	}
	return nil
}

// Origin names the first entry and how many there are.
func (c *Class) Origin() Origin {
	o := Origin{Count: c.Count, Mode: c.Mode, Owner: c.Owner + ":" + c.Group}
	if len(c.Paths) > 0 {
		o.Path = c.Paths[0]
	}
	return o
}

// Field implements Item.
func (c *Class) Field(name string) (Value, bool) {
	if c.lacks[name] {
		return Value{}, false
	}
	mode, err := Mode.Parse(c.Mode)
	known := err == nil
	bit := func(mask int64) (Value, bool) { return BoolOf(mode.Number()&mask != 0), known }
	switch name {
	case "role":
		return TextOf(String, c.Role), true
	case "kind":
		return TextOf(Words, c.Kind), true
	case "content":
		return TextOf(Words, c.Content), true
	case "public":
		return BoolOf(c.Public), c.Served == ""
	case "answer":
		return TextOf(Words, c.Answer), c.Answer != ""
	case "address":
		return TextOf(String, c.Address), c.Reached
	case "within":
		return TextOf(String, cmp.Or(c.Within, c.Role)), true
	case "open":
		return BoolOf(!c.Closed), known
	case "ends":
		return TextOf(String, c.Ends), true
	case "target":
		return TextOf(String, c.Target), true
	case "mode":
		return mode, known
	case "owner":
		return TextOf(String, c.Owner), c.Owner != ""
	case "group":
		return TextOf(String, c.Group), c.Group != ""
	case "count":
		return NumberOf(Int, int64(c.Count)), true
	case "named":
		return TextOf(String, c.Origin().String()), len(c.Paths) > 0
	case "owner_write":
		return bit(0o200)
	case "group_write":
		return bit(0o020)
	case "world_write":
		return bit(0o002)
	case "world_read":
		return bit(0o004)
	case "sticky":
		return bit(0o1000)
	case "list":
		return TextOf(String, c.List), known
	case "web_reads":
		return BoolOf(strings.HasPrefix(c.Web, "r")), c.Web != ""
	case "web_writes":
		return BoolOf(strings.Contains(c.Web, "w")), c.Web != ""
	case "readers":
		return c.besides(c.Readers, mode.Number()&0o004 != 0)
	case "writers":
		return c.besides(c.Writers, mode.Number()&0o002 != 0)
	case "who_reads":
		return TextOf(String, c.WhoMay('r')), known
	case "who_writes":
		return TextOf(String, c.WhoMay('w')), known
	case "set_id":
		return bit(0o6000)
	case "read_only":
		return BoolOf(c.ReadOnly), known
	case "web_owns":
		return BoolOf(c.WebOwns), c.Asked
	case "powers":
		return BoolOf(c.Powers), c.Marked
	case "new_writers":
		return TextOf(String, c.NewWriters), c.Marked
	case "new_list":
		return TextOf(String, c.NewList), c.Marked
	case "no_run":
		return BoolOf(c.NoRun), known
	case "no_set_id":
		return BoolOf(c.NoSetID), known
	}
	return Value{}, false
}

// besides are readers or writers. Of what was seen before it was worked out, the mode says whether everybody is among them.
func (c *Class) besides(who string, everybody bool) (Value, bool) {
	switch {
	case c.Mode == "" || c.Unsure != "" && who == "":
		return Value{}, false
	case !c.Asked && everybody && !c.Closed:
		return TextOf(String, "everybody"), true
	}
	return TextOf(String, who), true
}

// WhoMay says in words who may read ('r') or write ('w'), besides the superuser.
func (c *Class) WhoMay(right byte) string {
	shift, others := 2, c.Readers
	if right == 'w' {
		shift, others = 1, c.Writers
	}
	mode, err := Mode.Parse(c.Mode)
	if err != nil {
		return ""
	}
	has := func(place int) bool { return mode.Number()>>(place*3+shift)&1 != 0 && (right == 'r' || !c.ReadOnly) }
	if others == "everybody" || !c.Asked && has(0) {
		if c.Shared {
			return "every other customer of this server"
		}
		return "everybody on this server"
	}
	var who []string
	if has(2) {
		who = append(who, "its owner "+c.Owner)
	}
	if strings.IndexByte(c.Web, right) >= 0 && !c.WebOwns {
		who = append(who, "the web server")
	}
	switch {
	case others != "":
		who = append(who, accounts(others))
	case c.Unsure != "" || !c.Asked && has(1):
		who = append(who, "whoever is in its group "+cmp.Or(c.Unsure, c.Group))
	}
	switch n := len(who); n {
	case 0:
		return "nobody"
	case 1:
		return who[0]
	default:
		return strings.Join(who[:n-1], ", ") + " and " + who[n-1]
	}
}

// accounts are names as one says them in a sentence; how many there are of a group is said already.
func accounts(names string) string {
	if strings.Contains(names, " accounts of the group ") {
		return names
	}
	if strings.Contains(names, ", ") {
		return "the accounts " + names
	}
	return "the account " + names
}

// A Record is one entry of a list that the content system keeps, as an account or a page of its own, or that others do.
type Record struct {
	List    string            // in full: settings.accounts
	Values  map[string]Value  // by field; a field nobody could read is not there
	From    Origin            //
	ID      string            // what tells it from others, where its place or its name does not
	Places  map[string]Origin // where a field was read, where that is not where the record is
	Unknown map[string]string // why a field is not there, where there is more to say than that nobody could read it
}

// Subject is the record's name or path.
func (r *Record) Subject() string { return r.Values[Lists[r.List][0].Name].Text() }

// Identity is the record's place where the content system keeps it, or else its name.
func (r *Record) Identity() string {
	if r.ID != "" {
		return r.ID
	}
	if r.From.Row != "" {
		return r.From.Table + " " + r.From.Row
	}
	return r.Subject()
}

// Origin is the record's row.
func (r *Record) Origin() Origin { return r.From }

// OriginOf implements Item.
func (r *Record) OriginOf(field string) Origin {
	if at, elsewhere := r.Places[field]; elsewhere {
		return at
	}
	return r.From
}

// Why implements Item.
func (r *Record) Why(field string) Reason {
	if because := r.Unknown[field]; because != "" {
		return Reason{because, r.From}
	}
	if field == "lies" || field == "there" {
		return Reason{"nobody says which folder the web server serves, or " + isOlder, r.From}
	}
	return Reason{"the content system does not say, or in a word that its dialect does not know", r.From}
}

// Field implements Item.
func (r *Record) Field(name string) (Value, bool) {
	v, known := r.Values[name]
	return v, known
}

type recordJSON struct {
	List   string                     `json:"list"`
	Values map[string]json.RawMessage `json:"values"`
	From   Origin                     `json:"origin"`
	ID     string                     `json:"id,omitempty"`
	Places map[string]Origin          `json:"places,omitempty"`
	Why    map[string]string          `json:"unknown,omitempty"`
}

// MarshalJSON writes the values by field.
func (r Record) MarshalJSON() ([]byte, error) {
	shape := recordJSON{r.List, map[string]json.RawMessage{}, r.From, r.ID, r.Places, r.Unknown}
	for name, v := range r.Values {
		raw, err := v.MarshalJSON()
		if err != nil {
			return nil, err
		}
		shape.Values[name] = raw
	}
	return json.Marshal(shape)
}

// UnmarshalJSON reads a record; the catalogue says what types its fields have.
func (r *Record) UnmarshalJSON(raw []byte) error {
	var shape recordJSON
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	*r = Record{shape.List, map[string]Value{}, shape.From, shape.ID, shape.Places, shape.Why}
	for name, value := range shape.Values {
		entry, known := Lookup(r.List + "." + name)
		if !known {
			return fmt.Errorf("%s.%s is not in the catalogue", r.List, name)
		}
		v, err := entry.Type.FromJSON(value)
		if err != nil {
			return err
		}
		r.Values[name] = v
	}
	return nil
}
