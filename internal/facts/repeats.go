package facts

import (
	"encoding/json"
	"strconv"
)

// The words of what became of a request at a cache.
var outcomeWords = []string{"hit", "stale", "bypass", "miss", "untold"}

// A Repeat is an address that was asked for several times by somebody without cookies, to see what caches make of it.
type Repeat struct {
	Address      string    `json:"address"`
	Path         string    `json:"path"`
	Kind         string    `json:"kind"` // as of a page; missing for an address that cannot exist
	Status       int       `json:"status"`
	Asks         int       `json:"asks"`
	Hits         int       `json:"hits"`  // of them, answered by a cache as its headers say
	First        string    `json:"first"` // what became of the first ask of all, in the words of outcomes
	Then         string    `json:"then"`  // and of the last
	Says         string    `json:"says"`  // the header that says so
	By           string    `json:"by"`    // what the cache is called
	CacheControl string    `json:"cache_control"`
	Fresh        int64     `json:"fresh"` // seconds for which a shared cache may keep it, as it says itself; -1 when it does not
	Vary         string    `json:"vary"`
	Validator    bool      `json:"validator"`    // ETag or Last-Modified
	NotModified  string    `json:"not_modified"` // yes or no: what a conditional request got; "" when none was made
	Private      bool      `json:"private"`      // it says that shared caches are not to keep it
	SetsSession  bool      `json:"sets_session"`
	SignIn       bool      `json:"sign_in"`      // it is a page with a form to sign in with
	Personal     string    `json:"personal"`     // why it is somebody's own, "" when it is everybody's
	Same         bool      `json:"same"`         // each ask got the same text
	Around       string    `json:"around"`       // the way around the cache; "" when none was found, or none was looked for
	Old          string    `json:"old"`          // in what the kept page differs from the one around the cache, "" when it does not
	Session      string    `json:"session"`      // what became of an ask with a session, in the words of outcomes; "" when none was made
	SessionSame  bool      `json:"session_same"` // that got the same text
	Leaks        string    `json:"leaks"`        // what somebody with a session or without one is given that was made for the other
	FirstBytes   []float64 `json:"first_bytes"`  // of the asks, in milliseconds, connecting left out
	AroundBytes  []float64 `json:"around_bytes"` // of those around the cache
	Gain         string    `json:"gain"`         // whether the cache makes it faster, in the words of gains; "" when that cannot be told
	GainWhy      string    `json:"gain_why"`     // how that was told, or why it cannot be

	lacks lacking
}

// The words of whether a cache makes a page faster.
var gainWords = []string{"faster", "slower", "the same"}

// milliseconds is a column of a median; unknown without enough measurements.
func milliseconds(name, meaning string, least int, get func(*Repeat) []float64, key string) column[Repeat] {
	return column[Repeat]{Field: Field{Name: name, Type: Int, Meaning: meaning}, key: key, get: func(r *Repeat) (Value, bool) {
		values := get(r)
		return NumberOf(Int, int64(Median(values)+0.5)), len(values) >= least
	}, why: func(r *Repeat) string {
		return "it was not asked for " + strconv.Itoa(least) + " times"
	}}
}

var repeatTable = tableOf(
	text("address", "its address", func(r *Repeat) string { return r.Address }).varies(),
	text("path", "path and query", func(r *Repeat) string { return r.Path }),
	text("kind", "as of a page; missing for an address that cannot exist", func(r *Repeat) string { return r.Kind }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	number("status", "HTTP status", func(r *Repeat) int { return r.Status }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	number("asks", "how often it was asked for, without cookies", func(r *Repeat) int { return r.Asks }).varies(),
	number("hits", "how often a cache answered, as headers say", func(r *Repeat) int { return r.Hits }).varies(),
	oneOf("first", outcomeWords, "what became of the first ask", func(r *Repeat) string { return r.First }).varies(),
	oneOf("then", outcomeWords, "what became of the last", func(r *Repeat) string { return r.Then }).varies(),
	text("says", "the header that says so; nothing when none does", func(r *Repeat) string { return r.Says }).varies(),
	text("by", "what the cache is called; nothing when it does not say", func(r *Repeat) string { return r.By }).varies(),
	text("cache_control", "Cache-Control", func(r *Repeat) string { return r.CacheControl }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	column[Repeat]{Field: Field{Name: "fresh", Type: Int, Meaning: "seconds for which a shared cache may keep it, as it says itself; -1 when it does not"}, get: func(r *Repeat) (Value, bool) { return NumberOf(Int, r.Fresh), true }}.follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	text("vary", "Vary", func(r *Repeat) string { return r.Vary }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	yes("validator", "it carries an ETag or a Last-Modified", func(r *Repeat) bool { return r.Validator }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	column[Repeat]{Field: Field{Name: "not_modified", Type: Bool, Meaning: "a conditional request got 304"}, get: func(r *Repeat) (Value, bool) { return BoolOf(r.NotModified == "yes"), r.NotModified != "" },
		why: func(r *Repeat) string { return "no conditional request was made of it" }}.varies(),
	yes("private", "it says that shared caches are not to keep it", func(r *Repeat) bool { return r.Private }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	yes("sets_session", "it sets a cookie that carries a session", func(r *Repeat) bool { return r.SetsSession }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	yes("sign_in", "it holds a form to sign in with, and is not the home page", func(r *Repeat) bool { return r.SignIn }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	text("personal", "why it is somebody's own; nothing when it is everybody's", func(r *Repeat) string { return r.Personal }).follows(ListPages, LiveMissingFresh.Name, LiveNotFoundOwn.Name, LiveNotFoundStatus.Name),
	yes("same", "each ask got the same text", func(r *Repeat) bool { return r.Same }).varies(),
	text("around", "the way around the cache; nothing when none was found", func(r *Repeat) string { return r.Around }).varies(),
	text("old", "in what the kept page differs from the one around the cache; nothing when it does not", func(r *Repeat) string { return r.Old }).varies(),
	column[Repeat]{Field: Field{Name: "session", Type: Words, Words: outcomeWords, Meaning: "what became of an ask with a session"}, get: func(r *Repeat) (Value, bool) { return TextOf(Words, r.Session), r.Session != "" },
		why: func(r *Repeat) string {
			return "it was not asked for with a session: say live: {session: \"${NAME}\"} in the site file"
		}}.varies(),
	column[Repeat]{Field: Field{Name: "session_same", Type: Bool, Meaning: "with a session it has the same text"}, get: func(r *Repeat) (Value, bool) { return BoolOf(r.SessionSame), r.Session != "" },
		why: func(r *Repeat) string {
			return "it was not asked for with a session: say live: {session: \"${NAME}\"} in the site file"
		}}.varies(),
	text("leaks", "what somebody with a session is given that was made for somebody without, or the other way round; nothing when nothing was, or nobody looked", func(r *Repeat) string { return r.Leaks }).varies(),
	milliseconds("first_byte", "milliseconds to the first byte, the median of at least six asks, connecting left out", 6, func(r *Repeat) []float64 { return r.FirstBytes }, "first_bytes").varies(),
	milliseconds("around_byte", "the same around the cache, of at least three", 3, func(r *Repeat) []float64 { return r.AroundBytes }, "around_bytes").varies(),
	column[Repeat]{Field: Field{Name: "gain", Type: Words, Words: gainWords, Meaning: "whether the cache makes it faster"}, get: func(r *Repeat) (Value, bool) { return TextOf(Words, r.Gain), r.Gain != "" },
		why: func(r *Repeat) string { return r.GainWhy }}.varies(),
	text("gain_why", "how that was told", func(r *Repeat) string { return r.GainWhy }).varies(),
)

// Subject is the path.
func (r *Repeat) Subject() string { return r.Path }

// Identity is the path; of an address that cannot exist, that it is one.
func (r *Repeat) Identity() string {
	if r.Kind == "missing" {
		return r.Kind
	}
	return r.Path
}

// Origin is the address, with the header by which a cache tells of it.
func (r *Repeat) Origin() Origin { return Origin{URL: r.Address, Header: r.Says} }

// Field implements Item.
func (r *Repeat) Field(name string) (Value, bool) { return repeatTable.field(r, r.lacks, name) }

// Why implements Item.
func (r *Repeat) Why(field string) Reason {
	return Reason{repeatTable.reason(r, r.lacks, field), r.OriginOf(field)}
}

// OriginOf implements Item.
func (r *Repeat) OriginOf(field string) Origin { return repeatTable.origin(r, r.Origin(), field) }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (r *Repeat) UnmarshalJSON(raw []byte) (err error) {
	type plain Repeat
	if err := json.Unmarshal(raw, (*plain)(r)); err != nil {
		return err
	}
	r.lacks, err = repeatTable.lacks(raw)
	return err
}

// A Trace is something that an extension which keeps pages leaves in an installation: a file that is loaded before anything
// else, a folder, lines in the web server's configuration. One of an extension that is gone is in the way of others.
type Trace struct {
	Extension string `json:"extension"`
	Kind      string `json:"kind"` // file, folder or lines
	Path      string `json:"path"`
	At        Origin `json:"at"`
	Active    string `json:"active"` // yes or no: the extension is switched on; "" when nobody could tell

	lacks lacking
}

var traceTable = tableOf(
	text("extension", "the extension that makes it", func(t *Trace) string { return t.Extension }),
	text("kind", "file, folder or lines", func(t *Trace) string { return t.Kind }),
	text("path", "where it lies", func(t *Trace) string { return t.Path }),
	column[Trace]{Field: Field{Name: "active", Type: Bool, Meaning: "the extension is switched on"}, get: func(t *Trace) (Value, bool) { return BoolOf(t.Active == "yes"), t.Active != "" },
		why: func(t *Trace) string {
			return "which extensions are switched on was not read, so nobody can tell whether this is a leaving"
		}},
)

// Subject is the path.
func (t *Trace) Subject() string { return t.Path }

// Identity is the extension and the path.
func (t *Trace) Identity() string { return t.Extension + " " + t.Path }

// Origin is where it lies.
func (t *Trace) Origin() Origin { return t.At }

// Field implements Item.
func (t *Trace) Field(name string) (Value, bool) { return traceTable.field(t, t.lacks, name) }

// Why implements Item.
func (t *Trace) Why(field string) Reason {
	return Reason{traceTable.reason(t, t.lacks, field), t.At}
}

// OriginOf implements Item.
func (t *Trace) OriginOf(string) Origin { return t.At }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (t *Trace) UnmarshalJSON(raw []byte) (err error) {
	type plain Trace
	if err := json.Unmarshal(raw, (*plain)(t)); err != nil {
		return err
	}
	t.lacks, err = traceTable.lacks(raw)
	return err
}
