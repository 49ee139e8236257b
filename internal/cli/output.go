//go:build !windows

package cli

import (
	"fmt"
	"io"

	"github.com/google/renameio/v2"
)

// writeFile writes a file whole or not at all.
func writeFile(name string, write func(io.Writer) error) error {
	pending, err := renameio.NewPendingFile(name, renameio.WithPermissions(0o644))
	if err != nil {
		return fmt.Errorf("--output: writing %s: %w", name, err)
	}
	defer pending.Cleanup()
	if err := write(pending); err != nil {
		return err
	}
	if err := pending.CloseAtomicallyReplace(); err != nil {
		return fmt.Errorf("--output: writing %s: %w", name, err)
	}
	return nil
}
