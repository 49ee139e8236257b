package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"al.essio.dev/pkg/shellescape"
	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/clock"
	"weltaxis/internal/demo"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

func (p *program) demoCommand() *cobra.Command {
	var into, with string
	var renew, keepServing bool
	var port int
	c := p.written(&cobra.Command{
		Use:   "demo",
		Short: "Writes a demo site, serves and audits it, and says what to try next",
		Long: `Writes the demo, six invented sites on three invented content systems, into a folder, serves them on loopback,
audits the first, stops, and says what to try next. Nothing outside that folder is touched, and nothing is written
over what the demo did not write.

With --serve it goes on serving them, on free ports that it writes into their site files for as long as it does, so
that audit, pages, fix and the rest can be tried on them from another terminal. With --with nginx or --with apache the
real one stands before Lantern Lane and its twin, by the configuration that lies beside each of them.`,
		Args: takes(0, 0),
		RunE: func(c *cobra.Command, _ []string) error {
			if port < 0 || port > 65535-2*demo.SiteCount() {
				return fmt.Errorf("--port: %d is no port that leaves room for the demo's sites, each of which takes two; leave it out for free ones", port)
			}
			if with != "" && !slices.Contains(demo.Fronts, with) {
				return fmt.Errorf("--with: %q is no web server that the demo can be served with%s; there are %s", with, nearest.Hint(with, demo.Fronts), strings.Join(demo.Fronts, " and "))
			}
			dir, err := demoFolder(into)
			if err != nil {
				return err
			}
			demo.Clock = clock.At(p.now())
			err = demo.Write(dir, renew, p.remember(c.Context(), dir))
			there := errors.Is(err, demo.ErrThere)
			if err != nil && !there {
				return err
			}
			server, err := demo.Serve(dir, port)
			if err != nil {
				return err
			}
			defer server.Close()
			if with != "" {
				if err := server.With(with); err != nil {
					return err
				}
			}
			if keepServing {
				return p.serve(c.Context(), server, dir)
			}
			s, err := site.Load(filepath.Join(dir, demo.FirstSite))
			if err != nil {
				return err
			}
			options := p.options()
			options.Connect = server.Connect(demo.FirstSite)
			judged, err := audit.Run(c.Context(), s, p.now(), options)
			if err != nil {
				return err
			}
			p.foresee(c.Context(), s, judged)
			result := report.New(judged)
			return p.write(p.text(func(page render.Sheet) {
				fmt.Fprintf(page, "%s %s\n\n", map[bool]string{false: "The demo is in", true: "The demo is there already, and left as it is, in"}[there], dir)
				render.Text(page, result, render.Usual)
				render.TryNext(page, nextSteps(dir))
			}), jsonForm(result))
		},
		Example: "  weltaxis demo\n  weltaxis demo --into demo --serve",
	}, "text", "json")
	c.Flags().StringVar(&into, "into", "", "the folder to write to (default: a new temporary one)")
	c.Flags().BoolVar(&keepServing, "serve", false, "serve the demo's sites on loopback until interrupted, instead of auditing")
	c.Flags().StringVar(&with, "with", "", "put a real web server before the sites that have a configuration of one: nginx or apache, where it is installed")
	c.Flags().IntVar(&port, "port", 0, "the first of the ports to serve on; those after it are taken too (default: free ones)")
	c.Flags().BoolVar(&renew, "renew", false, "write the demo afresh where it is there already")
	return c
}

// remember keeps an audit of the demo's first site as it was on a day, in the demo's own folder, without anything live.
func (p *program) remember(ctx context.Context, dir string) demo.Remember {
	own := *p
	own.state = filepath.Join(dir, demo.StateFolder)
	return func(name string, day time.Time) error {
		s, err := site.Load(name)
		if err != nil {
			return err
		}
		options := p.options()
		options.Offline = true
		result, err := audit.Run(ctx, s, day, options)
		if err != nil {
			return err
		}
		for i := range result.Snapshot.Programs { // the files were written just now
			result.Snapshot.Programs[i].Touched = 0
		}
		if news, note := own.keep(ctx, s, result, "", false); news == nil {
			return errors.New(note)
		}
		return nil
	}
}

// serve says where the sites are, and serves them until interrupted.
func (p *program) serve(ctx context.Context, server *demo.Server, dir string) error {
	if err := server.Announce(); err != nil {
		return err
	}
	if err := p.write(p.text(func(page render.Sheet) { render.Served(page, dir, server.Sites(), server.Connect, servedSteps(dir)) })); err != nil {
		return err
	}
	p.waiting = true
	return server.Wait(ctx)
}

func demoFolder(into string) (string, error) {
	if into == "" {
		return os.MkdirTemp(orders.TempDir(), "weltaxis-demo-")
	}
	return filepath.Clean(into), nil
}

// A demoCommands makes commands that can be typed as they stand, from the folder one is in, however this program was
// started.
type demoCommands struct{ program, dir string }

func commandsFor(dir string) demoCommands { return demoCommands{invocation(os.Args[0]), dir} }

// at is a place below the demo's folder.
func (d demoCommands) at(parts ...string) string {
	return shellescape.Quote(filepath.Join(append([]string{d.dir}, parts...)...))
}

// nextSteps are what can be tried while nobody serves the sites.
func nextSteps(dir string) []render.Step {
	d := commandsFor(dir)
	first := d.at(demo.FirstSite)
	return []render.Step{
		{Does: "what a rule is about", Command: d.program + " explain hardening.debug-off"},
		{Does: "every setting, with what is expected", Command: d.program + " settings " + first + " --offline"},
		{Does: "the file tree in classes", Command: d.program + " files " + first + " --offline"},
		{Does: "what would put it right; --write does it, and undo takes it back", Command: d.program + " fix " + first + " --offline"},
		{Does: "a dialect drafted for a content system", Command: d.program + " dialect discover --root " + d.at("hollin", "site")},
		{Does: "the audit beside those that were kept of earlier days", Command: d.program + " audit " + first + " --offline --brief --state " + d.at(demo.StateFolder)},
		{Does: "what changed since then, and how the site has fared", Command: d.program + " compare " + first + " --state " + d.at(demo.StateFolder) + " && " + d.program + " history " + first + " --state " + d.at(demo.StateFolder)},
		{Does: "the same audit there, for a program", Command: d.program + " audit " + first + " --offline --format json"},
		{Does: "the same audit as a page, for whoever the site is kept for", Command: d.program + " audit " + first + " --offline --format html --for client --state " + d.at(demo.StateFolder) + " --output " + d.at("lantern-lane.html")},
		{Does: "the twin with everything in order", Command: d.program + " audit " + d.at(demo.FirstSite+"-aligned") + " --offline"},
		{Does: "serve the sites, so that they can be looked at from outside, from another terminal", Command: d.program + " demo --into " + d.at() + " --serve"},
		{Does: "how all this came about", Command: "less " + d.at("README.md")},
		{Does: "to be rid of the demo", Command: "rm -r " + d.at()},
	}
}

// servedSteps are what can be tried from another terminal while the sites are served.
func servedSteps(dir string) []render.Step {
	d := commandsFor(dir)
	first, twin := d.at(demo.FirstSite), d.at(demo.FirstSite+"-aligned")
	return []render.Step{
		{Does: "the site from every side", Command: d.program + " audit " + first},
		{Does: "its pages, those with the most trouble first", Command: d.program + " pages " + first},
		{Does: "how fast its pages come, out of the cache and around it", Command: d.program + " pace " + first},
		{Does: "who keeps its pages where, and for how long after a change", Command: d.program + " explain cache " + first},
		{Does: "what is declared beside what is served", Command: d.program + " settings " + first},
		{Does: "how a page looks as a search result and as a card", Command: d.program + " preview " + twin + " /winter-wolf/"},
		{Does: "what would put it right; --write does it, and undo takes it back", Command: d.program + " fix " + first},
	}
}

// invocation is how this program is started again from the same folder: as it was, or by its name alone where that
// is enough, or by go run where it was built by that.
func invocation(started string) string {
	self, err := os.Executable()
	if err != nil {
		return shellescape.Quote(started)
	}
	if strings.HasPrefix(self, filepath.Join(os.TempDir(), "go-build")) {
		if _, err := os.Stat("cmd/weltaxis"); err == nil {
			return "go run ./cmd/weltaxis"
		}
		return "go run weltaxis/cmd/weltaxis"
	}
	if onPath, err := exec.LookPath("weltaxis"); err == nil && sameFile(onPath, self) {
		return "weltaxis"
	}
	return shellescape.Quote(started)
}

func sameFile(a, b string) bool {
	first, err := os.Stat(a)
	if err != nil {
		return false
	}
	second, err := os.Stat(b)
	return err == nil && os.SameFile(first, second)
}
