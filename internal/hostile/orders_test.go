//go:build linux

package hostile

import (
	"bytes"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/fix"
	"weltaxis/internal/servertest"
)

// kestrel owns a site's tree, and is nobody on this machine; root looks after it.
const kestrel = 61001

// An attack is what kestrel prepares, so that something is done as root; the trace shows that it was.
type attack struct {
	*testing.T
	bin   string
	dir   string   // root's, that everybody passes through
	own   string   // kestrel's, in it
	trace string   // a file that whoever runs kestrel's orders makes
	env   []string // of root's command
	said  string
}

// orders is a program of kestrel's: it notes who runs it.
func (a *attack) orders() string { return "#!/bin/sh\nid -u >> " + a.trace + "\n" }

func (a *attack) write(name, text string, mode os.FileMode) string {
	a.Helper()
	full := filepath.Join(a.dir, name)
	require.NoError(a, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(a, os.WriteFile(full, []byte(strings.NewReplacer("DIR", a.dir, "OWN", a.own, "TRACE", a.trace).Replace(text)), mode))
	require.NoError(a, os.Chmod(full, mode))
	for at := full; strings.HasPrefix(at, a.own); at = filepath.Dir(at) {
		require.NoError(a, os.Lchown(at, kestrel, kestrel))
	}
	return full
}

// give makes something kestrel's, with all that is in it.
func (a *attack) give(name string) {
	a.Helper()
	out, err := exec.Command("chown", "-Rh", fmt.Sprintf("%d:%d", kestrel, kestrel), filepath.Join(a.dir, name)).CombinedOutput()
	require.NoError(a, err, string(out))
}

// evil is a library whose loading leaves a trace.
func (a *attack) evil() string {
	a.Helper()
	if _, err := exec.LookPath("cc"); err != nil {
		a.Skip("there is no C compiler")
	}
	source := a.write("kestrel/evil.c", "#include <stdio.h>\n#include <unistd.h>\n__attribute__((constructor)) static void f(void) { FILE *t = fopen(\"TRACE\", \"a\"); if (t) { fprintf(t, \"%d\\n\", getuid()); fclose(t); } }\n", 0o644)
	library := filepath.Join(a.own, "evil.so")
	out, err := exec.Command("cc", "-shared", "-fPIC", "-o", library, source).CombinedOutput()
	require.NoError(a, err, string(out))
	return library
}

// live is where somebody answers for the site, whatever the web server has been told; sources.live as a site file says it comes with it.
func (a *attack) live() (port, source string) {
	a.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.URL.Path != "/" {
			w.WriteHeader(http.StatusNotFound)
		}
		fmt.Fprint(w, "<!doctype html><html lang=en><title>Stage door</title><h1>Stage door</h1>")
	}))
	a.Cleanup(server.Close)
	_, port, err := net.SplitHostPort(server.Listener.Addr().String())
	require.NoError(a, err)
	return port, fmt.Sprintf("live: {own: true, rate: 0, seconds: 20, connect: {\"site.example:%[1]s\": \"127.0.0.1:%[1]s\"}}", port)
}

// root has root run the program.
func (a *attack) root(args ...string) {
	a.Helper()
	command := exec.Command(a.bin, args...)
	command.Dir, command.Env = a.dir, append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + filepath.Join(a.dir, "home"), "NO_COLOR=1", "COLUMNS=300"}, a.env...)
	var said bytes.Buffer
	command.Stdout, command.Stderr = &said, &said
	_ = command.Run()
	a.said += said.String()
}

// asRoot tells whether something of kestrel's was run as root.
func (a *attack) asRoot() bool {
	text, _ := os.ReadFile(a.trace)
	return strings.Contains("\n"+string(text), "\n0\n")
}

// attacks are cases that root's orders were once given by somebody else in. Each tells whether it went as kestrel wished.
var attacks = map[string]struct {
	do   func(a *attack) bool
	says string // afterwards, somewhere in what is said
}{
	"an override file that loads a module, hidden by a name that only this program knew": {func(a *attack) bool {
		return a.override("<IfModule !mod_mpm_prefork.c>\nLoadModule evil_module " + a.evil() + "\n</IfModule>\n")
	}, ""},
	"the same, hidden by what only the environment says": {func(a *attack) bool {
		return a.override("<IfDefine !APACHE_LAMP>\nLoadFile " + a.evil() + "\n</IfDefine>\n")
	}, ""},
	"the same, behind an end in quotes": {func(a *attack) bool {
		return a.override("<IfModule !core.c>\n\"</IfModule>\"\nLoadFile " + a.evil() + "\n<IfModule !core.c>\n</IfModule>\n</IfModule>\n")
	}, ""},
	"an include of a group's that has nginx load a module": {func(a *attack) bool {
		a.needs("nginx")
		a.write("nginx/sites/k.conf", "server { listen 127.0.0.1:80; server_name site.example; root OWN/www; location /posters/ { autoindex on; } }\n", 0o664)
		require.NoError(a, os.Chown(filepath.Join(a.dir, "nginx/sites/k.conf"), 0, 33))
		a.write("nginx/modules/k.conf", "load_module "+a.evil()+";\n", 0o664)
		require.NoError(a, os.Chown(filepath.Join(a.dir, "nginx/modules/k.conf"), 0, 33))
		a.write("nginx/nginx.conf", "include DIR/nginx/modules/*.conf;\nevents {}\nhttp { include DIR/nginx/sites/*.conf; }\n", 0o644)
		a.write("kestrel/www/index.html", "x", 0o644)
		a.write("weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: OWN/www}, server: {nginx: DIR/nginx/nginx.conf}}\n", 0o644)
		a.root("maintenance", "on", "--server", "--offline", ".")
		return a.asRoot()
	}, "would be obeyed by the test"},
	"what a group may write to is read again by the server": {func(a *attack) bool {
		a.needs("nginx")
		a.nginxOf("site", "")
		conf := filepath.Join(a.dir, "site/nginx.conf")
		text, err := os.ReadFile(conf)
		require.NoError(a, err)
		a.write("modules/k.conf", "load_module "+a.evil()+";\n", 0o664)
		require.NoError(a, os.Chown(filepath.Join(a.dir, "modules/k.conf"), 0, 33))
		require.NoError(a, os.WriteFile(conf, append([]byte("include "+a.dir+"/modules/*.conf;\n"), text...), 0o644))
		a.root("fix", "site", "hardening.nosniff", "--write", "--reload", "--allow", "disruptive", "--yes")
		return a.asRoot()
	}, "what it says would be obeyed"},
	"an include of a group's that has nginx read what is root's": {func(a *attack) bool {
		a.needs("nginx")
		secret := a.write("secret", "hush-hush-it-is-a-secret\n", 0o600)
		require.NoError(a, os.Chtimes(secret, time.Unix(1, 0), time.Unix(2, 0)))
		a.write("nginx/sites/k.conf", "server { listen 127.0.0.1:80; server_name site.example; root OWN/www; }\nssl_password_file DIR/secret;\n", 0o664)
		require.NoError(a, os.Chown(filepath.Join(a.dir, "nginx/sites/k.conf"), 0, 33))
		a.write("nginx/nginx.conf", "events {}\nhttp { include DIR/nginx/sites/*.conf; }\n", 0o644)
		a.write("kestrel/www/index.html", "x", 0o644)
		a.write("weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: OWN/www}, server: {nginx: DIR/nginx/nginx.conf}}\n", 0o644)
		a.root("maintenance", "on", "--server", "--offline", ".")
		stat, err := os.Stat(secret)
		require.NoError(a, err)
		return stat.Sys().(*syscall.Stat_t).Atim.Sec > 1 // somebody has read it
	}, "would be obeyed by the test"},
	"a site file whose reload is a command": {func(a *attack) bool {
		a.needs("nginx")
		a.write("kestrel/do", a.orders(), 0o755)
		a.nginxOf("kestrel", ", reload: [OWN/do]")
		a.root("fix", "kestrel", "hardening.nosniff", "--write", "--reload", "--allow", "disruptive", "--yes")
		return a.asRoot()
	}, "gives the orders of 61001"},
	"root's site file, whose reload is a command of kestrel's": {func(a *attack) bool {
		a.needs("nginx")
		a.write("kestrel/do", a.orders(), 0o755)
		a.nginxOf("site", ", reload: [OWN/do]")
		a.root("fix", "site", "hardening.nosniff", "--write", "--reload", "--allow", "disruptive", "--yes")
		return a.asRoot()
	}, "is not started"},
	"a path that begins with kestrel's folder: nginx": {func(a *attack) bool {
		a.needs("nginx")
		a.write("kestrel/bin/nginx", a.orders(), 0o755)
		a.env = append(a.env, "PATH="+a.own+"/bin:"+os.Getenv("PATH"))
		a.nginxOf("site", "")
		a.root("fix", "site", "hardening.nosniff")
		return a.asRoot()
	}, ""},
	"a path that begins with kestrel's folder: php": {func(a *attack) bool {
		a.write("kestrel/bin/php", a.orders(), 0o755)
		a.env = append(a.env, "PATH="+a.own+"/bin:"+os.Getenv("PATH"))
		a.write("php/php-fpm.conf", "[global]\n[www]\nlisten = 127.0.0.1:9000\n", 0o644)
		a.write("php/php.ini", "allow_url_include = On\n", 0o644)
		a.write("site/nginx.conf", "events {}\nhttp { server { listen 80; server_name site.example; root OWN/www; index index.php; location ~ \\.php$ { fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_pass 127.0.0.1:9000; } } }\n", 0o644)
		a.write("kestrel/www/index.php", "<?php", 0o644)
		a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example/\"}\nsources: {files: {root: OWN/www}, server: {nginx: DIR/site/nginx.conf}, runtime: {php: DIR/php}}\n", 0o644)
		a.root("fix", "site", "runtime.no-remote-include", "--offline")
		return a.asRoot()
	}, ""},
	"a path that begins with kestrel's folder: who is told what is new": {func(a *attack) bool {
		a.write("kestrel/bin/tell", a.orders(), 0o755)
		a.env = append(a.env, "PATH="+a.own+"/bin:"+os.Getenv("PATH"))
		a.newDeviation()
		a.root("audit", "site", "--offline", "--alarm", "low", "--on-new", "tell")
		return a.asRoot()
	}, "tell is not on this machine"},
	"who is told what is new lies with kestrel": {func(a *attack) bool {
		a.write("kestrel/tell", a.orders(), 0o755)
		a.newDeviation()
		a.root("audit", "site", "--offline", "--alarm", "low", "--on-new", a.own+"/tell")
		return a.asRoot()
	}, "is not started"},
	"a home of kestrel's, with a journal of his": {func(a *attack) bool {
		a.env = append(a.env, "HOME="+a.own)
		return a.forged(filepath.Join(a.own, ".local/state"))
	}, "belongs to 61001"},
	"a folder of the environment that is kestrel's": {func(a *attack) bool {
		a.env = append(a.env, "XDG_STATE_HOME="+filepath.Join(a.own, "state"))
		return a.forged(filepath.Join(a.own, "state"))
	}, "belongs to 61001"},
	"a folder of the environment behind a link of kestrel's": {func(a *attack) bool {
		require.NoError(a, os.Mkdir(filepath.Join(a.dir, "all"), 0o777|os.ModeSticky))
		require.NoError(a, os.Chmod(filepath.Join(a.dir, "all"), 0o777|os.ModeSticky))
		require.NoError(a, os.Symlink(filepath.Join(a.own, "state"), filepath.Join(a.dir, "all/state")))
		require.NoError(a, os.Lchown(filepath.Join(a.dir, "all/state"), kestrel, kestrel))
		a.env = append(a.env, "XDG_STATE_HOME="+filepath.Join(a.dir, "all/state"))
		return a.forged(filepath.Join(a.own, "state"))
	}, "belongs to 61001"},
	"a state folder that was given to kestrel": {func(a *attack) bool { return a.forgedIn("state", "state/weltaxis") }, "belongs to 61001"},
	"the site's state folder was given to kestrel": {func(a *attack) bool {
		return a.forgedIn("state", filepath.Join("state/weltaxis", a.journal("site")))
	}, "belongs to 61001"},
	"what undo needs was given to kestrel": {func(a *attack) bool {
		return a.forgedIn("state", filepath.Join("state/weltaxis", a.journal("site"), "undo"))
	}, "belongs to 61001"},
	"what undo needs is a link": {func(a *attack) bool {
		folder := filepath.Join(a.dir, "state/weltaxis", a.journal("site"))
		a.plain()
		a.forge(folder)
		require.NoError(a, os.Rename(filepath.Join(folder, "undo"), filepath.Join(a.own, "undo")))
		a.give("kestrel/undo")
		require.NoError(a, os.Symlink(filepath.Join(a.own, "undo"), filepath.Join(folder, "undo")))
		a.root("undo", "site", "--state", "state", "--offline")
		return a.undone()
	}, "is a link"},
	"a journal of root's own names a command": {func(a *attack) bool {
		a.plain()
		a.forge(filepath.Join(a.dir, "state/weltaxis", a.journal("site")))
		a.root("undo", "site", "--state", "state", "--offline")
		return a.asRoot()
	}, "nobody here knows how it is told now"},
	"a lock that is a link": {func(a *attack) bool {
		a.plain()
		folder := filepath.Join(a.dir, "state/weltaxis", a.journal("site"))
		require.NoError(a, os.MkdirAll(folder, 0o700))
		require.NoError(a, os.Symlink(filepath.Join(a.dir, "made-by-root"), filepath.Join(folder, "lock")))
		a.root("undo", "site", "--state", "state", "--offline")
		return exists(filepath.Join(a.dir, "made-by-root"))
	}, "is a link"},
	"a journal that is a link": {func(a *attack) bool {
		a.plain()
		folder := filepath.Join(a.dir, "state/weltaxis", a.journal("site"))
		require.NoError(a, os.MkdirAll(folder, 0o700))
		require.NoError(a, os.Symlink(filepath.Join(a.dir, "made-by-root"), filepath.Join(folder, "journal.jsonl")))
		a.root("undo", "site", "--state", "state", "--offline")
		return exists(filepath.Join(a.dir, "made-by-root"))
	}, "is a link"},
	"a terminal inside another, whose program is kestrel's": {func(a *attack) bool {
		if _, err := exec.LookPath("script"); err != nil {
			a.Skip("script is not installed")
		}
		a.write("kestrel/bin/tmux", a.orders(), 0o755)
		a.plain()
		a.env = append(a.env, "PATH="+a.own+"/bin:"+os.Getenv("PATH"), "TMUX=/x,1,1", "TERM=xterm", "NO_COLOR=")
		command := exec.Command("script", "-qec", a.bin+" audit site --offline", "/dev/null")
		command.Dir, command.Env = a.dir, append([]string{"HOME=" + filepath.Join(a.dir, "home")}, a.env...)
		out, _ := command.CombinedOutput()
		a.said = regexp.MustCompile("\x1b\\[[0-9;]*[mK]").ReplaceAllString(string(out), "") // its colours, and its line of progress
		return a.asRoot()
	}, ""},
	"a home in which a file waits for a writer": {func(a *attack) bool {
		require.NoError(a, os.MkdirAll(filepath.Join(a.own, ".config"), 0o755))
		require.NoError(a, syscall.Mkfifo(filepath.Join(a.own, ".config/user-dirs.dirs"), 0o600))
		command := exec.Command("timeout", "5", a.bin, "--version")
		command.Env = []string{"HOME=" + a.own}
		out, err := command.CombinedOutput()
		a.said = string(out)
		return err != nil
	}, ""},
	"authorities of kestrel's": {func(a *attack) bool {
		server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Stage door</title>") }))
		a.Cleanup(server.Close)
		a.write("kestrel/authorities.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})), 0o644)
		a.env = append(a.env, "SSL_CERT_FILE="+a.own+"/authorities.pem")
		a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \""+server.URL+"/\"}\nsources: {live: {rate: 0, seconds: 5, pages: 1}}\n", 0o644)
		a.root("audit", "site", "--only", "visibility")
		return !strings.Contains(a.said, "certificate")
	}, "SSL_CERT_FILE is not gone by"},
	"a history that is a link": {func(a *attack) bool {
		a.plain()
		require.NoError(a, os.MkdirAll(filepath.Join(a.dir, "state/weltaxis"), 0o700))
		require.NoError(a, os.Symlink(filepath.Join(a.dir, "made-by-root"), filepath.Join(a.dir, "state/weltaxis/history.db")))
		a.root("audit", "site", "--offline", "--state", "state")
		return exists(filepath.Join(a.dir, "made-by-root"))
	}, "is a link"},
	"a history of kestrel's": {func(a *attack) bool {
		a.plain()
		a.root("audit", "site", "--offline", "--state", "state")
		require.NoError(a, os.Chown(filepath.Join(a.dir, "state/weltaxis/history.db"), kestrel, kestrel))
		a.said = ""
		a.root("history", "site", "--state", "state")
		return strings.Contains(a.said, "Stage door")
	}, "history.db belongs to 61001"},
	"a dialect of kestrel's": {func(a *attack) bool {
		a.write("kestrel/mine.yaml", "name: mine\nextends: brindle\n", 0o644)
		a.write("kestrel/www/index.html", "x", 0o644)
		a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live}\nsources: {settings: {dialect: OWN/mine.yaml, root: OWN/www}}\n", 0o644)
		a.root("audit", "site", "--offline")
		return !strings.Contains(a.said, "is not obeyed")
	}, "the dialect " + "OWN/mine.yaml is not obeyed"},
	"a baseline of kestrel's": {func(a *attack) bool {
		a.plain()
		a.write("kestrel/rules.yaml", "limits: {}\n", 0o644)
		a.root("audit", "site", "--offline", "--baseline", a.own+"/rules.yaml")
		return !strings.Contains(a.said, "is not obeyed")
	}, "the baseline OWN/rules.yaml is not obeyed"},
	"values of kestrel's": {func(a *attack) bool {
		a.plain()
		a.write("kestrel/values.yaml", "values: {site.title: Kestrel's}\n", 0o644)
		a.root("fix", "site", "--offline", "--values", a.own+"/values.yaml")
		return !strings.Contains(a.said, "is not obeyed")
	}, "OWN/values.yaml is not obeyed"},
	"a site file of kestrel's reads what is root's": {func(a *attack) bool {
		a.write("secret", "hush_hush: yes\n", 0o600)
		a.write("kestrel/www/index.html", "x", 0o644)
		a.write("kestrel/weltaxis.yaml", "site: Stage door\nintent: {stage: live}\nsources: {settings: {dialect: DIR/secret, root: www}}\n", 0o644)
		a.root("audit", "kestrel", "--offline")
		return strings.Contains(a.said, "hush")
	}, "gives the orders of 61001"},
	"a site file of kestrel's asks for root's environment": {func(a *attack) bool {
		a.env = append(a.env, "LOOKER=not-for-kestrel")
		a.write("kestrel/www/index.html", "x", 0o644)
		a.write("kestrel/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://127.0.0.1:1/\"}\nsources: {live: {user: \"a:${LOOKER}\", seconds: 1}}\n", 0o644)
		a.root("audit", "kestrel")
		return !strings.Contains(a.said, "LOOKER is not set")
	}, "LOOKER is not set"},
	"a site file of kestrel's changes what is root's": {func(a *attack) bool {
		a.write("roots/file.html", "x", 0o666)
		require.NoError(a, os.Mkdir(filepath.Join(a.own, "www"), 0o755))
		a.write("kestrel/weltaxis.yaml", "site: Stage door\nintent: {stage: live, hosting: shared, web_user: www-data}\nsources: {files: {root: DIR/roots, public: .}}\n", 0o644)
		a.root("fix", "kestrel", "--offline", "--write", "--allow", "visible")
		stat, err := os.Stat(filepath.Join(a.dir, "roots/file.html"))
		require.NoError(a, err)
		return stat.Mode().Perm() != 0o666
	}, "gives the orders of 61001"},
	"a site file in a folder of another": {func(a *attack) bool {
		a.write("kestrel/www/index.html", "x", 0o644)
		file := a.write("kestrel/sub/weltaxis.yaml", "site: Stage door\nintent: {stage: live}\nsources: {files: {root: OWN/www}}\n", 0o644)
		require.NoError(a, os.Lchown(file, 61002, 61002))
		a.root("audit", "kestrel/sub", "--offline")
		return !strings.Contains(a.said, "is not obeyed")
	}, "weltaxis.yaml belongs to 61002"},
	"a site file that everybody may write to": {func(a *attack) bool {
		a.plain()
		require.NoError(a, os.Chmod(filepath.Join(a.dir, "site/weltaxis.yaml"), 0o666))
		a.root("audit", "site", "--offline")
		return !strings.Contains(a.said, "is not obeyed")
	}, "may be written to by everybody"},
}

// TestNobodyElseGivesRootOrders: each attack succeeded once. WELTAXIS_PROGRAM names another build to try them on.
func TestNobodyElseGivesRootOrders(t *testing.T) {
	bin := program(t)
	for name, one := range attacks {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := newAttack(t, bin)
			assert.False(t, one.do(a), "it went as kestrel wished: %s", a.said)
			assert.Contains(t, a.said, strings.NewReplacer("DIR", a.dir, "OWN", a.own).Replace(one.says))
			assert.NotRegexp(t, never, a.said)
		})
	}
}

// program is the built program, where everybody may start it.
func program(t *testing.T) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root has rights that others are after")
	}
	if other := os.Getenv("WELTAXIS_PROGRAM"); other != "" {
		return other
	}
	bin := filepath.Join(servertest.Public(t), "weltaxis")
	build := exec.Command("go", "build", "-o", bin, "weltaxis/cmd/weltaxis")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	return bin
}

func newAttack(t *testing.T, bin string) *attack {
	t.Helper()
	dir, err := os.MkdirTemp("", "weltaxis-orders-") // no name of a test in it, which a site file would have to quote
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	a := &attack{T: t, bin: bin, dir: dir, own: filepath.Join(dir, "kestrel"), trace: filepath.Join(dir, "trace")}
	require.NoError(t, os.Mkdir(a.own, 0o755))
	require.NoError(t, os.Chown(a.own, kestrel, kestrel))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "home"), 0o700))
	require.NoError(t, os.WriteFile(a.trace, nil, 0o666))
	require.NoError(t, os.Chmod(a.trace, 0o666))
	return a
}

// An override file that its owner exchanges all the while: what is tested is what was read and understood, however often he tries. Four times here,
// a hundred in scripts/soak.
func TestAnOverrideFileThatIsExchanged(t *testing.T) {
	a := newAttack(t, program(t))

	a.override("")
	file, evil := filepath.Join(a.own, "www/.htaccess"), a.evil()
	harmless, err := os.ReadFile(file)
	require.NoError(a, err)
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
				text := harmless
				if n%2 == 0 {
					text = fmt.Appendf(nil, "LoadFile %s\n", evil)
				}
				_ = os.WriteFile(file+".new", text, 0o644)
				_ = os.Rename(file+".new", file)
			}
		}
	}()
	for n := map[bool]int{false: 4, true: 100}[os.Getenv("WELTAXIS_SOAK") != ""]; n > 0; n-- {
		a.root("fix", "site", "hardening.nosniff")
	}
	close(stop)
	<-stopped
	assert.False(t, a.asRoot(), a.said)
}

func exists(name string) bool { _, err := os.Lstat(name); return err == nil }

func (a *attack) needs(program string) {
	a.Helper()
	servertest.Program(a.T, program)
}

// plain is a site of root's own, with nothing in it.
func (a *attack) plain() {
	a.Helper()
	a.write("kestrel/www/index.html", "x", 0o644)
	a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live}\nsources: {files: {root: OWN/www}}\n", 0o644)
}

// newDeviation is a site of root's own in which something deviates that did not in the audit before.
func (a *attack) newDeviation() {
	a.Helper()
	a.plain()
	a.root("audit", "site", "--offline")
	a.write("kestrel/www/page.html", "x", 0o666)
}

// nginxOf is a site in a folder, before which nginx leaves a header out; the configuration is whose the site file is.
func (a *attack) nginxOf(folder, reload string) {
	a.Helper()
	port, live := a.live()
	a.write("kestrel/www/a.txt", "x", 0o644)
	a.write(folder+"/nginx.conf", "events {}\nhttp {\n  server {\n    listen 127.0.0.1:"+port+";\n    server_name site.example;\n    root OWN/www;\n    index a.txt;\n  }\n}\n", 0o644)
	a.write(folder+"/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example:"+port+"/\"}\nsources: {"+live+", server: {nginx: DIR/"+folder+"/nginx.conf"+reload+"}}\n", 0o644)
}

// override has root plan a change of an override file of kestrel's, in which more stands.
func (a *attack) override(text string) bool {
	a.Helper()
	a.needs("apache2")
	port, live := a.live()
	a.write("kestrel/www/index.html", "x", 0o644)
	a.write("kestrel/www/.htaccess", "Header always unset X-Content-Type-Options\n"+text, 0o644)
	modules := ""
	for _, name := range []string{"mpm_prefork", "authz_core", "autoindex", "dir", "alias", "mime", "headers"} {
		modules += "LoadModule " + name + "_module /usr/lib/apache2/modules/mod_" + name + ".so\n"
	}
	a.write("apache/envvars", "export APACHE_LAMP=/nowhere\n", 0o644)
	a.write("apache/apache.conf", "ServerRoot DIR/apache\n"+modules+"TypesConfig /dev/null\nUser www-data\nGroup www-data\nListen 127.0.0.1:"+port+"\nServerName site.example\nDirectoryIndex index.html\nDocumentRoot OWN/www\n<Directory OWN/www>\nAllowOverride All\nRequire all granted\n</Directory>\n", 0o644)
	a.write("site/weltaxis.yaml", "site: Stage door\nintent: {stage: live, address: \"http://site.example:"+port+"/\"}\nsources: {"+live+", server: {apache: DIR/apache/apache.conf}}\n", 0o644)
	a.root("fix", "site", "hardening.nosniff")
	return a.asRoot()
}

// journal is what the folder is called in which the changes of a site are kept.
func (a *attack) journal(folder string) string {
	return fix.FolderName("Stage door", filepath.Join(a.dir, folder, "weltaxis.yaml"))
}

// forge writes a journal that no run has made: a command that has a server read again, and a file that is made where it was removed.
func (a *attack) forge(folder string) {
	a.Helper()
	require.NoError(a, os.MkdirAll(filepath.Join(folder, "undo"), 0o700))
	line := `{"format":2,"run":"20260101T000000","id":%d,"at":"2026-01-01T00:00:00Z","event":"done","kind":"%s","name":"nginx","from":"","to":"","risk":"visible","until":"2030-01-01T00:00:00Z"}` + "\n"
	call := "sh\x00-c\x00id -u >> " + a.trace
	undo := map[int]string{
		1: fmt.Sprintf(`{"format":2,"kind":"server","edits":[{"place":"x","kind":"file","file":%q,"before":"aGVsbG8=","after":null,"old":null,"new":null}]}`, filepath.Join(a.dir, "made-by-root")),
		2: fmt.Sprintf(`{"format":2,"kind":"reload","call":%q}`, call),
	}
	undo[2] = strings.ReplaceAll(undo[2], `\x00`, `\u0000`)
	require.NoError(a, os.WriteFile(filepath.Join(folder, "journal.jsonl"), fmt.Appendf(nil, line+line, 1, "server", 2, "reload"), 0o600))
	for id, text := range undo {
		require.NoError(a, os.WriteFile(filepath.Join(folder, "undo", fmt.Sprintf("%d.json", id)), []byte(text), 0o600))
	}
}

// undone tells whether what the forged journal names was done.
func (a *attack) undone() bool { return a.asRoot() || exists(filepath.Join(a.dir, "made-by-root")) }

// forged has root undo what a journal of kestrel's names, in a state folder that the environment finds.
func (a *attack) forged(state string) bool {
	a.Helper()
	a.plain()
	a.forge(filepath.Join(state, "weltaxis", a.journal("site")))
	a.give("kestrel")
	a.root("undo", "site", "--offline")
	return a.undone()
}

// forgedIn is that in a folder that somebody named, of which a part was given to kestrel.
func (a *attack) forgedIn(state, given string) bool {
	a.Helper()
	a.plain()
	a.forge(filepath.Join(a.dir, state, "weltaxis", a.journal("site")))
	a.give(given)
	a.root("undo", "site", "--offline", "--state", state)
	return a.undone()
}
