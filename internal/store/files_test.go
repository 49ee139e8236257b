//go:build unix

package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/tree"
)

func below(t *testing.T) (dir string, files tree.Files) {
	t.Helper()
	dir = t.TempDir()
	files, err := tree.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { files.Close() })
	return dir, files
}

func quietly(string) {}

// TestAFileEditNeedsNoDialect: a file is made, changed and removed, in one step each, and only where it is as it was.
func TestAFileEditNeedsNoDialect(t *testing.T) {
	for name, c := range map[string]struct {
		there         string // "-" for none
		before, after []byte
		want          string
		fails         error
	}{
		"made":                    {"-", nil, []byte("new"), "new", nil},
		"made empty":              {"-", nil, []byte{}, "", nil},
		"made already":            {"new", nil, []byte("new"), "new", nil},
		"made by somebody else":   {"theirs", nil, []byte("new"), "theirs", ErrChanged},
		"changed":                 {"old", []byte("old"), []byte("new"), "new", nil},
		"changed already":         {"new", []byte("old"), []byte("new"), "new", nil},
		"changed by somebody":     {"theirs", []byte("old"), []byte("new"), "theirs", ErrChanged},
		"emptied":                 {"old", []byte("old"), []byte{}, "", nil},
		"an empty one changed":    {"", []byte{}, []byte("new"), "new", nil},
		"gone before the change":  {"-", []byte("old"), []byte("new"), "-", fs.ErrNotExist},
		"removed":                 {"old", []byte("old"), nil, "-", nil},
		"removed already":         {"-", []byte("old"), nil, "-", nil},
		"removed, but theirs":     {"theirs", []byte("old"), nil, "theirs", ErrChanged},
		"removed, empty, but not": {"x", []byte{}, nil, "x", ErrChanged},
		"one byte more":           {"old\n", []byte("old"), []byte("new"), "old\n", ErrChanged},
		"other line ends":         {"a\r\nb\r\n", []byte("a\nb\n"), []byte("a\nc\n"), "a\r\nb\r\n", ErrChanged},
		"bytes that are no text":  {"\xff\x00\xfe", []byte("\xff\x00\xfe"), []byte("\x00"), "\x00", nil},
	} {
		t.Run(name, func(t *testing.T) {
			dir, files := below(t)
			at := filepath.Join(dir, "deep", "a.conf")
			require.NoError(t, os.Mkdir(filepath.Dir(at), 0o755))
			if c.there != "-" {
				require.NoError(t, os.WriteFile(at, []byte(c.there), 0o640))
			}
			edit := FileEdit{"x", "deep/a.conf", c.before, c.after, 0}
			is := func() string {
				data, err := os.ReadFile(at)
				if errors.Is(err, fs.ErrNotExist) {
					return "-"
				}
				require.NoError(t, err)
				return string(data)
			}
			err := edit.Apply(files, quietly)
			if c.fails != nil {
				require.ErrorIs(t, err, c.fails)
				assert.Equal(t, c.want, is())
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, is())
			require.NoError(t, edit.Reversed().(FileEdit).Apply(files, quietly))
			want := string(c.before)
			if c.before == nil {
				want = "-"
			}
			assert.Equal(t, want, is(), "and back")
			left, err := os.ReadDir(filepath.Dir(at))
			require.NoError(t, err)
			assert.LessOrEqual(t, len(left), 1, "nothing lies beside it")
		})
	}
}

func TestALineIsPlannedOnce(t *testing.T) {
	for _, c := range []struct{ there, start, line, want string }{
		{"-", "User-agent: *\n", "Sitemap: x", "User-agent: *\nSitemap: x\n"}, {"-", "User-agent: *\n", "", "User-agent: *\n"},
		{"", "User-agent: *\n", "Sitemap: x", "Sitemap: x\n"}, {"a", "", "b", "a\nb\n"}, {"a\n", "", "b", "a\nb\n"}, {"a\n  b  \n", "", "b", "a\n  b  \n"},
		{"a\r\nb\r\n", "", "b", "a\r\nb\r\n"}, {"bc\n", "", "b", "bc\nb\n"},
	} {
		dir, files := below(t)
		if c.there != "-" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "robots.txt"), []byte(c.there), 0o644))
		}
		edit, err := PlanLine(files, "robots.txt", c.start, c.line)
		require.NoError(t, err)
		assert.Equal(t, c.want, string(edit.After), "%q", c.there)
		require.NoError(t, edit.Apply(files, quietly))
		again, err := PlanLine(files, "robots.txt", c.start, c.line)
		require.NoError(t, err)
		if c.line != "" {
			assert.Equal(t, again.Before, again.After, "it is there now")
		}
	}
}
