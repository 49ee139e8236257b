package facts

import "encoding/json"

// ListPrograms is the list of program files.
const ListPrograms = "files.programs"

// A Program is a file that is run, or is read by what is run, with when it was last changed. Of a large installation only those
// that changed last are listed, and a gap says so.
type Program struct {
	Path string `json:"path"`
	Size int64  `json:"size"`
	// Changed is when what it holds was last changed, in seconds since 1970, and Touched when anything about it was, which nobody
	// can set back (stat(2), st_mtime and st_ctime).
	Changed int64 `json:"changed"`
	Touched int64 `json:"touched"`

	lacks lacking
}

var programTable = tableOf(
	text("path", "where it lies", func(p *Program) string { return p.Path }),
	column[Program]{Field: Field{Name: "size", Type: Size, Meaning: "how large it is"}, get: func(p *Program) (Value, bool) { return NumberOf(Size, p.Size), true }},
	column[Program]{Field: Field{Name: "changed", Type: Date, Meaning: "when what it holds was last changed"}, get: func(p *Program) (Value, bool) { return NumberOf(Date, p.Changed), true }},
	column[Program]{Field: Field{Name: "touched", Type: Date, Meaning: "when anything about it was last changed, its mode and owner among it"}, get: func(p *Program) (Value, bool) {
		return NumberOf(Date, p.Touched), p.Touched != 0
	}, why: func(*Program) string { return "this system does not keep it" }},
)

// Subject is the path.
func (p *Program) Subject() string { return p.Path }

// Identity is the path.
func (p *Program) Identity() string { return p.Path }

// Origin is the file.
func (p *Program) Origin() Origin { return Origin{Path: p.Path} }

// Field implements Item.
func (p *Program) Field(name string) (Value, bool) { return programTable.field(p, p.lacks, name) }

// Why implements Item.
func (p *Program) Why(field string) Reason {
	return Reason{programTable.reason(p, p.lacks, field), p.Origin()}
}

// OriginOf implements Item.
func (p *Program) OriginOf(string) Origin { return p.Origin() }

// UnmarshalJSON notes what the snapshot does not hold of it.
func (p *Program) UnmarshalJSON(raw []byte) (err error) {
	type plain Program
	if err := json.Unmarshal(raw, (*plain)(p)); err != nil {
		return err
	}
	p.lacks, err = programTable.lacks(raw)
	return err
}
