package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
)

func (p *program) snapshotCommand() *cobra.Command {
	return p.written(p.looking(&cobra.Command{
		Use:   "snapshot [SITE]",
		Short: "Writes down what is seen of a site, to be judged later with audit",
		Long: `Writes down, as JSON, everything that is seen of a site, with what its site file says. weltaxis audit judges
such a file without touching the site. Secrets are in it only as their length.`,
		Example: "  weltaxis snapshot mysite --output seen.json\n  weltaxis audit seen.json",
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
			p.pictures = true
			snapshot, err := audit.Look(c.Context(), s, p.now(), p.options())
			if err != nil {
				return err
			}
			p.format = "json"
			if err := p.write(jsonForm(snapshot)); err != nil {
				return err
			}
			if snapshot.Partial() {
				return status(exitPartial)
			}
			return nil
		},
	}), "json")
}

// maxSnapshot is the largest snapshot that is read, in bytes.
const maxSnapshot = 1 << 30

func readSnapshot(name string) (*facts.Snapshot, error) {
	data, err := orders.ReadNamed(name, maxSnapshot)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no snapshot %s", name)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the snapshot %s: %w", name, facts.Plainly(err))
	}
	snapshot := &facts.Snapshot{}
	if err := json.Unmarshal(data, snapshot); err != nil {
		return nil, fmt.Errorf("%s is no snapshot of this program: %w", name, err)
	}
	return snapshot, nil
}
