// Package confine runs a program on what it is handed, where it can do no harm: a web server's own test of a configuration, a runtime's own
// reading of a file. Started by root the program runs as a user that is nobody's, so that no other process looks into it, with no way to
// more rights, and on a network of its own, in which every address may be listened on and nobody is reached. What it reads is handed over
// in memory, and lies on no disk; what it writes goes into a folder of its own, which vanishes with it.
//
// It knows nothing of what the program is for. It may import identity and orders.
package confine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"weltaxis/internal/identity"
	"weltaxis/internal/orders"
	"weltaxis/internal/private"
)

// Most is how long a program may take.
const Most = 30 * time.Second

// A Room is where programs run.
type Room struct {
	Dir   string // which they may write to
	Apart bool   // on a network of their own
	As    string // as whom, in words
	user  user
	own   *private.Folder
}

// Enter makes a room. The error is that of a folder that cannot be made.
func Enter() (*Room, error) {
	r := &Room{}
	err := identity.AsCaller(func() (err error) {
		within := orders.TempDir()
		if identity.Caller() == 0 { // where everybody may pass through
			within = "/tmp"
		}
		if r.own, err = private.New(within); err != nil {
			return fmt.Errorf("no folder can be made in %s for it: %w", within, err)
		}
		r.Dir = filepath.Join(r.own.Dir, "room")
		if err := errors.Join(os.Chmod(r.own.Dir, 0o711), os.Mkdir(r.Dir, 0o700)); err != nil { // whoever the program runs as passes through, and sees nothing else
			return err
		}
		return r.furnish()
	})
	if err != nil {
		r.Leave()
		return nil, err
	}
	return r, nil
}

// Leave takes the room away, with all that was written in it.
func (r *Room) Leave() {
	r.own.Remove()
}

// Run runs a program, which is found as orders.Program finds one, and gives what it says. Files are what it may read; Name is how each is called there.
func (r *Room) Run(ctx context.Context, args []string, files ...[]byte) (says string, err error) {
	ctx, cancel := context.WithTimeout(ctx, Most)
	defer cancel()
	command, err := orders.Command(ctx, args)
	if err != nil {
		return "", err
	}
	command.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + r.Dir, "TMPDIR=" + r.Dir, "LC_ALL=C"}
	command.Dir = "/"
	var said orders.Said
	command.Stdout, command.Stderr = &said, &said
	err = r.run(command, files)
	if ctx.Err() != nil && err != nil {
		err = fmt.Errorf("%s took longer than %s: %w", args[0], Most, errors.Join(ctx.Err(), err))
	}
	return said.String(), err
}
