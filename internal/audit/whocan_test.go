package audit_test

import (
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"weltaxis/internal/audit"
	"weltaxis/internal/identity"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
)

// aList is an access list as Linux keeps it: tag, rights and number of each entry.
func aList(items ...[3]uint32) []byte {
	raw := binary.LittleEndian.AppendUint32(nil, 2)
	for _, i := range items {
		raw = binary.LittleEndian.AppendUint16(raw, uint16(i[0]))
		raw = binary.LittleEndian.AppendUint16(raw, uint16(i[1]))
		raw = binary.LittleEndian.AppendUint32(raw, i[2])
	}
	return raw
}

const (
	noID      = ^uint32(0)
	keeperID  = 4297 // to whom the site belongs
	neighbour = 4298
)

// whoCan are trees of which the digits say one thing and what somebody can do is another. WEB is the number of whom the web server runs as. Does is a command of somebody, and
// what becomes of it: it proves what is told.
var whoCan = []struct {
	name  string
	setup func(t *testing.T, dir string, web int)
	rule  string // that deviates; "" for none of those that are asked
	says  string
	as    string // web, neighbour
	does  string
	done  bool
}{
	{name: "as it ought to be", setup: func(*testing.T, string, int) {}, as: "web", does: "chmod u+w www/.htaccess"},
	{name: "an override file that is the web server's", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chown(filepath.Join(dir, "www/.htaccess"), web, web))
	}, rule: "permissions.owner-apart", says: "whom the web server runs as", as: "web", does: "chmod u+w www/.htaccess && echo '# x' >> www/.htaccess", done: true},
	{name: "a configuration that is the web server's", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chown(filepath.Join(dir, "app.ini"), web, web))
		require.NoError(t, os.Chmod(filepath.Join(dir, "app.ini"), 0o400))
	}, rule: "permissions.owner-apart", says: "app.ini", as: "web", does: "chmod u+w app.ini && echo '# x' >> app.ini", done: true},
	{name: "an override file that the web server's group may read", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chown(filepath.Join(dir, "www/.htaccess"), keeperID, web))
		require.NoError(t, os.Chmod(filepath.Join(dir, "www/.htaccess"), 0o440))
	}, as: "web", does: "chmod u+w www/.htaccess"},
	{name: "a folder for what is temporary outside", setup: func(t *testing.T, dir string, _ int) {
		require.NoError(t, os.Mkdir(filepath.Join(dir, "scratch"), 0o700))
		require.NoError(t, os.Chmod(filepath.Join(dir, "scratch"), 0o777|os.ModeSticky))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "scratch/a"), nil, 0o644))
		require.NoError(t, os.Chown(filepath.Join(dir, "scratch"), keeperID, keeperID))
		require.NoError(t, os.Chown(filepath.Join(dir, "scratch/a"), keeperID, keeperID))
	}, as: "neighbour", does: "rm -f scratch/a && test ! -e scratch/a"},
	{name: "such a folder in which whoever likes removes", setup: func(t *testing.T, dir string, _ int) {
		require.NoError(t, os.Mkdir(filepath.Join(dir, "scratch"), 0o700))
		require.NoError(t, os.Chmod(filepath.Join(dir, "scratch"), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "scratch/a"), nil, 0o644))
		require.NoError(t, os.Chown(filepath.Join(dir, "scratch"), keeperID, keeperID))
	}, rule: "permissions.not-world-writable", says: "scratch", as: "neighbour", does: "rm -f scratch/a && test ! -e scratch/a", done: true},
	{name: "such a folder in what is served", setup: func(t *testing.T, dir string, _ int) {
		require.NoError(t, os.Mkdir(filepath.Join(dir, "www/scratch"), 0o700))
		require.NoError(t, os.Chmod(filepath.Join(dir, "www/scratch"), 0o777|os.ModeSticky))
		require.NoError(t, os.Chown(filepath.Join(dir, "www/scratch"), keeperID, keeperID))
	}, rule: "permissions.not-world-writable", says: "www/scratch", as: "neighbour", does: "echo x > www/scratch/y.html", done: true},
	{name: "a folder whose new files a neighbour may write to", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "www/uploads"), "system.posix_acl_default", aList([3]uint32{1, 7, noID}, [3]uint32{2, 7, neighbour}, [3]uint32{4, 5, noID}, [3]uint32{16, 7, noID}, [3]uint32{32, 5, noID}), 0))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "www/uploads/new.jpg"), []byte("\xff\xd8\xff"), 0o664))
	}, rule: "permissions.new-entries permissions.group-write-limited", says: "4298", as: "neighbour", does: "echo x >> www/uploads/new.jpg", done: true},
	{name: "a folder whose new files everybody may write to", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "www/shop"), "system.posix_acl_default", aList([3]uint32{1, 7, noID}, [3]uint32{4, 5, noID}, [3]uint32{32, 7, noID}), 0))
	}, rule: "permissions.new-entries", says: "everybody", as: "web", does: "chmod u+w www/.htaccess"},
	{name: "a folder whose new files the web server may write to", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "www/uploads"), "system.posix_acl_default", aList([3]uint32{1, 7, noID}, [3]uint32{2, 7, uint32(web)}, [3]uint32{4, 5, noID}, [3]uint32{16, 7, noID}, [3]uint32{32, 5, noID}), 0))
	}, as: "neighbour", does: "echo x >> www/uploads/a.jpg"},
	{name: "a folder whose list its mask takes away", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "www/uploads"), "system.posix_acl_default", aList([3]uint32{1, 7, noID}, [3]uint32{2, 7, neighbour}, [3]uint32{4, 5, noID}, [3]uint32{16, 5, noID}, [3]uint32{32, 5, noID}), 0))
	}, as: "neighbour", does: "echo x >> www/uploads/a.jpg"},
	{name: "a secret that a neighbour is let read by a list", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "app.ini"), "system.posix_acl_access", aList([3]uint32{1, 4, noID}, [3]uint32{2, 4, neighbour}, [3]uint32{4, 4, noID}, [3]uint32{16, 4, noID}, [3]uint32{32, 0, noID}), 0))
	}, rule: "permissions.secrets-private", says: "4298", as: "neighbour", does: "cat app.ini", done: true},
	{name: "a secret below a folder that is closed above the site", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chmod(filepath.Join(dir, "app.ini"), 0o444))
		require.NoError(t, os.Chown(filepath.Dir(dir), keeperID, web))
		require.NoError(t, os.Chmod(filepath.Dir(dir), 0o750))
	}, as: "neighbour", does: "cat app.ini"},
	{name: "a secret that everybody reads", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chmod(filepath.Join(dir, "app.ini"), 0o444))
	}, rule: "permissions.secrets-private", says: "everybody on this server", as: "neighbour", does: "cat app.ini", done: true},
	{name: "a program with powers", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "tool"), []byte("\x7fELF"), 0o755))
		require.NoError(t, os.Chown(filepath.Join(dir, "tool"), keeperID, keeperID))
		powers := make([]byte, 20) // revision 2, effective, CAP_SETUID (linux/capability.h)
		binary.LittleEndian.PutUint32(powers, 0x02000001)
		binary.LittleEndian.PutUint32(powers[4:], 1<<7)
		require.NoError(t, unix.Setxattr(filepath.Join(dir, "tool"), "security.capability", powers, 0))
	}, rule: "permissions.no-set-id", says: "powers of the superuser", as: "neighbour", does: "test -x tool", done: true},
	{name: "a program without", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "tool"), []byte("\x7fELF"), 0o755))
		require.NoError(t, os.Chown(filepath.Join(dir, "tool"), keeperID, keeperID))
	}, as: "neighbour", does: "test -u tool"},
	{name: "a configuration that nobody changes by a mark", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chmod(filepath.Join(dir, "app.ini"), 0o640))
		file, err := os.Open(filepath.Join(dir, "app.ini"))
		require.NoError(t, err)
		defer file.Close()
		if err := unix.IoctlSetPointerInt(int(file.Fd()), unix.FS_IOC_SETFLAGS, 0x10); err != nil {
			t.Skip("this file system, or what the tests run in, takes no such mark: " + err.Error())
		}
		t.Cleanup(func() {
			if file, err := os.Open(filepath.Join(dir, "app.ini")); err == nil {
				_ = unix.IoctlSetPointerInt(int(file.Fd()), unix.FS_IOC_SETFLAGS, 0)
				file.Close()
			}
		})
	}, as: "keeper", does: "echo x >> app.ini"},
	{name: "a configuration that its owner writes", setup: func(t *testing.T, dir string, web int) {
		require.NoError(t, os.Chmod(filepath.Join(dir, "app.ini"), 0o640))
	}, rule: "permissions.config-locked", says: "app.ini", as: "keeper", does: "echo x >> app.ini", done: true},
	{name: "a picture that is called after a program", setup: func(t *testing.T, dir string, web int) {
		put(t, dir, "www/uploads/x.php-notes.jpg", "\xff\xd8\xff")
	}, as: "web", does: "test -x www/uploads/x.php-notes.jpg"},
	{name: "a picture with a program's ending before its own", setup: func(t *testing.T, dir string, web int) {
		put(t, dir, "www/uploads/x.php.jpg", "\xff\xd8\xff")
	}, rule: "permissions.uploads-inert", says: "x.php.jpg", as: "web", does: "test -r www/uploads/x.php.jpg", done: true},
	{name: "a script that nothing runs", setup: func(t *testing.T, dir string, web int) {
		put(t, dir, "www/uploads/x.jpg", "#!/bin/sh\nid\n")
	}, rule: "permissions.uploads-inert", says: "where nothing would run it", as: "web", does: "www/uploads/x.jpg"},
	{name: "a script that the system runs", setup: func(t *testing.T, dir string, web int) {
		put(t, dir, "www/uploads/x.jpg", "#!/bin/sh\ntrue\n")
		require.NoError(t, os.Chmod(filepath.Join(dir, "www/uploads/x.jpg"), 0o755))
	}, rule: "permissions.uploads-inert", says: "A program lies among the uploads", as: "web", does: "www/uploads/x.jpg", done: true},
	{name: "what ELF says", setup: func(t *testing.T, dir string, web int) { put(t, dir, "www/uploads/x", "\x7fELF\x02\x01\x01") }, rule: "permissions.uploads-inert", says: "where nothing would run it", as: "web", does: "www/uploads/x"},
	{name: "a tag behind a byte mark", setup: func(t *testing.T, dir string, web int) {
		put(t, dir, "www/uploads/x.txt", "\xef\xbb\xbf<?php system($_GET['c']);")
	}, rule: "permissions.uploads-inert", says: "where nothing would run it", as: "web", does: "www/uploads/x.txt"},
	{name: "a tag that a text tells of", setup: func(t *testing.T, dir string, web int) {
		put(t, dir, "www/uploads/x.txt", "How to begin: write <?php and then your words.\n")
	}, as: "web", does: "www/uploads/x.txt"},
	{name: "a text that begins with a number sign", setup: func(t *testing.T, dir string, web int) { put(t, dir, "www/uploads/x.md", "# ! Heading\n") }, as: "web", does: "www/uploads/x.md"},
}

// give writes what is the superuser's.
func give(t *testing.T, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

// put writes what is the keeper's.
func put(t *testing.T, dir, name, text string) {
	t.Helper()
	file := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	require.NoError(t, os.Chown(file, keeperID, keeperID))
}

// TestWhoCanAndNotWhatTheDigitsSay holds what is told of files against what processes of these accounts can do.
func TestWhoCanAndNotWhatTheDigitsSay(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("files of several accounts are made by the superuser")
	}
	web, there := identity.Accounts().Named("www-data")
	if !there {
		t.Skip("there is no account www-data; scripts/test installs what has it")
	}
	asked := []string{"permissions.owner-apart", "permissions.override", "permissions.config-locked", "permissions.not-world-writable", "permissions.group-write-limited", "permissions.folders", "permissions.new-entries", "permissions.secrets-private", "permissions.no-set-id", "permissions.uploads-inert"}
	for _, c := range whoCan {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			dir := filepath.Join(servertest.Public(t), "site")
			for name, text := range map[string]string{"www/index.html": "<title>x</title>", "www/shop/index.html": "x", "www/uploads/a.jpg": "\xff\xd8\xff", "www/.htaccess": "Options -Indexes\n", "app.ini": "[main]\ntitle = Site\n"} {
				put(t, dir, name, text)
			}
			require.NoError(t, filepath.WalkDir(dir, func(name string, _ os.DirEntry, _ error) error { return os.Chown(name, keeperID, keeperID) }))
			for name, mode := range map[string]os.FileMode{"app.ini": 0o440, "www/.htaccess": 0o644} {
				require.NoError(t, os.Chmod(filepath.Join(dir, name), mode))
			}
			require.NoError(t, os.Chown(filepath.Join(dir, "app.ini"), keeperID, int(web.GID)))
			c.setup(t, dir, int(web.UID))
			outside := servertest.Public(t)
			told := servertest.Public(t)
			give(t, told, "nginx.conf", "events {}\nhttp { server { listen 80; server_name site.example; root "+dir+"/www; index index.html; } }\n")
			give(t, outside, "small.yaml", "dialect: small\nversion: 1\npublic: www\nroles:\n  config: [app.ini]\n  uploads: [www/uploads/]\nstores:\n  ini: {file: app.ini, format: ini}\nsettings:\n  site.title: {from: ini/main.title}\n")
			give(t, outside, "weltaxis.yaml", "site: Site\nintent: {address: \"http://site.example\", stage: live, web_user: www-data, hosting: own}\nsources:\n  settings: {dialect: ./small.yaml, root: "+dir+"}\n  server: {nginx: "+told+"/nginx.conf}\n  files: {root: "+dir+"}\n")
			loaded, err := site.Load(filepath.Join(outside, "weltaxis.yaml"))
			require.NoError(t, err)
			r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test", Only: asked})
			require.NoError(t, err)
			var rules, says []string
			for _, d := range r.Deviations {
				if !slices.Contains(rules, d.Rule) {
					rules = append(rules, d.Rule)
				}
				says = append(says, d.Severity.String()+" "+d.Says)
			}
			assert.ElementsMatch(t, strings.Fields(c.rule), rules, "%v", says)
			assert.Contains(t, strings.Join(says, "\n"), c.says)
			for _, n := range r.NotJudged {
				assert.Fail(t, "not judged", "%s: %s", n.Rule, n.Because)
			}
			who := map[string]uint32{"web": web.UID, "neighbour": neighbour, "keeper": keeperID}[c.as]
			command := exec.Command("sh", "-c", c.does)
			command.Dir = dir
			command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: who, Gid: who}}
			out, err := command.CombinedOutput()
			assert.Equal(t, c.done, err == nil, "as %s: %s: %s", c.as, c.does, out)
		})
	}
}
