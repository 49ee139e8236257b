// Package answer holds what a web server's configuration makes of one request: the request, the answer field by field, each
// with the line it comes from or the reason why it cannot be told, and the way there. It also holds the trying of both ways
// where a configuration asks something that nobody here can answer.
//
// It knows no server, but for what a cache of nginx keeps. It may import facts and caching.
package answer

import (
	"net/netip"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// An Ask is one request.
type Ask struct {
	Method string // GET when empty
	Scheme string // http or https
	Host   string // as the Host field says, with no port
	// HostPort is the port that the Host field says, 0 for none; Port that which the server is reached at, 0 for the scheme's own.
	HostPort, Port int
	Local          netip.Addr
	Target         string            // path and query, as they are sent
	Header         map[string]string // further fields, names in lower case
	Client         netip.Addr        // whoever asks; not valid for somebody from anywhere
	Length         int64             // bytes of the body that is sent along
	// Program is what a program behind the server would answer; nil when nobody knows.
	Program *Program
	// SignedIn is that name and password come along, and are right.
	SignedIn bool
	Secure   bool // https ends before this server: a proxy says so
}

// A Program is what something behind a server would answer: a runtime, or another server.
type Program struct {
	Status int
	Header map[string]string // names in lower case
	Length int               // bytes of the body; -1 when it is not said beforehand
}

// Field is one field of an answer.
type Field string

// The fields. Those of headers are Header(name).
const (
	Status   Field = "status"
	Location Field = "location"
	Handler  Field = "handler"   // static, listing, program, proxy, return, error
	File     Field = "file"      // served or run, or where it is passed on to
	Runs     Field = "runs"      // yes: what lies there is run as a program
	Login    Field = "login"     // yes: name and password are asked for
	Denied   Field = "denied"    // yes: the server refuses
	Place    Field = "place"     // the location or folder section that decides
	Server   Field = "server"    // the host that decides
	Zone     Field = "zone"      // of the cache that may keep it
	Valid    Field = "valid"     // how long that keeps it, in seconds
	Key      Field = "key"       // what tells one kept answer from another, as it is written
	Bypass   Field = "bypass"    // what makes it ask the program all the same
	Private  Field = "private"   // yes: the cache keeps what the program says is private, or sets cookies
	Body     Field = "body"      // the largest body that is taken, in bytes; 0 for any
	Rate     Field = "rate"      // yes: so and so many requests are let through
	Bare     Field = "bare"      // yes: the list of files leaves all of them out
	ClientIP Field = "client_ip" // the address that rules of access see
)

// Header is the field of a header.
func Header(name string) Field { return Field("header " + strings.ToLower(name)) }

// IsHeader tells whether the field is one of a header, and which.
func (f Field) IsHeader() (name string, is bool) { return strings.CutPrefix(string(f), "header ") }

// Told is what is known of one field.
type Told struct {
	Values  []string       // none when it is absent
	Unknown *facts.Reason  // why it cannot be told; then there are no values
	Origin  facts.Origin   // where it is decided, for an absent one too
	Because string         // why it is absent, or what decides it, where the line alone does not say
	Beaten  []facts.Origin // lines that would have said something else
}

// Text is the value, several one after the other.
func (t Told) Text() string { return strings.Join(t.Values, ", ") }

// Known tells whether it can be told.
func (t Told) Known() bool { return t.Unknown == nil }

func (t Told) same(other Told) bool {
	return t.Known() == other.Known() && slices.Equal(t.Values, other.Values)
}

// A Named is a file that a line of a configuration names.
type Named struct {
	Path string
	At   facts.Origin
}

// A Stage is one line of the way that a request takes.
type Stage struct {
	Says   string
	Origin facts.Origin
}

// An Answer is what a configuration makes of a request.
type Answer struct {
	Fields map[Field]Told
	// Others says why headers that nothing is said of cannot be told; nil when they are absent.
	Others *facts.Reason
	Way    []Stage
	// Keeping is what a cache of the server does with it; nil when none is asked.
	Keeping *Keeping
	// Onward is set when another server is asked.
	Onward *Onward
	// Runtime is what the runtime is told by the server: names and values, in order. RuntimeUnsure says why that cannot be told.
	Runtime       []Setting
	RuntimeUnsure *facts.Reason
}

// A Setting is one value that a server hands to a runtime: a directive of its module, or of FastCGI a parameter that it goes by,
// of which the kind is the name.
type Setting struct {
	Kind, Name, Value string
	Unknown           string // why the value cannot be told
	Override          bool   // it stands in an override file
	Origin            facts.Origin
}

// Parameters are those of FastCGI that a runtime goes by, beside that for the program's file.
var Parameters = []string{"PHP_VALUE", "PHP_ADMIN_VALUE", "DOCUMENT_ROOT", "SERVER_NAME"}

// Onward is where a request is passed on to, and as what.
type Onward struct {
	Address string   // host and port, or the path of a socket
	Among   []string // where several take turns, or it has a name of its own: all of them
	Ask     Ask
	Origin  facts.Origin
}

// New is an answer of which nothing is known yet.
func New() *Answer { return &Answer{Fields: map[Field]Told{}} }

// Say sets a field.
func (a *Answer) Say(f Field, at facts.Origin, values ...string) {
	a.Fields[f] = Told{Values: values, Origin: at}
}

// Lack says why a field is absent.
func (a *Answer) Lack(f Field, at facts.Origin, because string) {
	a.Fields[f] = Told{Origin: at, Because: because}
}

// Hide says why a field cannot be told.
func (a *Answer) Hide(f Field, why facts.Reason) {
	a.Fields[f] = Told{Unknown: &why, Origin: why.Origin}
}

// Get is what is known of a field; an absent one that nothing was said of has no origin.
func (a *Answer) Get(f Field) Told {
	told, said := a.Fields[f]
	if _, header := f.IsHeader(); header && !said && a.Others != nil {
		return Told{Unknown: a.Others, Origin: a.Others.Origin}
	}
	return told
}

// Text is a field's value, "" when it is absent or cannot be told.
func (a *Answer) Text(f Field) string { return a.Get(f).Text() }

// Refuse has a file that was to be served refused by the system: the server may not read it. What its error page says besides is not told.
func (a *Answer) Refuse(at facts.Origin) {
	for f := range a.Fields {
		if _, header := f.IsHeader(); header {
			delete(a.Fields, f)
		}
	}
	a.Others = &facts.Reason{Because: "the page of an error comes in place of the file", Origin: at}
	a.Say(Status, at, "403")
	a.Say(Handler, at, "error")
	if last := len(a.Way) - 1; last >= 0 && strings.HasPrefix(a.Way[last].Says, "the answer is ") {
		a.Way = a.Way[:last]
	}
	says := "the answer is 403, since " + at.Because
	at.Because = ""
	a.Then(at, says)
}

// Then adds a stage to the way.
func (a *Answer) Then(at facts.Origin, says string) {
	a.Way = append(a.Way, Stage{says, at})
}

// A Text is a value that may not be known.
type Text struct {
	S   string
	Why *facts.Reason // nil when it is known
}

// Known makes a text that is.
func Known(s string) Text { return Text{S: s} }

// Plus is one text after another.
func (t Text) Plus(other Text) Text {
	if t.Why == nil {
		t.Why = other.Why
	}
	t.S += other.S
	return t
}
