package cli

import (
	"errors"
	"io"
	"os"
)

// replace writes a file; this system offers no way to replace one at a stroke.
func replace(target string, write func(io.Writer) error) error {
	file, err := os.Create(target)
	if err != nil {
		return err
	}
	out := newWriter(file)
	return errors.Join(write(out), out.end(), file.Close())
}
