package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/demo"
	"weltaxis/internal/render"
	"weltaxis/internal/site"
)

func (p *program) demoCommand() *cobra.Command {
	var into string
	var renew, keepServing bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Writes a demo site, serves and audits it, and says what to try next",
		Long: `Writes the demo, six invented sites on three invented content systems, into a folder, serves them on loopback,
audits the first, stops, and says what to try next. Nothing outside that folder is touched, and nothing is written
over what the demo did not write.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			dir, err := demoFolder(into)
			if err != nil {
				return err
			}
			err = demo.Write(dir, renew)
			there := errors.Is(err, demo.ErrThere)
			if err != nil && !there {
				return err
			}
			server, err := demo.Serve(dir, !keepServing)
			if err != nil {
				return err
			}
			defer server.Close()
			if keepServing {
				return p.serve(c.Context(), server, dir)
			}
			s, err := site.Load(filepath.Join(dir, demo.FirstSite))
			if err != nil {
				return err
			}
			options := p.options()
			options.Connect = server.Connect(demo.FirstSite)
			result, err := audit.Run(c.Context(), s, time.Now(), options)
			if err != nil {
				return err
			}
			return p.write(p.text(func(page render.Page) {
				fmt.Fprintf(page, "%s %s\n\n", map[bool]string{false: "The demo is in", true: "The demo is there already, and left as it is, in"}[there], dir)
				render.Text(page, result)
				render.TryNext(page, nextSteps(dir))
			}), jsonForm(result))
		},
	}
	c.Flags().StringVar(&into, "into", "", "the folder to write to (default: a new temporary one)")
	c.Flags().BoolVar(&keepServing, "serve", false, "serve the demo's sites on loopback until interrupted, instead of auditing")
	c.Flags().BoolVar(&renew, "renew", false, "write the demo afresh where it is there already")
	return c
}

// serve says where the sites are, and serves them until interrupted.
func (p *program) serve(ctx context.Context, server *demo.Server, dir string) error {
	if err := p.write(p.text(func(page render.Page) { render.Served(page, dir, demo.Sites(), server.Connect) })); err != nil {
		return err
	}
	return server.Wait(ctx)
}

func demoFolder(into string) (string, error) {
	if into == "" {
		return os.MkdirTemp("", "weltaxis-demo-")
	}
	return filepath.Clean(into), nil
}

// nextSteps are commands that work as they stand, however this program was started.
func nextSteps(dir string) []render.Step {
	first := filepath.Join(dir, demo.FirstSite)
	program := "weltaxis"
	if self, err := os.Executable(); err == nil && strings.HasPrefix(self, filepath.Join(os.TempDir(), "go-build")) {
		program = "go run ./cmd/weltaxis"
	}
	return []render.Step{
		{Does: "what a rule is about", Command: program + " explain hardening.debug-off"},
		{Does: "every setting, with what is expected", Command: program + " settings " + first + " --offline"},
		{Does: "the file tree in classes", Command: program + " files " + first + " --offline"},
		{Does: "serve the sites, so that they can be looked at from another terminal", Command: program + " demo --into " + dir + " --serve"},
		{Does: "what would put it right; --write does it, and weltaxis undo takes it back", Command: program + " fix " + first},
		{Does: "a dialect drafted for a content system", Command: program + " dialect discover --root " + filepath.Join(dir, "hollin", "site")},
		{Does: "the same audit there, for a program", Command: program + " audit " + first + " --format json"},
		{Does: "the twin with everything in order", Command: program + " audit " + first + "-aligned"},
		{Does: "how all this came about", Command: "less " + filepath.Join(dir, "README.md")},
		{Does: "to be rid of the demo", Command: "rm -r " + dir},
	}
}
