package audit_test

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/fcgi"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/steps"
)

// Generated sites behind real servers: 40 in the tests, as many as WELTAXIS_SEEDS says from WELTAXIS_SEED on in scripts/soak. WELTAXIS_SHOW prints those that were told wrong.
const servedSites = 40

// A grown site is a configuration and a tree: what is private, and programs, lie inside and outside of what is served; links, other names of folders, rewrites and
// other hosts lead there, or nowhere, or are refused.
type grown struct {
	*rand.Rand
	kind, dir string
	files     map[string]string // each holds its own name
	secret    []string          // what nobody is to get: private files
	programs  []string          // among uploads
	links     map[string]string
	seconds   map[string]string // further names of files
	others    []string          // links that belong to somebody else
	slashed   bool              // addresses are written with other slashes as well
	lines     []string          // of the site's host
	other     []string          // of the other host; nil for none
	prefixes  []string          // under which something might be
}

func (g *grown) one(of ...string) string { return of[g.IntN(len(of))] }

func (g *grown) chance(percent int) bool { return g.IntN(100) < percent }

func grow(seed uint64, kind, dir string) *grown {
	g := &grown{Rand: rand.New(rand.NewPCG(seed, 39)), kind: kind, dir: dir, files: map[string]string{}, links: map[string]string{}, seconds: map[string]string{}, prefixes: []string{""}}
	g.files["www/index.html"], g.files["www/about/index.html"], g.files["www/a.txt"], g.files["pics/one.jpg"] = "home", "about", "a", "one"
	folders := []string{"data", "store", "data/deep", "www/files", "www/about"}
	for range 2 + g.IntN(4) {
		name := g.one(folders...) + "/" + g.one("members.sqlite", "dump.sql", "notes.log", "id.pem.key", "copy.tar.gz.bak", ".env")
		g.files[name] = "private " + name
		g.secret = append(g.secret, name)
	}
	uploads := g.one("www/uploads", "store/uploads")
	g.files[uploads+"/pic.jpg"] = "\xff\xd8\xff"
	for range g.IntN(3) {
		name := uploads + "/" + g.one("s.php", "deep/t.php", "u.PHP", "v.php.jpg")
		g.files[name] = "<?php echo 'text of " + name + "';"
		g.programs = append(g.programs, name)
	}
	if uploads == "store/uploads" {
		g.links["www/media"] = "../store/uploads"
	}
	for range g.IntN(4) {
		at := "www/" + g.one("l1", "l2", "about/l3", "l4.txt")
		to := g.one("data", "store", "data/deep", "pics", "mid/m", "gone", "www/files", g.secret[0])
		if strings.HasSuffix(at, ".txt") {
			to = g.secret[0]
		}
		g.links[at] = dir + "/" + to
	}
	if g.chance(40) {
		g.links["mid/m"] = "../" + g.one("data", "store", "pics")
	}
	for i := range g.IntN(4) {
		g.way(i)
	}
	if g.chance(30) {
		g.shield()
	}
	if g.chance(25) {
		g.other = []string{g.one("www", "data", "store", "pics")}
	}
	g.rarer()
	for name := range g.links {
		if below, is := strings.CutPrefix(name, "www"); is {
			g.prefixes = append(g.prefixes, below)
		}
	}
	return g
}

// rarer adds what is seldom: a second name of a file, slashes that are not what they seem, more behind a program's name, links of others.
func (g *grown) rarer() {
	if g.chance(30) {
		of, name := g.secret[0], "www/"+g.one("h1.txt", "files/cover.jpg", "about/h2", "h3.html")
		g.seconds[name], g.files[name] = of, g.files[of]
		g.secret = append(g.secret, name)
	}
	if g.slashed = g.chance(30); g.slashed && g.kind == "nginx" {
		g.lines = append(g.lines, "merge_slashes "+g.one("off", "on")+";")
	} else if g.slashed {
		g.lines = append(g.lines, g.one("AllowEncodedSlashes On", "AllowEncodedSlashes NoDecode", "AllowEncodedSlashes Off", "MergeSlashes Off"))
	}
	if g.chance(25) && g.kind == "nginx" {
		g.lines = append(g.lines, `location ~ ^(.+?\.php)(/.*)?$ { fastcgi_split_path_info ^(.+?\.php)(/.*)?$; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_param REQUEST_METHOD $request_method; fastcgi_param SERVER_PROTOCOL $server_protocol; fastcgi_param REQUEST_URI $request_uri; fastcgi_param HTTP_HOST $host; fastcgi_pass FAST; }`)
	} else if g.chance(25) && g.kind == "apache" {
		g.lines = append(g.lines, "<Directory DIR>\nAcceptPathInfo "+g.one("On", "Off")+"\n</Directory>")
	}
	if g.chance(25) {
		for _, at := range slices.Sorted(maps.Keys(g.links)) {
			if g.chance(50) {
				g.others = append(g.others, at)
			}
		}
		if g.kind == "nginx" {
			g.lines = append(slices.DeleteFunc(g.lines, func(line string) bool { return strings.HasPrefix(line, "disable_symlinks") }), "disable_symlinks if_not_owner;")
		} else {
			g.lines = append(g.lines, "<Directory DIR/www>\nOptions -FollowSymLinks +SymLinksIfOwnerMatch\n</Directory>")
		}
	}
}

// way adds another name of a folder, or a rewrite.
func (g *grown) way(i int) {
	folder, name := g.one("data", "store", "pics", "www", "data/deep"), fmt.Sprintf("/w%d", i)
	g.prefixes = append(g.prefixes, name)
	if g.kind == "nginx" {
		g.lines = append(g.lines, []string{
			fmt.Sprintf("location %s/ { alias DIR/%s/; }", name, folder),
			fmt.Sprintf("location %s { alias DIR/%s/; }", name, folder),
			fmt.Sprintf("location %s/ { internal; alias DIR/%s/; }", name, folder),
			fmt.Sprintf("location %s/ { deny all; alias DIR/%s/; }", name, folder),
			fmt.Sprintf("location ^~ %s/ { alias DIR/%s/; }", name, folder),
			fmt.Sprintf("location ~ ^%s/(.+)$ { alias DIR/%s/$1; }", name, folder),
			fmt.Sprintf("location %s/ { root DIR; rewrite ^%s/(.*)$ /%s/$1 break; }", name, name, folder),
			fmt.Sprintf("rewrite ^%s/(.*)$ /%s/$1 last;", name, g.one("l1", "l2", "files", "about/l3")),
			fmt.Sprintf("location %s/ { try_files $uri /a.txt; }", name),
			"disable_symlinks on;",
		}[g.IntN(10)])
		g.lines = slices.DeleteFunc(g.lines, func(line string) bool {
			return line == "disable_symlinks on;" && slices.Index(g.lines, line) != len(g.lines)-1
		})
		return
	}
	granted := fmt.Sprintf("<Directory DIR/%s>\nRequire all %s\n</Directory>", folder, g.one("granted", "granted", "denied"))
	g.lines = append(g.lines, []string{
		fmt.Sprintf("Alias %s DIR/%s\n%s", name, folder, granted),
		fmt.Sprintf("Alias %s/ DIR/%s/\n%s", name, folder, granted),
		fmt.Sprintf("AliasMatch ^%s/(.*)$ DIR/%s/$1", name, folder),
		fmt.Sprintf("RewriteEngine On\nRewriteRule ^%s/(.*)$ DIR/%s/$1", name, folder),
		fmt.Sprintf("RewriteEngine On\nRewriteRule ^%s/(.*)$ /%s/$1 [PT]", name, g.one("l1", "l2", "files", "about/l3")),
		fmt.Sprintf("RewriteEngine On\nRewriteRule ^%s/ - [F]\nAlias %s DIR/%s", name, name, folder),
		fmt.Sprintf("Redirect %s /about", name),
		"<Directory DIR/www>\nOptions -FollowSymLinks\n</Directory>",
	}[g.IntN(8)])
}

// shield refuses something.
func (g *grown) shield() {
	if g.kind == "nginx" {
		g.lines = append(g.lines, g.one(`location ~ \.(sql|sqlite|log)$ { deny all; }`, `location ~* /\. { return 404; }`, "location ^~ /files/ { deny all; }", "location ^~ /media/ { }", "location ^~ /uploads/ { deny all; }", `location ~ \.(key|bak)$ { return 403; }`))
		return
	}
	g.lines = append(g.lines, g.one("<FilesMatch \"\\.(sql|sqlite|log)$\">\nRequire all denied\n</FilesMatch>", "<Location /files>\nRequire all denied\n</Location>", "<FilesMatch \"^\\.\">\nRequire all denied\n</FilesMatch>", "<Directory DIR/store>\n<FilesMatch \"\\.php$\">\nRequire all denied\n</FilesMatch>\n</Directory>"))
}

// configuration is that of the site; the server listens at an address.
func (g *grown) configuration(address string) string {
	var text string
	switch g.kind {
	case "nginx":
		other := ""
		if g.other != nil {
			other = "server { listen ADDRESS; server_name other.example; root DIR/" + g.other[0] + "; }\n"
		}
		text = "daemon off; user www-data; pid DIR/pid; worker_processes 1; error_log DIR/log; events {}\nhttp { access_log off; client_body_temp_path DIR/t1; proxy_temp_path DIR/t2; fastcgi_temp_path DIR/t3; uwsgi_temp_path DIR/t4; scgi_temp_path DIR/t5;\ntypes { text/html html; text/plain txt; image/jpeg jpg; }\n" +
			"server { listen ADDRESS; server_name site.example; root DIR/www; index index.html;\n" + strings.Join(g.lines, "\n") + "\nlocation ~ \\.php$ { fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_param REQUEST_METHOD $request_method; fastcgi_param SERVER_PROTOCOL $server_protocol; fastcgi_param REQUEST_URI $request_uri; fastcgi_param HTTP_HOST $host; fastcgi_pass FAST; }\n}\n" + other + "}\n"
	default:
		modules := ""
		for _, m := range []string{"mpm_prefork", "authz_core", "alias", "dir", "mime", "rewrite", "proxy", "proxy_fcgi"} {
			modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
		}
		other := ""
		if g.other != nil {
			other = "<VirtualHost *:PORT>\nServerName other.example\nDocumentRoot DIR/" + g.other[0] + "\n</VirtualHost>\n"
		}
		text = "ServerRoot DIR\nPidFile DIR/pid\nErrorLog DIR/log\nMutex file:DIR default\nStartServers 2\nUser www-data\nGroup www-data\n" + modules + "TypesConfig DIR/mime.types\nListen ADDRESS\nServerName site.example\nDirectoryIndex index.html\n<Directory />\nRequire all denied\nOptions FollowSymLinks\nAllowOverride None\n</Directory>\n<Directory DIR>\nRequire all granted\n</Directory>\n" +
			"<FilesMatch \"\\.php$\">\nSetHandler \"proxy:fcgi://FAST\"\n</FilesMatch>\n" +
			"<VirtualHost *:PORT>\nServerName site.example\nDocumentRoot DIR/www\n" + strings.Join(g.lines, "\n") + "\n</VirtualHost>\n" + other
	}
	return strings.NewReplacer("DIR", g.dir, "ADDRESS", address, "PORT", address[strings.LastIndexByte(address, ':')+1:]).Replace(text)
}

// plant writes the tree, of which some files are closed to the web server.
func (g *grown) plant(t *testing.T) {
	t.Helper()
	for _, folder := range []string{"data/deep", "store", "pics", "mid", "www/files"} {
		require.NoError(t, os.MkdirAll(filepath.Join(g.dir, folder), 0o755))
	}
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range g.files {
			if !yield(name) {
				return
			}
		}
	}) {
		file := filepath.Join(g.dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		mode := os.FileMode(0o644)
		if slices.Contains(g.secret, name) && g.chance(15) {
			mode = 0o600
		}
		if g.seconds[name] != "" {
			continue
		}
		require.NoError(t, os.WriteFile(file, []byte(g.files[name]), mode))
		require.NoError(t, os.Chmod(file, mode))
	}
	for at, to := range g.links {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(g.dir, at)), 0o755))
		_ = os.Symlink(to, filepath.Join(g.dir, at)) // two may have one name
	}
	for _, at := range g.others {
		require.NoError(t, os.Lchown(filepath.Join(g.dir, at), 33, 33))
	}
	for at, of := range g.seconds {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(g.dir, at)), 0o755))
		if os.Link(filepath.Join(g.dir, of), filepath.Join(g.dir, at)) != nil { // a link lies there, or a file
			g.secret = slices.DeleteFunc(g.secret, func(name string) bool { return name == at })
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(g.dir, "mime.types"), []byte("text/html html\ntext/plain txt\nimage/jpeg jpg\n"), 0o644))
}

// addresses are all at which one would try to get a file.
func (g *grown) addresses(file string) (all []string) {
	parts := strings.Split(file, "/")
	for i := range parts {
		rest := "/" + strings.Join(parts[i:], "/")
		for _, prefix := range g.prefixes {
			all = append(all, prefix+rest, prefix+"../"+strings.TrimPrefix(rest, "/"))
		}
	}
	all = append(slices.Sorted(slices.Values(all)), g.prefixes[1:]...)
	for i, address := range slices.Clone(all) {
		at := strings.LastIndexByte(address, '/')
		if g.slashed && at >= 0 {
			all = append(all, address[:at]+[]string{"//", "%2F", "/./", "%2f"}[i%4]+address[at+1:])
		}
		if strings.Contains(strings.ToLower(address), ".php") && i%2 == 0 {
			all = append(all, address+"/more")
		}
	}
	return all
}

// runs is a program's runtime, of which the answer names what it ran.
func runs(t *testing.T) (address string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go fcgi.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, "ran "+fcgi.ProcessEnv(r)["SCRIPT_FILENAME"])
	}))
	return listener.Addr().String()
}

// TestWhatIsServedIsWhatIsTold holds the audit, the evaluation of addresses and the real server to one another, on generated sites.
func TestWhatIsServedIsWhatIsTold(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("the server's user is another than the files' owner; only the superuser can start it so")
	}
	from, count := uint64(1), servedSites
	if n, err := strconv.ParseUint(os.Getenv("WELTAXIS_SEED"), 10, 64); err == nil {
		from = n
	}
	if n, err := strconv.Atoi(os.Getenv("WELTAXIS_SEEDS")); err == nil {
		count = n
	}
	var sum tally
	t.Run("sites", func(t *testing.T) {
		for i := range count {
			kind := []string{"apache", "nginx"}[(from+uint64(i))%2]
			t.Run(fmt.Sprintf("%s %d", kind, from+uint64(i)), func(t *testing.T) { heldToOneAnother(t, from+uint64(i), kind, &sum) })
		}
	})
	t.Logf("%d addresses asked, of which %d gave a private file or ran a program of the uploads; %d were not told", sum.asked, sum.out, sum.untold)
	assert.LessOrEqual(t, sum.untold*100, 3*sum.asked)
	assert.Greater(t, sum.out, count/2)
}

type tally struct{ asked, out, untold int }

func heldToOneAnother(t *testing.T, seed uint64, kind string, sum *tally) {
	g := grow(seed, kind, servertest.Public(t))
	g.plant(t)
	address, fast := servertest.FreeAddress(t), runs(t)
	conf := strings.ReplaceAll(g.configuration(address), "FAST", fast)
	file := filepath.Join(g.dir, "server.conf")
	require.NoError(t, os.WriteFile(file, []byte(conf), 0o644))
	if os.Getenv("WELTAXIS_SHOW") != "" {
		t.Log(conf, g.links)
	}
	command := exec.Command(servertest.Program(t, map[string]string{"nginx": "nginx", "apache": "apache2"}[kind]), "-p", g.dir, "-c", file, "-e", filepath.Join(g.dir, "log"))
	if kind == "apache" {
		command = exec.Command(command.Path, "-DFOREGROUND", "-f", file)
	}
	servertest.Begin(t, address, command)
	siteFile := fmt.Sprintf("site: Site\nintent: {address: \"http://site.example\", stage: live, aliases: [other.example], web_user: www-data, hosting: own}\nsources:\n  server: {%s: server.conf}\n  files: {root: ., public: www}\n  live: {connect: {\"site.example:80\": %q, \"other.example:80\": %q}}\n", kind, address, address)
	require.NoError(t, os.WriteFile(filepath.Join(g.dir, "weltaxis.yaml"), []byte(siteFile), 0o600))
	loaded, err := site.Load(filepath.Join(g.dir, "weltaxis.yaml"))
	require.NoError(t, err)
	r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test", Offline: true, Only: []string{"permissions", "hardening.upload-inert"}})
	require.NoError(t, err)
	named, answers := map[string]string{}, map[string]string{}
	for _, class := range r.Snapshot.Classes {
		for _, name := range class.Paths {
			if class.Answer == "served" || class.Answer == "run" {
				answers[name], named[name] = class.Answer, class.Address
			}
		}
	}
	deviates := func(name string) bool {
		return slices.ContainsFunc(r.Deviations, func(d facts.Deviation) bool {
			class, is := d.Item.(*facts.Class)
			return is && slices.Contains(class.Paths, name) && slices.Contains([]string{"permissions.no-address", "permissions.private-outside", "permissions.uploads-inert"}, d.Rule)
		})
	}
	servers, _ := steps.Servers(loaded)
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	ask := func(host, target string) (int, string) {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+"/", nil)
		require.NoError(t, err)
		request.URL.Path, request.URL.RawPath, request.Host = mustUnescape(target), target, host
		response, err := client.Do(request)
		require.NoError(t, err, target)
		defer response.Body.Close()
		body, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(body)
	}
	for _, name := range append(slices.Clone(g.secret), g.programs...) {
		full := filepath.Join(g.dir, name)
		out := ""
		for _, host := range []string{"site.example", "other.example"} {
			for _, target := range g.addresses(name) {
				if host == "other.example" && g.other == nil {
					continue
				}
				status, body := ask(host, target)
				sum.asked++
				came := ""
				switch {
				case body == g.files[name]:
					came = "served"
				case strings.HasPrefix(body, "ran ") && filepath.Base(body[4:]) == filepath.Base(name) && sameFile(body[4:], full):
					came = "run"
				}
				if came == "run" && slices.Contains(g.programs, name) || came == "served" {
					sum.out++
					out = cmp.Or(out, came+" at "+host+target)
				}
				a := steps.Work(loaded, servers, &url.URL{Scheme: "http", Host: host, Opaque: "", Path: mustUnescape(target), RawPath: target})
				told, handler := a.Get(answer.Status), a.Text(answer.Handler)
				switch {
				case handler == "program" || !told.Known() && a.Get(answer.Handler).Known() && handler != "static":
				case !told.Known():
					if sum.untold++; os.Getenv("WELTAXIS_SHOW") != "" {
						t.Log("not told", target, told.Unknown.Because)
					}
				case strings.HasPrefix(body, "ran "):
					assert.Equal(t, "program", handler, "http://%s%s ran, and that was not told", host, target)
				default:
					assert.Equal(t, strconv.Itoa(status), told.Text(), "http://%s%s: %s %s", host, target, handler, a.Text(answer.File))
				}
			}
		}
		if out != "" {
			assert.True(t, deviates(name), "%s was %s, and nothing deviates: %q", name, out, answers[name])
		}
		if at := named[name]; at != "" {
			u, err := url.Parse(at)
			require.NoError(t, err)
			_, body := ask(u.Hostname(), u.EscapedPath())
			assert.True(t, body == g.files[name] || strings.HasPrefix(body, "ran "), "%s is said to be %s at %s, and there is %q", name, answers[name], at, body[:min(len(body), 60)])
		} else if answers[name] != "" && out == "" {
			assert.Fail(t, "told and not so", "%s is said to be %s, and no address gives it", name, answers[name])
		}
	}
}

func mustUnescape(target string) string {
	path, err := url.PathUnescape(target)
	if err != nil {
		return target
	}
	return path
}

func sameFile(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX == nil && errY == nil && os.SameFile(x, y)
}
