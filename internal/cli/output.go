package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"syscall"

	"github.com/charmbracelet/x/term"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/secrets"
)

// A writer notes the first error of what is written through it, so that no caller need look at each. What it writes is shown without secrets.
type writer struct {
	*bufio.Writer
	masks *discreet
	err   error
}

func newWriter(w io.Writer) *writer {
	masks := &discreet{under: w, lines: true}
	return &writer{Writer: bufio.NewWriter(masks), masks: masks}
}

func (w *writer) Write(text []byte) (int, error) {
	n, err := w.Writer.Write(text)
	w.note(err)
	return n, err
}

// end writes what is left, and gives the first error there was.
func (w *writer) end() error {
	w.note(w.Flush())
	w.note(w.masks.end())
	return w.err
}

// discreet takes out of what is written what looks like a secret. All that this program prints, writes to files that somebody names and keeps goes
// through it (or secrets.Shown, where it is packed), whatever else has been done before.
type discreet struct {
	under io.Writer
	lines bool // whole lines are looked at, however they come; else each write by itself
	held  []byte
}

// longest is how much of a line is held back until its end comes, in bytes.
const longest = 64 << 20

func (d *discreet) Write(text []byte) (int, error) {
	whole := len(text)
	if d.lines {
		end := bytes.LastIndexByte(text, '\n') + 1
		if end == 0 && len(d.held)+len(text) < longest {
			d.held = append(d.held, text...)
			return len(text), nil
		}
		if end == 0 {
			end = len(text)
		}
		text, d.held = append(d.held, text[:end]...), bytes.Clone(text[end:])
	}
	if _, err := io.WriteString(d.under, secrets.Shown(string(text))); err != nil {
		return 0, err
	}
	return whole, nil
}

// end writes what was held back.
func (d *discreet) end() error {
	if len(d.held) == 0 {
		return nil
	}
	_, err := io.WriteString(d.under, secrets.Shown(string(d.held)))
	d.held = nil
	return err
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
	if p.revealed {
		out.Writer = bufio.NewWriter(p.out)
	}
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
	if masks, is := w.(*discreet); is {
		w = masks.under
	}
	file, is := w.(*os.File)
	return is && term.IsTerminal(file.Fd())
}

// writeFile writes a file whole or not at all, where a link of one's own leads, with the mode it has, and into no folder in which others could
// exchange it. What is no regular file, as a device or a named pipe, is written to. An option names it, which errors begin with.
func writeFile(option, name string, write func(io.Writer) error) error {
	err := orders.Own().Write(name, func(w io.Writer) error {
		out := newWriter(w)
		return errors.Join(write(out), out.end())
	})
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
