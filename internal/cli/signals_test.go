//go:build !windows

package cli

import (
	"bytes"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/progress"
)

// TestAnInterruptedCommandEnds soon, with the status of the signal, and says what it has seen.
func TestAnInterruptedCommandEnds(t *testing.T) {
	bin := build(t)
	reached := make(chan struct{}, 100)
	stuck := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte(`<html lang="en"><head><title>Home</title></head><body><a href="/slow/">slow</a></body></html>`))
		case "/slow/":
			reached <- struct{}{}
			<-stuck
		default:
			http.NotFound(w, r)
		}
	}))
	defer server.Close()
	defer close(stuck)
	folder := t.TempDir()
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for _, c := range []struct {
		name string
		args []string
		sig  os.Signal
		code int
		says string
	}{
		{"audit", []string{"audit", server.URL}, os.Interrupt, 130, "It answers at"},
		{"terminated", []string{"pages", server.URL}, syscall.SIGTERM, 143, "Home"},
		{"snapshot", []string{"snapshot", server.URL}, os.Interrupt, 130, ""},
		{"what cannot be waited for", []string{"schema", "site", "--output", pipe}, syscall.SIGTERM, 143, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			command := exec.Command(filepath.Join(bin, "weltaxis"), c.args...)
			command.Dir = folder
			var out, errs bytes.Buffer
			command.Stdout, command.Stderr = &out, &errs
			require.NoError(t, command.Start())
			if c.args[0] == "schema" {
				time.Sleep(300 * time.Millisecond)
			} else {
				<-reached
			}
			sent := time.Now()
			require.NoError(t, command.Process.Signal(c.sig))
			err := command.Wait()
			var exit *exec.ExitError
			require.True(t, errors.As(err, &exit), "%v", err)
			assert.Equal(t, c.code, exit.ExitCode(), errs.String())
			assert.Less(t, time.Since(sent), 5*time.Second, "a second, and what a busy machine adds")
			assert.Contains(t, errs.String(), "interrupted")
			assert.Contains(t, out.String(), c.says)
		})
	}
}

// TestTheMeterShowsWhatTakesLong and takes its line away.
func TestTheMeterShowsWhatTakesLong(t *testing.T) {
	var out guarded
	m := &meter{to: &out, stop: make(chan struct{})}
	go m.run(time.Millisecond, time.Millisecond)
	m.tell(progress.Note{Doing: "looking at \x1b pages", Done: 3, Of: 12})
	require.Eventually(t, func() bool { return strings.Contains(out.String(), `looking at \x1b pages: 3 of 12`) }, 5*time.Second, time.Millisecond)
	m.hide()
	m.hide()
	said := out.String()
	assert.True(t, strings.HasSuffix(said, "\r\x1b[K"), "%q", said)
	m.draw()
	assert.Equal(t, said, out.String())

	quiet := newMeter(&out)
	quiet.tell(progress.Note{Doing: "x"})
	quiet.draw()
	quiet.hide()
	assert.Equal(t, said, out.String(), "nothing where there is no terminal")
}

// A guarded is a buffer that several goroutines use.
type guarded struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (g *guarded) Write(text []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.b.Write(text)
}

func (g *guarded) String() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.b.String()
}
