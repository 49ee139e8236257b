package discover

import (
	"bytes"
	"io/fs"

	"weltaxis/internal/dialect"
	"weltaxis/internal/store"
)

// TracesIn are the traces in a folder.
func TracesIn(root string) dialect.Traces {
	return dialect.Traces{Holds: func(file, text string) bool {
		in, err := store.OpenFiles(root)
		if err != nil {
			return false
		}
		defer in.Close()
		stat, err := fs.Stat(in.FS(), file)
		if err != nil || !stat.Mode().IsRegular() {
			return err == nil && text == ""
		}
		if text == "" {
			return true
		}
		data, err := in.Read(file)
		return err == nil && bytes.Contains(data, []byte(text))
	}}
}
