package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"

	"github.com/charmbracelet/x/term"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
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

// writeFile writes a file whole or not at all, where a link of one's own leads, with the mode it has, and into no folder in which others could
// exchange it. What is no regular file, as a device or a named pipe, is written to. An option names it, which errors begin with.
func writeFile(option, name string, write func(io.Writer) error) error {
	err := orders.Own().Write(name, write)
	var fault *orders.Fault
	switch {
	case err == nil:
		return nil
	case errors.Is(err, orders.ErrFolder):
		return fmt.Errorf("%s: %s is a folder; name a file in it", option, name)
	case errors.As(err, &fault):
		return fmt.Errorf("%s: %s is not written: %s %s, so others could exchange it; name a file in a folder that only you may change", option, name, fault.At, fault.Says)
	}
	return fmt.Errorf("%s: writing %s: %w", option, name, facts.Plainly(err))
}
