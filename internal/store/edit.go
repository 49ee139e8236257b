package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"

	"weltaxis/internal/dialect"
	"weltaxis/internal/format"
	"weltaxis/internal/tree"
)

// An Edit is one change in one place, worked out and not yet made. It holds what was there and what is to be there, so that
// it can be shown, made and taken back. There is a type for each kind of place.
type Edit interface {
	// At is the place that is changed: store/key, list/key/field, or a file.
	At() string
	// Reversed is the edit that takes this one back.
	Reversed() Edit
	// Nothing tells whether the edit changes nothing.
	Nothing() bool

	at(place string) Edit
	apply(ctx context.Context, s *Installation) error
	stored() stored
}

// A TextEdit is one of a text as a whole, of which the edit changes a part.
type TextEdit interface {
	Edit
	// Name is the file, or the address, of the whole text.
	Name() string
	// Texts are what was there and what is to be there; nil stands for none.
	Texts() (before, after []byte)

	// with is the same place with other texts.
	with(before, after []byte) Edit
	now(ctx context.Context, s *Installation) ([]byte, error)
}

// A FileEdit is a change of one file. By Apply it needs no dialect.
type FileEdit struct {
	Place         string
	File          string // below the root
	Before, After []byte // the whole file; nil for none
	Group         uint32 // that alone may read a new file, beside its owner; 0 for all
}

// A DocumentEdit is a change of a document over HTTP.
type DocumentEdit struct {
	Place         string
	Address       string // below that of the programming interface
	Before, After []byte
}

// A RowEdit is a change of one column of one row.
type RowEdit struct {
	Place    string
	Kind     string // KindTable or KindRow
	Database string
	Table    string
	Column   string
	Where    map[string]string // the row
	Old, New *string           // nil when there is no row, or an SQL null
	Insert   bool              // there is no row yet
	// Rest is what other columns of the row held that the database changes by itself when this one is changed; by the edit that takes this one back
	// they are given it again.
	Rest map[string]*string
	// Also are other rows that the database changed when this one was; whoever takes the edit back brings them back.
	Also []Beside

	back bool // it takes one back
}

// At implements Edit.
func (e FileEdit) At() string { return e.Place }

// At implements Edit.
func (e DocumentEdit) At() string { return e.Place }

// At implements Edit.
func (e RowEdit) At() string { return e.Place }

// Reversed implements Edit.
func (e FileEdit) Reversed() Edit { return e.with(e.After, e.Before) }

// Reversed implements Edit.
func (e DocumentEdit) Reversed() Edit { return e.with(e.After, e.Before) }

// Reversed implements Edit.
func (e RowEdit) Reversed() Edit {
	e.Old, e.New, e.back = e.New, e.Old, !e.back
	return e
}

// Again are columns that the edit gives what they held, besides its own.
func (e RowEdit) Again() map[string]*string {
	if e.back {
		return e.Rest
	}
	return nil
}

// Nothing implements Edit.
func (e FileEdit) Nothing() bool { return tree.Same(e.Before, e.After) }

// Nothing implements Edit.
func (e DocumentEdit) Nothing() bool { return tree.Same(e.Before, e.After) }

// Nothing implements Edit.
func (e RowEdit) Nothing() bool { return e.Old != nil && e.New != nil && *e.Old == *e.New }

// Name implements TextEdit.
func (e FileEdit) Name() string { return e.File }

// Name implements TextEdit.
func (e DocumentEdit) Name() string { return e.Address }

// Texts implements TextEdit.
func (e FileEdit) Texts() (before, after []byte) { return e.Before, e.After }

// Texts implements TextEdit.
func (e DocumentEdit) Texts() (before, after []byte) { return e.Before, e.After }

func (e FileEdit) with(before, after []byte) Edit {
	e.Before, e.After = before, after
	return e
}

func (e DocumentEdit) with(before, after []byte) Edit {
	e.Before, e.After = before, after
	return e
}

func (e FileEdit) at(place string) Edit {
	e.Place = place
	return e
}

func (e DocumentEdit) at(place string) Edit {
	e.Place = place
	return e
}

func (e RowEdit) at(place string) Edit {
	e.Place = place
	return e
}

func (e FileEdit) now(_ context.Context, s *Installation) ([]byte, error) {
	return tree.Read(s.files, e.File, format.MaxBytes)
}

func (e DocumentEdit) now(ctx context.Context, s *Installation) ([]byte, error) {
	data, _, err := s.fetch(ctx, e.Address)
	return data, err
}

// Apply makes the edit. What holds the new content already is left alone; anything else but the old is ErrChanged.
func (e FileEdit) Apply(files tree.Files, at func(point string)) error {
	return tree.Change(files, e.File, e.Before, e.After, e.Group, at)
}

func (e FileEdit) apply(_ context.Context, s *Installation) error { return e.Apply(s.files, s.at) }

func (e DocumentEdit) apply(ctx context.Context, s *Installation) error { return s.applyAPI(ctx, e) }

func (e RowEdit) apply(ctx context.Context, s *Installation) error {
	err := s.write(ctx, e.Database, func(db *database) error { return db.apply(ctx, e, s.Keep) })
	var lost *lostAnswer
	if errors.As(err, &lost) {
		err = s.settled(ctx, e, lost)
	}
	return s.discreet(err)
}

// HoldsBefore tells whether a place holds what it held before an edit.
func (s *Installation) HoldsBefore(ctx context.Context, edit Edit) (bool, error) {
	if row, is := edit.(RowEdit); is {
		state, err := s.State(ctx, row)
		if err != nil || state != Before || len(row.Also) == 0 {
			return state == Before, err
		}
		before, err := s.databases[row.Database].heldBefore(ctx, row)
		return before, s.discreet(err)
	}
	text := edit.(TextEdit)
	now, err := text.now(ctx, s)
	if errors.Is(err, fs.ErrNotExist) {
		now, err = nil, nil
	}
	before, _ := text.Texts()
	return tree.Same(now, before), err
}

// Alike tells whether two edits are of one file, document or cell.
func Alike(a, b Edit) bool {
	x, isRow := a.(RowEdit)
	y, alsoRow := b.(RowEdit)
	if isRow || alsoRow {
		return isRow && alsoRow && x.Database == y.Database && x.Table == y.Table && x.Column == y.Column && maps.Equal(x.Where, y.Where)
	}
	return a.(TextEdit).Name() == b.(TextEdit).Name()
}

// State tells what is there now.
func (s *Installation) State(ctx context.Context, e RowEdit) (State, error) {
	db := s.databases[e.Database]
	if db == nil {
		return Other, ErrUnseen
	}
	value, there, err := db.cell(ctx, e, "")
	return e.state(value, there), s.discreet(err)
}

// settled tells what came of an edit whose transaction was to end and gave no answer. The row is asked for anew, to be changed, so that the answer
// waits until the server has ended that transaction.
func (s *Installation) settled(ctx context.Context, e RowEdit, lost *lostAnswer) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), queryTime)
	defer cancel()
	var state State
	err := s.write(ctx, e.Database, func(db *database) error {
		lock := ""
		if db.driver != dialect.SQLite {
			lock = " FOR UPDATE"
		}
		value, there, err := db.cell(ctx, e, lock)
		if err == nil {
			state = e.state(value, there)
		}
		return err
	})
	switch {
	case state == "":
		return &Unsure{lost.err, err}
	case state == After:
		return nil
	case state == Before:
		return fmt.Errorf("the connection was cut before it was changed (%w); it was looked at again, and nothing was", lost.err)
	}
	return fmt.Errorf("the connection was cut (%w), and what is there now is neither what was nor what was to be", lost.err)
}

// Unsure is the error for a change of which nobody knows whether it was made: its end was asked for, and no answer came.
type Unsure struct{ lost, look error }

func (u *Unsure) Error() string {
	return fmt.Sprintf("the connection was cut while it was being changed (%v), and it cannot be looked at (%v): whether it was is not known; the next command looks", u.lost, u.look)
}

func (u *Unsure) Unwrap() error { return u.look }

// stored is an edit as a journal keeps it, whatever its type.
type stored struct {
	Place    string             `json:"place"`
	Kind     string             `json:"kind"` // KindFile for files of every sort, KindTable and KindRow for databases, KindAPI
	File     string             `json:"file,omitempty"`
	Group    uint32             `json:"group,omitempty"`
	Before   []byte             `json:"before"`
	After    []byte             `json:"after"`
	Database string             `json:"database,omitempty"`
	Table    string             `json:"table,omitempty"`
	Column   string             `json:"column,omitempty"`
	Where    map[string]string  `json:"where,omitempty"`
	Old      *string            `json:"old"`
	New      *string            `json:"new"`
	Insert   bool               `json:"insert,omitempty"`
	Rest     map[string]*string `json:"rest,omitempty"`
	Also     []Beside           `json:"also,omitempty"`
}

func (e FileEdit) stored() stored {
	return stored{Place: e.Place, Kind: dialect.KindFile, File: e.File, Before: e.Before, After: e.After, Group: e.Group}
}

func (e DocumentEdit) stored() stored {
	return stored{Place: e.Place, Kind: dialect.KindAPI, File: e.Address, Before: e.Before, After: e.After}
}

func (e RowEdit) stored() stored {
	return stored{Place: e.Place, Kind: e.Kind, Database: e.Database, Table: e.Table, Column: e.Column, Where: e.Where, Old: e.Old, New: e.New, Insert: e.Insert, Rest: e.Rest, Also: e.Also}
}

func (f stored) edit() (Edit, error) {
	switch f.Kind {
	case dialect.KindFile:
		if f.File == "" {
			return nil, errors.New("an edit of a file names none")
		}
		return FileEdit{f.Place, f.File, f.Before, f.After, f.Group}, nil
	case dialect.KindAPI:
		return DocumentEdit{f.Place, f.File, f.Before, f.After}, nil
	case dialect.KindTable, dialect.KindRow:
		if f.Table == "" || f.Column == "" || len(f.Where) == 0 {
			return nil, errors.New("an edit of a row does not say of which")
		}
		return RowEdit{f.Place, f.Kind, f.Database, f.Table, f.Column, f.Where, f.Old, f.New, f.Insert, f.Rest, f.Also, false}, nil
	}
	return nil, fmt.Errorf("there is no kind of place %q", f.Kind)
}

// Edits are edits as a journal keeps them.
type Edits []Edit

// MarshalJSON implements json.Marshaler.
func (e Edits) MarshalJSON() ([]byte, error) {
	all := []stored{}
	for _, edit := range e {
		all = append(all, edit.stored())
	}
	return json.Marshal(all)
}

// UnmarshalJSON implements json.Unmarshaler. What it does not understand is an error.
func (e *Edits) UnmarshalJSON(data []byte) error {
	var all []stored
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&all); err != nil {
		return err
	}
	*e = nil
	for _, kept := range all {
		edit, err := kept.edit()
		if err != nil {
			return err
		}
		*e = append(*e, edit)
	}
	return nil
}
