// Package facts holds what Weltaxis knows about a site, as plain data: readings with their origins, gaps, lists
// of like things, deviations and proposals, and the catalogue that gives every name its type and meaning.
//
// It looks at nothing, judges nothing and prints nothing. It imports nothing else of this program.
package facts

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
)

// The sources, in the order in which they are shown. Intent is not looked at but stated in the site file.
const (
	Intent   = "intent"
	Settings = "settings"
	Live     = "live"
	Files    = "files"
	Server   = "server"
	Runtime  = "runtime"
)

// A Reading is one value seen in one place.
type Reading struct {
	Source  string `json:"source"`
	Name    string `json:"name"` // without the source: site.title
	Value   Value  `json:"value"`
	Origin  Origin `json:"origin"`
	Factory bool   `json:"factory,omitempty"` // the value is one the install came with
}

// FullName is the name as rules write it: settings.site.title.
func (r Reading) FullName() string { return r.Source + "." + r.Name }

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
	entry, known := Lookup(r.FullName())
	if !known {
		return fmt.Errorf("%q is not in the catalogue", r.FullName())
	}
	var err error
	r.Value, err = entry.Type.FromJSON(shape.Value)
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
}

// String is the place as a person reads it.
func (o Origin) String() string {
	switch {
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

// The kinds of gap. Unmapped is a limit of the dialect and known beforehand; the others mean that a source which
// was asked for could not be seen whole.
const (
	Unmapped = "unmapped" // the dialect does not say where this lives
	Failed   = "failed"   // it could not be read
	Refused  = "refused"  // reading it was not allowed
)

// A Gap is something that could not be seen.
type Gap struct {
	Source  string   `json:"source"`
	What    string   `json:"what"` // the setting, file, table or address
	Kind    string   `json:"kind"`
	Because string   `json:"because"`
	Names   []string `json:"names,omitempty"` // full names it leaves unknown; a name ending in . covers all below it
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

// The severities, worst first. A note is worth knowing and never counts.
const (
	Critical = "critical" // open to attack, hidden or down right now
	High     = "high"     // loses visitors or gives attackers a hand
	Medium   = "medium"   // a clear loss, no harm today
	Low      = "low"      // polish
	Note     = "note"
)

// Severities lists them, worst first.
var Severities = []string{Critical, High, Medium, Low, Note}

// The risks of a change: what it can break, and for whom.
const (
	Safe       = "safe"       // nobody outside notices
	Visible    = "visible"    // visitors or search engines do
	Disruptive = "disruptive" // it can lock out or break
)

// The kinds of proposal.
const (
	KindSet     = "set"     // change settings
	KindMode    = "mode"    // change permissions
	KindServer  = "server"  // change the web server's configuration
	KindRuntime = "runtime" // change the language runtime's configuration
	KindWrite   = "write"   // write a file
	KindPurge   = "purge"   // empty a cache
	KindSteps   = "steps"   // for a person
)

// A Proposal is what would put a deviation right, as plain data.
type Proposal struct {
	Kind    string   `json:"kind"`
	Risk    string   `json:"risk"`
	Lasting bool     `json:"lasting,omitempty"` // undo cannot take it back from other people's machines
	Changes []Change `json:"changes,omitempty"`
	Steps   []string `json:"steps,omitempty"`
	Field   string   `json:"field,omitempty"` // of the page's own record that would put it right
	Write   *Line    `json:"write,omitempty"`
}

// A Line is one line that a file of the site ought to have.
type Line struct {
	File  string `json:"file"`            // below the folder that the web server serves
	Start string `json:"start,omitempty"` // what a new file starts with
	Line  string `json:"line"`            // "" when the start is all
}

// A Change is one value to change in one place.
type Change struct {
	Name   string `json:"name"`           // of the setting, or "mode"
	From   Value  `json:"from"`           // as it is
	To     Value  `json:"to"`             // as it should be; null when a person must say
	Origin Origin `json:"origin"`         // where it stands
	Hint   string `json:"hint,omitempty"` // how a person says To, or where they find it
}

// A Deviation is one rule that does not hold for one subject.
type Deviation struct {
	Rule        string      `json:"rule"`
	Area        string      `json:"area"`
	Severity    string      `json:"severity"`
	Subject     string      `json:"subject"` // "site", or the page, file class or account it is about
	Says        string      `json:"says"`
	Expected    string      `json:"expected"`
	Fingerprint string      `json:"fingerprint"` // the same from run to run
	Accepted    *Acceptance `json:"accepted"`
	Readings    []Reading   `json:"readings"` // every reading the rule used
	Fix         Proposal    `json:"fix"`
}

// Fingerprint is the first 16 hexadecimal digits of SHA-256 over rule and subject.
func Fingerprint(rule, subject string) string {
	sum := sha256.Sum256([]byte(rule + "\x00" + subject))
	return hex.EncodeToString(sum[:8])
}

// An Acceptance is somebody's decision to live with a deviation, until a day.
type Acceptance struct {
	Rule    string `json:"rule"`
	Subject string `json:"subject"` // "*" for all
	Because string `json:"because"`
	Until   Value  `json:"until"` // a Date, the last day it is good
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
