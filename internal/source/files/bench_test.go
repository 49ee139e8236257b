package files

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/charlievieth/fastwalk"
)

// BenchmarkWalk sets the walk into classes beside a bare parallel walk with lstat over the same 200 000 entries, in
// the same run and turn about. The ratio is what counts.
func BenchmarkWalk(b *testing.B) {
	root := b.TempDir()
	entries := 0
	for d := range 2000 {
		dir := filepath.Join(root, []string{"media", "cache", "system", "themes"}[d%4], fmt.Sprintf("d%04d", d))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			b.Fatal(err)
		}
		entries++
		for f := range 99 {
			name := fmt.Sprintf("f%02d.%s", f, []string{"jpg", "txt", "css", "html", "min.js"}[f%5])
			if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
				b.Fatal(err)
			}
			entries++
		}
	}
	bare := func() time.Duration {
		start := time.Now()
		config := fastwalk.Config{}
		if err := fastwalk.Walk(&config, root, func(_ string, d fs.DirEntry, err error) error {
			if err == nil {
				_, err = d.Info()
			}
			return err
		}); err != nil {
			b.Fatal(err)
		}
		return time.Since(start)
	}
	classes := 0
	ours := func() time.Duration {
		start := time.Now()
		seen, err := (&Source{Root: root}).Gather(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		classes = len(seen.Classes)
		return time.Since(start)
	}
	bare()
	ours()
	var floor, taken time.Duration
	for b.Loop() {
		floor += bare()
		taken += ours()
	}
	b.ReportMetric(float64(taken)/float64(floor), "x-bare-walk")
	b.ReportMetric(float64(entries), "entries")
	b.ReportMetric(float64(classes), "classes")
}
