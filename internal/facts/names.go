package facts

import "encoding/json"

// ListNames is the list of the site's host names.
const ListNames = "live.names"

// The kinds of a site's host names.
const (
	OwnName        = "address"    // that of the site's address
	TwinName       = "www"        // the same with www in front, or without it
	AliasName      = "alias"      // one that the intent names
	ConfiguredName = "configured" // one that the web server's configuration has for the site
)

// A Name is a host name of the site: whether anything is there, by what certificate it comes, and whether all that it leads to is the same.
type Name struct {
	Name      string `json:"name"`
	Kind      string `json:"kind"`
	Found     bool   `json:"found"`     // it has an address
	Answers   bool   `json:"answers"`   // somebody is there, encrypted or not
	Encrypted bool   `json:"encrypted"` // somebody is there who encrypts
	Distrust  string `json:"distrust"`  // why browsers do not trust the certificate, "" when they do
	Since     int64  `json:"since"`     // the certificate is good from then on, in seconds since 1970; 0 without one
	Until     int64  `json:"until"`
	// Leads are the addresses that it leads to, as many as were asked; Apart is in what one of them is not like the first, and Unasked why not all of
	// them could be asked.
	Leads   []string `json:"leads"`
	Apart   string   `json:"apart"`
	Unasked string   `json:"unasked,omitempty"`

	lacks lacking
}

// dated is a time of the certificate, which is there where one was shown.
func dated(name, meaning string, get func(*Name) int64) column[Name] {
	return column[Name]{Field: Field{Name: name, Type: Date, Meaning: meaning}, get: func(n *Name) (Value, bool) { return NumberOf(Date, get(n)), get(n) != 0 },
		why: func(*Name) string { return "nothing there encrypts, so there is no certificate" }}
}

var nameTable = tableOf(
	text("name", "the host name", func(n *Name) string { return n.Name }),
	oneOf("kind", []string{OwnName, TwinName, AliasName, ConfiguredName}, "the site's own, the same with www or without it, one of the intent, or one that the web server's configuration has for the site", func(n *Name) string { return n.Kind }),
	yes("found", "it has an address", func(n *Name) bool { return n.Found }),
	yes("answers", "somebody is there, encrypted or not", func(n *Name) bool { return n.Answers }).follows("found"),
	yes("encrypted", "somebody is there who encrypts", func(n *Name) bool { return n.Encrypted }).follows("found", "answers"),
	text("distrust", "why browsers do not trust its certificate; nothing when they do", func(n *Name) string { return n.Distrust }).follows("until"),
	dated("since", "the certificate is good from then on", func(n *Name) int64 { return n.Since }).follows("until"),
	dated("until", "until when the certificate is good", func(n *Name) int64 { return n.Until }),
	texts("leads", "the addresses that it leads to, as many as were asked", func(n *Name) []string { return n.Leads }).varies(),
	column[Name]{Field: Field{Name: "apart", Type: String, Meaning: "in what one of its addresses is not like the first; nothing when all are alike"}, get: func(n *Name) (Value, bool) { return TextOf(String, n.Apart), n.Apart != "" || n.Unasked == "" },
		why: func(n *Name) string { return n.Unasked }},
)

// Subject is the name.
func (n *Name) Subject() string { return n.Name }

// Identity is the name.
func (n *Name) Identity() string { return n.Name }

// Origin is its home page.
func (n *Name) Origin() Origin { return Origin{URL: "https://" + n.Name + "/"} }

// Field implements Item.
func (n *Name) Field(name string) (Value, bool) { return nameTable.field(n, n.lacks, name) }

// Why implements Item.
func (n *Name) Why(field string) Reason {
	return Reason{nameTable.reason(n, n.lacks, field), n.OriginOf(field)}
}

// OriginOf implements Item.
func (n *Name) OriginOf(field string) Origin { return nameTable.origin(n, n.Origin(), field) }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (n *Name) UnmarshalJSON(raw []byte) (err error) {
	type plain Name
	if err := json.Unmarshal(raw, (*plain)(n)); err != nil {
		return err
	}
	n.lacks, err = nameTable.lacks(raw)
	return err
}
