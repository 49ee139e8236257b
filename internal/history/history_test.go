package history

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
)

var (
	theatre = Site{"Theatre", "https://theatre.example"}
	start   = time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
)

func at(path string) facts.Origin { return facts.Origin{File: path} }

// look is an audit of a day: with what deviates, by rule, and with what was judged besides.
func look(t testing.TB, day int, deviating []string, held ...string) Entry {
	t.Helper()
	taken := start.AddDate(0, 0, day)
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Tool: "test", Site: theatre.Name, Taken: taken, Sources: []facts.Asked{{Source: facts.Settings, Where: "."}, {Source: facts.Live, Where: theatre.Address}}, Limits: map[string]facts.Value{}}
	s.Add(facts.SiteTitle.Reading(fmt.Sprint("Title of day ", day), at("a.ini")))
	s.Pages = []facts.Page{{Address: theatre.Address + "/", Path: "/", Kind: "home", Status: 200, Weight: 100 + day}}
	v := compare.Verdicts{Format: 1, Tool: "test", Baseline: "b1", Site: theatre.Name, Taken: taken, Sources: s.Sources, Held: held}
	title, _ := s.Effective(facts.SiteTitle.Name)
	for _, rule := range deviating {
		v.Deviations = append(v.Deviations, compare.Verdict{Rule: rule, Area: "titles", Severity: facts.High, Subject: "site", Says: rule + " is not as it ought to be.", Fingerprint: facts.Fingerprint(rule, "site"), Readings: []facts.Reading{title}})
	}
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	return Entry{Site: theatre, Snapshot: s, Result: raw, Audit: Audit{Taken: taken, Tool: "test", Baseline: "b1", Stage: "live", Counts: map[facts.Severity]int{facts.High: len(deviating)}}}
}

func open(t testing.TB, dir string) *Store {
	t.Helper()
	s, aside, err := Make(context.Background(), dir)
	require.NoError(t, err)
	require.Empty(t, aside)
	t.Cleanup(func() { s.Close() })
	return s
}

func keepIn(t testing.TB, s *Store, e Entry) *News {
	t.Helper()
	news, err := s.Keep(context.Background(), e, false)
	require.NoError(t, err)
	return news
}

func rules(list []compare.Verdict) (names []string) {
	for _, d := range list {
		names = append(names, d.Rule)
	}
	return names
}

func TestSinceWhenItDeviates(t *testing.T) {
	s := open(t, t.TempDir())
	one, two := facts.Fingerprint("a.one", "site"), facts.Fingerprint("a.two", "site")

	first := keepIn(t, s, look(t, 0, []string{"a.one"}, "a.two"))
	assert.Nil(t, first.Before)
	assert.Empty(t, first.New, "what is there at the first look is not new")
	assert.Equal(t, facts.Since{Seen: start}, first.Since[one])

	unseen := keepIn(t, s, look(t, 1, nil)) // neither rule could be judged
	assert.Empty(t, append(unseen.New, unseen.Gone...))

	third := keepIn(t, s, look(t, 2, []string{"a.one", "a.two"}))
	assert.Equal(t, []string{"a.two"}, rules(third.New), "the look between them could not tell")
	assert.Equal(t, facts.Since{Seen: start}, third.Since[one])
	assert.Equal(t, facts.Since{Lacked: &start, Seen: start.AddDate(0, 0, 2)}, third.Since[two])

	fourth := keepIn(t, s, look(t, 3, []string{"a.two", "a.three"}, "a.one"))
	assert.Equal(t, []string{"a.one"}, rules(fourth.Gone))
	assert.Equal(t, "a.one is not as it ought to be.", fourth.Gone[0].Says)
	assert.Empty(t, fourth.New, "a rule that was never judged says nothing new")
	require.Len(t, fourth.Aside, 1)
	assert.Equal(t, compare.NotJudged, fourth.Aside[0].Cause)

	fifth := keepIn(t, s, look(t, 4, []string{"a.one", "a.two", "a.three"}))
	assert.Equal(t, []string{"a.one"}, rules(fifth.New), "it is back")
	day := start.AddDate(0, 0, 3)
	assert.Equal(t, facts.Since{Lacked: &day, Seen: start.AddDate(0, 0, 4)}, fifth.Since[one])
}

func TestWorseIsNews(t *testing.T) {
	s := open(t, t.TempDir())
	keepIn(t, s, look(t, 0, []string{"a.one"}))
	e := look(t, 1, []string{"a.one"})
	e.Result = bytes.Replace(e.Result, []byte(`"severity":"high"`), []byte(`"severity":"critical"`), 1)
	news := keepIn(t, s, e)
	require.Equal(t, []string{"a.one"}, rules(news.Worse))
	assert.Equal(t, facts.High, news.Worse[0].Was)
}

func TestWhatIsForgottenIsToldAllTheSame(t *testing.T) {
	s := open(t, t.TempDir())
	keepIn(t, s, look(t, 0, nil, "a.one"))
	for range 2 {
		news, err := s.Keep(t.Context(), look(t, 1, []string{"a.one"}), true)
		require.NoError(t, err)
		assert.Equal(t, []string{"a.one"}, rules(news.New))
		assert.Zero(t, news.Audit)
	}
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	assert.Len(t, audits, 1)
}

func TestAuditsComeBackAsTheyWere(t *testing.T) {
	s := open(t, t.TempDir())
	for day := range 60 { // over several that are kept whole
		e := look(t, day, []string{"a.one"})
		e.Snapshot.Signs = []facts.Telling{{Gives: "system", Name: "Brindle", Version: fmt.Sprint(day)}}
		keepIn(t, s, e)
	}
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	require.Len(t, audits, 60)
	for _, day := range []int{0, 1, 23, 24, 25, 59} {
		k, err := s.Load(t.Context(), audits[day])
		require.NoError(t, err)
		title, _ := k.Snapshot.Is(facts.SiteTitle.Term)
		assert.Equal(t, fmt.Sprint("Title of day ", day), title.Text())
		assert.Equal(t, 100+day, *audits[day].Measures.Weight)
		assert.Len(t, k.Verdicts.Deviations, 1)
		assert.JSONEq(t, string(look(t, day, []string{"a.one"}).Result), string(k.Result))
		signs, err := s.Signs(t.Context(), audits[day])
		require.NoError(t, err)
		assert.Equal(t, k.Snapshot.Signs, signs)
		assert.Equal(t, fmt.Sprint(day), signs[0].Version)
	}
	other, err := s.List(t.Context(), Site{"Theatre", "https://else.example"})
	require.NoError(t, err)
	assert.Empty(t, other)
	found, err := Find(audits, "2026-03-05")
	require.NoError(t, err)
	assert.Equal(t, audits[4].ID, found.ID)
	_, err = Find(audits, "2020-01-01")
	assert.ErrorContains(t, err, "the first is of 2026-03-01")
	_, err = Find(nil, "1")
	assert.ErrorContains(t, err, "no audit")
}

func TestRetention(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	for day := range 70 {
		keepIn(t, s, look(t, day, []string{"a.one"}))
	}
	now := start.AddDate(0, 0, 69)
	prune := func(keep Retention, now time.Time, asked bool) int {
		gone, err := s.Prune(t.Context(), theatre, keep, now, asked)
		require.NoError(t, err)
		return gone
	}
	assert.Zero(t, prune(Usual, now, false))
	assert.Zero(t, prune(Retention{Age: 24 * time.Hour}, now.AddDate(5, 0, 0), false), "a clock that stands five years ahead")
	assert.Equal(t, 40, prune(Retention{Age: 24 * time.Hour}, now, false), "age alone leaves thirty")
	assert.Equal(t, 20, prune(Retention{Audits: 10}, now, false))
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	require.Len(t, audits, 10)
	for _, a := range audits { // those that were told by one that is thrown away
		_, err := s.Load(t.Context(), a)
		assert.NoError(t, err)
	}
	assert.Equal(t, start, keepIn(t, s, look(t, 70, []string{"a.one"})).Since[facts.Fingerprint("a.one", "site")].Seen, "since when is known all the same")
	assert.Equal(t, 10, prune(Retention{Age: time.Hour}, now.AddDate(9, 0, 0), true), "who asks for it gets it, but for the last")
	require.NoError(t, s.Shrink(t.Context()))
}

func TestAClockThatGoesBack(t *testing.T) {
	s := open(t, t.TempDir())
	keepIn(t, s, look(t, 400, nil, "a.one"))
	news := keepIn(t, s, look(t, 0, []string{"a.one"}))
	assert.True(t, news.Backwards)
	assert.Equal(t, []string{"a.one"}, rules(news.New))
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	require.Len(t, audits, 2)
	assert.True(t, audits[1].Taken.Before(audits[0].Taken), "the last is the one that was kept last")
	gone, err := s.Prune(t.Context(), theatre, Usual, start, false)
	require.NoError(t, err)
	assert.Zero(t, gone)
}

func TestADamagedFileIsPutAside(t *testing.T) {
	for name, damage := range map[string]func([]byte) []byte{
		"no database":   func([]byte) []byte { return []byte("this was a history once, and is none any more, alas") },
		"cut off":       func(data []byte) []byte { return data[:len(data)/3] },
		"overwritten":   func(data []byte) []byte { copy(data[100:], bytes.Repeat([]byte{0xa5}, 4000)); return data },
		"half a header": func(data []byte) []byte { return data[:60] },
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, dir)
			keepIn(t, s, look(t, 0, []string{"a.one"}))
			s.Close()
			file := filepath.Join(dir, FileName)
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			damaged := damage(slices.Clone(data))
			require.NoError(t, os.WriteFile(file, damaged, 0o600))

			s, aside, err := Make(t.Context(), dir)
			if err == nil && aside == "" { // what is damaged is found when it is used
				_, err = s.Keep(t.Context(), look(t, 1, nil, "a.one"), false)
				var of *Damage
				require.ErrorAs(t, err, &of)
				aside, err = s.PutAside(t.Context())
				require.NoError(t, err)
				s, _, err = Make(t.Context(), dir)
			}
			require.NoError(t, err)
			defer s.Close()
			kept, err := os.ReadFile(aside)
			require.NoError(t, err)
			assert.Equal(t, damaged, kept, "not a byte of it is lost")
			assert.NotZero(t, keepIn(t, s, look(t, 1, []string{"a.one"})).Audit)
		})
	}
}

func TestWhatIsNotOurs(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", filepath.Join(dir, FileName))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE letters (a TEXT)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = Open(t.Context(), dir)
	assert.ErrorContains(t, err, "a database of another program")

	dir = t.TempDir()
	s := open(t, dir)
	_, err = s.db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	s.Close()
	before, err := os.ReadFile(filepath.Join(dir, FileName))
	require.NoError(t, err)
	_, aside, err := Make(t.Context(), dir)
	assert.ErrorContains(t, err, "has version 99, and this program knows 2")
	assert.Empty(t, aside, "a newer one is not damaged")
	after, err := os.ReadFile(filepath.Join(dir, FileName))
	require.NoError(t, err)
	assert.Equal(t, before, after)

	_, err = Open(t.Context(), t.TempDir())
	assert.ErrorIs(t, err, ErrNone)
}

// A file of the first version is brought up: since when things deviate is worked out from what it holds.
func TestAFileOfAnEarlierVersion(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	keepIn(t, s, look(t, 0, nil, "a.one"))
	keepIn(t, s, look(t, 1, []string{"a.one"}))
	for _, statement := range []string{"DROP TABLE spell", "DROP TABLE judged", "DROP TABLE answered", "DROP TABLE promise", "PRAGMA user_version = 1"} {
		_, err := s.db.Exec(statement)
		require.NoError(t, err)
	}
	s.Close()
	s = open(t, dir)
	news := keepIn(t, s, look(t, 2, []string{"a.one"}))
	assert.Equal(t, facts.Since{Lacked: &start, Seen: start.AddDate(0, 0, 1)}, news.Since[facts.Fingerprint("a.one", "site")])
	addresses, err := s.Answered(t.Context(), theatre, start)
	require.NoError(t, err)
	assert.Equal(t, []string{"https://theatre.example/"}, addresses)
}

func TestAddressesThatAnswered(t *testing.T) {
	s := open(t, t.TempDir())
	e := look(t, 0, nil)
	e.Snapshot.Pages = append(e.Snapshot.Pages, facts.Page{Address: theatre.Address + "/old/", Status: 200}, facts.Page{Address: theatre.Address + "/never/", Status: 404})
	keepIn(t, s, e)
	keepIn(t, s, look(t, 1, nil))
	addresses, err := s.Answered(t.Context(), theatre, start)
	require.NoError(t, err)
	assert.Equal(t, []string{"https://theatre.example/old/", "https://theatre.example/"}, addresses, "those that were not met the last time come first")
	addresses, err = s.Answered(t.Context(), theatre, start.AddDate(3, 0, 0))
	require.NoError(t, err)
	assert.Empty(t, addresses)
}

// A follow-up that is counted from when it was first seen keeps its day.
func TestDaysOfFollowUps(t *testing.T) {
	s := open(t, t.TempDir())
	with := func(day int, on facts.Day) Entry {
		e := look(t, day, nil)
		e.Result = bytes.Replace(e.Result, []byte(`"follow_ups":null`), fmt.Appendf(nil, `"follow_ups":[{"uid":"u1","rule":"a.one","on":%q,"after":30,"what":"look"}]`, on), 1)
		return e
	}
	assert.Equal(t, facts.Day("2026-03-31"), keepIn(t, s, with(0, "2026-03-31")).Days["u1"])
	assert.Equal(t, facts.Day("2026-03-31"), keepIn(t, s, with(5, "2026-04-05")).Days["u1"])
	keepIn(t, s, look(t, 6, nil)) // nothing asks for it
	assert.Equal(t, facts.Day("2026-04-10"), keepIn(t, s, with(10, "2026-04-10")).Days["u1"])
}

func TestRunsAreKept(t *testing.T) {
	s := open(t, t.TempDir())
	require.NoError(t, s.KeepRun(t.Context(), theatre, "20260301T090000", start, []byte(`{"a":1}`)))
	data, err := s.Run(t.Context(), theatre, "20260301T090000")
	require.NoError(t, err)
	assert.JSONEq(t, `{"a":1}`, string(data))
	_, err = s.Run(t.Context(), theatre, "20260302T090000")
	assert.ErrorContains(t, err, "no run 20260302T090000")
	runs, err := s.Runs(t.Context(), theatre)
	require.NoError(t, err)
	assert.Equal(t, map[string]time.Time{"20260301T090000": start}, runs)
}

// Many who keep at once wait for each other.
func TestManyKeepAtOnce(t *testing.T) {
	dir := t.TempDir()
	var all sync.WaitGroup
	failed := make(chan error, 40)
	for n := range 8 {
		all.Go(func() {
			s, _, err := Make(context.Background(), dir)
			if err != nil {
				failed <- err
				return
			}
			defer s.Close()
			for day := range 5 {
				if _, err := s.Keep(context.Background(), look(t, n*5+day, []string{"a.one"}), false); err != nil {
					failed <- err
				}
			}
		})
	}
	all.Wait()
	close(failed)
	for err := range failed {
		assert.NoError(t, err)
	}
	audits, err := open(t, dir).List(t.Context(), theatre)
	require.NoError(t, err)
	assert.Len(t, audits, 40)
}

// TestKeeper is a process of its own that keeps audits until it is killed.
func TestKeeper(t *testing.T) {
	dir := os.Getenv("WELTAXIS_KEEP_IN")
	if dir == "" {
		t.Skip("a part of TestKilledWhileKeeping")
	}
	s, _, err := Make(context.Background(), dir)
	require.NoError(t, err)
	for day := 0; ; day++ {
		news, err := s.Keep(context.Background(), look(t, day, []string{"a.one"}), false)
		require.NoError(t, err)
		fmt.Printf("kept %d\n", news.Audit)
	}
}

func TestKilledWhileKeeping(t *testing.T) {
	dir := t.TempDir()
	kept := 0
	for round := range 12 {
		run := exec.Command(os.Args[0], "-test.run", "^TestKeeper$", "-test.v")
		run.Env = append(os.Environ(), "WELTAXIS_KEEP_IN="+dir)
		var out bytes.Buffer
		run.Stdout = &out
		require.NoError(t, run.Start())
		time.Sleep(time.Duration(60+round*17) * time.Millisecond)
		require.NoError(t, run.Process.Signal(syscall.SIGKILL))
		_ = run.Wait()
		kept += strings.Count(out.String(), "kept ")
	}
	s := open(t, dir)
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(audits), kept, "what was said to be kept is")
	assert.LessOrEqual(t, len(audits), kept+12)
	for _, a := range audits {
		_, err := s.Load(t.Context(), a)
		require.NoError(t, err)
	}
	var whole string
	require.NoError(t, s.db.QueryRow("PRAGMA integrity_check").Scan(&whole))
	assert.Equal(t, "ok", whole)
	keepIn(t, s, look(t, 999, []string{"a.one"}))
}

func TestOneDamagedPayloadLeavesTheOthers(t *testing.T) {
	s := open(t, t.TempDir())
	for day := range 3 {
		keepIn(t, s, look(t, day, []string{"a.one"}))
	}
	_, err := s.db.Exec("UPDATE payload SET data = x'28b52ffd00' WHERE audit = 1")
	require.NoError(t, err)
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	_, err = s.Load(t.Context(), audits[1])
	assert.ErrorContains(t, err, "what is kept of audit 2 is damaged")
	keepIn(t, s, look(t, 3, []string{"a.one"})) // begins anew
	audits, err = s.List(t.Context(), theatre)
	require.NoError(t, err)
	_, err = s.Load(t.Context(), audits[3])
	assert.NoError(t, err)
	var damage *Damage
	assert.False(t, errors.As(err, &damage))
}
