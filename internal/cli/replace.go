//go:build !windows

package cli

import (
	"io"

	"github.com/google/renameio/v2"
)

// replace puts a new file in the place of another, or none, at once.
func replace(target string, write func(io.Writer) error) error {
	pending, err := renameio.NewPendingFile(target, renameio.WithPermissions(0o644), renameio.WithExistingPermissions())
	if err != nil {
		return err
	}
	defer pending.Cleanup()
	out := newWriter(pending)
	if err := write(out); err != nil {
		return err
	}
	if err := out.end(); err != nil {
		return err
	}
	return pending.CloseAtomicallyReplace()
}
