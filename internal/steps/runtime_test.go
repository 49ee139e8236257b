package steps

import (
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/http"
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

	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
)

// told are the directives whose values are held against the real runtime's.
func told() (names []string) {
	for _, row := range facts.RuntimeFields {
		if !strings.HasPrefix(row.Directive, "opcache.") {
			names = append(names, row.Directive)
		}
	}
	return append(names, "error_reporting", "html_errors", "max_input_time", "output_buffering", "short_open_tag", "enable_dl", "user_ini.filename", "user_ini.cache_ttl", "zend.exception_ignore_args")
}

// asks is a program that says what it has been told.
func asks() string {
	names, _ := json.Marshal(told())
	return `<?php ob_start(); $all=[]; foreach (json_decode('` + string(names) + `') as $n) { $v=ini_get($n); $all[$n] = $v===false ? null : $v; } ob_end_clean(); echo "@@", json_encode($all);`
}

// A runtimeSet is one generated set of files, and where it lies.
type runtimeSet struct {
	r             *rand.Rand
	dir, php, www string
	folders       []string
	apache        bool // that, rather than nginx, is the server
	pool          []string
}

// values that are said of directives, ordinary and odd.
var saidOf = map[string][]string{
	"display_errors": {"On", "Off", "1", "0", "stderr", "no"}, "log_errors": {"On", "Off"}, "expose_php": {"On", "Off"}, "allow_url_include": {"On", "Off"}, "allow_url_fopen": {"Off", "On"},
	"upload_max_filesize": {"2M", "64M", "1G", "lots", "16 M", "8MB"}, "post_max_size": {"8M", "64M", "0", "0x10"}, "memory_limit": {"128M", "256M", "-1", "1G"}, "max_execution_time": {"30", "0", "300"},
	"auto_prepend_file": {"", "none", "LOADER"}, "session.cookie_httponly": {"1", "On", "0", "Off"}, "session.cookie_secure": {"1", "0"}, "session.use_strict_mode": {"1", "0"}, "session.cookie_samesite": {"Lax", "Strict", ""},
	"session.name": {"LANTERN", "", "42"}, "session.gc_maxlifetime": {"1440", "28800"}, "session.cookie_lifetime": {"0", "3600", "-5"}, "error_reporting": {"E_ALL", "E_ALL & ~E_NOTICE", "0"}, "open_basedir": {""}, "max_input_vars": {"1000", "5000"},
	"file_uploads": {"On", "Off"}, "disable_functions": {"", "exec", "exec,passthru"}, "user_ini.filename": {".user.ini", "", ".folder.ini"}, "max_file_uploads": {"20", "3"}, "short_open_tag": {"On", "Off"}, "output_buffering": {"4096", "0"},
	"zlib.output_compression": {"Off", "0"}, "default_charset": {"UTF-8", "iso-8859-1"}, "html_errors": {"On", "Off"}, "user_ini.cache_ttl": {"300", "1"}, "Display_Errors": {"On"}, "session.use_only_cookies": {"1", "0"}, "zend.exception_ignore_args": {"On", "Off"},
}

var saidNames = slices.Sorted(maps.Keys(saidOf))

// line is a directive and a value at random.
func (s *runtimeSet) line() (name, value string) {
	for {
		// A name or a lifetime of sessions that is refused while a request begins ends the worker: nothing could be compared.
		if name, value = s.anyLine(); !slices.Contains([]string{"42", "-5"}, value) && (name != "session.name" || value != "") {
			return name, value
		}
	}
}

func (s *runtimeSet) anyLine() (name, value string) {
	name = saidNames[s.r.IntN(len(saidNames))]
	if s.r.IntN(3) == 0 {
		name = []string{"display_errors", "memory_limit", "session.cookie_secure", "session.name"}[s.r.IntN(4)]
	}
	return name, strings.Replace(saidOf[name][s.r.IntN(len(saidOf[name]))], "LOADER", filepath.Join(s.dir, "loader.php"), 1)
}

// ini is a file at random.
func (s *runtimeSet) ini(lines int, sections bool) string {
	var out strings.Builder
	for range lines {
		if s.r.IntN(40) == 0 {
			out.WriteString("broken = (\n")
			continue
		}
		if sections && s.r.IntN(8) == 0 {
			out.WriteString([]string{"[PHP]\n", "[PATH=" + filepath.Join(s.www, s.folders[s.r.IntN(len(s.folders))]) + "]\n", "[HOST=site.example]\n", "[HOST=Other.example]\n", "[PATH=" + s.www + "/]\n"}[s.r.IntN(5)])
		}
		name, value := s.line()
		if sections && !strings.Contains(out.String(), "[PATH") && !strings.Contains(out.String(), "[HOST") { // what is refused at the start
			name, value = s.anyLine()
		}
		fmt.Fprintf(&out, "%s = %s\n", name, value)
	}
	return out.String()
}

func (s *runtimeSet) write(t *testing.T, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
}

// make writes the files of a set.
func (s *runtimeSet) make(t *testing.T) {
	s.folders = []string{"", "shop", "shop/deep", "news"}
	s.write(t, filepath.Join(s.dir, "loader.php"), "<?php\n")
	s.write(t, filepath.Join(s.php, "php.ini"), s.ini(12, true))
	for _, name := range []string{"20-b.ini", "10-a.ini", ".hidden.ini", "not.txt"} {
		if s.r.IntN(2) == 0 {
			s.write(t, filepath.Join(s.php, "conf.d", name), s.ini(3, s.r.IntN(3) == 0))
		}
	}
	for _, folder := range s.folders {
		s.write(t, filepath.Join(s.www, folder, "ask.php"), asks())
		if s.r.IntN(2) == 0 {
			s.write(t, filepath.Join(s.www, folder, ".user.ini"), s.ini(3, false))
		}
		if s.r.IntN(6) == 0 {
			s.write(t, filepath.Join(s.www, folder, ".folder.ini"), s.ini(2, false))
		}
	}
	for range s.r.IntN(5) {
		name, value := s.line()
		if name == "Display_Errors" || value == "" {
			continue
		}
		kind := []string{"php_value", "php_admin_value"}[s.r.IntN(2)]
		s.pool = append(s.pool, fmt.Sprintf("%s[%s] = %s", kind, name, value))
	}
}

// generatedSet is what is told of a set, held against the real one: ask gives what the real runtime says in a folder.
func (s *runtimeSet) hold(t *testing.T, seed uint64, config, address string, ask func(folder string) map[string]*string, tally *[3]int) {
	t.Helper()
	siteFile := filepath.Join(s.dir, "weltaxis.yaml")
	kind := map[bool]string{false: "nginx", true: "apache"}[s.apache]
	s.write(t, siteFile, fmt.Sprintf("site: s\nintent: {address: \"http://site.example:%s/\"}\nsources:\n  server: {%s: %s}\n  runtime: {php: %s}\n", address[strings.LastIndexByte(address, ':')+1:], kind, config, s.php))
	loaded, err := site.Load(siteFile)
	require.NoError(t, err)
	if before := tally[2]; os.Getenv("WELTAXIS_SHOW") != "" {
		defer func() {
			if tally[2] > before {
				s.show(t)
			}
		}()
	}
	servers, _ := Servers(loaded)
	source, gaps := RuntimeOf(loaded, servers)
	require.NotNil(t, source, "%v", gaps)
	for _, folder := range s.folders {
		at := "/" + folder + "/"
		if folder == "" {
			at = "/"
		}
		run, runs, why := servers.Runs(at)
		require.True(t, runs, "%v", why)
		values := source.Config.Values(placeOf(run), source.Elsewhere)
		real := ask(folder)
		for _, name := range told() {
			is := values[name]
			switch {
			case is.Unknown != "":
				tally[1]++
			case real[name] == nil && is.Value == "", real[name] != nil && *real[name] == is.Value:
				tally[0]++
			default:
				tally[2]++
				shown := "nothing"
				if real[name] != nil {
					shown = strconv.Quote(*real[name])
				}
				if tally[2] < 12 {
					t.Errorf("seed %d, %s in %s: told %q (%s), and it is %s", seed, name, at, is.Value, is.Origin, shown)
					if os.Getenv("WELTAXIS_SHOW") != "" {
						_ = exec.Command("cp", "-r", s.dir, "/tmp/kept").Run()
					}
				}
			}
		}
	}
}

func (s *runtimeSet) show(t *testing.T) {
	_ = filepath.WalkDir(s.dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && !strings.HasSuffix(path, ".php") && !strings.Contains(path, "log") {
			text, _ := os.ReadFile(path)
			t.Logf("--- %s\n%s", path, text)
		}
		return nil
	})
}

func runtimeSeeds(t *testing.T) (first uint64, count int) {
	t.Helper()
	first, count = 1, 60
	if n, err := strconv.ParseUint(os.Getenv("WELTAXIS_SEED"), 10, 64); err == nil {
		first = n
	}
	if n, err := strconv.Atoi(os.Getenv("WELTAXIS_SEEDS")); err == nil {
		count = n
	}
	return first, count
}

var plainClient = &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}

func fetchINI(t *testing.T, address, folder string) map[string]*string {
	t.Helper()
	request, err := http.NewRequest(http.MethodGet, "http://"+address+"/"+strings.TrimPrefix(folder+"/ask.php", "/"), nil)
	require.NoError(t, err)
	request.Host = "site.example"
	response, err := plainClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	_, text, found := strings.Cut(string(body), "@@")
	require.True(t, found, "%s: %d %s", folder, response.StatusCode, body)
	real := map[string]*string{}
	require.NoError(t, json.Unmarshal([]byte(text), &real), text)
	return real
}

// newSet is a set of files on a seed.
func newSet(t *testing.T, base string, seed uint64, apache bool) *runtimeSet {
	dir := filepath.Join(base, strconv.FormatUint(seed, 10))
	s := &runtimeSet{r: rand.New(rand.NewPCG(seed, 16)), dir: dir, php: filepath.Join(dir, "php"), www: filepath.Join(dir, "www"), apache: apache}
	s.make(t)
	return s
}

// handedOver are values for the runtime at random, as lines of the web server.
func (s *runtimeSet) handedOver(line string) (lines string) {
	for range s.r.IntN(6) - 3 {
		name, value := s.line()
		if value == "" || strings.Contains(value, "~") {
			continue
		}
		lines += fmt.Sprintf(line, []string{"PHP_VALUE", "PHP_ADMIN_VALUE"}[s.r.IntN(2)], name, value)
	}
	return lines
}

// behindNginx is the configuration of an nginx that asks a socket.
func (s *runtimeSet) behindNginx(t *testing.T, address, socket string) (config string, command *exec.Cmd) {
	places := ""
	for _, folder := range []string{"shop/deep", "shop", "news"} {
		if params := s.handedOver("fastcgi_param %s \"%s=%s\";\n"); params != "" {
			places += fmt.Sprintf("location ~ ^/%s/[^/]*\\.php$ { include %s/fastcgi.inc; %s fastcgi_pass unix:%s; }\n", folder, s.dir, params, socket)
		}
	}
	s.write(t, filepath.Join(s.dir, "fastcgi.inc"), "fastcgi_param REQUEST_METHOD $request_method;\nfastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\nfastcgi_param DOCUMENT_ROOT $document_root;\nfastcgi_param SERVER_NAME $server_name;\n")
	config = filepath.Join(s.dir, "nginx.conf")
	s.write(t, config, fmt.Sprintf(`user root; daemon off; pid %[1]s/pid; worker_processes 1; error_log %[1]s/log; events {}
http { access_log off; fastcgi_temp_path %[1]s/t1; client_body_temp_path %[1]s/t2; proxy_temp_path %[1]s/t3; uwsgi_temp_path %[1]s/t4; scgi_temp_path %[1]s/t5;
server { listen %[2]s; server_name site.example; root %[3]s;
%[4]s
location ~ \.php$ { include %[1]s/fastcgi.inc; fastcgi_pass unix:%[5]s; }
} }
`, s.dir, address, s.www, places, socket))
	return config, exec.Command(servertest.Program(t, "nginx"), "-p", s.dir, "-c", config, "-e", filepath.Join(s.dir, "log"))
}

// inApache is the configuration of an Apache that has a runtime of its own, or asks one as its lines say.
func (s *runtimeSet) inApache(t *testing.T, address string, modules []string, lines, places string) (config string, command *exec.Cmd) {
	apache, user := servertest.Program(t, "apache2"), ""
	for _, m := range slices.Backward(append([]string{"mpm_prefork", "authz_core", "dir"}, modules...)) {
		lines = fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m) + lines
	}
	if os.Getuid() == 0 {
		user = "User www-data\nGroup www-data\n"
	}
	config = filepath.Join(s.dir, "apache.conf")
	s.write(t, config, fmt.Sprintf(`ServerRoot %[1]s
PidFile %[1]s/pid
ErrorLog %[1]s/log
Listen %[2]s
Mutex file:%[1]s default
StartServers 1
MinSpareServers 1
MaxSpareServers 1
%[3]s%[4]sServerName site.example
<Directory %[5]s>
Require all granted
AllowOverride All
</Directory>
<VirtualHost *>
ServerName site.example
DocumentRoot %[5]s
%[6]s</VirtualHost>
`, s.dir, address, lines, user, s.www, places))
	return config, exec.Command(apache, "-DFOREGROUND", "-f", config)
}

// What is told of generated sets of files is what the real PHP-FPM says, behind the real nginx or Apache, or cannot be told.
func TestGeneratedBehindFPM(t *testing.T) {
	fpm := servertest.Program(t, "php-fpm*")
	base, tally := servertest.Public(t), [3]int{}
	first, count := runtimeSeeds(t)
	for seed := first; seed < first+uint64(count); seed++ {
		s := newSet(t, base, seed, false)
		socket, address := filepath.Join(s.dir, "fpm.sock"), servertest.FreeAddress(t)
		user := ""
		if os.Getuid() == 0 {
			user = "user = root\ngroup = root\nlisten.mode = 0666\n"
		}
		s.write(t, filepath.Join(s.php, "php-fpm.conf"), fmt.Sprintf("[global]\nerror_log = %s/fpm.log\ndaemonize = no\ninclude = %s/pool.d/*.conf\n", s.dir, s.php))
		s.write(t, filepath.Join(s.php, "pool.d", "site.conf"), fmt.Sprintf("[site]\n%slisten = %s\npm = static\npm.max_children = 1\n%s\n", user, socket, strings.Join(s.pool, "\n")))
		var config string
		var server *exec.Cmd
		if s.apache = seed%4 == 0; s.apache {
			places := ""
			for _, folder := range []string{"news", "shop", "shop/deep"} {
				places += fmt.Sprintf("<Location /%s>\n%s</Location>\n", folder, s.handedOver("SetEnv %s \"%s=%s\"\n"))
			}
			config, server = s.inApache(t, address, []string{"proxy", "proxy_fcgi", "env"}, "", fmt.Sprintf("<FilesMatch \"\\.php$\">\nSetHandler \"proxy:unix:%s|fcgi://localhost\"\n</FilesMatch>\n%s", socket, places))
		} else {
			config, server = s.behindNginx(t, address, socket)
		}
		command := exec.Command(fpm, "-F", "-R", "-y", filepath.Join(s.php, "php-fpm.conf"), "-c", s.php)
		command.Env = append(os.Environ(), "PHP_INI_SCAN_DIR="+filepath.Join(s.php, "conf.d"))
		stopFPM := servertest.Begin(t, socket, command)
		stop := servertest.Begin(t, address, server)
		order := s.r.Perm(len(s.folders))
		asked := map[string]map[string]*string{}
		for range 2 { // so that what stays in a worker shows
			for _, i := range order {
				asked[s.folders[i]] = fetchINI(t, address, s.folders[i])
			}
		}
		s.hold(t, seed, config, address, func(folder string) map[string]*string { return asked[folder] }, &tally)
		stop()
		stopFPM()
	}
	t.Logf("%d values told right, %d cannot be told, %d wrong", tally[0], tally[1], tally[2])
	assert.Zero(t, tally[2])
	assert.Less(t, tally[1]*5, tally[0], "most can be told")
}

// The same with PHP in Apache.
func TestGeneratedInApache(t *testing.T) {
	module := servertest.Program(t, "libphp*.so")
	base, tally := servertest.Public(t), [3]int{}
	first, count := runtimeSeeds(t)
	for seed := first; seed < first+uint64(count); seed++ {
		s := newSet(t, base, seed, true)
		address := servertest.FreeAddress(t)
		lines := func(n int, admin bool) (text string) {
			for range n {
				name, value := s.line()
				if value == "" || strings.Contains(value, " ") {
					continue
				}
				kind := "php_value"
				if admin && s.r.IntN(3) == 0 {
					kind = "php_admin_value"
				}
				if slices.Contains([]string{"On", "Off"}, value) && s.r.IntN(2) == 0 {
					kind = strings.Replace(kind, "value", "flag", 1)
				}
				text += fmt.Sprintf("%s %s %s\n", kind, name, value)
			}
			return text
		}
		places := lines(s.r.IntN(4), true)
		for _, folder := range s.folders {
			if s.r.IntN(2) == 0 {
				places += fmt.Sprintf("<Directory %s>\n%s</Directory>\n", filepath.Join(s.www, folder), lines(2, true))
			}
			if s.r.IntN(4) == 0 {
				places += fmt.Sprintf("<Location /%s>\n%s</Location>\n", folder, lines(2, true))
			}
			if s.r.IntN(3) == 0 {
				s.write(t, filepath.Join(s.www, folder, ".htaccess"), lines(2, false))
			}
		}
		config, command := s.inApache(t, address, nil, fmt.Sprintf("LoadModule php_module %s\nPHPIniDir %s\n<FilesMatch \"\\.php$\">\nSetHandler application/x-httpd-php\n</FilesMatch>\n", module, s.php), places)
		command.Env = append(os.Environ(), "PHP_INI_SCAN_DIR="+filepath.Join(s.php, "conf.d"))
		stop := servertest.Begin(t, address, command)
		s.hold(t, seed, config, address, func(folder string) map[string]*string { return fetchINI(t, address, folder) }, &tally)
		stop()
	}
	t.Logf("%d values told right, %d cannot be told, %d wrong", tally[0], tally[1], tally[2])
	assert.Zero(t, tally[2])
	assert.Less(t, tally[1]*5, tally[0], "most can be told")
}
