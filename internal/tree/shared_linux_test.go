package tree_test

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/tree"
	"weltaxis/internal/tree/treetest"
)

// kestrel owns a tree whose web server runs as wren; finch has no part in it. This machine has none of them.
const kestrel, wren, finch = 61001, 61002, 61003

// apart runs a test in a process of its own, since what it does to the process cannot be undone for others.
func apart(t *testing.T) bool {
	t.Helper()
	if os.Geteuid() != 0 && os.Getenv("WELTAXIS_APART") == "" {
		t.Skip("only root can act as another user")
	}
	if os.Getenv("WELTAXIS_APART") == t.Name() {
		return true
	}
	command := exec.Command(os.Args[0], "-test.run", "^"+t.Name()+"$", "-test.v")
	command.Env = append(os.Environ(), "WELTAXIS_APART="+t.Name())
	out, err := command.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "--- PASS")
	return false
}

// A tree that root looks at as its owner is as any.
func TestASharedFolderConforms(t *testing.T) {
	if !apart(t) {
		return
	}
	require.NoError(t, identity.Act(kestrel))
	identity.Alongside(wren)
	treetest.Conform(t, treetest.Kind{Of: func(t *testing.T, dir string) tree.Files {
		files, err := tree.Open(dir)
		require.NoError(t, err)
		t.Cleanup(func() { files.Close() })
		return files
	}})
}

// things are what lies in kestrel's tree: whose, and for whom. Folders end in a slash.
var things = []struct {
	name string
	uid  int
	mode uint32
}{
	{"./", kestrel, 0o755}, {"own", kestrel, 0o600}, {"theirs", wren, 0o600}, {"roots", 0, 0o600}, {"finchs", finch, 0o600}, {"bare", wren, 0o622},
	{"up/", wren, 0o700}, {"up/a", wren, 0o600}, {"up/finchs", finch, 0o600}, {"up/deep/", wren, 0o700}, {"up/deep/x", wren, 0o600},
	{"closed/", finch, 0o700}, {"closed/f", finch, 0o644}, {"closed/wrens", wren, 0o600}, {"cache/", wren, 0o755}, {"cache/one", wren, 0o600}, {"cache/sub/", wren, 0o700}, {"cache/sub/s", wren, 0o600},
	{"admin/", 0, 0o755}, {"admin/r", 0, 0o644}, {"aside/", kestrel, 0o700}, {"aside/there", kestrel, 0o600},
	{"../outside/", wren, 0o700}, {"../outside/secret", wren, 0o600}, {"../outside/roots", 0, 0o600},
}

// shareTree makes the tree, and has this process act as kestrel, with wren alongside.
func shareTree(t *testing.T) (root string, files tree.Files) {
	t.Helper()
	dir, err := os.MkdirTemp("", "weltaxis-shared-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = identity.AsCaller(func() error { return os.RemoveAll(dir) }) })
	require.NoError(t, os.Chmod(dir, 0o755))
	root = filepath.Join(dir, "www")
	require.NoError(t, os.Mkdir(root, 0o755))
	for _, thing := range things {
		full := filepath.Join(root, thing.name)
		if thing.name[len(thing.name)-1] != '/' {
			require.NoError(t, os.WriteFile(full, []byte(thing.name), 0o600))
		} else if thing.name != "./" {
			require.NoError(t, os.Mkdir(full, 0o700))
		}
		require.NoError(t, os.Chown(full, thing.uid, thing.uid))
		require.NoError(t, os.Chmod(full, fs.FileMode(thing.mode)))
	}
	for name, to := range map[string]string{"up/link": "a", "up/absolute": filepath.Join(root, "own"), "up/out": filepath.Join(dir, "outside/secret"), "up/round": "round", "up/proc": "/proc/self/root" + filepath.Join(dir, "outside/secret"), "way": "up/deep"} {
		require.NoError(t, os.Symlink(to, filepath.Join(root, name)))
	}
	for name, of := range map[string]string{"up/hard": "secret", "hard": "secret", "hardroots": "roots"} { // as where the machine lets anybody do so
		require.NoError(t, os.Link(filepath.Join(dir, "outside", of), filepath.Join(root, name)))
	}
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "up/pipe"), 0o600))
	require.NoError(t, os.Chown(filepath.Join(root, "up/pipe"), wren, wren))
	require.NoError(t, identity.Act(kestrel))
	identity.Alongside(wren)
	identity.Alongside(0)
	files, err = tree.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { files.Close() })
	return root, files
}

// all is everything below the folder of the tree, with what it holds.
func all(t *testing.T, root string) (lines map[string]string) {
	t.Helper()
	lines = map[string]string{}
	require.NoError(t, identity.AsCaller(func() error {
		return filepath.WalkDir(filepath.Dir(root), func(name string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			text := ""
			if info.Mode().IsRegular() {
				data, err := os.ReadFile(name)
				if err != nil {
					return err
				}
				text = string(data)
			}
			stat := info.Sys().(*syscall.Stat_t)
			rel, _ := filepath.Rel(root, name)
			lines[rel] = fmt.Sprintf("%s %d:%d %s", info.Mode(), stat.Uid, stat.Gid, text)
			return nil
		})
	}))
	return lines
}

// Everything is looked at; what is opened is what one of those who have a part in the tree may open, and has no name elsewhere.
func TestWhatIsSeenOfASharedTree(t *testing.T) {
	if !apart(t) {
		return
	}
	_, files := shareTree(t)
	for _, thing := range things[:len(things)-3] {
		e, err := files.Lstat(thing.name)
		require.NoError(t, err, thing.name)
		assert.Equal(t, []uint32{uint32(thing.uid), thing.mode}, []uint32{e.UID, e.Mode}, thing.name)
	}
	for folder, want := range map[string]int{"up": 10, "up/deep": 1, "closed": 2, "cache/sub": 1} {
		entries, err := files.ReadDir(folder)
		require.NoError(t, err, folder)
		assert.Len(t, entries, want, folder)
	}
	for name, want := range map[string]string{"own": "own", "theirs": "theirs", "up/a": "up/a", "up/link": "up/a", "up/absolute": "own", "up/deep/x": "up/deep/x", "way/x": "up/deep/x", "cache/sub/s": "cache/sub/s"} {
		data, err := tree.Read(files, name, 100)
		require.NoError(t, err, name)
		assert.Equal(t, want, string(data), name)
	}
	real, err := files.Real("up/link")
	require.NoError(t, err)
	assert.Equal(t, "up/a", real)
	e, err := files.Stat("up/link")
	require.NoError(t, err)
	assert.Equal(t, "up/a", e.Path)
	for name, is := range map[string]error{"up/out": tree.ErrOutside, "up/proc": tree.ErrOutside, "up/round": tree.ErrLinks, "up/missing": fs.ErrNotExist, "hard": tree.ErrManyNames, "up/hard": tree.ErrManyNames,
		"up/finchs": fs.ErrPermission, "finchs": fs.ErrPermission, "roots": fs.ErrPermission, "closed/f": fs.ErrPermission, "closed/wrens": fs.ErrPermission, "hardroots": fs.ErrPermission} {
		file, err := files.Open(name)
		require.ErrorIs(t, err, is, name)
		assert.Nil(t, file, name)
	}
	_, err = files.Open("up/finchs")
	assert.Equal(t, "reading it was refused: 61001 and 61002 may not; it belongs to 61003, mode 0600; root opens nothing that others may have put there", facts.InWords(err))
	_, err = files.Open("up/pipe")
	require.ErrorContains(t, err, "pipe")
}

// What root changes of others' is what was planned, stays whose it was, and gives nobody a right.
func TestWhatIsChangedInASharedTree(t *testing.T) {
	if !apart(t) {
		return
	}
	root, files := shareTree(t)
	before := all(t, root)
	entry := func(name string) tree.Entry {
		e, err := files.Lstat(name)
		require.NoError(t, err, name)
		return e
	}
	for name, mode := range map[string]uint32{"theirs": 0o640, "up/a": 0o640, "up/deep": 0o750, "up/deep/x": 0o4600, "closed/f": 0o600, "roots": 0o640} {
		require.NoError(t, files.Chmod(entry(name), mode), name)
		assert.Equal(t, mode, entry(name).Mode, name)
	}
	require.ErrorContains(t, files.Chmod(entry("bare"), 0o4622), "others may write to it")
	for _, name := range []string{"up/hard", "hard", "hardroots"} {
		require.ErrorIs(t, files.Chmod(entry(name), 0o640), tree.ErrManyNames, name)
	}
	for _, name := range []string{"up/link", "up/out", "up/pipe"} {
		require.ErrorIs(t, files.Chmod(entry(name), 0o640), tree.ErrNotPlanned, name)
	}
	stale := entry("theirs")
	stale.UID = finch
	require.ErrorIs(t, files.Chmod(stale, 0o600), tree.ErrNotPlanned)

	quietly := func(string) {}
	for _, name := range []string{"theirs", "up/a", "finchs"} {
		require.NoError(t, files.Replace(name, []byte(name), []byte("new"), quietly), name)
	}
	require.ErrorContains(t, files.Replace("roots", []byte("roots"), []byte("new"), quietly), "belongs to root")
	require.ErrorIs(t, files.Replace("closed/f", []byte("other"), []byte("new"), quietly), tree.ErrChanged)
	require.Error(t, files.Replace("hard", []byte("../outside/secret"), []byte("new"), quietly))
	require.NoError(t, files.Create("up/made", []byte("made"), 0, quietly))
	require.NoError(t, files.Mkdir("up/folder", 0o700))
	for _, name := range []string{"admin/made", "closed/made"} {
		require.ErrorIs(t, files.Create(name, []byte("x"), 0, quietly), fs.ErrPermission, name)
		require.ErrorIs(t, files.Mkdir(name, 0o700), fs.ErrPermission, name)
	}
	require.NoError(t, files.Rename("cache/one", "aside/one"))
	require.NoError(t, files.Rename("cache/sub", "aside/sub"))
	require.ErrorIs(t, files.Rename("up/deep/x", "aside/there"), fs.ErrExist, "root overwrites nothing")
	require.Error(t, files.Rename("cache/none", "aside/none"))
	for _, name := range []string{"up/hard", "way/x"} {
		_ = files.Rename(name, "../outside/x")
	}
	require.NoError(t, files.RemoveAll("aside/sub"))
	require.NoError(t, files.Remove("aside/one"))
	require.NoError(t, files.Remove("up/pipe"))

	after := all(t, root)
	for name, was := range before {
		if now := after[name]; now != was {
			t.Logf("%s: %s, was %s", name, now, was)
		}
	}
	assert.Equal(t, before["../outside/secret"], after["../outside/secret"])
	assert.Equal(t, before["../outside/roots"], after["../outside/roots"])
	assert.Equal(t, "-rw-r----- 61002:61002 new", after["up/a"], "it is still whose it was, as it was")
	assert.Equal(t, "-rw------- 61003:61003 new", after["finchs"])
	assert.Equal(t, "-rw-r--r-- 61002:61002 made", after["up/made"])
	assert.Equal(t, "drwx------ 61002:61002 ", after["up/folder"])
	for name := range after {
		if _, was := before[name]; !was {
			assert.Contains(t, []string{"up/made", "up/folder"}, name, "nothing else has come to be")
		}
	}
}

// What was said of an owner's tree counts for no folder that is not his, and is forgotten with him.
func TestWhoIsAlongside(t *testing.T) {
	if !apart(t) {
		return
	}
	root, files := shareTree(t)
	assert.Equal(t, []string{"61001", "61002"}, identity.Readers(), "root is none")
	roots, err := tree.Open(filepath.Join(root, "admin"))
	require.NoError(t, err)
	require.ErrorIs(t, roots.Chmod(tree.Entry{Path: "r", Kind: tree.File, Mode: 0o644}, 0o600), fs.ErrPermission)
	_, err = tree.Machine().Lstat(tree.Full(filepath.Join(root, "up/a")))
	require.ErrorIs(t, err, fs.ErrPermission, "nor for the machine's")
	var data []byte
	require.NoError(t, tree.Near(filepath.Join(root, "up/a"), func(files tree.Files, name string) (err error) {
		data, err = tree.Read(files, name, 100)
		return err
	}))
	assert.Equal(t, "up/a", string(data))
	require.ErrorIs(t, tree.Near(filepath.Join(root, "../outside/secret"), func(files tree.Files, name string) error {
		_, err := tree.Read(files, name, 100)
		return err
	}), fs.ErrPermission)
	require.NoError(t, identity.Act(kestrel))
	_, err = files.Open("up/a")
	require.ErrorContains(t, err, "nobody has said whom the web server runs as")
	assert.Equal(t, "up/a", func() string { e, _ := files.Lstat("up/a"); return e.Path }())
	require.NoError(t, identity.Act(0))
	for name, is := range map[string]error{"own": nil, "roots": fs.ErrPermission, "up/a": fs.ErrPermission, "hard": fs.ErrPermission} {
		require.ErrorIs(t, tree.Near(filepath.Join(root, name), func(files tree.Files, name string) error {
			_, err := tree.Read(files, name, 100)
			return err
		}), is, "root, acting as nobody, looks at %s as kestrel", name)
	}
}

// What tells a server something is followed no further than the site goes, whoever looks.
func TestReadServed(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for name, text := range map[string]string{"site/www/.htaccess": "own", "site/www/up/.htaccess": "up", "site/shared": "shared", "outside/secret": "secret"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for name, to := range map[string]string{"site/www/in": "../shared", "site/www/beside": ".htaccess", "site/www/out": "../../outside/secret", "site/www/absolute": filepath.Join(dir, "outside/secret"), "site/www/proc": "/proc/self/root" + filepath.Join(dir, "outside/secret"),
		"site/www/chain": "out", "site/www/folder": "../../outside", "site/www/dangling": "../../outside/none", "site/www/round": "round"} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, name)))
	}
	read := func(name string, roots ...string) string {
		for i := range roots {
			roots[i] = filepath.Join(dir, roots[i])
		}
		data, err := tree.ReadServed(filepath.Join(dir, "site/www", name), roots, 100)
		if err != nil {
			return "! " + facts.InWords(err)
		}
		return string(data)
	}
	outside := "! " + tree.ErrOutside.Error()
	for _, root := range []string{"site", "site/www"} {
		assert.Equal(t, "own", read(".htaccess", root))
		assert.Equal(t, "up", read("up/.htaccess", root))
		assert.Equal(t, "own", read("beside", root))
		for _, name := range []string{"out", "absolute", "proc", "chain", "folder/secret", "dangling"} {
			assert.Equal(t, outside, read(name, root), name)
		}
		assert.Contains(t, read("round", root), "!")
	}
	assert.Equal(t, "shared", read("in", "site"))
	assert.Equal(t, outside, read("in", "site/www"))
	assert.Equal(t, "own", read("beside"), "where nobody has said where the site lies, the folder counts")
	assert.Equal(t, outside, read("in"))
	assert.Equal(t, outside, read("out", "elsewhere"))
}
