package site

import (
	"path/filepath"
	"testing"
)

// FuzzParse holds that no site file, whatever is in it, makes the reader panic, and that one it takes names its site.
func FuzzParse(f *testing.F) {
	for _, c := range cases {
		f.Add(c.text)
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := Parse(filepath.Join(dir, FileName), []byte(text)); err == nil && s.Name == "" {
			t.Fatalf("%q has no name", text)
		}
	})
}
