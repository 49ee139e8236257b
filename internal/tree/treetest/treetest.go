//go:build unix

// Package treetest holds what every kind of tree.Files does, as tests that each of them runs.
package treetest

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/ordinary"
	"weltaxis/internal/tree"
)

// A Kind is how files of one kind are made from a folder of this machine.
type Kind struct {
	// Of is what lies in the folder as such files, which the test closes.
	Of func(t *testing.T, dir string) tree.Files
	// ReadOnly files cannot be changed.
	ReadOnly bool
}

// secret stands in what lies outside.
const secret = "MARKED as outside"

// ground is a folder with everything in it that a site may hold, and, beside it, what is none of the site's.
func ground(t *testing.T) (root, outside string) {
	t.Helper()
	above, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	root, outside = filepath.Join(above, "site"), filepath.Join(above, "outside")
	for _, dir := range []string{"site/a/b/c", "site/empty", "site/.weltaxis-aside/x", "outside/folder"} {
		require.NoError(t, os.MkdirAll(filepath.Join(above, dir), 0o755))
	}
	for name, text := range map[string]string{"site/top.txt": "top", "site/a/b/c/deep.txt": "deep", "site/empty.txt": "", "site/a/ü\xff\n.txt": "odd", "site/.hidden": "hidden", "site/.weltaxis-aside/x/y": "aside",
		"outside/secret": secret, "outside/folder/secret": secret} {
		require.NoError(t, os.WriteFile(filepath.Join(above, name), []byte(text), 0o644))
	}
	for name, to := range links(root, outside) {
		require.NoError(t, os.Symlink(to.to, filepath.Join(root, name)))
	}
	require.NoError(t, os.Symlink(root, filepath.Join(above, "again")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "pipe"), 0o666))
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(root, "socket"), Net: "unix"})
	require.NoError(t, err)
	listener.SetUnlinkOnClose(false)
	require.NoError(t, listener.Close())
	return root, outside
}

// A link leads to a name below the root, or nowhere that is looked at.
type link struct {
	to, real string
	fails    error
}

func links(root, outside string) map[string]link {
	return map[string]link{
		"relative":          {"top.txt", "top.txt", nil},
		"absolute":          {filepath.Join(root, "top.txt"), "top.txt", nil},
		"chain":             {"relative", "top.txt", nil},
		"chain-absolute":    {filepath.Join(root, "chain"), "top.txt", nil},
		"to-folder":         {"a/b", "a/b", nil},
		"folder-absolute":   {filepath.Join(root, "a"), "a", nil},
		"round":             {"../site/top.txt", "top.txt", nil},
		"round-twice":       {"../outside/../site/a", "a", nil},
		"other-name":        {filepath.Join(filepath.Dir(root), "again", "a", "b"), "a/b", nil},
		"doubled":           {"a//b/./c/", "a/b/c", nil},
		"up":                {"a/b/../../top.txt", "top.txt", nil},
		"up-link":           {"to-folder/../b/c/deep.txt", "a/b/c/deep.txt", nil},
		"itself":            {"itself", "", tree.ErrLinks},
		"ping":              {"pong", "", tree.ErrLinks},
		"pong":              {"ping", "", tree.ErrLinks},
		"dangling":          {"none", "none", fs.ErrNotExist},
		"dangling-absolute": {filepath.Join(root, "none", "x"), "none/x", fs.ErrNotExist},
		"out":               {outside, "", tree.ErrOutside},
		"out-file":          {filepath.Join(outside, "secret"), "", tree.ErrOutside},
		"out-relative":      {"../outside/secret", "", tree.ErrOutside},
		"out-chain":         {"out-file", "", tree.ErrOutside},
		"out-none":          {filepath.Join(outside, "none"), "", tree.ErrOutside},
		"proc":              {"/proc/self/root" + filepath.Join(outside, "secret"), "", tree.ErrOutside},
		"proc-cwd":          {"/proc/self/cwd", "", tree.ErrOutside},
		"passwd":            {"/etc/passwd", "", tree.ErrOutside},
		"root":              {"/", "", tree.ErrOutside},
		"long":              {strings.Repeat("a/../", 500) + "top.txt", "top.txt", nil},
	}
}

// Conform tests that files are what tree.Files says.
func Conform(t *testing.T, kind Kind) {
	t.Run("links", func(t *testing.T) { follows(t, kind) })
	t.Run("kinds", func(t *testing.T) { opens(t, kind) })
	t.Run("walking", func(t *testing.T) { walks(t, kind) })
	if !kind.ReadOnly {
		t.Run("changing", func(t *testing.T) { changes(t, kind) })
		t.Run("links are not changed through", func(t *testing.T) { stays(t, kind) })
		t.Run("nothing outside is changed by whoever swaps", func(t *testing.T) { swapped(t, kind) })
	}
}

func follows(t *testing.T, kind Kind) {
	root, outside := ground(t)
	files := kind.Of(t, root)
	for name, to := range links(root, outside) {
		real, err := files.Real(name)
		if to.real == "" {
			require.ErrorIs(t, err, to.fails, name)
		} else {
			require.NoError(t, err, name)
			assert.Equal(t, to.real, real, name)
		}
		e, err := files.Lstat(name)
		require.NoError(t, err, name)
		assert.Equal(t, tree.Link, e.Kind, name)
		written, err := files.Readlink(name)
		require.NoError(t, err, name)
		assert.Equal(t, to.to, written)
		_, err = files.ReadDir(name)
		require.Error(t, err, "%s is no folder, whatever it leads to", name)
		data, err := tree.Read(files, name, 100)
		assert.NotContains(t, string(data), secret, name)
		_, statErr := files.Stat(name)
		if to.fails != nil {
			require.ErrorIs(t, err, to.fails, name)
			require.ErrorIs(t, statErr, to.fails, name)
			continue
		}
		require.NoError(t, statErr, name)
		want, err := os.ReadFile(filepath.Join(root, to.real))
		if err == nil {
			assert.Equal(t, string(want), string(data), name)
		}
	}
	// Names that lead up and out stay below, and links on the way count as at the end.
	for name, want := range map[string]string{"../top.txt": "top.txt", "/top.txt": "top.txt", "a/../../../top.txt": "top.txt", "": ".", "/": ".", "..": ".", "a//b/": "a/b", "to-folder/c/deep.txt": "a/b/c/deep.txt",
		"folder-absolute/b/c": "a/b/c", "none/at/all": "none/at/all", "top.txt/below": "top.txt/below", "dangling/x": "none/x", "other-name/c": "a/b/c"} {
		real, err := files.Real(name)
		require.NoError(t, err, name)
		assert.Equal(t, want, real, name)
	}
	for _, name := range []string{"to-folder/c", "folder-absolute/b/c", "other-name/c", "round-twice/b/c"} {
		entries, err := files.ReadDir(name)
		require.NoError(t, err, name)
		require.Len(t, entries, 1)
		assert.Equal(t, name+"/deep.txt", entries[0].Path, "by the name that was asked for")
		e, err := files.Lstat(name + "/deep.txt")
		require.NoError(t, err)
		assert.Equal(t, int64(4), e.Size)
	}
	for _, name := range []string{"out/secret", "out/folder", "proc/x", "root/etc/passwd", "out-none/x"} {
		for what, err := range map[string]error{"Lstat": second(files.Lstat(name)), "Stat": second(files.Stat(name)), "ReadDir": second(files.ReadDir(name)), "Readlink": second(files.Readlink(name)),
			"Open": second(files.Open(name)), "Real": second(files.Real(name))} {
			require.ErrorIs(t, err, tree.ErrOutside, "%s %s", what, name)
		}
	}
}

func second[T any](_ T, err error) error { return err }

func opens(t *testing.T, kind Kind) {
	root, _ := ground(t)
	files := kind.Of(t, root)
	for name, want := range map[string]string{"top.txt": "top", "empty.txt": "", "a/ü\xff\n.txt": "odd", ".hidden": "hidden"} {
		data, err := tree.Read(files, name, 10)
		require.NoError(t, err, name)
		assert.Equal(t, want, string(data))
		e, err := files.Lstat(name)
		require.NoError(t, err)
		assert.Equal(t, tree.Entry{Path: name, Kind: tree.File, Mode: 0o644, Size: int64(len(want))}, tree.Entry{Path: e.Path, Kind: e.Kind, Mode: e.Mode, Size: e.Size})
		assert.False(t, e.Changed.IsZero())
	}
	var other *ordinary.Error
	for name, is := range map[string]string{"pipe": tree.Other, "socket": tree.Other, "a": tree.Folder, ".": tree.Folder} {
		e, err := files.Lstat(name)
		require.NoError(t, err, name)
		assert.Equal(t, is, e.Kind, name)
		if _, err := files.Open(name); name != "socket" { // which cannot be opened at all
			require.ErrorAs(t, err, &other, name)
		} else {
			require.Error(t, err)
		}
	}
	_, err := tree.Read(files, "top.txt", 2)
	require.ErrorAs(t, err, &other)
	assert.True(t, other.TooLarge)
	head, err := tree.Head(files, "top.txt", 2)
	require.NoError(t, err)
	assert.Equal(t, "to", string(head))
	for what, err := range map[string]error{"Lstat": second(files.Lstat("none")), "Stat": second(files.Stat("none")), "ReadDir": second(files.ReadDir("none")), "Open": second(files.Open("none")), "Readlink": second(files.Readlink("none"))} {
		require.ErrorIs(t, err, fs.ErrNotExist, what)
	}
	for _, name := range []string{"top.txt", "pipe", "socket"} {
		require.Error(t, second(files.ReadDir(name)), name)
	}
	names, err := tree.Names(files, "to-folder", 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"c"}, names)
	require.ErrorContains(t, tree.IsFolder(files, "top.txt"), "it is no folder")
	require.NoError(t, tree.IsFolder(files, "folder-absolute"))
}

func walks(t *testing.T, kind Kind) {
	root, outside := ground(t)
	files := kind.Of(t, root)
	want := []string{".", ".hidden", "a", "a/b", "a/b/c", "a/b/c/deep.txt", "a/ü\xff\n.txt", "empty", "empty.txt", "pipe", "socket", "top.txt"}
	for name := range links(root, outside) {
		want = append(want, name)
	}
	var visited []string
	require.NoError(t, tree.Visit(files, ".", func(e tree.Entry, err error) error {
		visited = append(visited, e.Path)
		return err
	}))
	seen := make(chan string, 1000)
	require.NoError(t, tree.Walk(t.Context(), files, func(e tree.Entry) { seen <- e.Path }, func(path string, err error) { t.Errorf("%s: %v", path, err) }))
	close(seen)
	var walked []string
	for name := range seen {
		walked = append(walked, name)
	}
	assert.ElementsMatch(t, want, visited)
	assert.ElementsMatch(t, want, walked)
	assert.Less(t, slices.Index(visited, "a"), slices.Index(visited, "a/b/c/deep.txt"), "a folder comes before what is in it")
	visited = nil
	require.NoError(t, tree.Visit(files, "a", func(e tree.Entry, err error) error {
		visited = append(visited, e.Path)
		if e.Path == "a/b" {
			return fs.SkipDir
		}
		return err
	}))
	assert.Equal(t, []string{"a", "a/b", "a/ü\xff\n.txt"}, visited)
	visited = nil
	require.NoError(t, tree.Visit(files, ".", func(e tree.Entry, err error) error {
		visited = append(visited, e.Path)
		return fs.SkipAll
	}))
	assert.Equal(t, []string{"."}, visited)
	require.ErrorIs(t, tree.Visit(files, "none", func(_ tree.Entry, err error) error { return err }), fs.ErrNotExist)
	require.NoError(t, tree.Visit(files, "to-folder", func(e tree.Entry, err error) error {
		assert.Equal(t, tree.Link, e.Kind, "a link is not followed")
		return err
	}))
}

func quietly(string) {}

func changes(t *testing.T, kind Kind) {
	root, _ := ground(t)
	files := kind.Of(t, root)
	is := func(name string) string {
		data, err := os.ReadFile(filepath.Join(root, name))
		if errors.Is(err, fs.ErrNotExist) {
			return "-"
		}
		require.NoError(t, err)
		return string(data)
	}
	require.NoError(t, files.Create("a/new.txt", []byte("new"), 0, quietly))
	assert.Equal(t, "new", is("a/new.txt"))
	require.ErrorIs(t, files.Create("a/new.txt", []byte("other"), 0, quietly), fs.ErrExist)
	require.NoError(t, os.Chmod(filepath.Join(root, "a/new.txt"), 0o440))
	require.NoError(t, files.Replace("a/new.txt", []byte("new"), []byte("newer"), quietly))
	assert.Equal(t, "newer", is("a/new.txt"))
	e, err := files.Lstat("a/new.txt")
	require.NoError(t, err)
	assert.Equal(t, uint32(0o440), e.Mode, "a lock stays")
	require.ErrorIs(t, files.Replace("a/new.txt", []byte("new"), []byte("newest"), quietly), tree.ErrChanged)
	assert.Equal(t, "newer", is("a/new.txt"))
	require.NoError(t, tree.Change(files, "relative", []byte("top"), []byte("topmost"), 0, quietly), "what a link leads to is changed")
	assert.Equal(t, "topmost", is("top.txt"))
	assert.Equal(t, tree.Link, first(t)(files.Lstat("relative")).Kind, "and the link stays one")
	require.NoError(t, tree.Change(files, "dangling", nil, []byte("made"), 0, quietly))
	assert.Equal(t, "made", is("none"))
	for _, name := range []string{"out-file", "out/new", "proc", "out-relative"} {
		require.ErrorIs(t, tree.Change(files, name, []byte(secret), []byte("changed"), 0, quietly), tree.ErrOutside, name)
		require.ErrorIs(t, tree.Change(files, name, nil, []byte("changed"), 0, quietly), tree.ErrOutside, name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "a/.new.txt.weltaxis-1"), []byte("left"), 0o600))
	require.NoError(t, tree.Change(files, "a/new.txt", []byte("newer"), []byte("newest"), 0, quietly))
	assert.Equal(t, "-", is("a/.new.txt.weltaxis-1"), "what a run that was killed has left goes")
	require.NoError(t, os.Link(filepath.Join(root, "a/new.txt"), filepath.Join(root, "second")))
	require.ErrorContains(t, files.Replace("a/new.txt", []byte("newest"), []byte("x"), quietly), "several names")
	require.NoError(t, files.Remove("second"))
	require.NoError(t, syscall.Chmod(filepath.Join(root, "a/new.txt"), 0o4755))
	require.ErrorContains(t, files.Replace("a/new.txt", []byte("newest"), []byte("x"), quietly), "set-user")

	e = first(t)(files.Lstat("a/new.txt"))
	require.NoError(t, files.Chmod(e, 0o640))
	assert.Equal(t, uint32(0o640), first(t)(files.Lstat("a/new.txt")).Mode)
	require.NoError(t, files.Chmod(e, 0o640), "it has it already")
	require.ErrorIs(t, files.Chmod(e, 0o600), tree.ErrNotPlanned, "its mode is another by now")
	for _, was := range []tree.Entry{{Path: "none/x", Kind: tree.File}, {Path: "relative", Kind: tree.File}, {Path: "to-folder", Kind: tree.Folder}, {Path: "a", Kind: tree.File}, {Path: "pipe", Kind: tree.Other}} {
		require.ErrorIs(t, files.Chmod(was, 0o700), tree.ErrNotPlanned, was.Path)
	}
	require.NoError(t, os.Link(filepath.Join(root, "a/new.txt"), filepath.Join(root, "second")))
	require.ErrorIs(t, files.Chmod(first(t)(files.Lstat("second")), 0o600), tree.ErrManyNames)

	require.NoError(t, files.Mkdir("x/y/z", 0o700))
	require.NoError(t, files.Mkdir("x/y/z", 0o700), "it is there")
	assert.Equal(t, uint32(0o700), first(t)(files.Lstat("x/y")).Mode)
	require.Error(t, files.Mkdir("top.txt/x", 0o700))
	require.NoError(t, files.Rename("a/b", "x/moved"))
	assert.Equal(t, "deep", is("x/moved/c/deep.txt"))
	require.Error(t, files.Remove("x/moved"), "it is not empty")
	require.NoError(t, files.Remove("relative"))
	assert.Equal(t, "topmost", is("top.txt"), "a link alone is removed")
	require.NoError(t, files.RemoveAll("x"))
	require.NoError(t, files.RemoveAll("x"), "it is gone")
	require.ErrorIs(t, files.Remove("x"), fs.ErrNotExist)
	left, err := filepath.Glob(filepath.Join(root, "*", ".*weltaxis*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left lying about")
}

func first(t *testing.T) func(tree.Entry, error) tree.Entry {
	return func(e tree.Entry, err error) tree.Entry {
		t.Helper()
		require.NoError(t, err)
		return e
	}
}

// inventory is all that lies in a folder, with what it holds.
func inventory(t *testing.T, dir string) (lines []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		line := fmt.Sprint(name, " ", info.Mode())
		if d.Type().IsRegular() {
			data, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			line += " " + string(data)
		}
		lines = append(lines, line)
		return nil
	}))
	return lines
}

// each is every way of changing something by a name, with what would have to be there.
func each(files tree.Files, name, in string) map[string]error {
	return map[string]error{
		"Create": files.Create(in+"/made", []byte("x"), 0, quietly), "Replace": files.Replace(name, []byte(secret), []byte("x"), quietly), "Chmod": files.Chmod(tree.Entry{Path: name, Kind: tree.File, Mode: 0o644}, 0o600),
		"Mkdir": files.Mkdir(in+"/made", 0o700), "Rename": files.Rename(name, "stolen"), "Rename into": files.Rename("top.txt", in+"/top.txt"), "Remove": files.Remove(name), "RemoveAll": files.RemoveAll(in + "/folder"),
	}
}

// stays: what changes something follows no link on the way, be it to a folder below the same root.
func stays(t *testing.T, kind Kind) {
	root, outside := ground(t)
	files := kind.Of(t, root)
	within := filepath.Join(root, "within")
	require.NoError(t, os.Rename(outside, within))
	require.NoError(t, os.Symlink(within, outside))
	require.NoError(t, os.Symlink("within", filepath.Join(root, "inside")))
	require.NoError(t, os.Symlink(within, filepath.Join(root, "inside-absolute")))
	before := inventory(t, within)
	for _, in := range []string{"inside", "inside-absolute", "out", "to-folder/../inside"} {
		for what, err := range each(files, in+"/secret", in) {
			assert.Error(t, err, "%s through %s", what, in)
		}
		assert.Equal(t, before, inventory(t, within), in)
	}
}

// swapped: a folder that somebody exchanges with links all the time. 300 rounds of all ways in the tests, 30 000 in scripts/soak.
func swapped(t *testing.T, kind Kind) {
	root, outside := ground(t)
	files := kind.Of(t, root)
	rounds := 300
	if os.Getenv("WELTAXIS_SOAK") != "" {
		rounds = 30_000
	}
	swap := filepath.Join(root, "swap")
	require.NoError(t, os.Mkdir(swap, 0o755))
	within := filepath.Join(root, "within") // is none of the folder's either
	require.NoError(t, os.CopyFS(within, os.DirFS(outside)))
	require.NoError(t, os.WriteFile(filepath.Join(within, "secret"), []byte("within"), 0o644))
	before, beforeWithin := inventory(t, outside), inventory(t, within)
	done, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for i := 0; ; i++ {
			select {
			case <-done:
				return
			default:
			}
			_ = os.Rename(swap, swap+".real")
			_ = os.Symlink([]string{outside, "within", "../outside", within}[i%4], swap)
			_ = os.Remove(swap)
			_ = os.Rename(swap+".real", swap)
		}
	}()
	reached := 0
	for range rounds {
		_ = os.WriteFile(filepath.Join(root, "top.txt"), []byte("top"), 0o644)
		_ = os.MkdirAll(filepath.Join(swap+".real", "folder"), 0o755)
		for _, err := range each(files, "swap/secret", "swap") {
			if err == nil {
				reached++
			}
		}
		if data, err := tree.Read(files, "swap/secret", 100); err == nil && string(data) == secret {
			t.Errorf("read %q", data)
		}
		require.Equal(t, before, inventory(t, outside))
		require.Equal(t, beforeWithin, inventory(t, within))
	}
	close(done)
	<-stopped
	t.Logf("%d of %d changes were made, in the folder itself", reached, rounds*8)
}
