package facts

import "strings"

// The lists that sources fill and rules walk with "each".
const (
	ListClasses  = "files.classes"
	ListAccounts = "settings.accounts"
)

// An Item is one entry of a list.
type Item interface {
	// Subject names the item, the same from run to run.
	Subject() string
	// Origin is where it was seen.
	Origin() Origin
	// Field is the value of one of the list's fields; false when it is not known.
	Field(name string) (Value, bool)
}

// A Field is one thing known of every item of a list.
type Field struct {
	Name    string
	Type    Type
	Words   []string
	Meaning string
	Shows   string // the field that is shown as the reading when a rule used this one; itself when empty
}

// Lists is the catalogue of lists.
var Lists = map[string][]Field{
	ListClasses: {
		{Name: "role", Type: String, Meaning: "what the entries are for: config, code, uploads, cache, override, private, backup, temporary, other"},
		{Name: "kind", Type: Words, Words: []string{"file", "folder", "link", "other"}, Meaning: "what the entries are"},
		{Name: "content", Type: Words, Words: []string{"program", "page", "picture", "data", "none"}, Meaning: "what the ending of the name promises"},
		{Name: "public", Type: Bool, Meaning: "the entries lie in the folder that the web server serves"},
		{Name: "mode", Type: Mode, Meaning: "permission bits, with the set-user, set-group and sticky ones"},
		{Name: "owner", Type: String, Meaning: "owner's name, or number where it has none"},
		{Name: "group", Type: String, Meaning: "group's name, or number where it has none"},
		{Name: "count", Type: Int, Meaning: "how many entries are alike"},
		{Name: "owner_write", Type: Bool, Meaning: "the owner may write", Shows: "mode"},
		{Name: "group_write", Type: Bool, Meaning: "the group may write", Shows: "mode"},
		{Name: "world_write", Type: Bool, Meaning: "everybody may write", Shows: "mode"},
		{Name: "world_read", Type: Bool, Meaning: "everybody may read", Shows: "mode"},
		{Name: "sticky", Type: Bool, Meaning: "only an entry's owner may remove it from the folder", Shows: "mode"},
	},
	ListAccounts: {
		{Name: "name", Type: String, Meaning: "the name the account signs in with"},
		{Name: "role", Type: Words, Words: roleWords, Meaning: "what the account may do"},
	},
	ListPages:     fieldsOf(pageColumns),
	ListSpellings: fieldsOf(spellingColumns),
	ListLinks:     fieldsOf(linkColumns),
}

// A Class is many entries of a file tree that are alike in everything that decides whether they are as they
// should be. What is kept singly (configuration, overrides, set-id files, private things in the public folder)
// is a class of one.
type Class struct {
	Role    string   `json:"role"`
	Kind    string   `json:"kind"`
	Content string   `json:"content"`
	Public  bool     `json:"public"`
	Mode    string   `json:"mode,omitempty"` // four octal digits; "" where the system has no modes
	Owner   string   `json:"owner,omitempty"`
	Group   string   `json:"group,omitempty"`
	Count   int      `json:"count"`
	Paths   []string `json:"paths"` // the first few, sorted
	Single  bool     `json:"single,omitempty"`
}

// Subject is the path of what is kept singly, and of what is not, all in which the entries are alike.
func (c *Class) Subject() string {
	if c.Single && len(c.Paths) > 0 {
		return c.Paths[0]
	}
	parts := []string{c.Role, c.Kind, c.Content, c.Mode, c.Owner + ":" + c.Group}
	if c.Public {
		parts = append(parts, "public")
	}
	return strings.Join(parts, " ")
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
		return BoolOf(c.Public), true
	case "mode":
		return mode, known
	case "owner":
		return TextOf(String, c.Owner), c.Owner != ""
	case "group":
		return TextOf(String, c.Group), c.Group != ""
	case "count":
		return NumberOf(Int, int64(c.Count)), true
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
	}
	return Value{}, false
}

// An Account is somebody who may sign in.
type Account struct {
	Name string `json:"name"`
	Role string `json:"role"` // a word of the catalogue; "" when the dialect has none for it
	From Origin `json:"origin"`
}

// Subject is the account's name.
func (a *Account) Subject() string { return a.Name }

// Origin is the account's row.
func (a *Account) Origin() Origin { return a.From }

// Field implements Item.
func (a *Account) Field(name string) (Value, bool) {
	switch name {
	case "name":
		return TextOf(String, a.Name), true
	case "role":
		return TextOf(Words, a.Role), a.Role != ""
	}
	return Value{}, false
}
