package discover

import (
	"bytes"
	"io"
	"os"

	"weltaxis/internal/dialect"
)

// TracesIn are the traces in a folder.
func TracesIn(root string) dialect.Traces {
	return dialect.Traces{Holds: func(file, text string) bool {
		in, err := os.OpenRoot(root)
		if err != nil {
			return false
		}
		defer in.Close()
		stat, err := in.Stat(file)
		if err != nil || !stat.Mode().IsRegular() {
			return err == nil && text == ""
		}
		if text == "" {
			return true
		}
		f, err := in.Open(file)
		if err != nil {
			return false
		}
		defer f.Close()
		data, err := io.ReadAll(io.LimitReader(f, maxConfig))
		return err == nil && bytes.Contains(data, []byte(text))
	}}
}
