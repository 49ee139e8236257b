package store

import (
	"context"
	"fmt"

	"github.com/aymanbagabas/go-udiff"

	"weltaxis/internal/dialect"
)

// Rebase is the edit worked out anew on what is there now, when other lines have changed since: it changes the lines that
// it changed, to the byte, and leaves the others. ErrChanged says that somebody has changed the same lines, or that the
// place would not get its value by that.
func (s *Installation) Rebase(ctx context.Context, e Edit) (Edit, error) {
	text, is := e.(TextEdit)
	if !is {
		return nil, ErrChanged
	}
	before, after := text.Texts()
	if before == nil || after == nil {
		return nil, ErrChanged
	}
	now, err := text.now(ctx, s)
	if err != nil {
		return nil, err
	}
	merged, clean := merge(string(before), string(after), string(now))
	if !clean {
		return nil, ErrChanged
	}
	name, _ := dialect.SplitPlace(e.At())
	if _, stored := s.Dialect.Stores[name]; stored {
		want, there := s.ValueIn(e.At(), after)
		if got, is := s.ValueIn(e.At(), []byte(merged)); there != is || fmt.Sprint(want) != fmt.Sprint(got) {
			return nil, ErrChanged
		}
	}
	return text.with(now, []byte(merged)), nil
}

// merge does to theirs what leads from base to ours; clean is false when both have changed the same lines.
func merge(base, ours, theirs string) (merged string, clean bool) {
	edits, clean := udiff.Merge(udiff.Lines(base, ours), udiff.Lines(base, theirs))
	if !clean {
		return "", false
	}
	merged, err := udiff.Apply(base, edits)
	return merged, err == nil
}

// Merge does to what is there now what leads from before to after; clean is false when both have changed the same lines.
func Merge(before, after, now []byte) (merged []byte, clean bool) {
	text, clean := merge(string(before), string(after), string(now))
	return []byte(text), clean
}
