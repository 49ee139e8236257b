package facts

import (
	"cmp"
	"encoding/json"
)

// ListLeaks is the list of what strangers can fetch and should not.
const ListLeaks = "live.leaks"

// A Leaked is an address at which the site gives whoever asks something that nobody outside should see. What it holds is not kept.
type Leaked struct {
	Path   string `json:"path"`           // of the address
	URL    string `json:"url"`            //
	Kind   string `json:"kind"`           // version control, environment, dump, archive, copy of a program, log, key, passwords, database, list of files, what the runtime says of itself
	Sign   string `json:"sign"`           // how it was told, in a few words; "" for a file that it begins like
	Status int    `json:"status"`         // 200 or 206
	File   string `json:"file,omitempty"` // the file below the root that it is, "" when nobody knows

	lacks lacking
}

var leakTable = tableOf(
	text("path", "the path of its address", func(l *Leaked) string { return l.Path }),
	text("kind", "what it is", func(l *Leaked) string { return l.Kind }),
	text("sign", "how that was told; nothing for a file that it begins like", func(l *Leaked) string { return l.Sign }),
	number("status", "what the address answers", func(l *Leaked) int { return l.Status }),
)

// Subject is the file that it is, where that is known, so that it is the same as what the file system tells of it; else the path.
func (l *Leaked) Subject() string { return cmp.Or(l.File, l.Path) }

// Identity is the subject.
func (l *Leaked) Identity() string { return "leak " + l.Subject() }

// Origin is the address.
func (l *Leaked) Origin() Origin { return Origin{URL: l.URL} }

// Field implements Item.
func (l *Leaked) Field(name string) (Value, bool) { return leakTable.field(l, l.lacks, name) }

// Why implements Item.
func (l *Leaked) Why(field string) Reason {
	return Reason{leakTable.reason(l, l.lacks, field), l.Origin()}
}

// OriginOf implements Item.
func (l *Leaked) OriginOf(string) Origin { return l.Origin() }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (l *Leaked) UnmarshalJSON(raw []byte) (err error) {
	type plain Leaked
	if err := json.Unmarshal(raw, (*plain)(l)); err != nil {
		return err
	}
	l.lacks, err = leakTable.lacks(raw)
	return err
}
