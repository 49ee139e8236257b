package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
)

// writeFile writes a file; this system offers no way to replace one at a stroke.
func writeFile(name string, write func(io.Writer) error) error {
	file, err := os.Create(name)
	if err != nil {
		return fmt.Errorf("--output: writing %s: %w", name, err)
	}
	return errors.Join(write(file), file.Close())
}
