//go:build linux

package hostile

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"weltaxis/internal/servertest"
)

// A given is a demo whose first site's tree belongs to kestrel, and whose site file and servers are root's.
type given struct {
	*attack
	site string // below dir
}

func give(t *testing.T, bin string) given {
	t.Helper()
	a := newAttack(t, bin)
	out, err := exec.Command(bin, "demo", "--into", filepath.Join(a.dir, "demo"), "--quiet").CombinedOutput()
	require.NoError(t, err, string(out))
	a.give("demo/lantern-lane/site")
	return given{a, "demo/lantern-lane"}
}

// wren is whom the web server of a tree of kestrel's runs as, and finch has no part in it.
const wren, finch = 61002, 61003

// share gives wren what the web server writes, and keeps kestrel out of it.
func (g given) share() {
	g.Helper()
	site := filepath.Join(g.dir, g.site, "site")
	for _, name := range []string{"foyer/posters", "foyer/gaslit", "understage"} {
		require.NoError(g, exec.Command("chown", "-R", fmt.Sprintf("%d:%d", wren, wren), filepath.Join(site, name)).Run())
		require.NoError(g, exec.Command("chmod", "-R", "go=", filepath.Join(site, name)).Run())
	}
	require.NoError(g, os.Chmod(filepath.Join(site, "foyer/posters/winter"), 0o777))
	require.NoError(g, exec.Command("chown", "-R", fmt.Sprintf("%d:%d", wren, wren), filepath.Join(site, "foyer/lamplit")).Run())
	file := filepath.Join(g.dir, g.site, "weltaxis.yaml")
	text, err := os.ReadFile(file)
	require.NoError(g, err)
	require.Contains(g, string(text), `web_user: "root"`)
	require.NoError(g, os.WriteFile(file, []byte(strings.Replace(string(text), `web_user: "root"`, fmt.Sprintf(`web_user: "%d"`, wren), 1)), 0o644))
}

// as runs the program as a user, 0 for root, with a state folder of that user's.
func (g given) as(uid uint32, args ...string) (said, out string) {
	g.Helper()
	home := filepath.Join(g.dir, fmt.Sprint("home-", uid))
	require.NoError(g, os.MkdirAll(home, 0o700))
	require.NoError(g, os.Chown(home, int(uid), int(uid)))
	command := exec.Command(g.bin, args...)
	command.Dir, command.Env = g.dir, []string{"PATH=/usr/bin:/bin", "HOME=" + home, "NO_COLOR=1", "COLUMNS=200"}
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid, Groups: []uint32{}}}
	var stdout, all bytes.Buffer
	command.Stdout, command.Stderr = &stdout, &all
	_ = command.Run()
	return all.String() + stdout.String(), stdout.String()
}

// below tells of everything below a folder, in order.
func below(t *testing.T, root string, tell func(name string, info fs.FileInfo, stat *syscall.Stat_t) string) (lines []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err == nil {
			lines = append(lines, tell(name, info, info.Sys().(*syscall.Stat_t)))
		}
		return err
	}))
	return lines
}

// tree is all that lies below a folder: what it is, whose, and what it holds, but for databases, of which only that they are there.
func tree(t *testing.T, root string) []string {
	t.Helper()
	return below(t, root, func(name string, info fs.FileInfo, stat *syscall.Stat_t) string {
		rel, _ := filepath.Rel(root, name)
		line := fmt.Sprintf("%s %s %d:%d", rel, info.Mode(), stat.Uid, stat.Gid)
		if info.Mode().IsRegular() && !strings.HasSuffix(name, ".db") {
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			line += fmt.Sprintf(" %x", sha256.Sum256(data))
		}
		return line
	})
}

// What root sees, plans, changes and takes back on a tree of another's is what its owner would, and nothing in it becomes anybody else's.
func TestRootDoesWhatTheOwnerWould(t *testing.T) {
	bin := program(t)
	g, h := give(t, bin), give(t, bin)
	same := func(text string) string { return strings.ReplaceAll(text, h.dir, g.dir) }
	seen := func(g given, uid uint32) map[string]interface{} {
		said, out := g.as(uid, "audit", g.site, "--offline", "--format", "json", "--no-keep")
		var result map[string]interface{}
		require.NoError(t, json.Unmarshal([]byte(same(out)), &result), said)
		words := result["words"].(map[string]interface{})
		if uid == 0 {
			assert.Equal(t, "61001", words["as"])
		}
		delete(words, "as")
		delete(words, "read")
		delete(result, "taken")
		return result
	}
	assert.Equal(t, seen(h, kestrel), seen(g, 0))
	before := tree(t, filepath.Join(g.dir, g.site, "site"))
	for _, command := range []string{"fix SITE --offline --write --allow visible --no-keep", "undo SITE --offline"} {
		args := strings.Fields(strings.ReplaceAll(command, "SITE", g.site))
		root, _ := g.as(0, args...)
		owner, _ := h.as(kestrel, args...)
		if command[:3] == "fix" {
			assert.Contains(t, root, "took")
			// What servers are told lies in files of root's: root may write them, and their owner may not.
			without := func(text string) []string {
				return slices.DeleteFunc(strings.Split(text, "\n"), func(line string) bool {
					return !strings.Contains(line, "  took  ") || strings.Contains(line, "web server") || strings.Contains(line, "runtime")
				})
			}
			assert.Equal(t, numbered(without(same(owner))), numbered(without(root)))
			ours, theirs := tree(t, filepath.Join(g.dir, g.site, "site")), tree(t, filepath.Join(h.dir, h.site, "site"))
			aside := func(line string) bool {
				return strings.HasPrefix(line, ".weltaxis-aside") || strings.HasPrefix(line, "foyer/.user.ini")
			}
			assert.Equal(t, slices.DeleteFunc(theirs, aside), slices.DeleteFunc(ours, aside))
		}
	}
	assert.Equal(t, before, tree(t, filepath.Join(g.dir, g.site, "site")), "all is as it was")
	for _, line := range before {
		assert.Contains(t, line, " 61001:61001", "and nobody else's")
	}
}

// numbered are lines without the number of the change that they begin with.
func numbered(lines []string) (all []string) {
	for _, line := range lines {
		_, rest, _ := strings.Cut(strings.TrimSpace(line), "  ")
		all = append(all, rest)
	}
	return all
}

// What only whom the web server runs as may read of a tree is read as that user, what root alone may change is changed by root, and what a third
// has closed is a gap that names him.
func TestWhatSeveralHaveAPartIn(t *testing.T) {
	bin := program(t)
	g := give(t, bin)
	g.share()
	site := filepath.Join(g.dir, g.site, "site")
	seen := func(uid uint32) (words map[string]interface{}) {
		_, out := g.as(uid, "audit", g.site, "--offline", "--format", "json", "--no-keep")
		var result map[string]interface{}
		require.NoError(t, json.Unmarshal([]byte(out), &result))
		return result["words"].(map[string]interface{})
	}
	words := seen(0)
	assert.Equal(t, "Read as 61001 and 61002; root looked at no more than what lies there, and who may do what with it.", words["read"])
	assert.Empty(t, words["gaps"])
	assert.Contains(t, fmt.Sprint(words["entries"]), "foyer/posters/winter/upload-test.php")
	assert.Contains(t, fmt.Sprint(seen(kestrel)["gaps"]), "understage/prompt.db", "kestrel himself may not read it")
	third := filepath.Join(site, "foyer/posters/winter/upload-test.php")
	require.NoError(t, os.Chown(third, finch, finch))
	assert.Contains(t, fmt.Sprint(seen(0)["gaps"]), "61001 and 61002 may not; it belongs to 61003, mode 0600")

	before := tree(t, site)
	said, _ := g.as(0, strings.Fields("fix "+g.site+" --offline --write --allow visible --no-keep")...)
	assert.Regexp(t, `took\s+permissions of `, said)
	assert.NotContains(t, said, "permissions of uploads folders", "whom the web server runs as puts things there, and would not be able to any more")
	assert.Contains(t, said, "it belongs to 61002, and SQLite opens by name")
	assert.NotEqual(t, before, tree(t, site))
	assert.NotContains(t, strings.Join(tree(t, site), "\n"), " 0:0 ", "nothing of it is root's")
	said, _ = g.as(0, "undo", g.site, "--offline")
	assert.Contains(t, said, "are as they were")
	assert.Equal(t, before, tree(t, site))
	assert.NotRegexp(t, never, said)
}

// A database that knows people by their accounts on the machine, asked over its socket, knows root who looks after a tree as the tree's owner, and
// whatever the tree's configuration names, root's own account is not among it.
func TestADatabaseOnASocketSeesTheOwner(t *testing.T) {
	bin := program(t)
	owner, err := user.Lookup("www-data") // one that this machine has
	if err != nil {
		t.Skip("this machine has no www-data")
	}
	uid, err := strconv.Atoi(owner.Uid)
	require.NoError(t, err)
	server := servertest.MariaDB(t)
	require.NoError(t, os.Chmod(filepath.Dir(server.Socket), 0o755))
	for _, statement := range []string{"CREATE DATABASE theirs", "CREATE DATABASE roots", "CREATE TABLE theirs.o (k VARCHAR(9), v VARCHAR(9))", "CREATE TABLE roots.o (k VARCHAR(9), v VARCHAR(9))",
		"INSERT INTO theirs.o VALUES ('debug', '1')", "INSERT INTO roots.o VALUES ('debug', '1')", "CREATE USER 'www-data'@'localhost' IDENTIFIED VIA unix_socket", "GRANT ALL ON theirs.* TO 'www-data'@'localhost'",
		"ALTER USER root@localhost IDENTIFIED VIA unix_socket"} {
		_, err := server.Admin.Exec(statement)
		require.NoError(t, err, statement)
	}
	value := func(database string) (v string) {
		require.NoError(t, server.Admin.QueryRow("SELECT v FROM "+database+".o").Scan(&v))
		return v
	}
	a := newAttack(t, bin)
	a.write("site/d.yaml", "dialect: d\nversion: 1\nvariables: {socket: {from: conf/db.socket}, name: {from: conf/db.name}, user: {from: conf/db.user}}\n"+
		"databases: {main: {driver: mysql, socket: \"{socket}\", name: \"{name}\", user: \"{user}\"}}\nstores: {conf: {file: conf.ini, format: ini}, o: {database: main, table: o, key: k, value: v, yes_no: [\"1\", \"0\"]}}\nsettings: {debug.on: {from: o/debug}}\n", 0o644)
	a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live}\nsources: {settings: {dialect: ./d.yaml, root: ./www}}\n", 0o644)
	configure := func(user, database string) {
		a.write("site/www/conf.ini", fmt.Sprintf("[db]\nsocket = %s\nname = %s\nuser = %s\n", server.Socket, database, user), 0o644)
		for _, name := range []string{"site/www", "site/www/conf.ini"} {
			require.NoError(t, os.Chown(filepath.Join(a.dir, name), uid, uid))
		}
	}
	for _, c := range []struct {
		user, database string
		took           bool
	}{{"www-data", "theirs", true}, {"root", "roots", false}, {"root", "theirs", false}, {"www-data", "roots", false}, {"mysql", "roots", false}} {
		configure(c.user, c.database)
		a.said = ""
		a.root("audit", "site", "--no-keep")
		a.root("fix", "site", "--no-keep")
		a.root("fix", "site", "--write", "--no-keep")
		if c.took {
			assert.Contains(t, a.said, "Made as www-data")
			assert.Contains(t, a.said, "took  debug.on")
			assert.Equal(t, "0", value(c.database))
			a.root("undo", "site")
			assert.Equal(t, "1", value(c.database), a.said)
			continue
		}
		assert.NotContains(t, a.said, "took")
		assert.Regexp(t, "may not sign in|may not use|not accepted", a.said, "%s in %s", c.user, c.database)
		assert.Equal(t, "1", value("theirs"))
		assert.Equal(t, "1", value("roots"))
	}
}

// swapping is a process of kestrel's that exchanges what lies in a tree with links to what is root's, as long as it runs.
func TestSwapping(t *testing.T) {
	root, outside := os.Getenv("WELTAXIS_SWAP"), os.Getenv("WELTAXIS_SWAP_WITH")
	if root == "" {
		t.Skip("a part of TestASwapperFindsNoWay")
	}
	var names []string
	_ = filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err == nil && name != root && (d.IsDir() || strings.HasSuffix(name, ".php") || strings.HasSuffix(name, ".db") || strings.HasSuffix(name, ".ini")) {
			names = append(names, name)
		}
		return nil
	})
	random := rand.New(rand.NewPCG(1, 2))
	for {
		name := names[random.IntN(len(names))]
		rel, _ := filepath.Rel(root, name)
		decoy := filepath.Join(filepath.Dir(root), fmt.Sprint("decoy-", random.IntN(1<<30)))
		switch target := filepath.Join(outside, rel); random.IntN(5) {
		case 0:
			_ = os.Link(target, decoy)
		case 1:
			_ = syscall.Mkfifo(decoy, 0o666)
		case 2:
			_ = os.Symlink("/proc/self/root"+target, decoy)
		default:
			_ = os.Symlink(target, decoy)
		}
		if unix.Renameat2(unix.AT_FDCWD, decoy, unix.AT_FDCWD, name, unix.RENAME_EXCHANGE) == nil {
			time.Sleep(time.Duration(random.IntN(3000)) * time.Microsecond)
			_ = unix.Renameat2(unix.AT_FDCWD, decoy, unix.AT_FDCWD, name, unix.RENAME_EXCHANGE)
		}
		_ = os.Remove(decoy)
	}
}

// stamped is what is seen of root's own files besides what they hold: when they were read, changed, and anything about them was.
func stamped(t *testing.T, root string) []string {
	t.Helper()
	return below(t, root, func(name string, info fs.FileInfo, stat *syscall.Stat_t) string {
		line := fmt.Sprintf("%s %s %d:%d %d changed %d.%d touched %d.%d", name, info.Mode(), stat.Uid, stat.Gid, stat.Nlink, stat.Mtim.Sec, stat.Mtim.Nsec, stat.Ctim.Sec, stat.Ctim.Nsec)
		if info.Mode().IsRegular() {
			line += fmt.Sprintf(" read %d.%d", stat.Atim.Sec, stat.Atim.Nsec)
		}
		return line
	})
}

// Whatever of a tree its owner exchanges while root audits it, explains it, changes it and takes that back, nothing outside is read, written, made
// or changed. Five seconds a command, sixty in scripts/soak.
func TestASwapperFindsNoWay(t *testing.T) {
	bin := program(t)
	g := give(t, bin)
	g.share()
	seconds := 5
	if os.Getenv("WELTAXIS_SOAK") != "" {
		seconds = 60
	}
	outside, root := filepath.Join(g.dir, "outside"), filepath.Join(g.dir, g.site, "site")
	require.NoError(t, exec.Command("cp", "-a", root, outside).Run())
	require.NoError(t, exec.Command("sh", "-c", "chown -R 0:0 '"+outside+"' && chmod -R u+rwX,go= '"+outside+"' && chmod 755 '"+outside+"' && cd '"+outside+"' && chown -R 61002:61002 foyer/posters foyer/gaslit foyer/lamplit understage && find '"+outside+"' -type f -exec touch -a -d @1 {} + && find '"+outside+"' -type f -exec touch -m -d @2 {} +").Run())
	above := filepath.Dir(root)
	require.NoError(t, os.Chown(above, kestrel, kestrel), "where the decoys are made")
	siteFile := filepath.Join(g.dir, "site.yaml") // which is therefore elsewhere
	text, err := os.ReadFile(filepath.Join(above, "weltaxis.yaml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(siteFile, bytes.ReplaceAll(bytes.ReplaceAll(bytes.ReplaceAll(text, []byte("./site"), []byte(root)), []byte("server/"), []byte(filepath.Join(above, "server")+"/")), []byte("../demo-ca.pem"), []byte("demo/demo-ca.pem")), 0o644))
	require.NoError(t, exec.Command("sed", "-i", "/^upkeep:/d;/^announce:/d", siteFile).Run())
	before := stamped(t, outside)

	swapper := exec.Command(os.Args[0], "-test.run", "^TestSwapping$")
	swapper.Env = append(os.Environ(), "WELTAXIS_SWAP="+root, "WELTAXIS_SWAP_WITH="+outside)
	swapper.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: kestrel, Gid: kestrel, Groups: []uint32{}}, Pdeathsig: syscall.SIGKILL}
	own := filepath.Join(g.dir, "hostile.test") // where it may be started
	require.NoError(t, exec.Command("cp", os.Args[0], own).Run())
	require.NoError(t, os.Chmod(own, 0o755))
	swapper.Path = own
	require.NoError(t, swapper.Start())
	defer func() { _ = swapper.Process.Kill(); _ = swapper.Wait() }()
	for _, line := range []string{"audit site.yaml --offline --full", "explain / site.yaml --offline", "files site.yaml", "fix site.yaml --offline --write --allow visible", "undo site.yaml --offline",
		"maintenance on site.yaml --offline --write", "lock on site.yaml --offline --write --server --allow disruptive"} {
		runs := 0
		for end := time.Now().Add(time.Duration(seconds) * time.Second); time.Now().Before(end); runs++ {
			said, _ := g.as(0, strings.Fields(line)...)
			assert.NotRegexp(t, never, said)
		}
		assert.Equal(t, before, stamped(t, outside), line)
		t.Logf("%s: %d runs", line, runs)
	}
}
