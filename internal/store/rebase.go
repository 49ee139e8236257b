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
	if !e.IsFile() || e.Before == nil || e.After == nil {
		return Edit{}, ErrChanged
	}
	now, err := s.now(ctx, e)
	if err != nil {
		return Edit{}, err
	}
	merged, clean := merge(string(e.Before), string(e.After), string(now))
	if !clean {
		return Edit{}, ErrChanged
	}
	name, _ := dialect.SplitPlace(e.Place)
	if _, stored := s.Dialect.Stores[name]; stored {
		want, there := s.ValueIn(e.Place, e.After)
		if got, is := s.ValueIn(e.Place, []byte(merged)); there != is || fmt.Sprint(want) != fmt.Sprint(got) {
			return Edit{}, ErrChanged
		}
	}
	e.Before, e.After = now, []byte(merged)
	return e, nil
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
