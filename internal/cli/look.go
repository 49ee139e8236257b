package cli

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/identity"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

func (p *program) lookCommand() *cobra.Command {
	forget := false
	c := p.keeping(p.written(p.sited(&cobra.Command{
		Use:   "look SITE",
		Short: "Answers a telephone call: is it there, whose is it, how old, how fast, has it changed?",
		Long: `Takes a short look at a site, for when somebody calls: it looks old, it is slow, it is gone, something is wrong with it. It makes at most
fifteen requests in at most ten seconds, and crawls nothing: where the name leads, and whether it led there at the last look; the certificate;
where the address redirects to, and what answers; a notice that was forgotten; two pages that the home page links to; whether somebody who comes
from a search result gets something else; which program files changed within seven days; how old the copy is that visitors get, and whether the
page behind the cache is another; whether search engines are kept out; how long the first byte takes.

A line says each, the worst first, with the command that goes deeper. An address alone is enough; a site file adds the files, what is meant, and the look before,
which is kept beside the site's changes; --no-keep keeps nothing.`,
		Example: "  weltaxis look https://www.name.example\n  weltaxis look mysite\n  weltaxis look mysite --format json",
		Args:    takes(0, 1), ValidArgsFunction: completeSites,
		RunE: func(c *cobra.Command, args []string) error {
			name, err := p.siteArgument(args)
			if err != nil {
				return err
			}
			s, err := p.loadSite(name)
			if err != nil {
				return err
			}
			options := p.options()
			p.since(c.Context(), s, &options)
			g, err := audit.Glimpse(c.Context(), s, p.now(), options)
			if err != nil {
				return err
			}
			dir, before := "", (*audit.Glance)(nil)
			if !forget && s.Path != s.Address() {
				dir, before = p.lookBefore(s)
			}
			l := report.LookOf(s.Name, commandName(name), g, before, p.doneFromHere(s, before))
			if err := p.write(p.text(func(page render.Sheet) { render.Look(page, l) }), jsonForm(l)); err != nil {
				return err
			}
			if dir != "" && len(g.Live.Addresses) > 0 || g.Live.Answered && dir != "" {
				keepLook(dir, g)
			}
			switch worst := l.Worst(); {
			case g.Live.Offline:
				return status(exitPartial)
			case worst != 0 && worst <= facts.High:
				return status(exitDeviates)
			case l.Unknown():
				return status(exitPartial)
			}
			return nil
		},
	}), "text", "json"))
	c.Flags().BoolVar(&forget, "no-keep", false, "keep nothing of it, and compare with nothing that was kept")
	return c
}

// doneFromHere is what was done to a site from here: whether it is locked, and what was changed since the look before.
func (p *program) doneFromHere(s *site.Site, before *audit.Glance) (ours report.Ours) {
	if s.Path == s.Address() {
		return ours
	}
	dir, err := p.stateFolder(s)
	if err != nil {
		return ours
	}
	records, err := fix.ReadJournal(dir)
	if err != nil {
		slog.Warn("what was done from here could not be read, so it is not told from what others did", "error", err)
		return ours
	}
	ours.Locked = fix.Locked(records)
	for _, r := range records {
		if r.Made() && before != nil && r.At.After(before.Taken) {
			ours.Changed = append(ours.Changed, r.Name)
		}
	}
	return ours
}

// commandName is a site as it is given to a command; the folder that one is in needs no name.
func commandName(name string) string {
	if name == "." || name == site.FileName {
		return ""
	}
	return name
}

const (
	lookFile = "look.json"
	maxLook  = 4 << 20
)

// lookBefore is the short look that was kept last, nil for none, and where the next is kept; "" when nothing can be kept.
func (p *program) lookBefore(s *site.Site) (dir string, before *audit.Glance) {
	dir, err := p.stateFolder(s)
	if err != nil {
		return "", nil
	}
	data, err := readKept(filepath.Join(dir, lookFile), maxLook)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return dir, nil
	case err == nil:
		before = &audit.Glance{}
		if err = json.Unmarshal(data, before); err == nil && before.Live != nil {
			return dir, before
		}
	}
	slog.Warn("the look before could not be read, so nothing is compared with it", "file", filepath.Join(dir, lookFile), "error", err)
	return dir, nil
}

// keepLook keeps a short look, in the place of the one before.
func keepLook(dir string, g *audit.Glance) {
	data, err := json.Marshal(g)
	if err == nil {
		err = identity.AsCaller(func() error { return os.MkdirAll(dir, 0o700) })
	}
	if err == nil {
		err = writeFile("the look", filepath.Join(dir, lookFile), func(w io.Writer) error {
			_, err := w.Write(data)
			return err
		})
	}
	if err != nil {
		slog.Warn("the look could not be kept", "error", err)
	}
}
