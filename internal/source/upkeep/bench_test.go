package upkeep

import (
	"archive/zip"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/tree"
)

// BenchmarkAdvise looks through 50 000 advisories for 200 installed packages, in an archive and in a folder: the time of each, and the most
// memory that was in use.
func BenchmarkAdvise(b *testing.B) {
	text := func(i int) string {
		return fmt.Sprintf(`{"schema_version":"1.7.0","id":"X-%d","modified":"2026-10-%02dT00:00:00Z","published":"2026-01-01T00:00:00Z","summary":"Something","details":%q,"affected":[{"package":{"ecosystem":"Packagist","name":"maker-%d/part-%d"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"1.%d.0"}]}]}],"severity":[{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N"}]}`,
			i, i%28+1, strings.Repeat("What happens, and to whom. ", 60), i%700, i%9000, i%30)
	}
	folder, file := b.TempDir(), filepath.Join(b.TempDir(), "all.zip")
	into, err := os.Create(file)
	if err != nil {
		b.Fatal(err)
	}
	archive := zip.NewWriter(into)
	for i := range 50_000 {
		dir := filepath.Join(folder, fmt.Sprint(i%100))
		if i < 100 {
			if err := os.Mkdir(dir, 0o755); err != nil {
				b.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("X-%d.json", i)), []byte(text(i)), 0o600); err != nil {
			b.Fatal(err)
		}
		entry, err := archive.Create(fmt.Sprintf("X-%d.json", i))
		if err != nil {
			b.Fatal(err)
		}
		if _, err := io.WriteString(entry, text(i)); err != nil {
			b.Fatal(err)
		}
	}
	if err := archive.Close(); err != nil {
		b.Fatal(err)
	}
	if err := into.Close(); err != nil {
		b.Fatal(err)
	}
	var installed []Package
	for i := range 200 {
		installed = append(installed, Package{"Packagist", fmt.Sprintf("maker-%d/part-%d", i, i), "1.7.0"})
	}
	var fromFolder, fromArchive time.Duration
	most, flaws := uint64(0), 0
	look := func(place string) time.Duration {
		runtime.GC()
		done := make(chan struct{})
		go func() { // a look now and then at what is in use
			for {
				select {
				case <-done:
					return
				case <-time.After(20 * time.Millisecond):
					var m runtime.MemStats
					runtime.ReadMemStats(&m)
					most = max(most, m.HeapInuse)
				}
			}
		}()
		start := time.Now()
		found, err := Advise(b.Context(), place, installed)
		took := time.Since(start)
		close(done)
		if err != nil || found.Looked != 50_000 {
			b.Fatal(err, found)
		}
		flaws = len(found.Flaws)
		return took
	}
	n := 0
	for b.Loop() {
		fromFolder += look(folder)
		fromArchive += look(file)
		n++
	}
	b.ReportMetric(fromFolder.Seconds()/float64(n), "s/folder")
	b.ReportMetric(fromArchive.Seconds()/float64(n), "s/archive")
	b.ReportMetric(float64(most)/(1<<20), "MiB")
	b.ReportMetric(float64(flaws), "flaws")
}

// BenchmarkHold holds 100 000 files against their checksums, beside a bare parallel read and hash of the same, turn about: the speed as a
// part of the bare one's.
func BenchmarkHold(b *testing.B) {
	root := b.TempDir()
	var list strings.Builder
	var names []string
	for d := range 1000 {
		dir := filepath.Join("works", fmt.Sprintf("p%02d", d%20), fmt.Sprintf("d%04d", d))
		if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
			b.Fatal(err)
		}
		for f := range 100 {
			name := filepath.Join(dir, fmt.Sprintf("f%02d.php", f))
			text := strings.Repeat(fmt.Sprintf("<?php // %s\n", name), 1+f*7)
			if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o600); err != nil {
				b.Fatal(err)
			}
			fmt.Fprintf(&list, "%x  %s\n", sha256.Sum256([]byte(text)), name)
			names = append(names, name)
		}
	}
	file := filepath.Join(b.TempDir(), "list")
	if err := os.WriteFile(file, []byte(list.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	bare := func() time.Duration {
		start := time.Now()
		var group errgroup.Group
		group.SetLimit(2 * runtime.GOMAXPROCS(0))
		for i := 0; i < len(names); i += 256 {
			group.Go(func() error {
				buffer := make([]byte, 64<<10)
				for _, name := range names[i:min(i+256, len(names))] {
					file, err := os.Open(filepath.Join(root, name))
					if err != nil {
						return err
					}
					digest := sha256.New()
					_, err = io.CopyBuffer(struct{ io.Writer }{digest}, struct{ io.Reader }{file}, buffer)
					file.Close()
					if err != nil {
						return err
					}
					digest.Sum(nil)
				}
				return nil
			})
		}
		if err := group.Wait(); err != nil {
			b.Fatal(err)
		}
		return time.Since(start)
	}
	ours := func() time.Duration {
		start := time.Now()
		sums, err := ReadSums(file, "", "")
		if err != nil {
			b.Fatal(err)
		}
		below, err := tree.Open(root)
		if err != nil {
			b.Fatal(err)
		}
		defer below.Close()
		no := func(string) bool { return false }
		held, err := sums.Hold(b.Context(), below, ".", false, no, no, no)
		if err != nil || len(held.Same) != len(names) {
			b.Fatal(err, len(held.Same))
		}
		return time.Since(start)
	}
	bare()
	ours()
	var floor, taken time.Duration
	for b.Loop() {
		floor += bare()
		taken += ours()
	}
	b.ReportMetric(float64(floor)/float64(taken), "of-bare-speed")
	b.ReportMetric(taken.Seconds()/float64(b.N), "s/100000-files")
}
