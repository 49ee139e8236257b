package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/fix"
	"weltaxis/internal/site"
)

// keeping gives a command --state.
func (p *program) keeping(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&p.state, "state", "", "the folder in which what was changed is kept (default: that of the user's state)")
	_ = c.MarkFlagDirname("state")
	return c
}

// stateFolder is where the changes of a site are kept.
func (p *program) stateFolder(s *site.Site) (string, error) {
	home, err := p.stateHome()
	if err != nil {
		return "", err
	}
	return fix.Folder(home, s.Name, s.Path), nil
}

// changing is what changes of a site are made with. The journal that they are kept in is open until the function is called.
func (p *program) changing(s *site.Site, before *audit.Result, look audit.Options) (fix.Env, func(), error) {
	state, err := p.stateFolder(s)
	if err != nil {
		return fix.Env{}, nil, err
	}
	journal, err := fix.OpenJournal(state, time.Now)
	if err != nil {
		return fix.Env{}, nil, err
	}
	env, err := fix.For(s, before, look, journal)
	if err != nil {
		journal.Close()
		return fix.Env{}, nil, err
	}
	return env, journal.Close, nil
}

// stateHome is the folder for what programs keep of a user (XDG Base Directory Specification 0.8), or that of --state. A
// user without a home has none: nothing is kept at the root of the disk.
func (p *program) stateHome() (string, error) {
	if p.state != "" {
		stat, err := os.Stat(p.state)
		if err == nil && !stat.IsDir() {
			return "", fmt.Errorf("--state: %s is no folder", p.state)
		}
		return filepath.Abs(p.state)
	}
	if set := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(set) {
		return set, nil
	}
	home, err := os.UserHomeDir()
	if err == nil {
		if stat, failed := os.Stat(home); failed != nil || !stat.IsDir() || !filepath.IsAbs(home) || filepath.Dir(home) == home {
			err = errors.New("it is no folder of one's own")
		}
	}
	if err != nil {
		return "", errors.New("there is no home folder to keep in what was there before a change, and without that nothing is changed; say --state DIR")
	}
	xdg.Reload()
	return xdg.StateHome, nil
}
