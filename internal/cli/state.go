package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"al.essio.dev/pkg/shellescape"
	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/fix"
	"weltaxis/internal/identity"
	"weltaxis/internal/orders"
	"weltaxis/internal/ordinary"
	"weltaxis/internal/site"
)

// keeping gives a command --state.
func (p *program) keeping(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&p.state, "state", "", "the folder in which what was changed is kept (default: that of the user's state)")
	_ = c.MarkFlagDirname("state")
	return c
}

// stateFolder is where the changes of a site are kept. What is kept gives orders: it says what undo does.
func (p *program) stateFolder(s *site.Site) (string, error) {
	home, err := p.stateHome()
	if err != nil {
		return "", err
	}
	all, err := home.kept()
	folder := ""
	if err == nil {
		folder, p.movedFrom = fix.StateOf(all, s.Name, s.Path)
	}
	dir, err := home.kept(cmp.Or(folder, fix.FolderName(s.Name, s.Path)))
	if err == nil {
		err = orders.Own().Within(dir)
	}
	return dir, home.explained(err)
}

// changing is what changes of a site are made with. The journal that they are kept in is open until the function is called.
func (p *program) changing(ctx context.Context, s *site.Site, before *audit.Result, look audit.Options) (fix.Env, func(), error) {
	state, err := p.stateFolder(s)
	if err != nil {
		return fix.Env{}, nil, err
	}
	journal, err := fix.OpenJournal(state, p.now)
	if err != nil {
		return fix.Env{}, nil, err
	}
	if err := fix.KeepPlace(state, s.Path); err != nil {
		journal.Close()
		return fix.Env{}, nil, fmt.Errorf("where the site lies cannot be kept beside what undo needs: %w", err)
	}
	env, err := fix.For(s, before, look, journal)
	if err != nil {
		journal.Close()
		return fix.Env{}, nil, err
	}
	env.Settle(ctx)
	return env, journal.Close, nil
}

// A stateHome is where programs keep what they keep of a user.
type stateHome struct {
	base  string // that somebody named: with --state, or by a variable of the environment
	found bool   // by the environment
	below []string
}

// kept is the folder in it of what this program keeps, or one below that.
func (h stateHome) kept(below ...string) (string, error) {
	return orders.Own().Kept(h.base, h.found, slices.Concat(h.below, []string{"weltaxis"}, below)...)
}

// explained says of an error what can be done.
func (h stateHome) explained(err error) error {
	fault := (*orders.Fault)(nil)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("what is kept is not kept in %s: it is not there, and none is made where others may make files; make it first (mkdir -m 700 %s)", h.base, shellescape.Quote(h.base))
	case !errors.As(err, &fault):
		return err
	case h.found:
		return fmt.Errorf("what is kept is not kept in %s: %w; or say --state DIR", h.base, err)
	}
	return fmt.Errorf("--state: what is kept is not kept in %s: %w", h.base, err)
}

// stateHome is the folder for what programs keep of a user (XDG Base Directory Specification 0.8), or that of --state. A
// user without a home has none: nothing is kept at the root of the disk.
func (p *program) stateHome() (home stateHome, err error) {
	if p.state != "" {
		stat, err := os.Stat(p.state)
		if err == nil && !stat.IsDir() {
			return home, fmt.Errorf("--state: %s is no folder", p.state)
		}
		return stateHome{base: p.state}, nil
	}
	if set := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(set) {
		return stateHome{base: set, found: true}, nil
	}
	dir, err := os.UserHomeDir()
	if err == nil {
		if stat, failed := os.Stat(dir); failed != nil || !stat.IsDir() || !filepath.IsAbs(dir) || filepath.Dir(dir) == dir {
			err = errors.New("it is no folder of one's own")
		}
	}
	if err != nil {
		return home, errors.New("there is no home folder to keep in what was there before a change, and without that nothing is changed; say --state DIR")
	}
	home = stateHome{base: dir, found: true, below: []string{".local", "state"}}
	switch runtime.GOOS {
	case "darwin":
		home.below = []string{"Library", "Application Support"}
	case "windows":
		if local := os.Getenv("LOCALAPPDATA"); filepath.IsAbs(local) {
			home.base, home.below = local, nil
		}
	}
	return home, nil
}

// readKept reads a small file of what is kept, as whoever started this program, whose it is.
func readKept(name string, most int64) (data []byte, err error) {
	err = identity.AsCaller(func() (err error) {
		data, err = ordinary.Read(name, most)
		return err
	})
	return data, err
}

// removeKept forgets one.
func removeKept(name string) {
	_ = identity.AsCaller(func() error { return os.Remove(name) })
}
