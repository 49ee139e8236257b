package fix

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

// A Choice says which changes are taken back: one, those since a time, or those of the last run.
type Choice struct {
	ID    int
	Since time.Time
}

// Chosen are the records that a choice is about, the newest first. Those that were never made, or are taken back
// already, are none.
func Chosen(records []LogLine, c Choice) []LogLine {
	made := func(r LogLine) bool { return r.Event == Done || r.Event == Begun }
	lastRun := ""
	for _, r := range records {
		if made(r) {
			lastRun = r.Run
		}
	}
	var chosen []LogLine
	for _, r := range slices.Backward(records) {
		wanted := r.Run == lastRun
		if c.ID != 0 {
			wanted = r.ID == c.ID
		} else if !c.Since.IsZero() {
			wanted = !r.At.Before(c.Since)
		}
		if wanted && made(r) {
			chosen = append(chosen, r)
		}
	}
	return chosen
}

// An Undoing is what came of taking one change back.
type Undoing struct {
	LogLine
	Back bool   `json:"back"` // what was before is there again
	Says string `json:"says"`
}

// Undo takes changes back, the newest first. It refuses what somebody has changed since.
func Undo(ctx context.Context, records []LogLine, env Env) []Undoing {
	var all []Undoing
	for _, r := range records {
		u := Undoing{LogLine: r}
		b, err := env.Journal.before(r.ID)
		switch {
		case r.Kind == Purge:
			u.Says, u.Back = "a cache fills itself again", true
			err = nil
		case err == nil:
			err = env.takeBack(ctx, b)
			u.Back = err == nil
		}
		if err != nil {
			u.Says = facts.InWords(err)
		} else if err := env.Journal.event(r, Undone, ""); err != nil {
			u.Says = "it was taken back, and the journal could not be written: " + err.Error()
		}
		all = append(all, u)
		env.at("after an undo")
	}
	return all
}

// takeBack brings back what was before. A change that was begun and never made is as good as taken back.
func (e *Env) takeBack(ctx context.Context, b before) error {
	if len(b.Edits) > 0 {
		site, err := store.Open(ctx, e.Dialect, e.Stores)
		if err != nil {
			return err
		}
		defer site.Close()
		for _, edit := range slices.Backward(b.Edits) {
			if err := e.takeBackEdit(ctx, site, edit); err != nil {
				return err
			}
			e.at("after an edit")
		}
	}
	var left []string
	for _, m := range slices.Backward(b.Modes) {
		is, there := mode(e.FilesRoot, m)
		switch {
		case there && is == m.From:
		case !there || is != m.To:
			left = append(left, m.Path)
		default:
			if err := chmod(e.FilesRoot, m, m.To, m.From); err != nil {
				left = append(left, m.Path)
			}
		}
		e.at("after an edit")
	}
	if len(left) > 0 {
		return fmt.Errorf("%d were left alone, since they are not as this program left them: %s", len(left), strings.Join(left[:min(len(left), 3)], ", "))
	}
	return nil
}

// takeBackEdit puts the old value in the place of the new one: to the byte where nobody has touched the place
// since, and by the value alone where the rest of a file has changed.
func (e *Env) takeBackEdit(ctx context.Context, site *store.Installation, edit store.Edit) error {
	err := site.Apply(ctx, edit.Reversed())
	if !errors.Is(err, store.ErrChanged) || edit.Kind != dialect.KindFile || strings.Count(edit.Place, "/") > 1 || edit.Place == edit.File {
		return changedSince(err)
	}
	old, was := site.ValueIn(edit.Place, edit.Before)
	ours, is := site.ValueIn(edit.Place, edit.After)
	now, lookErr := site.Look(edit.Place)
	if lookErr != nil || !was || !is {
		return changedSince(err)
	}
	a, _ := dialect.Text(now.Value)
	b, _ := dialect.Text(ours)
	if a != b || !now.There {
		return changedSince(err)
	}
	again, err := site.Plan(ctx, edit.Place, old)
	if err != nil {
		return err
	}
	return site.Apply(ctx, again)
}

func changedSince(err error) error {
	if errors.Is(err, store.ErrChanged) {
		return errors.New("somebody has changed it since; it is left as it is")
	}
	return err
}
