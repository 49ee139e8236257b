package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
)

const linkedDialect = `dialect: linked
version: 1
stores: {ini: {file: conf.d/20-site.ini, format: ini}}
settings:
  site.title: {from: ini/title}
  debug.on: {from: ini/debug}
`

// TestLinksAreFollowedInsideTheRoot, absolute ones and those of folders as well; the edit names the real file, the link
// stays one, and nothing outside is read or written.
func TestLinksAreFollowedInsideTheRoot(t *testing.T) {
	for name, link := range map[string]func(root, outside string) error{
		"relative": func(root, _ string) error {
			return os.Symlink("../available/site.ini", filepath.Join(root, "conf.d", "20-site.ini"))
		},
		"absolute": func(root, _ string) error {
			return os.Symlink(filepath.Join(root, "available", "site.ini"), filepath.Join(root, "conf.d", "20-site.ini"))
		},
		"a link to a link": func(root, _ string) error {
			if err := os.Symlink(filepath.Join(root, "available", "site.ini"), filepath.Join(root, "available", "current.ini")); err != nil {
				return err
			}
			return os.Symlink("../available/current.ini", filepath.Join(root, "conf.d", "20-site.ini"))
		},
		"an absolute folder": func(root, _ string) error {
			if err := os.Remove(filepath.Join(root, "conf.d")); err != nil {
				return err
			}
			if err := os.Rename(filepath.Join(root, "available", "site.ini"), filepath.Join(root, "available", "20-site.ini")); err != nil {
				return err
			}
			return os.Symlink(filepath.Join(root, "available"), filepath.Join(root, "conf.d"))
		},
		"outside": func(root, outside string) error {
			return os.Symlink(outside, filepath.Join(root, "conf.d", "20-site.ini"))
		},
		"in circles": func(root, _ string) error {
			return os.Symlink("20-site.ini", filepath.Join(root, "conf.d", "20-site.ini"))
		},
		"nowhere": func(root, _ string) error {
			return os.Symlink(filepath.Join(root, "none.ini"), filepath.Join(root, "conf.d", "20-site.ini"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			const text = "title = Old\ndebug = on\n"
			outside := filepath.Join(t.TempDir(), "outside.ini")
			for _, file := range []string{outside, filepath.Join(root, "available", "site.ini"), filepath.Join(root, "linked.yaml")} {
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
				require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
			}
			require.NoError(t, os.WriteFile(filepath.Join(root, "linked.yaml"), []byte(linkedDialect), 0o644))
			require.NoError(t, os.Mkdir(filepath.Join(root, "conf.d"), 0o755))
			require.NoError(t, link(root, outside))
			d, err := dialect.Load("./linked.yaml", root)
			require.NoError(t, err)
			s, err := Open(t.Context(), d, Options{Root: root})
			require.NoError(t, err)
			defer s.Close()
			edit, err := s.Plan(t.Context(), "ini/title", "New")
			if name == "outside" || name == "nowhere" || name == "in circles" {
				require.Error(t, err)
				data, err := os.ReadFile(outside)
				require.NoError(t, err)
				assert.Equal(t, text, string(data))
				return
			}
			require.NoError(t, err)
			assert.Contains(t, edit.(FileEdit).File, "available/", "the real file")
			require.NoError(t, s.Apply(t.Context(), edit))
			data, err := os.ReadFile(filepath.Join(root, "conf.d", "20-site.ini"))
			require.NoError(t, err)
			assert.Equal(t, "title = New\ndebug = on\n", string(data))
			require.NoError(t, s.Apply(t.Context(), edit.Reversed()))
			at := filepath.Join(root, "conf.d", "20-site.ini")
			if name == "an absolute folder" {
				at = filepath.Dir(at)
			}
			stat, err := os.Lstat(at)
			require.NoError(t, err)
			assert.NotZero(t, stat.Mode()&os.ModeSymlink, "it is a link still")
			data, err = os.ReadFile(filepath.Join(root, filepath.FromSlash(edit.(FileEdit).File)))
			require.NoError(t, err)
			assert.Equal(t, text, string(data))
		})
	}
}
