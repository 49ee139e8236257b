package demo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
)

// TestAJournalOfFormat1IsStillTakenBack: what the first version wrote down of a run over Lantern Lane, with an edit of a
// file, one of a row, permissions and an emptied cache.
func TestAJournalOfFormat1IsStillTakenBack(t *testing.T) {
	m := mend(t, place(t, lanternLane(), "brindle"), false)
	before := withoutCache(m.p.sums(t))
	ours := fmt.Sprintf(`"uid":%d,"gid":%d`, os.Geteuid(), os.Getegid())
	require.NoError(t, os.MkdirAll(filepath.Join(m.state, "undo"), 0o700))
	for _, name := range []string{"journal.jsonl", "undo/1.json", "undo/2.json", "undo/3.json", "undo/4.json"} {
		data, err := os.ReadFile(filepath.Join("testdata", "journal-format-1", name))
		require.NoError(t, err)
		require.NotContains(t, string(data), `"format"`)
		text := strings.ReplaceAll(string(data), `"uid":0,"gid":0`, ours)
		require.NoError(t, os.WriteFile(filepath.Join(m.state, name), []byte(text), 0o600))
	}
	// The site is brought to where that run had left it.
	s := m.p.open(t)
	for name, to := range map[string]facts.Value{"debug.on": facts.BoolOf(false), "session.idle": facts.NumberOf(facts.Duration, 1800)} {
		edits, err := s.PlanSetting(t.Context(), m.p.dialect.Settings[name], to)
		require.NoError(t, err)
		for _, edit := range edits {
			require.NoError(t, s.Apply(t.Context(), edit))
		}
	}
	s.Close()
	config := filepath.Join(m.p.root, "playhouse.php")
	require.NoError(t, os.Chmod(config, 0o444))
	require.NotEqual(t, before, withoutCache(m.p.sums(t)))

	journal, err := fix.OpenJournal(m.state, func() time.Time { return time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC) })
	require.NoError(t, err)
	defer journal.Close()
	env, err := fix.For(m.site, nil, m.options, journal)
	require.NoError(t, err)
	env.Recheck = func(context.Context) (fix.Seen, error) {
		t.Fatal("nobody wrote down what deviated")
		return fix.Seen{}, nil
	}
	records, err := fix.ReadJournal(m.state)
	require.NoError(t, err)
	undone := fix.Undo(t.Context(), fix.Chosen(records, fix.Choice{}), env)
	require.Len(t, undone.Changes, 4)
	for _, u := range undone.Changes {
		assert.True(t, u.Back, "%s: %s", u.Name, u.Says)
	}
	assert.Empty(t, undone.New)
	assert.Contains(t, undone.Says, "not be", "of a SQLite database the rows come back")
	assert.Equal(t, before, withoutCache(m.p.sums(t)))
}

// TestOneRunOfAClassConverges: what several rules ask of the same entries is settled at once, and nothing of it is said not
// to have taken because of its neighbours.
func TestOneRunOfAClassConverges(t *testing.T) {
	for _, mode := range []uint32{0o777, 0o666, 0o4777, 0o766} {
		t.Run(fmt.Sprintf("%04o", mode), func(t *testing.T) {
			m := mend(t, place(t, lanternLaneAligned(), "brindle"), false)
			was := len(m.audit().Deviations)
			require.NoError(t, syscall.Chmod(filepath.Join(m.p.root, "works", "brindle.php"), mode))
			// A neighbour that cannot be changed, since it has another name elsewhere.
			neighbour := filepath.Join(m.p.root, "works", "neighbour.php")
			require.NoError(t, os.WriteFile(neighbour, []byte("<?php"), 0o600))
			require.NoError(t, os.Link(neighbour, filepath.Join(m.p.dir, "elsewhere")))
			require.NoError(t, syscall.Chmod(neighbour, mode))
			r := m.audit()
			require.Greater(t, len(r.Deviations), was)
			report := m.write(m.plan(r, nil), fix.SeenIn(r), facts.Safe, facts.Visible, facts.Disruptive)
			for _, o := range report.Outcomes {
				if mode&0o4000 == 0 { // what is kept singly stands alone
					assert.Equal(t, fix.Took, o.Result, o.Says)
				}
			}
			stat, err := os.Stat(filepath.Join(m.p.root, "works", "brindle.php"))
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o644), stat.Mode())
			for _, d := range m.audit().Deviations {
				assert.NotContains(t, d.Subject, "brindle.php", d.Rule)
			}
		})
	}
}

// TestUndoOfOneOfSeveralValuesInsideAValue: settings that a row holds in one serialised value, and in one of JSON, each taken
// back in any order.
func TestUndoOfOneOfSeveralValuesInsideAValue(t *testing.T) {
	said := map[string]string{"title.separator": "·", "comments.moderated": "no", "comments.open": "no"}
	for _, order := range [][]int{{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}} {
		m := mend(t, place(t, copperbeck(), "hobnail"), false)
		before := m.p.sums(t)
		var changes []fix.Change
		for _, c := range m.plan(m.audit(), said).Changes {
			if _, wanted := said[c.Name]; wanted {
				changes = append(changes, c)
			}
		}
		require.Len(t, changes, 3)
		for _, o := range m.write(&fix.Plan{Changes: changes}, fix.Seen{}, facts.Safe, facts.Visible, facts.Disruptive).Outcomes {
			require.Equal(t, fix.Took, o.Result, o.Says)
		}
		for i, which := range order {
			env := m.env()
			env.Recheck = nil
			records, err := fix.ReadJournal(m.state)
			require.NoError(t, err)
			undone := fix.Undo(t.Context(), fix.Chosen(records, fix.Choice{ID: which + 1}), env).Changes
			env.Journal.Close()
			require.Len(t, undone, 1)
			require.True(t, undone[0].Back, "%v, %s: %s", order, undone[0].Name, undone[0].Says)
			assert.Equal(t, i == 2, assert.ObjectsAreEqual(before, m.p.sums(t)), "%v: the last brings the start back", order)
		}
	}
}
