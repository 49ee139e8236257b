//go:build linux

package hostile

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
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
	planted := filepath.Join("/dev/shm", filepath.Base(a.dir)) // where everybody makes files, below a folder of devices
	require.NoError(t, os.Symlink(a.write("roots/never.json", "old", 0o640), planted))
	t.Cleanup(func() { os.Remove(planted) })
	require.NoError(t, os.Lchown(planted, kestrel, kestrel))
	for name, wants := range map[string]string{"roots/new.json": "", "sticky/new.json": "", "mine.json": "", "roots/again.json": "", "roots/kept.json": "", "/dev/null": "",
		"everybody/new.json": "may be written to by everybody", "kestrel/new.json": "belongs to 61001", "kestrel/www/new.json": "belongs to 61001", "sticky/theirs.json": "belongs to 61001", "roots": "is a folder",
		planted: "belongs to 61001", "/dev/../" + planted: "belongs to 61001"} {
		a.said = ""
		a.root("audit", "site", "--offline", "--no-keep", "--format", "json", "--output", name)
		full := filepath.Join(a.dir, name)
		if filepath.IsAbs(name) {
			full = name
		}
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

// Whatever a tree's owner has a server's or a runtime's files lead to, nothing outside is read to tell what it says, quoted in an error, or changed; and of links neither by himself.
func TestNothingOutsideIsTold(t *testing.T) {
	bin := program(t)
	for what, c := range map[string]struct {
		link string // that leads to the secret
		site string // the server, in the site file
		says string // that it was noticed
	}{
		"an override file":                     {"kestrel/www/.htaccess", "apache: DIR/apache/apache.conf", "outside"},
		"an override file in a folder":         {"kestrel/www/up/.htaccess", "apache: DIR/apache/apache.conf", "outside"},
		"an include of the owner's":            {"", "nginx: DIR/nginx/nginx.conf", "others may change"},
		"a pattern of the owner's":             {"", "nginx: DIR/nginx/pattern.conf", "others may change"},
		"an include of the owner's for Apache": {"", "apache: DIR/apache/include.conf", "others may change"},
	} {
		for _, who := range []uint32{0, kestrel} {
			if who != 0 && c.link == "" {
				continue // what he includes himself he may read
			}
			t.Run(fmt.Sprint(what, " by ", who), func(t *testing.T) {
				t.Parallel()
				a := newAttack(t, bin)
				secrets := filepath.Join(a.dir, "roots")
				require.NoError(t, os.Mkdir(secrets, 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(secrets, "secret.conf"), []byte("MARKED hush;\nMARKED_TOO hush\n"), 0o644))
				a.write("kestrel/www/index.html", "x", 0o644)
				a.write("kestrel/www/up/a.html", "x", 0o644)
				a.write("kestrel/more.conf", "include DIR/roots/secret.conf;\n", 0o644)
				a.write("kestrel/pattern.conf", "include DIR/roots/*;\n", 0o644)
				a.write("kestrel/apache.conf", "Include DIR/roots/secret.conf\n", 0o644)
				if c.link != "" {
					name := filepath.Join(a.dir, c.link)
					require.NoError(t, os.Symlink(filepath.Join(secrets, "secret.conf"), name))
					require.NoError(t, os.Lchown(name, kestrel, kestrel))
				}
				for file, include := range map[string]string{"nginx": "more.conf", "pattern": "pattern.conf"} {
					a.write("nginx/"+file+".conf", "events {}\nhttp {\n  server {\n    listen 127.0.0.1:80;\n    server_name site.example;\n    root OWN/www;\n    include OWN/"+include+";\n  }\n}\n", 0o644)
				}
				modules := "LoadModule mpm_prefork_module /usr/lib/apache2/modules/mod_mpm_prefork.so\nLoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\nLoadModule dir_module /usr/lib/apache2/modules/mod_dir.so\n"
				apache := "ServerRoot DIR/apache\n" + modules + "TypesConfig /dev/null\nListen 127.0.0.1:80\nServerName site.example\nDocumentRoot OWN/www\n<Directory OWN/www>\nAllowOverride All\nRequire all granted\n</Directory>\n"
				a.write("apache/apache.conf", apache, 0o644)
				a.write("apache/include.conf", apache+"Include OWN/apache.conf\n", 0o644)
				folder := "site"
				if who != 0 {
					folder = "kestrel/site"
				}
				a.write(folder+"/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: OWN/www}, server: {"+c.site+"}}\n", 0o644)
				require.NoError(t, syscall.UtimesNano(filepath.Join(secrets, "secret.conf"), []syscall.Timespec{{Sec: 1}, {Sec: 2}}))
				before := stamped(t, secrets)
				g := given{a, folder}
				for _, line := range []string{"audit SITE --offline --full --no-keep", "audit SITE --offline --format json --no-keep", "explain / SITE --offline", "explain /up/a.html SITE --offline", "fix SITE --offline --no-keep", "fix SITE --offline --write --allow visible --no-keep"} {
					said, _ := g.as(who, strings.Fields(strings.ReplaceAll(line, "SITE", folder))...)
					assert.NotContains(t, said, "MARKED", line)
					assert.NotContains(t, said, "hush", line)
					assert.NotRegexp(t, never, said)
					if strings.Contains(line, "--full") && who == 0 {
						assert.Contains(t, strings.Join(strings.Fields(said), " "), c.says, line)
					}
				}
				assert.Equal(t, before, stamped(t, secrets))
			})
		}
	}
}

// What a site file and the configurations that it names call by relative names lies where they lie, wherever the program is started and however the site is named; and what
// is not there is said.
func TestRelativeMeansWhereItStands(t *testing.T) {
	a := newAttack(t, program(t))
	host := "server {\n  listen 127.0.0.1:80;\n  server_name site.example;\n  root DIR/site/www;\n  add_header X-Frame-Options %s always;\n}\n"
	a.write("site/www/index.html", "x", 0o644)
	a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: www}, server: {nginx: conf/nginx.conf}}\n", 0o644)
	a.write("site/conf/nginx.conf", "events {}\nhttp {\n  include sites-enabled/*;\n}\n", 0o644)
	a.write("site/conf/sites-enabled/.hidden", "broken {", 0o644)
	a.write("site/conf/sites-enabled/own", fmt.Sprintf(host, "DENY"), 0o644)
	for _, other := range []string{"sites-enabled/other", "other/sites-enabled/other", "conf/sites-enabled/other", "site/sites-enabled/other"} {
		a.write(other, fmt.Sprintf(host, "ANOTHERS"), 0o644)
	}
	for name, to := range map[string]string{"link": "site", "other/deep": "../site", "file.yaml": "site/weltaxis.yaml"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(a.dir, name)), 0o755))
		require.NoError(t, os.Symlink(to, filepath.Join(a.dir, name)))
	}
	ask := func(from string, args ...string) string {
		command := exec.Command(a.bin, append([]string{"explain", "/"}, append(args, "--offline")...)...)
		command.Dir, command.Env = filepath.Join(a.dir, from), []string{"PATH=/usr/bin:/bin", "HOME=" + filepath.Join(a.dir, "home"), "NO_COLOR=1", "COLUMNS=200"}
		out, _ := command.CombinedOutput()
		return string(out)
	}
	want := ask("", filepath.Join(a.dir, "site"))
	require.Contains(t, want, "DENY")
	for _, place := range []struct{ from, site string }{{"", "site"}, {"", "./site"}, {"", "site/"}, {"", "site/weltaxis.yaml"}, {"", "./site/weltaxis.yaml"}, {"", "other/../site"}, {"", "link"}, {"", "link/weltaxis.yaml"}, {"", "other/deep"}, {"site", ""}, {"site", "."}, {"site", "weltaxis.yaml"},
		{"site", "../site"}, {"site/conf", ".."}, {"site/www", "../weltaxis.yaml"}, {"other", "../site"}, {"other", "deep"}, {"conf", "../site"}, {"link", "."}, {"", filepath.Join(a.dir, "link")}, {"other", filepath.Join(a.dir, "site/weltaxis.yaml")}} {
		said := ask(place.from, strings.Fields(place.site)...)
		assert.Contains(t, said, "DENY", "%v", place)
		assert.NotContains(t, said, "ANOTHERS", "%v", place)
	}
	// What matches nothing is said, and so is a configuration that is another's.
	status := func(site string, wants string) {
		a.said = ""
		a.root("audit", site, "--offline", "--no-keep", "--full")
		assert.Contains(t, strings.Join(strings.Fields(a.said), " "), wants)
		command := exec.Command(a.bin, "audit", site, "--offline", "--no-keep", "--alarm", "never")
		command.Dir, command.Env = a.dir, []string{"HOME=" + filepath.Join(a.dir, "home")}
		_ = command.Run()
		assert.Equal(t, 3, command.ProcessState.ExitCode(), a.said)
	}
	for _, c := range []struct{ conf, wants string }{
		{"events {}\nhttp {\n  include nowhere/*;\n}\n", "there is no folder in which"},
		{"events {}\nhttp {\n  include sites-enabled/none*;\n}\n", "it has no host"},
		{"events {}\nhttp {\n  include missing.conf;\n}\n", "is not there"},
		{"events {}\nhttp {\n  server {\n    listen 80;\n    server_name other.example www.other.example;\n    root DIR/site/www;\n  }\n}\n", "it has no host of the site's name, site.example"},
		{"events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/other;\n  }\n}\n", "which does not lie below"},
	} {
		a.write("site/conf/nginx.conf", c.conf, 0o644)
		status("site", c.wants)
	}
	for _, c := range []struct{ conf, wants string }{
		{"Listen 80\nServerName other.example\nDocumentRoot DIR/site/www\nIncludeOptional sites/*.conf\n", "it has no host of the site's name"},
		{"Listen 80\nServerName site.example\nDocumentRoot DIR/site/www\nInclude sites/*.conf\n", "matches nothing"},
		{"Listen 80\nServerName site.example\nDocumentRoot DIR/other\n", "which does not lie below"},
	} {
		a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: www}, server: {apache: conf/apache.conf}}\n", 0o644)
		a.write("site/conf/apache.conf", "ServerRoot DIR/site/conf\n"+c.conf, 0o644)
		status("site", c.wants)
	}
	// An address without a name is the default host's.
	a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://127.0.0.1/\"}\nsources: {files: {root: www}, server: {nginx: conf/nginx.conf}}\n", 0o644)
	a.write("site/conf/nginx.conf", "events {}\nhttp {\n  server {\n    listen 80;\n    server_name site.example;\n    root DIR/site/www;\n  }\n}\n", 0o644)
	a.said = ""
	a.root("audit", "site", "--offline", "--no-keep", "--full")
	assert.NotContains(t, a.said, "it has no host")
	// A default host without a name is everybody's.
	a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: www}, server: {nginx: conf/nginx.conf}}\n", 0o644)
	a.write("site/conf/nginx.conf", "events {}\nhttp {\n  server {\n    listen 80 default_server;\n    server_name _;\n    root DIR/site/www;\n  }\n}\n", 0o644)
	a.said = ""
	a.root("audit", "site", "--offline", "--no-keep", "--full")
	assert.NotContains(t, a.said, "it has no host")
}

// What root has a server told below a folder of kestrel's is written as kestrel, and nowhere that he has it lead.
func TestWhatServersAreToldIsWrittenAsItsOwner(t *testing.T) {
	for _, led := range []bool{false, true} {
		a := newAttack(t, program(t))
		a.override("")
		file := filepath.Join(a.own, "www/.htaccess")
		roots := filepath.Join(a.dir, "roots")
		require.NoError(t, exec.Command("cp", "-r", filepath.Join(a.own, "www"), roots).Run())
		if led {
			require.NoError(t, os.RemoveAll(filepath.Join(a.own, "www")))
			require.NoError(t, os.Symlink(roots, filepath.Join(a.own, "www")))
			require.NoError(t, os.Lchown(filepath.Join(a.own, "www"), kestrel, kestrel))
		}
		before := tree(t, roots)
		a.said = ""
		a.root("fix", "site", "hardening.nosniff", "--write", "--allow", "disruptive", "--yes", "--no-keep")
		assert.Equal(t, before, tree(t, roots), a.said)
		if led {
			assert.NotContains(t, a.said, "took", a.said)
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(text), "set X-Content-Type-Options nosniff", a.said)
		for _, line := range tree(t, filepath.Join(a.own, "www")) {
			assert.Contains(t, line, " 61001:61001", "nothing in it became root's")
		}
	}
}

// A copy of a site, whose server's configuration names the original, is planned and changed nowhere but in the copy.
func TestACopyIsNotTheOriginal(t *testing.T) {
	a := newAttack(t, program(t))
	modules := ""
	for _, name := range []string{"mpm_prefork", "authz_core", "autoindex", "dir", "alias", "mime", "headers", "authn_core", "auth_basic", "authn_file", "authz_user", "rewrite"} {
		modules += "LoadModule " + name + "_module /usr/lib/apache2/modules/mod_" + name + ".so\n"
	}
	a.write("original/www/index.html", "x", 0o644)
	a.write("original/www/.htaccess", "Header always unset X-Content-Type-Options\n", 0o644)
	a.write("original/conf/more.conf", "Header always unset X-Frame-Options\n", 0o644)
	a.write("original/conf/apache.conf", "ServerRoot DIR/original/conf\n"+modules+"TypesConfig /dev/null\nListen 127.0.0.1:80\nServerName other.example\nInclude DIR/original/conf/more.conf\n<VirtualHost *:80>\nServerName site.example\nDirectoryIndex index.html\nDocumentRoot DIR/original/www\n<Directory DIR/original/www>\nAllowOverride All\nRequire all granted\n</Directory>\n</VirtualHost>\n", 0o644)
	a.write("original/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: www}, server: {apache: conf/apache.conf}}\n", 0o644)
	a.root("maintenance", "on", "original", "--offline")
	require.Contains(t, a.said, "503", "there is something to change")
	require.NoError(t, exec.Command("cp", "-a", filepath.Join(a.dir, "original"), filepath.Join(a.dir, "copy")).Run())
	before := tree(t, filepath.Join(a.dir, "original"))
	for _, line := range []string{"fix copy --offline --no-keep", "fix copy --offline --no-keep --write --allow disruptive", "lock on copy --offline --server --write --allow disruptive", "maintenance on copy --offline --write --allow disruptive"} {
		a.said = ""
		a.root(strings.Fields(line)...)
		assert.NotContains(t, a.said, "original/www/.htaccess:", line)
		assert.NotContains(t, a.said, "took", line)
		assert.Equal(t, before, tree(t, filepath.Join(a.dir, "original")), line)
	}
	a.said = ""
	a.root("audit", "copy", "--offline", "--no-keep", "--full")
	assert.Contains(t, strings.Join(strings.Fields(a.said), " "), "where this is a copy, its configuration names the original")
}
