package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/history"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

// fiveHundred is the theatre with 500 pages, seen from all sides, and its site file's folder.
func fiveHundred(t testing.TB) (*site.Site, *audit.Result) {
	t.Helper()
	dir := t.TempDir()
	b := lanternLane()
	for n := range 490 {
		b.pages = append(b.pages, page{Slug: fmt.Sprintf("puppet-%d", n), Title: fmt.Sprintf("Puppet number %d of the collection", n), Kind: "page", Status: "public", Published: "2026-06-01 10:00", Body: fmt.Sprintf("It was carved in the winter of %d.", 1500+n)})
	}
	for n := range b.pages { // the second one links to all
		b.pages[1].Body += fmt.Sprintf(` <a href="/?scene=%d">%d</a>`, n+1, n)
	}
	_, err := b.write(dir)
	require.NoError(t, err)
	server, err := serve(dir, []*installation{b}, 0)
	require.NoError(t, err)
	defer server.Close()
	s, err := site.Load(filepath.Join(dir, b.folder))
	require.NoError(t, err)
	result, err := audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test", Connect: server.Connect(b.folder)})
	require.NoError(t, err)
	require.Greater(t, len(result.Snapshot.Pages), 490)
	require.NotEmpty(t, result.Snapshot.Answers)
	return s, result
}

// nextDay is the next look: times differ, a few pages change, and sometimes a deviation comes or goes.
func nextDay(r *audit.Result, n int, random *rand.Rand) {
	r.Taken = r.Taken.Add(24 * time.Hour)
	s := r.Snapshot
	s.Taken = r.Taken
	for range 5 {
		p := &s.Pages[random.IntN(len(s.Pages))]
		p.Title, p.Words = fmt.Sprintf("Changed %d on day %d", random.IntN(1e6), n), p.Words+random.IntN(9)
	}
	for i := range s.Pages {
		s.Pages[i].Sent += random.IntN(7) - 3
	}
	for i := range s.Repeats {
		for j := range s.Repeats[i].FirstBytes {
			s.Repeats[i].FirstBytes[j] = random.Float64() * 40
		}
	}
	if len(r.Deviations) > 10 && n%3 == 0 {
		r.Deviations[random.IntN(10)].Says += " "
	}
}

func keepMany(t testing.TB, dir string, times int) (perAudit int64) {
	t.Helper()
	s, result := fiveHundred(t)
	store, _, err := history.Make(t.Context(), dir)
	require.NoError(t, err)
	defer store.Close()
	random := rand.New(rand.NewPCG(1, 2))
	for n := range times {
		nextDay(result, n, random)
		written, err := json.Marshal(report.New(result))
		require.NoError(t, err)
		_, err = store.Keep(context.Background(), history.Entry{Site: history.Site{Name: s.Name, Address: s.Address()}, Snapshot: result.Snapshot, Result: written,
			Audit: history.Audit{Taken: result.Taken, Tool: "test", Baseline: result.Baseline, Stage: result.Stage, Counts: result.Counts}}, false)
		require.NoError(t, err)
	}
	stat, err := os.Stat(filepath.Join(dir, history.FileName))
	require.NoError(t, err)
	return stat.Size() / int64(times)
}

// TestAuditsAreSmall: each of thirty audits of 500 pages takes no more than one of a thousand may; those the benchmark measures.
func TestAuditsAreSmall(t *testing.T) {
	t.Parallel()
	per := keepMany(t, t.TempDir(), 30)
	assert.Less(t, per, int64(200<<20)/1000)
	t.Logf("%d bytes an audit", per)
}

// BenchmarkHistory keeps a thousand audits of a site of 500 pages, and compares any two, as a process of its own, against --version.
func BenchmarkHistory(b *testing.B) {
	state := b.TempDir()
	per := keepMany(b, filepath.Join(state, "weltaxis"), 1000)
	program := filepath.Join(b.TempDir(), "weltaxis")
	build := exec.Command("go", "build", "-o", program, "../../cmd/weltaxis")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	require.NoError(b, build.Run())
	dir := b.TempDir()
	_, err := lanternLane().write(dir)
	require.NoError(b, err)
	run := func(args ...string) time.Duration {
		began := time.Now()
		out, err := exec.Command(program, args...).CombinedOutput()
		if err != nil && len(out) == 0 {
			b.Fatal(err)
		}
		return time.Since(began)
	}
	var compares, versions []float64
	random := rand.New(rand.NewPCG(3, 4))
	for b.Loop() {
		versions = append(versions, run("--version").Seconds())
		compares = append(compares, run("compare", filepath.Join(dir, FirstSite), fmt.Sprint(1+random.IntN(1000)), fmt.Sprint(1+random.IntN(1000)), "--state", state).Seconds())
	}
	b.ReportMetric(float64(per)*1000/(1<<20), "MiB/1000-audits")
	b.ReportMetric(facts.Median(compares)-facts.Median(versions), "s/compare-over-version")
	b.ReportMetric(facts.Median(versions), "s/version")
}
