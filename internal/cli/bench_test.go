//go:build unix

package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"
)

// buildOf builds a main package into a folder and gives the program's name.
func buildOf(b *testing.B, dir, name, pkg string) string {
	b.Helper()
	out := filepath.Join(dir, name)
	command := exec.Command("go", "build", "-o", out, pkg)
	command.Env = append(os.Environ(), "CGO_ENABLED=0")
	if text, err := command.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, text)
	}
	return out
}

// run runs a program and gives the time it took and its peak memory in MiB.
func run(b *testing.B, name string, args ...string) (time.Duration, float64) {
	b.Helper()
	command := exec.Command(name, args...)
	start := time.Now()
	err := command.Run()
	taken := time.Since(start)
	if exit, is := err.(*exec.ExitError); err != nil && (!is || exit.ExitCode() != exitDeviates && exit.ExitCode() != exitPartial) {
		b.Fatal(err)
	}
	usage, ok := command.ProcessState.SysUsage().(*syscall.Rusage)
	if !ok {
		b.Fatal("no resource usage")
	}
	unit := 1024.0 // getrusage(2): kilobytes on Linux, bytes on Darwin
	if runtime.GOOS == "darwin" {
		unit = 1
	}
	return taken, float64(usage.Maxrss) * unit / (1 << 20)
}

// BenchmarkVersion sets weltaxis --version as a process beside a Go program that does nothing.
func BenchmarkVersion(b *testing.B) {
	dir := b.TempDir()
	empty := filepath.Join(dir, "empty.go")
	if err := os.WriteFile(empty, []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	floorProgram, program := buildOf(b, dir, "empty", empty), buildOf(b, dir, "weltaxis", "weltaxis/cmd/weltaxis")
	var floor, taken time.Duration
	for b.Loop() {
		f, _ := run(b, floorProgram)
		t, _ := run(b, program, "--version")
		floor, taken = floor+f, taken+t
	}
	b.ReportMetric(float64(taken)/float64(floor), "x-empty-program")
	b.ReportMetric(float64(taken.Microseconds())/float64(b.N)/1000, "ms/version")
}

// BenchmarkTreeMemory audits the permissions of a tree of 200 000 entries and reports the peak memory of the
// whole process.
func BenchmarkTreeMemory(b *testing.B) {
	dir := b.TempDir()
	program := buildOf(b, dir, "weltaxis", "weltaxis/cmd/weltaxis")
	root := filepath.Join(dir, "site")
	for d := range 2000 {
		folder := filepath.Join(root, "media", fmt.Sprintf("d%04d", d))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			b.Fatal(err)
		}
		for f := range 99 {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%02d.jpg", f)), nil, 0o644); err != nil {
				b.Fatal(err)
			}
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "weltaxis.yaml"), []byte("site: A\nsources: {files: {root: ./site}}\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	peak := 0.0
	for b.Loop() {
		_, memory := run(b, program, "audit", dir, "--only", "permissions", "--quiet")
		peak = max(peak, memory)
	}
	b.ReportMetric(peak, "MiB-peak")
}

// BenchmarkPagesMemory looks at 10 000 pages of 30 KB with the built program and reports its peak memory.
func BenchmarkPagesMemory(b *testing.B) {
	const n = 10_000
	words := strings.Repeat("<p>The lamps are lit, the <a href=\"/p/1\">strings</a> are waxed, and the wolf has had his <b>breakfast</b>.</p>\n", 270)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		var k int
		if _, err := fmt.Sscanf(r.URL.Path, "/l/%d", &k); err == nil {
			for i := range 100 {
				fmt.Fprintf(w, `<a href="/p/%d">x</a>`, k*100+i)
			}
			return
		}
		if r.URL.Path == "/" {
			for k := range n / 100 {
				fmt.Fprintf(w, `<a href="/l/%d">x</a>`, k)
			}
			return
		}
		fmt.Fprintf(w, "<title>Page %s</title><meta name=description content=\"What stands on page %s of the many.\"><body>%s", r.URL.Path, r.URL.Path, words)
	}))
	defer server.Close()
	dir := b.TempDir()
	program := buildOf(b, dir, "weltaxis", "weltaxis/cmd/weltaxis")
	site := fmt.Sprintf("site: A\nintent: {address: %q}\nsources: {live: {pages: %d, rate: 0}}\n", server.URL, n+200)
	if err := os.WriteFile(filepath.Join(dir, "weltaxis.yaml"), []byte(site), 0o600); err != nil {
		b.Fatal(err)
	}
	peak := 0.0
	for b.Loop() {
		_, memory := run(b, program, "pages", dir, "--format", "csv", "--output", filepath.Join(dir, "pages.csv"))
		peak = max(peak, memory)
	}
	b.ReportMetric(peak, "MiB-peak")
}
