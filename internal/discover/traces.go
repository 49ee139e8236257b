package discover

import (
	"bytes"

	"weltaxis/internal/dialect"
	"weltaxis/internal/format"
	"weltaxis/internal/tree"
)

// TracesIn are the traces in a folder.
func TracesIn(root string) dialect.Traces {
	return dialect.Traces{Holds: func(file, text string) bool {
		in, err := tree.Open(root)
		if err != nil {
			return false
		}
		defer in.Close()
		e, err := in.Stat(file)
		if err != nil || e.Kind != tree.File {
			return err == nil && text == ""
		}
		if text == "" {
			return true
		}
		data, err := tree.Read(in, file, format.MaxBytes)
		return err == nil && bytes.Contains(data, []byte(text))
	}}
}
