package facts

import (
	"encoding/json"
	"strings"
)

// The lists of the server source.
const (
	ListAnswers  = "server.answers"
	ListShadowed = "server.shadowed"
)

// ProgramEndings are the endings of names that some web server hands to a runtime, in lower case and without the dot.
const ProgramEndings = "php php3 php4 php5 php7 php8 phtml phar phps pht inc cgi pl py rb sh jsp jspx asp aspx ashx shtml"

// Place is the kind of an answer at an address that was made up for a place that the configuration tells apart.
const Place = "place"

// An Answer is what a web server's configuration makes of one address, field by field.
type Answer struct {
	Kind    string `json:"kind"`    // why it was worked out: home, inner page, ...
	Address string `json:"address"` // in full
	Cells   Cells  `json:"fields"`
}

// AnswerFields are the fields that a cell may be of, beside kind, address and path.
var answerFields = []Field{
	{Name: "server", Type: String, Meaning: "the name of the host that takes it"},
	{Name: "place", Type: String, Meaning: "the location or section that decides", Steady: Steadiness{Varies: true}},
	{Name: "status", Type: Int, Meaning: "HTTP status", Steady: Steadiness{Follows: []string{"handler", "denied", "asks_login", "location"}}},
	{Name: "location", Type: String, Meaning: "where the visitor is sent; nothing when nowhere"},
	{Name: "handler", Type: Words, Words: []string{"static", "listing", "program", "proxy", "return", "error"}, Meaning: "what makes the answer: a file as it is, a list of files, a program, another server, a line of the configuration, or the page of an error", Steady: Steadiness{Follows: []string{"denied", "asks_login", "location"}}},
	{Name: "file", Type: String, Meaning: "the file that is served or run, or the address that is passed on to", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "runs_code", Type: Bool, Meaning: "what lies there is run as a program", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "leaks_source", Type: Bool, Meaning: "a program's source would be served as it is", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "asks_login", Type: Bool, Meaning: "name and password are asked for"},
	{Name: "denied", Type: Bool, Meaning: "a rule of access refuses"},
	{Name: "listed", Type: Bool, Meaning: "the files of the folder are listed", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "compressed", Type: Bool, Meaning: "the answer is compressed for who asks for that", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "vary", Type: String, Meaning: "Vary", Steady: Steadiness{Follows: []string{"compressed", "handler", "status"}}},
	{Name: "cache_control", Type: String, Meaning: "Cache-Control", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "max_age", Type: Int, Meaning: "max-age in it, in seconds; -1 when it says none", Steady: Steadiness{Follows: []string{"cache_control"}}},
	{Name: "etag", Type: Bool, Meaning: "it carries an ETag", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "content_type", Type: String, Meaning: "Content-Type", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "hsts", Type: String, Meaning: "Strict-Transport-Security"},
	{Name: "nosniff", Type: String, Meaning: "X-Content-Type-Options"},
	{Name: "framing", Type: String, Meaning: "X-Frame-Options"},
	{Name: "referrer", Type: String, Meaning: "Referrer-Policy"},
	{Name: "content_policy", Type: String, Meaning: "Content-Security-Policy"},
	{Name: "permissions_policy", Type: String, Meaning: "Permissions-Policy"},
	{Name: "robots_header", Type: String, Meaning: "X-Robots-Tag"},
	{Name: "frames_limited", Type: Bool, Meaning: "not every site may show it in a frame", Steady: Steadiness{Follows: []string{"framing", "content_policy"}}},
	{Name: "sniff_stopped", Type: Bool, Meaning: "browsers take it for what it says it is", Steady: Steadiness{Follows: []string{"nosniff"}}},
	{Name: "referrer_short", Type: Bool, Meaning: "other sites are not told the whole address", Steady: Steadiness{Follows: []string{"referrer"}}},
	{Name: "hsts_seconds", Type: Int, Meaning: "for how long browsers are to come encrypted; -1 when nothing says so", Steady: Steadiness{Follows: []string{"hsts"}}},
	{Name: "policy_lets", Type: List, Meaning: "what its Content-Security-Policy lets run all the same", Steady: Steadiness{Follows: []string{"content_policy"}}},
	{Name: "feature_limits", Type: Int, Meaning: "how many features of browsers its Permissions-Policy limits", Steady: Steadiness{Follows: []string{"permissions_policy"}}},
	{Name: "server_header", Type: String, Meaning: "Server"},
	{Name: "tells_versions", Type: List, Meaning: "headers that name the version of a program", Steady: Steadiness{Follows: []string{"server_header"}}},
	{Name: "leads_to", Type: String, Meaning: "where whoever follows it ends: the address itself when it leads nowhere", Steady: Steadiness{Follows: []string{"location", "status"}}},
	{Name: "leads_in", Type: Int, Meaning: "in how many steps", Steady: Steadiness{Follows: []string{"location", "status"}}},
	{Name: "leads_for_good", Type: Bool, Meaning: "every step says that it is for good", Steady: Steadiness{Follows: []string{"location", "status"}}},
	{Name: "preferred", Type: Bool, Meaning: "it leads to the same path of the one true address", Steady: Steadiness{Follows: []string{"leads_to", "intent.address"}}},
	{Name: "listens", Type: Bool, Meaning: "the outermost server listens there: on that port, and encrypted where the address is", Steady: Steadiness{Follows: []string{"server"}}},
	{Name: "certificate_named", Type: Bool, Meaning: "the certificate by which it comes is for this host, as its file says", Steady: Steadiness{Follows: []string{"server"}}},
	{Name: "certificate_since", Type: Date, Meaning: "it is good from then on", Steady: Steadiness{Follows: []string{"certificate_until"}}},
	{Name: "certificate_until", Type: Date, Meaning: "until when it is good", Steady: Steadiness{Follows: []string{"server"}}},
	{Name: "zone", Type: String, Meaning: "the server's cache that may keep it; nothing when none does", Steady: Steadiness{Follows: []string{"handler", "status", "denied"}}},
	{Name: "valid_seconds", Type: Int, Meaning: "how long that keeps it, -1 when nobody says", Steady: Steadiness{Follows: []string{"zone", "handler"}}},
	{Name: "error_seconds", Type: Int, Meaning: "how long the server's cache keeps that an address is not there, if the answer says nothing of it; 0 when it does not", Steady: Steadiness{Follows: []string{"zone", "handler"}}},
	{Name: "cache_key", Type: String, Meaning: "what tells one answer that it keeps from another; nothing when one is given for all addresses", Steady: Steadiness{Follows: []string{"zone", "handler"}}},
	{Name: "key_shared", Type: Bool, Meaning: "the cache gives the same answer for another address as well: its key is the same for both", Steady: Steadiness{Follows: []string{"cache_key", "zone", "handler"}}},
	{Name: "bypass_on", Type: String, Meaning: "what makes the program be asked all the same", Steady: Steadiness{Follows: []string{"zone", "handler"}}},
	{Name: "stores_private", Type: Bool, Meaning: "the cache keeps answers that set cookies or are said to be private", Steady: Steadiness{Follows: []string{"zone", "handler"}}},
	{Name: "body_limit", Type: Size, Meaning: "the largest body that is taken; 0 for any"},
	{Name: "rate_limited", Type: Bool, Meaning: "only so many requests are let through"},
}

// answerList are all fields of the list.
var answerList = append([]Field{
	{Name: "kind", Type: String, Meaning: "why it was worked out: home, inner page, robots, sitemap, missing, uploaded script, uploaded picture, asset, hidden file, configuration, private file, override file, back-up, readme, login, folder, place, script with path, spelling, inner spelling, with a session, posted, or asked"},
	{Name: "address", Type: String, Meaning: "the address"},
	{Name: "path", Type: String, Meaning: "path and query of it"},
}, answerFields...)

// Path is what follows the host.
func (a *Answer) Path() string {
	_, rest, _ := strings.Cut(a.Address, "://")
	if i := strings.IndexByte(rest, '/'); i >= 0 {
		return rest[i:]
	}
	return "/"
}

// Subject is the address.
func (a *Answer) Subject() string { return a.Address }

// Identity is why the address was worked out, and its path.
func (a *Answer) Identity() string { return a.Kind + " " + a.Path() }

// Origin is where its handling is decided.
func (a *Answer) Origin() Origin {
	for _, field := range []string{"handler", "status", "place", "server"} {
		if cell, there := a.Cells[field]; there && cell.Unknown == "" && cell.Origin.File != "" {
			return cell.Origin
		}
	}
	return Origin{URL: a.Address}
}

// Field implements Item.
func (a *Answer) Field(name string) (Value, bool) {
	switch name {
	case "kind":
		return TextOf(String, a.Kind), true
	case "address":
		return TextOf(String, a.Address), true
	case "path":
		return TextOf(String, a.Path()), true
	}
	return a.Cells.value(name)
}

// Why implements Item.
func (a *Answer) Why(field string) Reason {
	return a.Cells.why(field, "the configuration does not decide it", a.Origin())
}

// OriginOf implements Item.
func (a *Answer) OriginOf(field string) Origin { return a.Cells.originOf(field, a.Origin()) }

// UnmarshalJSON reads an answer; the catalogue says what types its fields have.
func (a *Answer) UnmarshalJSON(raw []byte) (err error) {
	var shape struct {
		Kind    string              `json:"kind"`
		Address string              `json:"address"`
		Cells   map[string]cellJSON `json:"fields"`
	}
	if err := json.Unmarshal(raw, &shape); err != nil {
		return err
	}
	a.Kind, a.Address = shape.Kind, shape.Address
	a.Cells, err = cellsOf(shape.Cells, answerFields)
	return err
}

// Reading is one field as a reading; false when it cannot be told.
func (a *Answer) Reading(field string) (Reading, bool) {
	v, known := a.Field(field)
	if !known {
		return Reading{}, false
	}
	return Reading{Source: Server, Name: "answers." + field, Value: v, Origin: a.OriginOf(field), Absent: v.Type() == String && v.Text() == ""}, true
}

// Configured is what the server's configuration makes of an address, by why it was worked out or by the address itself; nil when
// it was not.
func (s *Seen) Configured(kind, address string) *Answer {
	for i := range s.Answers {
		if a := &s.Answers[i]; address != "" && a.Address == address || address == "" && a.Kind == kind {
			return a
		}
	}
	return nil
}

// Decided is what the configuration of the runtime or of the server makes of a setting; nil when neither has a say in it, or it
// cannot be told.
func (s *Seen) Decided(t *Term) *Reading {
	for _, by := range t.Decided {
		kind, field, _ := strings.Cut(by, ".")
		if kind == Runtime.String() {
			if r, known := s.Effective(by); known {
				return &r
			}
			continue
		}
		if a := s.Configured(kind, ""); a != nil {
			if r, known := a.Reading(field); known {
				return &r
			}
		}
	}
	return nil
}

// A Shadowed is a directive without effect, and what beats it.
type Shadowed struct {
	Directive string `json:"directive"`
	At        Origin `json:"at"`
	By        Origin `json:"by"`
	Because   string `json:"because"`

	lacks lacking
}

var shadowedTable = tableOf(
	text("directive", "the directive, as it is written", func(s *Shadowed) string { return s.Directive }),
	text("at", "where it stands", func(s *Shadowed) string { return s.At.String() }).varies(),
	text("by", "the line that beats it", func(s *Shadowed) string { return s.By.String() }).varies(),
	text("because", "why it has no effect there", func(s *Shadowed) string { return s.Because }),
)

// Subject is the directive and where it stands.
func (s *Shadowed) Subject() string { return s.Directive + " at " + s.At.String() }

// Identity is the directive and its file.
func (s *Shadowed) Identity() string { return s.Directive + " in " + s.At.File + " by " + s.By.File }

// Origin is where the directive stands.
func (s *Shadowed) Origin() Origin { return s.At }

// Field implements Item.
func (s *Shadowed) Field(name string) (Value, bool) { return shadowedTable.field(s, s.lacks, name) }

// Why implements Item.
func (s *Shadowed) Why(field string) Reason {
	return Reason{shadowedTable.reason(s, s.lacks, field), s.At}
}

// OriginOf implements Item.
func (s *Shadowed) OriginOf(string) Origin { return s.At }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (s *Shadowed) UnmarshalJSON(raw []byte) (err error) {
	type plain Shadowed
	if err := json.Unmarshal(raw, (*plain)(s)); err != nil {
		return err
	}
	s.lacks, err = shadowedTable.lacks(raw)
	return err
}
