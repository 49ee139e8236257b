// Package facts holds what Weltaxis knows about a site, as plain data: readings with their origins, gaps, lists
// of like things, deviations and proposals, and the catalogue that gives every name its type and meaning.
//
// It looks at nothing, judges nothing and prints nothing. Of this program it imports secrets alone.
package facts

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"
)

// A Reading is one value seen in one place.
type Reading struct {
	Source  Source `json:"source"`
	Name    string `json:"name"` // without the source: site.title
	Value   Value  `json:"value"`
	Origin  Origin `json:"origin"`
	Factory bool   `json:"factory,omitempty"` // the value is one the install came with
	// Absent says that nothing is there, as Origin tells: the line that took it away, or the place it would be in.
	// The value is none then.
	Absent bool `json:"absent,omitempty"`
}

// FullName is the name as rules write it: settings.site.title.
func (r Reading) FullName() string { return r.Source.Name(r.Name) }

// UnmarshalJSON reads a reading; the catalogue says what type its value has.
func (r *Reading) UnmarshalJSON(raw []byte) error {
	type plain Reading
	shape := struct {
		*plain
		Value json.RawMessage `json:"value"`
	}{plain: (*plain)(r)}
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	full, _ := Present(r.FullName())
	r.Source, r.Name = SourceOf(full)
	term, known := Lookup(full)
	if !known {
		return fmt.Errorf("%q is not in the catalogue", full)
	}
	if r.Absent {
		r.Value = Value{}
		return nil
	}
	var err error
	r.Value, err = term.Type.FromJSON(shape.Value)
	return err
}

// An Origin is the place a reading comes from. Only the parts that place has are filled in.
type Origin struct {
	File    string `json:"file,omitempty"` // as the site file's folder sees it, with slashes
	Line    int    `json:"line,omitempty"` // from 1
	Table   string `json:"table,omitempty"`
	Row     string `json:"row,omitempty"`
	Column  string `json:"column,omitempty"`
	URL     string `json:"url,omitempty"`
	Header  string `json:"header,omitempty"`  // of the response
	Path    string `json:"path,omitempty"`    // of a file that is itself what was looked at
	Mode    string `json:"mode,omitempty"`    // its mode, in octal digits
	Owner   string `json:"owner,omitempty"`   // its owner and group, root:root
	Count   int    `json:"count,omitempty"`   // how many like it, when more than one
	Default string `json:"default,omitempty"` // the dialect whose stated default this is
	Key     string `json:"key,omitempty"`     // where in the file, in the file's own terms
	Screen  string `json:"screen,omitempty"`  // where a person finds it in the administration pages
	// Because says why it is decided there, where the place alone does not.
	Because string `json:"because,omitempty"`
}

// String is the place as a person reads it.
func (o Origin) String() string {
	switch {
	case o.Because != "":
		why := o.Because
		o.Because = ""
		return join(": ", o.String(), why)
	case o.Default != "":
		return "not set; the default of " + o.Default
	case o.Table != "":
		return join(", ", o.File, "table "+o.Table, prefixed("row ", o.Row), prefixed("column ", o.Column), prefixed("in it ", o.Key))
	case o.URL != "":
		line := ""
		if o.Line > 0 {
			line = fmt.Sprintf("line %d", o.Line)
		}
		return join(", ", o.URL, line, prefixed("header ", o.Header))
	case o.Path != "":
		more := ""
		if o.Count > 1 {
			more = fmt.Sprintf("and %d more", o.Count-1)
		}
		return join(" ", o.Path, more)
	case o.Line > 0:
		return fmt.Sprintf("%s, line %d", o.File, o.Line)
	case o.Key != "":
		return o.File + ", counted by a query"
	}
	return o.File
}

func prefixed(prefix, text string) string {
	if text == "" {
		return ""
	}
	return prefix + text
}

func join(separator string, parts ...string) string {
	var there []string
	for _, part := range parts {
		if part != "" {
			there = append(there, part)
		}
	}
	return strings.Join(there, separator)
}

// A Gap is something that could not be seen.
type Gap struct {
	Source  Source   `json:"source"`
	What    string   `json:"what"` // the setting, file, table or address
	Kind    GapKind  `json:"kind"`
	Because string   `json:"because"`
	Names   []string `json:"names,omitempty"` // full names it leaves unknown; a name ending in . covers all below it
}

// GapOf makes a gap of an error. What was not allowed is refused, and all else failed.
func GapOf(source Source, what string, err error, names ...string) Gap {
	kind := Failed
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, ErrRefused) {
		kind = Refused
	}
	return Gap{Source: source, What: what, Kind: kind, Because: Shorten(InWords(err), 400), Names: names}
}

// ErrRefused is what errors are that say that a look was not allowed.
var ErrRefused = errors.New("it is not allowed")

// A Refusal is an error that says why a look was not allowed.
type Refusal string

func (r Refusal) Error() string { return string(r) }

// Is implements errors.Is for ErrRefused.
func (r Refusal) Is(target error) bool { return target == ErrRefused }

// InWords is an error in plain words, without the path that whoever reports it names already.
func InWords(err error) string {
	var pathErr *fs.PathError
	var denied *Denied
	switch {
	case errors.As(err, &denied):
		return denied.Error()
	case errors.Is(err, fs.ErrNotExist):
		return "it does not exist"
	case errors.Is(err, fs.ErrPermission):
		return "reading it was refused"
	case errors.As(err, &pathErr):
		return pathErr.Err.Error()
	}
	return err.Error()
}

// A Denied is an error that says what was tried and not allowed, and which right is lacking.
type Denied struct{ Doing, Lacks string }

func (d *Denied) Error() string { return d.Doing + " was refused: " + d.Lacks }

// Is makes it one of the errors that say that something is not allowed.
func (d *Denied) Is(target error) bool { return target == fs.ErrPermission }

// Deny puts into words what a system did not allow; other errors stay as they are. Where the rights would do, what stands
// in the way is an attribute of the file, or a system of files that is read only (open(2), EPERM and EROFS).
func Deny(err error, doing, lacks string) error {
	switch {
	case errors.Is(err, syscall.EROFS):
		return &Denied{doing, "it lies where nothing may be written (a read-only mount)"}
	case errors.Is(err, syscall.EPERM):
		return &Denied{doing, "it, or its folder, is marked as not to be changed (chattr +i or +a), or belongs to somebody else; this user lacks " + lacks}
	case errors.Is(err, fs.ErrPermission):
		return &Denied{doing, "this user lacks " + lacks}
	}
	return err
}

// Plainly leaves out of an error the path that whoever reports it names already.
func Plainly(err error) error {
	var pathErr *fs.PathError
	if errors.As(err, &pathErr) {
		return pathErr.Err
	}
	return err
}

// Leaves tells whether the gap is why the full name is unknown.
func (g Gap) Leaves(name string) bool {
	for _, n := range g.Names {
		if n == name || (strings.HasSuffix(n, ".") && strings.HasPrefix(name, n)) {
			return true
		}
	}
	return false
}

// A Proposal is what would put a deviation right, as plain data.
type Proposal struct {
	Kind    ChangeKind  `json:"kind"`
	Risk    Risk        `json:"risk"`
	Weighed bool        `json:"weighed,omitempty"` // the risk is that of the change as it was worked out; otherwise Least may hold
	Because string      `json:"because,omitempty"` // why it has that risk, where that follows from what changes
	Noticed []Who       `json:"noticed"`           // who notices; nobody when it is empty
	Lasting bool        `json:"lasting,omitempty"` // undo cannot take it back from other people's machines
	Step    bool        `json:"step,omitempty"`    // it is one of several, and what deviates does so until the last is made
	Changes []Target    `json:"changes,omitempty"`
	Mode    *ModeTarget `json:"mode,omitempty"`
	Steps   []string    `json:"steps,omitempty"`
	Field   string      `json:"field,omitempty"` // of the page's own record that would put it right
	Write   *Line       `json:"write,omitempty"`
	Wish    *Wish       `json:"wish,omitempty"`
}

// Least tells whether the risk of a change that can be made is only that of its rule: where it is made, it may be more.
func (p Proposal) Least() bool {
	makes := len(p.Changes) > 0 || p.Mode != nil || p.Field != "" || p.Write != nil || p.Wish != nil
	return makes && !p.Weighed && p.Risk < Disruptive
}

// A Wish is what the web server or the language runtime ought to be told, for the address or the folder that a deviation is about.
type Wish struct {
	Headers    map[string]string `json:"headers,omitempty"`    // headers of its answer
	Directives map[string]string `json:"directives,omitempty"` // directives of the server, or of the runtime
	Deny       bool              `json:"deny,omitempty"`       // it is refused
	Unlist     bool              `json:"unlist,omitempty"`     // its files are not listed
	Inert      bool              `json:"inert,omitempty"`      // nothing in its folder is run
	Encrypt    bool              `json:"encrypt,omitempty"`    // it leads to the encrypted one, for a trial
	Unify      bool              `json:"unify,omitempty"`      // it leads to the one true address: for a trial, and where it does so already for good
	Lead       bool              `json:"lead,omitempty"`       // it leads to where a person says: for a trial, and where it does so already for good
	Posts      bool              `json:"posts,omitempty"`      // forms post to it, or nobody knows whether any does
	To         string            `json:"to,omitempty"`         // where that is
	Shut       *Shut             `json:"shut,omitempty"`       // the site is closed, or locked
}

// A Shut is how a server is to close a site, or to lock it.
type Shut struct {
	Lock   bool     `json:"lock,omitempty"`
	File   string   `json:"file,omitempty"`    // of the lock: where names and passwords stand
	Group  uint32   `json:"-"`                 // that alone may read it; 0 for everybody
	Holds  string   `json:"-"`                 // and what it holds: a name, a colon and a password as bcrypt keeps it, on a line
	Notice string   `json:"notice,omitempty"`  // markup of the notice
	Retry  int      `json:"retry,omitempty"`   // seconds after which it is worth while to come again
	Spares []string `json:"spares,omitempty"`  // paths at which one file each stays open; one that ends in a slash for each name below it that is letters, digits, - and _
	SignIn string   `json:"sign_in,omitempty"` // path of the page where staff signs in, without a slash at its end; "" for none
	Left   []string `json:"left,omitempty"`    // places that a lock does not stand before, and that are left so
	Cookie string   `json:"cookie,omitempty"`  // whoever has one of this name is staff; "" for nobody
}

// A ModeTarget is the permission bits that the entries of a class should have.
type ModeTarget struct {
	From   Value  `json:"from"`
	To     Value  `json:"to"`
	Origin Origin `json:"origin"` // of the first of them, and how many there are
}

// A Line is one line that a file of the site ought to have.
type Line struct {
	File  string `json:"file"`            // below the folder that the web server serves
	Start string `json:"start,omitempty"` // what a new file starts with
	Line  string `json:"line"`            // "" when the start is all
	Drop  string `json:"drop,omitempty"`  // a line that is to go, instead
}

// A Target is one value to change in one place.
type Target struct {
	Name   string `json:"name"`           // of the setting
	From   Value  `json:"from"`           // as it is
	To     Value  `json:"to"`             // as it should be; null when a person must say
	Origin Origin `json:"origin"`         // where it stands
	Hint   string `json:"hint,omitempty"` // how a person says To, or where they find it
}

// A Deviation is one rule that does not hold for one subject.
type Deviation struct {
	Rule        string      `json:"rule"`
	Area        string      `json:"area"`
	Severity    Severity    `json:"severity"`
	Harm        Harm        `json:"harm,omitempty"`  // what it does as long as it is there
	Opens       bool        `json:"opens,omitempty"` // putting it right lets search engines in
	Subject     string      `json:"subject"`         // "site", or the page, file class or account it is about
	Says        string      `json:"says"`
	Expected    string      `json:"expected"`
	Fingerprint string      `json:"fingerprint"` // the same from look to look, also when what is wrong with it changes
	Formerly    []string    `json:"formerly"`    // fingerprints that it had in earlier versions of this program
	Accepted    *Acceptance `json:"accepted"`
	Readings    []Reading   `json:"readings"` // every reading the rule used
	// Since is between which two looks it began; nil when nobody kept any.
	Since *Since   `json:"since,omitempty"`
	Fix   Proposal `json:"fix"`

	// AsConfigured tells that nobody asked the site: it is what the web server has been told that brings it about.
	AsConfigured bool `json:"as_configured,omitempty"`

	Item Item `json:"-"` // of the list; nil when it is about the site
}

// Fingerprint is the first 16 hexadecimal digits of SHA-256 over rule and identity.
func Fingerprint(rule, identity string) string {
	sum := sha256.Sum256([]byte(rule + "\x00" + identity))
	return hex.EncodeToString(sum[:8])
}

// An Acceptance is somebody's decision to live with a deviation, until a day.
type Acceptance struct {
	Rule    string `json:"rule"`
	Subject string `json:"subject"` // "*" for all
	Because string `json:"because"`
	Until   Value  `json:"until"` // a Date, the last day it is good
	// Severity is that of what is accepted: worse ones count all the same. 0 is any.
	Severity Severity `json:"severity,omitempty"`
}

// Answers tells whether a deviation is the one that is accepted.
func (a Acceptance) Answers(d Deviation) bool {
	return d.Rule == a.Rule && d.isAbout(a.Subject) && (a.Severity == 0 || d.Severity >= a.Severity)
}

// UnmarshalJSON reads an acceptance, whose Until is a Date.
func (a *Acceptance) UnmarshalJSON(raw []byte) error {
	type plain Acceptance
	shape := struct {
		*plain
		Until json.RawMessage `json:"until"`
	}{plain: (*plain)(a)}
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	var err error
	a.Until, err = Date.FromJSON(shape.Until)
	return err
}
