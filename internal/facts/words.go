package facts

import (
	"fmt"
	"slices"
	"strings"
)

// The enumerations. Each is a number in the program, so that a word that is misspelt does not compile, and a word
// outside it: in rules, in JSON, on the command line. The value 0 is that nothing was said.

// find is the value of a word.
func find[E ~uint8](of string, words []string, text []byte) (E, error) {
	if i := slices.Index(words, string(text)); i >= 0 {
		return E(i), nil
	}
	return 0, &WordError{string(text), of, words[1:]}
}

// A WordError says that a word is none of an enumeration's.
type WordError struct {
	Word, Of string
	Words    []string
}

func (e *WordError) Error() string {
	return fmt.Sprintf("%q is no %s; there are %s", e.Word, e.Of, strings.Join(e.Words, ", "))
}

// Among gives the word and those that it is none of, for whoever wants to say which was meant.
func (e *WordError) Among() (word string, words []string) { return e.Word, e.Words }

// A Source is one place to look from. Intent is not looked at but stated in the site file.
type Source uint8

// The sources, in the order in which they are shown.
const (
	Intent Source = 1 + iota
	Settings
	Live
	Files
	Server
	Runtime
	Upkeep
)

var sourceWords = []string{"", "intent", "settings", "live", "files", "server", "runtime", "upkeep"}

func (s Source) String() string { return sourceWords[s] }

// MarshalText implements encoding.TextMarshaler.
func (s Source) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Source) UnmarshalText(text []byte) (err error) {
	*s, err = find[Source]("source", sourceWords, text)
	return err
}

// Name is the full name of something that the source tells: settings.site.title.
func (s Source) Name(name string) string { return s.String() + "." + name }

// All covers every name of the source, in the Names of a Gap.
func (s Source) All() string { return s.String() + "." }

// SourceOf is the source of a full name, and the name without it; the source is 0 when there is none of that word.
func SourceOf(full string) (Source, string) {
	word, name, _ := strings.Cut(full, ".")
	source, _ := find[Source]("source", sourceWords, []byte(word))
	return source, name
}

// A Severity says how bad a deviation is.
type Severity uint8

// The severities, worst first. A note is worth knowing and never counts.
const (
	Critical Severity = 1 + iota // open to attack, hidden or down right now
	High                         // loses visitors or gives attackers a hand
	Medium                       // a clear loss, no harm today
	Low                          // polish
	Note
)

var severityWords = []string{"", "critical", "high", "medium", "low", "note"}

// Severities lists them, worst first.
func Severities() []Severity { return []Severity{Critical, High, Medium, Low, Note} }

// SeverityWords lists their words, worst first.
func SeverityWords() []string { return slices.Clone(severityWords[1:]) }

func (s Severity) String() string { return severityWords[s] }

// MarshalText implements encoding.TextMarshaler.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Severity) UnmarshalText(text []byte) (err error) {
	*s, err = find[Severity]("severity", severityWords, text)
	return err
}

// A Risk says what a change can break, and for whom.
type Risk uint8

// The risks, the least first.
const (
	Safe       Risk = 1 + iota // nobody outside notices
	Visible                    // visitors or search engines do
	Disruptive                 // it can lock out or break
)

var riskWords = []string{"", "safe", "visible", "disruptive"}

// RiskWords lists their words, the least first.
func RiskWords() []string { return slices.Clone(riskWords[1:]) }

func (r Risk) String() string { return riskWords[r] }

// MarshalText implements encoding.TextMarshaler.
func (r Risk) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Risk) UnmarshalText(text []byte) (err error) {
	*r, err = find[Risk]("risk", riskWords, text)
	return err
}

// A Who is somebody who notices a change.
type Who uint8

// Those who notice, the most first. Nobody is an empty list of them.
const (
	Visitors Who = 1 + iota // whoever looks at the site
	Engines                 // search engines
	Members                 // those with an account who may do little, and whoever gets mail from the site
	Staff                   // those who keep the site
)

var whoWords = []string{"", "visitors", "engines", "members", "staff"}

func (w Who) String() string { return whoWords[w] }

// MarshalText implements encoding.TextMarshaler.
func (w Who) MarshalText() ([]byte, error) { return []byte(w.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (w *Who) UnmarshalText(text []byte) (err error) {
	*w, err = find[Who]("audience of a change", whoWords, text)
	return err
}

// A Harm says what a deviation does to the site as long as it is there. What does most is put right first.
type Harm uint8

// The harms, the worst first. A deviation that says none does none that is felt at once.
const (
	Intrusion Harm = 1 + iota // somebody got in, or may have
	Leak                      // what is secret can be read
	Outage                    // visitors, or those who keep the site, get errors instead of it
	OpenDoor                  // anybody may get in
	Hidden                    // search engines may not list the site
	Losing                    // it is found less, or those who come leave
)

var harmWords = []string{"", "intrusion", "leak", "outage", "open door", "hidden", "losing"}

func (h Harm) String() string { return harmWords[h] }

// Rank puts harms in order, none last.
func (h Harm) Rank() int {
	if h == 0 {
		return len(harmWords)
	}
	return int(h)
}

// MarshalText implements encoding.TextMarshaler.
func (h Harm) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (h *Harm) UnmarshalText(text []byte) (err error) {
	*h, err = find[Harm]("harm", harmWords, text)
	return err
}

// A GapKind says why something could not be seen.
type GapKind uint8

// The kinds of gap. Unmapped is a limit that was stated and is known beforehand; the others mean that a source which
// was asked for could not be seen whole.
const (
	Unmapped GapKind = 1 + iota // the dialect does not say where this lives, or a bound was stated
	Failed                      // it could not be read
	Refused                     // reading it was not allowed
)

var gapWords = []string{"", "unmapped", "failed", "refused"}

func (k GapKind) String() string { return gapWords[k] }

// MarshalText implements encoding.TextMarshaler.
func (k GapKind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (k *GapKind) UnmarshalText(text []byte) (err error) {
	*k, err = find[GapKind]("kind of gap", gapWords, text)
	return err
}

// A ChangeKind says how something is changed: what would put a deviation right, and what a plan makes of it.
type ChangeKind uint8

// The kinds of change.
const (
	KindSet     ChangeKind = 1 + iota // settings
	KindField                         // a field of one page's own record
	KindMode                          // permissions
	KindServer                        // the web server's configuration
	KindRuntime                       // the language runtime's configuration
	KindWrite                         // a line of a file
	KindPurge                         // a cache is emptied
	KindSteps                         // what a person does
	KindReload                        // a server reads its configuration again
)

var changeWords = []string{"", "set", "field", "mode", "server", "runtime", "write", "purge", "steps", "reload"}

func (k ChangeKind) String() string { return changeWords[k] }

// MarshalText implements encoding.TextMarshaler.
func (k ChangeKind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (k *ChangeKind) UnmarshalText(text []byte) (err error) {
	*k, err = find[ChangeKind]("kind of change", changeWords, text)
	return err
}

// A Verdict is what the rules say of a rule, a setting or an item.
type Verdict uint8

// The verdicts.
const (
	Holds Verdict = 1 + iota
	Deviates
	NotJudged
	NoRule // no rule asks
	NotApplicable
	Differs // what is declared is not what visitors get
)

var verdictWords = []string{"", "holds", "deviates", "not judged", "no rule", "not applicable", "differs"}

func (v Verdict) String() string { return verdictWords[v] }

// MarshalText implements encoding.TextMarshaler.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (v *Verdict) UnmarshalText(text []byte) (err error) {
	*v, err = find[Verdict]("verdict", verdictWords, text)
	return err
}
