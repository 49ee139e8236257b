package facts

import (
	"encoding/json"
	"slices"
)

// Cells are the fields of an item of which each has an origin of its own, or a reason why it cannot be told.
type Cells map[string]Cell

// A Cell is one field: its value with its origin, or why it cannot be told.
type Cell struct {
	Value   Value
	Unknown string // why it cannot be told; then there is no value
	Origin  Origin // where it is decided, also where something is absent
}

func (c Cells) value(name string) (Value, bool) {
	cell, there := c[name]
	return cell.Value, there && cell.Unknown == "" && cell.Value.Type() != ""
}

// why says why a field is not known: undecided where nothing was said of it at all.
func (c Cells) why(name, undecided string, item Origin) Reason {
	cell, there := c[name]
	switch {
	case !there:
		return Reason{undecided, item}
	case cell.Unknown == "":
		return Reason{"it is not told", cell.Origin}
	}
	return Reason{cell.Unknown, cell.Origin}
}

func (c Cells) originOf(name string, item Origin) Origin {
	if cell, there := c[name]; there && (cell.Origin.File != "" || cell.Origin.Default != "") {
		return cell.Origin
	}
	return item
}

type cellJSON struct {
	Value   json.RawMessage `json:"value"`
	Unknown string          `json:"unknown,omitempty"`
	Origin  Origin          `json:"origin"`
}

// MarshalJSON writes the value plainly; null where it cannot be told.
func (c Cell) MarshalJSON() ([]byte, error) {
	shape := cellJSON{json.RawMessage("null"), c.Unknown, c.Origin}
	if c.Unknown == "" && c.Value.Type() != "" {
		raw, err := c.Value.MarshalJSON()
		if err != nil {
			return nil, err
		}
		shape.Value = raw
	}
	return json.Marshal(shape)
}

// cellsOf are cells as they were written; what is none of the fields is a later version's.
func cellsOf(shapes map[string]cellJSON, fields []Field) (Cells, error) {
	cells := Cells{}
	for name, shape := range shapes {
		i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == name })
		if i < 0 {
			continue
		}
		cell := Cell{Unknown: shape.Unknown, Origin: shape.Origin}
		if shape.Unknown == "" && string(shape.Value) != "null" {
			v, err := fields[i].Type.FromJSON(shape.Value)
			if err != nil {
				return nil, err
			}
			cell.Value = v
		}
		cells[name] = cell
	}
	return cells, nil
}
