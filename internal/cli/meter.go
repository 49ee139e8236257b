package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"

	"weltaxis/internal/progress"
	"weltaxis/internal/render"
)

// A meter shows on a terminal how far a command is, once that takes longer than a second: one line on standard error,
// which is gone before anything else is written.
type meter struct {
	to    io.Writer
	mu    sync.Mutex
	last  progress.Note
	drawn bool
	off   bool
	stop  chan struct{}
}

const (
	meterAfter = time.Second            // before that nothing is shown
	meterEvery = 200 * time.Millisecond // how often the line is drawn anew
)

// newMeter makes a meter; it is off where standard error is no terminal.
func newMeter(w io.Writer) *meter {
	m := &meter{to: w, stop: make(chan struct{}), off: true}
	if file, is := w.(*os.File); is && term.IsTerminal(file.Fd()) && os.Getenv("TERM") != "dumb" {
		m.off = false
		go m.run(meterAfter, meterEvery)
	}
	return m
}

func (m *meter) run(after, every time.Duration) {
	wait := time.NewTimer(after)
	defer wait.Stop()
	for {
		select {
		case <-wait.C:
			m.draw()
			wait.Reset(every)
		case <-m.stop:
			return
		}
	}
}

// tell notes how far the command is.
func (m *meter) tell(n progress.Note) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.last = n
}

func (m *meter) draw() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.off || m.last.Doing == "" {
		return
	}
	text := m.last.Doing
	switch {
	case m.last.Of > 0:
		text += fmt.Sprintf(": %d of %d", m.last.Done, m.last.Of)
	case m.last.Done > 0:
		text += fmt.Sprintf(": %d", m.last.Done)
	}
	fmt.Fprintf(m.to, "\r%s%s", ansi.Truncate(render.Safe(text), widthOf(m.to)-1, "…"), ansi.EraseLineRight)
	m.drawn = true
}

// hide takes the line away, for good: what follows is the answer, or a question.
func (m *meter) hide() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.drawn {
		fmt.Fprint(m.to, "\r"+ansi.EraseLineRight)
		m.drawn = false
	}
	if !m.off {
		close(m.stop)
		m.off = true
	}
}
