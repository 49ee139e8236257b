package cli

import (
	"context"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"
	"time"
)

// patience is how long an interrupted command may take to end by itself.
const patience = 900 * time.Millisecond

// interrupts ends a command that is interrupted: its context ends, and if that is not enough, the program does. What a
// fix was writing is whole at any moment, and in its journal.
type interrupts struct {
	code atomic.Int32 // the exit status of the signal that came, 0 as long as none has
	stop func()
}

// catching returns a context that ends with SIGINT or SIGTERM. Writing into a closed pipe is an error from now on, and no
// signal.
func catching(quit func(code int)) (context.Context, *interrupts) {
	ctx, cancel := context.WithCancel(context.Background())
	i := &interrupts{}
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	pipes := make(chan os.Signal, 1)
	signal.Notify(pipes, syscall.SIGPIPE)
	ended := make(chan struct{})
	go func() {
		select {
		case s := <-signals:
			code := int32(exitInterrupted)
			if s == syscall.SIGTERM {
				code = exitTerminated
			}
			i.code.Store(code)
			cancel()
			select {
			case <-time.After(patience):
			case <-signals: // somebody who asks twice means at once
			case <-ended:
				return
			}
			quit(int(code))
		case <-ended:
		}
	}()
	i.stop = func() {
		signal.Stop(signals)
		signal.Stop(pipes)
		close(ended)
		cancel()
	}
	return ctx, i
}

// status is the exit status of the signal that came, 0 when none did.
func (i *interrupts) status() int { return int(i.code.Load()) }
