//go:build linux

package hostile

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A place is one that root names to the program, in a command or in a site file of root's: a file there is read, or written.
type place struct {
	command string // NAME is the file
	site    string // what stands in the site file besides; NAME likewise
	writes  bool
}

// places are all of them; by the option or the key that takes the name.
var places = map[string]place{
	"--note":              {command: "audit site --offline --format html --note NAME"},
	"--new":               {command: "audit site --offline --new=NAME"},
	"--previous":          {command: "audit site --offline --previous NAME"},
	"--values":            {command: "fix site --offline --values NAME"},
	"--baseline":          {command: "audit site --offline --baseline NAME"},
	"--site":              {command: "explain titles.page-own --site NAME"},
	"--password-file":     {command: "lock on site --offline --password-file NAME"},
	"a site file":         {command: "audit NAME --offline"},
	"an earlier look":     {command: "compare NAME NAME"},
	"a dialect":           {command: "dialect show NAME"},
	"--output":            {command: "audit site --offline --format json --output NAME", writes: true},
	"--output of a plan":  {command: "fix site --offline --format script --output NAME", writes: true},
	"--output of a page":  {command: "audit site --offline --format html --output NAME", writes: true},
	"--output of a draft": {command: "dialect discover --root kestrel/www --output NAME", writes: true},
	"--output of a look":  {command: "snapshot site --offline --output NAME", writes: true},
	"--export":            {command: "settings site --offline --export NAME", writes: true},
	"trust":               {command: "audit site", site: "  live: {trust: NAME, seconds: 1}\n"},
	"dialect":             {command: "audit site --offline", site: "  settings: {dialect: NAME, root: OWN/www}\n"},
	"a secret":            {command: "audit site", site: "  live: {seconds: 1, user: \"a:file:NAME\"}\n"},
	"baseline":            {command: "audit site --offline", site: "baseline: [NAME]\n"},
	"versions":            {command: "audit site --offline", site: "upkeep: {versions: NAME}\n"},
	"advisories":          {command: "audit site --offline", site: "upkeep: {advisories: NAME}\n"},
	"checksums":           {command: "audit site --offline", site: "upkeep: {checksums: NAME}\n"},
	"nginx":               {command: "audit site --offline", site: "  server: {nginx: NAME}\n"},
	"apache":              {command: "audit site --offline", site: "  server: {apache: NAME}\n"},
}

// elsewhere are options that take the name of a folder, or that another test has: what gives orders is in TestWhoMayGiveOrders and TestKept.
var elsewhere = []string{"--into", "--root", "--state"}

// ways are how kestrel has a name in his folder lead to what is root's, at TARGET.
var ways = map[string]func(t *testing.T, name, target string){
	"an absolute link": func(t *testing.T, name, target string) { require.NoError(t, os.Symlink(target, name)) },
	"a relative link": func(t *testing.T, name, target string) {
		rel, _ := filepath.Rel(filepath.Dir(name), target)
		require.NoError(t, os.Symlink(rel, name))
	},
	"a link by way of the process": func(t *testing.T, name, target string) {
		require.NoError(t, os.Symlink("/proc/self/root"+target, name))
	},
	"a link to a folder on the way": func(t *testing.T, name, target string) {
		require.NoError(t, os.Remove(filepath.Dir(name)))
		require.NoError(t, os.Symlink(filepath.Dir(target), filepath.Dir(name)))
		require.NoError(t, os.Rename(target, filepath.Join(filepath.Dir(target), filepath.Base(name))))
	},
	"a link to what is not there": func(t *testing.T, name, target string) { require.NoError(t, os.Symlink(target+".new", name)) },
	"another name of it":          func(t *testing.T, name, target string) { require.NoError(t, os.Link(target, name)) },
	"a chain of links": func(t *testing.T, name, target string) {
		require.NoError(t, os.Symlink(target, name+".1"))
		require.NoError(t, os.Symlink(name+".1", name+".2"))
		require.NoError(t, os.Symlink(filepath.Base(name)+".2", name))
	},
}

// Whatever root names in a folder of somebody else's, or where everybody makes files, leads to nothing that is root's alone: it is neither read, nor written, nor quoted.
func TestWhatRootNamesLeadsNowhereElse(t *testing.T) {
	bin := program(t)
	for what, p := range places {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			for way, lead := range ways {
				for _, in := range []string{"kestrel/in", "all/in"} {
					if in == "all/in" && way != "an absolute link" && way != "another name of it" {
						continue // the same from there on
					}
					a := newAttack(t, bin)
					led(a, p, lead, in, way)
					if a.Failed() {
						return
					}
				}
			}
		})
	}
}

func led(a *attack, p place, lead func(t *testing.T, name, target string), in, way string) {
	secrets := filepath.Join(a.dir, "roots")
	require.NoError(a, os.Mkdir(secrets, 0o755))
	target := filepath.Join(secrets, "secret.yaml")
	require.NoError(a, os.WriteFile(target, []byte("MARKED: hush\n"), 0o600))
	require.NoError(a, os.Mkdir(filepath.Join(a.dir, "all"), 0o777))
	require.NoError(a, os.Chmod(filepath.Join(a.dir, "all"), 0o777|os.ModeSticky))
	require.NoError(a, os.Mkdir(filepath.Join(a.dir, in), 0o755))
	require.NoError(a, os.Chown(filepath.Join(a.dir, in), kestrel, kestrel))
	name := filepath.Join(a.dir, in, "named.yaml")
	lead(a.T, name, target)
	require.NoError(a, filepath.WalkDir(filepath.Join(a.dir, filepath.Dir(in)), func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type()&fs.ModeSymlink != 0 {
			err = os.Lchown(name, kestrel, kestrel)
		}
		return err
	}))
	a.plain()
	file := filepath.Join(a.dir, "site/weltaxis.yaml")
	text, err := os.ReadFile(file)
	require.NoError(a, err)
	more := strings.NewReplacer("NAME", name, "OWN", a.own).Replace(p.site)
	if strings.HasPrefix(more, "  ") {
		text = []byte(strings.Replace(string(text), "sources: {files: {root: "+a.own+"/www}}", "sources:\n  files: {root: "+a.own+"/www}\n"+strings.TrimSuffix(more, "\n"), 1))
	} else {
		text = append(text, more...)
	}
	require.NoError(a, os.WriteFile(file, text, 0o644))
	entries, err := os.ReadDir(secrets)
	require.NoError(a, err)
	for _, e := range entries {
		require.NoError(a, syscall.UtimesNano(filepath.Join(secrets, e.Name()), []syscall.Timespec{{Sec: 1}, {Sec: 2}}))
	}
	before := stamped(a.T, secrets)
	a.root(strings.Fields(strings.ReplaceAll(p.command, "NAME", name))...)
	assert.Equal(a, before, stamped(a.T, secrets), "%s in %s: %s", way, in, a.said)
	assert.NotContains(a, a.said, "MARKED", "%s in %s", way, in)
	assert.NotContains(a, a.said, "hush", "%s in %s", way, in)
	assert.NotRegexp(a, never, a.said)
}

// Every option that takes the name of a file has a row.
func TestEveryNamedPlaceHasARow(t *testing.T) {
	text, err := os.ReadFile("../../docs/commands.md")
	require.NoError(t, err)
	found := 0
	for _, line := range regexp.MustCompile("(?m)^- `(--[a-z-]+)`: (.*)$").FindAllStringSubmatch(string(text), -1) {
		if regexp.MustCompile(`(?i)\bfiles?\b|\bfolder\b|FILE|snapshot of`).MatchString(line[2]) {
			found++
			_, has := places[line[1]]
			assert.True(t, has || slices.Contains(elsewhere, line[1]), "%s takes the name of something", fmt.Sprint(line[1:]))
		}
	}
	assert.Greater(t, found, 10)
}

// What root writes by name in folders that others may write to is refused, and says so; in root's own it is written, through root's own links too.
func TestWhatIsWrittenByName(t *testing.T) {
	a := newAttack(t, program(t))
	a.plain()
	for folder, mode := range map[string]os.FileMode{"roots": 0o755, "sticky": 0o777 | os.ModeSticky, "everybody": 0o777, "group": 0o775} {
		require.NoError(t, os.Mkdir(filepath.Join(a.dir, folder), 0o755))
		require.NoError(t, os.Chown(filepath.Join(a.dir, folder), 0, 100))
		require.NoError(t, os.Chmod(filepath.Join(a.dir, folder), mode))
	}
	require.NoError(t, os.Symlink("roots/there.json", filepath.Join(a.dir, "mine.json")))
	require.NoError(t, os.Symlink("there.json", filepath.Join(a.dir, "roots/again.json")))
	a.write("roots/kept.json", "old", 0o640)
	a.write("sticky/theirs.json", "old", 0o666)
	require.NoError(t, os.Chown(filepath.Join(a.dir, "sticky/theirs.json"), kestrel, kestrel))
	for name, wants := range map[string]string{"roots/new.json": "", "sticky/new.json": "", "mine.json": "", "roots/again.json": "", "roots/kept.json": "", "/dev/null": "",
		"everybody/new.json": "may be written to by everybody", "kestrel/new.json": "belongs to 61001", "kestrel/www/new.json": "belongs to 61001", "sticky/theirs.json": "belongs to 61001", "roots": "is a folder"} {
		a.said = ""
		a.root("audit", "site", "--offline", "--no-keep", "--format", "json", "--output", name)
		full := filepath.Join(a.dir, name)
		if wants != "" {
			assert.Contains(t, a.said, wants, name)
			data, _ := os.ReadFile(full)
			assert.NotContains(t, string(data), "Stage door")
			continue
		}
		assert.Empty(t, a.said, name)
		if name != "/dev/null" {
			data, err := os.ReadFile(full)
			require.NoError(t, err, name)
			assert.Contains(t, string(data), "Stage door", name)
		}
	}
	info, err := os.Stat(filepath.Join(a.dir, "roots/kept.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())
	link, err := os.Readlink(filepath.Join(a.dir, "mine.json"))
	require.NoError(t, err)
	assert.Equal(t, "roots/there.json", link, "the link is still one")
}
