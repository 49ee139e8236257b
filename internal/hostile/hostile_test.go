//go:build linux

// Package hostile holds what is hostile against the built program: servers, files, folders, databases, texts and
// arguments, each with bounds of time, memory and requests, and with what is to be said of it. It has tests only.
package hostile

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A hostile is one row of the table.
type hostile struct {
	name string
	// serve answers as a site would that means ill; nil for what needs no server. {url} in the arguments and in the site
	// file is where it listens.
	serve http.HandlerFunc
	// raw answers on a bare connection, where HTTP would not let one do it.
	raw   func(net.Conn)
	early bool // without having read what is asked
	// secure has it answer with that certificate, and on a bare connection in its own way, where its address says https.
	secure *tls.Certificate
	// in prepares the folder of a well-kept site, in which the program is run.
	in   func(t *testing.T, dir string)
	args string // of the program, with blanks between; audit of the server when empty
	exit int    // -1 for any but a crash
	says string // somewhere in what is printed

	seconds  int   // 10 when 0
	mebibyte int64 // of memory, 150 when 0
	requests int64 // 700 when 0
}

// siteFile is how a hostile server is looked at.
const siteFile = "site: Hostile\nintent: {stage: live}\nsources: {live: {url: \"{url}/\", own: true, seconds: 4, rate: 0}}\n"

// never stands in no output: what a terminal acts upon, and what a panic or a text that was put together wrongly prints.
var never = regexp.MustCompile(`\x1b|\x07|\x{202e}|goroutine [0-9]+ \[|runtime error|%![a-zA-Z]\(`)

func TestHostile(t *testing.T) {
	bin := filepath.Join(t.TempDir(), "weltaxis")
	build := exec.Command("go", "build", "-o", bin, "weltaxis/cmd/weltaxis")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	demo := t.TempDir()
	out, err = exec.Command(bin, "demo", "--into", demo, "--quiet").CombinedOutput()
	require.NoError(t, err, string(out))
	site := filepath.Join(demo, "lantern-lane-aligned")
	all := table()
	assert.GreaterOrEqual(t, len(all), 60)
	for _, h := range all {
		t.Run(h.name, func(t *testing.T) {
			t.Parallel()
			h.run(t, bin, site)
		})
	}
}

// run runs the program against one of them.
func (h hostile) run(t *testing.T, bin, site string) {
	dir := filepath.Join(t.TempDir(), "site")
	require.NoError(t, os.Mkdir(dir, 0o755))
	var asked atomic.Int64
	url := h.listen(t, &asked)
	args := strings.Fields(strings.ReplaceAll(h.args, "{url}", url))
	if h.in != nil {
		require.NoError(t, exec.Command("cp", "-a", site+"/.", dir).Run(), "with modes")
		authority, err := os.ReadFile(filepath.Join(filepath.Dir(site), "demo-ca.pem"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(dir), "demo-ca.pem"), authority, 0o600))
		h.in(t, dir)
	} else if h.args == "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "weltaxis.yaml"), []byte(strings.ReplaceAll(siteFile, "{url}", url)), 0o600))
	}
	if len(args) == 0 {
		args = []string{"audit", "--full"}
	}
	limit := time.Duration(max(h.seconds, 10)) * time.Second
	ctx, cancel := context.WithTimeout(t.Context(), 10*limit) // a machine may be busy with other things
	defer cancel()
	command := exec.CommandContext(ctx, bin, args...)
	command.Dir, command.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+filepath.Join(dir, "state"), "GOGC=100", "NO_COLOR=1", "COLUMNS=200")
	var said bytes.Buffer
	command.Stdout, command.Stderr = &said, &said
	require.NoError(t, command.Start())
	peak := watched(command.Process.Pid)
	err := command.Wait()
	took := command.ProcessState.UserTime() + command.ProcessState.SystemTime() // of its own, however busy the machine is
	var exit *exec.ExitError
	require.True(t, err == nil || errors.As(err, &exit), "%v", err)
	code := command.ProcessState.ExitCode()
	text := said.String()
	shown := text[max(0, len(text)-3000):]
	if h.exit >= 0 && (code != 3 || !strings.Contains(text, "took too long")) { // on a busy machine something may not be seen in time
		assert.Equal(t, h.exit, code, shown)
	}
	assert.Contains(t, []int{0, 1, 2, 3}, code, "no crash: %s", shown)
	assert.Contains(t, strings.Join(strings.Fields(text), " "), h.says, shown)
	assert.NotRegexp(t, never, text)
	assert.False(t, strings.ContainsFunc(text, func(r rune) bool { return unicode.IsControl(r) && r != '\n' }), "controls in what is printed")
	assert.LessOrEqual(t, took, 2*limit, "what it computes, on two processors at once")
	memory := peak() / 1024
	bound := h.mebibyte
	if bound == 0 {
		bound = 150
	}
	assert.LessOrEqual(t, memory, bound+bound/10, "MiB of memory, and a tenth more: what collects garbage on a busy machine is behind")
	requests := h.requests
	if requests == 0 {
		requests = 700
	}
	assert.LessOrEqual(t, asked.Load(), requests, "requests")
	t.Logf("%s, %d MiB, %d requests, exit %d", took.Round(10*time.Millisecond), memory, asked.Load(), code)
}

// watched notes the most memory that a process has held, in KiB (VmHWM, proc_pid_status(5)), until the function that it
// returns is called. What the system says of a process that has ended counts the memory of the one that started it as well.
func watched(pid int) (peak func() int64) {
	stop, last := make(chan struct{}), make(chan int64)
	go func() {
		most := int64(0)
		for {
			if text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)); err == nil {
				if m := highest.FindSubmatch(text); m != nil {
					n, _ := strconv.ParseInt(string(m[1]), 10, 64)
					most = max(most, n)
				}
			}
			select {
			case <-time.After(5 * time.Millisecond):
			case <-stop:
				last <- most
				return
			}
		}
	}()
	return func() int64 {
		close(stop)
		return <-last
	}
}

var highest = regexp.MustCompile(`VmHWM:\s+([0-9]+) kB`)

// listen serves the row's server, if it has one, and gives its address.
func (h hostile) listen(t *testing.T, asked *atomic.Int64) string {
	if h.serve == nil && h.raw == nil {
		return ""
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	if h.raw != nil {
		t.Cleanup(func() { listener.Close() })
		go func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				asked.Add(1)
				go func() {
					defer conn.Close()
					if !h.early {
						_, _ = conn.Read(make([]byte, 1<<10))
					}
					h.raw(conn)
				}()
			}
		}()
		return h.scheme() + listener.Addr().String()
	}
	if h.secure != nil {
		listener = tls.NewListener(listener, &tls.Config{Certificates: []tls.Certificate{*h.secure}})
	}
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		h.serve(w, r)
	}), ErrorLog: nil}
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { server.Close() })
	return h.scheme() + listener.Addr().String()
}

func (h hostile) scheme() string {
	if h.secure != nil {
		return "https://"
	}
	return "http://"
}

// page answers the home page with a body of markup, and nothing else.
func page(body func(w *bytes.Buffer)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/" {
			http.NotFound(w, r)
			return
		}
		var b bytes.Buffer
		b.WriteString("<!doctype html><html lang=en><head><meta charset=utf-8>")
		body(&b)
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(b.Bytes())
	}
}

// markup is a page of the same piece over and over.
func markup(before, piece string, times int, after string) http.HandlerFunc {
	return page(func(b *bytes.Buffer) {
		b.WriteString(before)
		for i := range times {
			b.WriteString(strings.ReplaceAll(piece, "#", strconv.Itoa(i)))
		}
		b.WriteString(after)
	})
}

// at answers one path, and a plain home page beside it.
func at(path, kind, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case path:
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write([]byte(body))
		case "/":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte("<title>Home of it all</title><p>words"))
		default:
			http.NotFound(w, r)
		}
	}
}

// write writes a file of the site.
func write(name, text string) func(*testing.T, string) {
	return func(t *testing.T, dir string) {
		t.Helper()
		full := filepath.Join(dir, name)
		_ = os.Remove(full)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o600))
	}
}

// pipe makes a named pipe that nobody writes into.
func pipe(name string) func(*testing.T, string) {
	return func(t *testing.T, dir string) {
		t.Helper()
		full := filepath.Join(dir, name)
		_ = os.Remove(full)
		require.NoError(t, syscall.Mkfifo(full, 0o644))
	}
}

// link makes a link.
func link(name, target string) func(*testing.T, string) {
	return func(t *testing.T, dir string) {
		t.Helper()
		_ = os.Remove(filepath.Join(dir, name))
		require.NoError(t, os.Symlink(target, filepath.Join(dir, name)))
	}
}

// both prepares two things.
func both(one, other func(*testing.T, string)) func(*testing.T, string) {
	return func(t *testing.T, dir string) { t.Helper(); one(t, dir); other(t, dir) }
}
