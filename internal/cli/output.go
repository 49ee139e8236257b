package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/charmbracelet/x/term"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
)

// A writer notes the first error of what is written through it, so that no caller need look at each.
type writer struct {
	*bufio.Writer
	under io.Writer
	err   error
}

func newWriter(w io.Writer) *writer { return &writer{Writer: bufio.NewWriter(w), under: w} }

func (w *writer) Write(text []byte) (int, error) {
	n, err := w.Writer.Write(text)
	w.note(err)
	return n, err
}

// end writes what is left, and gives the first error there was.
func (w *writer) end() error {
	w.note(w.Flush())
	return w.err
}

func (w *writer) note(err error) {
	if w.err == nil {
		w.err = err
	}
}

// toStdout writes to standard output. Whoever reads in a pager may leave before the end; elsewhere a pipe that is closed
// early means that something got lost.
func (p *program) toStdout(write func(io.Writer) error) error {
	out := newWriter(p.out)
	err := errors.Join(write(out), out.end())
	switch {
	case err == nil:
		return nil
	case errors.Is(err, syscall.EPIPE) && atTerminal(p.err):
		return nil
	}
	return fmt.Errorf("standard output: %w", facts.Plainly(err))
}

func atTerminal(w io.Writer) bool {
	file, is := w.(*os.File)
	return is && term.IsTerminal(file.Fd())
}

// writeFile writes a file whole or not at all, where a link leads, with the mode it has. What is no regular file, as a
// device or a named pipe, is written to.
func writeFile(name string, write func(io.Writer) error) error {
	return identity.AsCaller(func() error { return writeNamed(name, write) })
}

func writeNamed(name string, write func(io.Writer) error) error {
	fail := func(err error) error { return fmt.Errorf("--output: writing %s: %w", name, facts.Plainly(err)) }
	target, err := followed(name)
	if err != nil {
		return fail(err)
	}
	stat, err := os.Stat(target)
	switch {
	case err == nil && stat.IsDir():
		return fmt.Errorf("--output: %s is a folder; name a file in it", name)
	case err == nil && !stat.Mode().IsRegular() || strings.HasPrefix(target, "/dev/") || strings.HasPrefix(target, "/proc/"):
		return writeInto(target, 0, write, fail)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return fail(err)
	}
	failed := error(nil)
	err = replace(target, func(w io.Writer) error {
		failed = write(w)
		return failed
	})
	if failed == nil && errors.Is(err, fs.ErrPermission) && stat != nil { // a file that may be written to, in a folder that may not
		return writeInto(target, os.O_TRUNC, write, fail)
	}
	if err != nil {
		return fail(err)
	}
	return nil
}

// writeInto writes to what is there.
func writeInto(target string, flags int, write func(io.Writer) error, fail func(error) error) error {
	file, err := os.OpenFile(target, os.O_WRONLY|flags, 0)
	if err != nil {
		return fail(err)
	}
	out := newWriter(file)
	if err := errors.Join(write(out), out.end(), file.Close()); err != nil {
		return fail(err)
	}
	return nil
}

// followed is where a link leads in the end, also when nothing is there yet.
func followed(name string) (string, error) {
	if strings.HasPrefix(name, "/dev/") { // /dev/stdout is a link to what must not be replaced
		return name, nil
	}
	for range 40 {
		target, err := os.Readlink(name)
		if err != nil {
			return name, nil
		}
		if !filepath.IsAbs(target) {
			target = filepath.Join(filepath.Dir(name), target)
		}
		name = target
	}
	return "", errors.New("its links lead in a circle")
}
