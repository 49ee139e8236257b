package steps

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
)

// Lines of a pool and of php.ini about which files are run, and whether a picture is.
var limitLines = map[string]struct {
	pool, ini string
	pictures  bool // by themselves
	behind    bool // what stands behind a picture has it run
}{
	"nothing is said":                 {},
	"another ending besides":          {pool: "security.limit_extensions = .php .jpg", pictures: true, behind: true},
	"all":                             {pool: "security.limit_extensions =", pictures: true, behind: true},
	"all, but what stands behind":     {pool: "security.limit_extensions =", ini: "cgi.fix_pathinfo = 0", pictures: true},
	"so by the pool":                  {pool: "security.limit_extensions =\nphp_admin_value[cgi.fix_pathinfo] = 0", pictures: true},
	"in words":                        {pool: "security.limit_extensions =", ini: "cgi.fix_pathinfo = Off", pictures: true},
	"nothing behind, and the default": {ini: "cgi.fix_pathinfo = 0"},
	"in other letters":                {pool: "security.limit_extensions = .PHP"},
	"one of those by default":         {pool: "security.limit_extensions = .phar"},
	"quoted":                          {pool: `security.limit_extensions = ".php .txt"`},
	"the last of two":                 {pool: "security.limit_extensions = .jpg\nsecurity.limit_extensions = .php"},
}

// TestWhichFilesTheRuntimeRuns: what a web server hands a runtime is run, or refused, as the real PHP-FPM does it by the ending of the file that there is, and audit and explain are told so.
func TestWhichFilesTheRuntimeRuns(t *testing.T) {
	t.Parallel()
	fpm, nginx, apache := servertest.Program(t, "php-fpm*"), servertest.Program(t, "nginx"), servertest.Program(t, "apache2")
	names := []string{"a.php", "b.PHP", "c.php.jpg", "d.jpg", "e.phar", "f.txt", "g"}
	asked := append([]string{"d.jpg/x.php", "a.php/more", "f.txt/x.php", "c.php.jpg/x/y.php"}, names...)
	told := 0
	for name, said := range limitLines {
		t.Run(name, func(t *testing.T) {
			dir := servertest.Public(t)
			s := &runtimeSet{dir: dir, php: filepath.Join(dir, "php"), www: filepath.Join(dir, "www")}
			for _, file := range names {
				s.write(t, filepath.Join(s.www, "up", file), "<?php echo 'ran';")
			}
			socket, user := filepath.Join(dir, "fpm.sock"), ""
			if os.Getuid() == 0 {
				user = "user = root\ngroup = root\nlisten.mode = 0666\n"
			}
			s.write(t, filepath.Join(s.php, "php.ini"), "expose_php = Off\n"+said.ini+"\n")
			s.write(t, filepath.Join(s.php, "php-fpm.conf"), fmt.Sprintf("[global]\nerror_log = %s/fpm.log\ndaemonize = no\n[site]\n%slisten = %s\npm = static\npm.max_children = 1\n%s\n", dir, user, socket, said.pool))
			command := exec.Command(fpm, "-F", "-R", "-y", filepath.Join(s.php, "php-fpm.conf"), "-c", s.php)
			command.Env = append(os.Environ(), "PHP_INI_SCAN_DIR="+filepath.Join(dir, "none"))
			servertest.Begin(t, socket, command)

			at := map[string]string{"nginx": servertest.FreeAddress(t), "apache": servertest.FreeAddress(t)}
			s.write(t, filepath.Join(dir, "nginx.conf"), fmt.Sprintf("user root; daemon off; pid %[1]s/nginx.pid; worker_processes 1; error_log %[1]s/log; events {}\nhttp { access_log off; fastcgi_temp_path %[1]s/t1; client_body_temp_path %[1]s/t2; proxy_temp_path %[1]s/t3; uwsgi_temp_path %[1]s/t4; scgi_temp_path %[1]s/t5;\n"+
				"server { listen %[2]s; server_name site.example; root %[3]s;\nlocation /up/ { fastcgi_param REQUEST_METHOD $request_method; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_pass unix:%[4]s; } } }\n", dir, at["nginx"], s.www, socket))
			servertest.Begin(t, at["nginx"], exec.Command(nginx, "-p", dir, "-c", filepath.Join(dir, "nginx.conf"), "-e", filepath.Join(dir, "log")))
			_, httpd := s.inApache(t, at["apache"], []string{"proxy", "proxy_fcgi"}, "", fmt.Sprintf("<Location /up>\nSetHandler \"proxy:unix:%s|fcgi://localhost\"\n</Location>\n", socket))
			httpd.Path = apache
			servertest.Begin(t, at["apache"], httpd)

			for _, kind := range []string{"nginx", "apache"} {
				s.write(t, filepath.Join(dir, "weltaxis.yaml"), fmt.Sprintf("site: s\nintent: {address: \"http://site.example:%s/\"}\nsources:\n  server: {%s: %s.conf}\n  runtime: {php: php}\n", at[kind][strings.LastIndexByte(at[kind], ':')+1:], kind, kind))
				loaded, err := site.Load(filepath.Join(dir, "weltaxis.yaml"))
				require.NoError(t, err)
				servers, gaps := Servers(loaded)
				require.Empty(t, gaps)
				seen, err := servers.Answers(t.Context(), server.Probes{Uploads: []string{filepath.Join(s.www, "up")}})
				require.NoError(t, err)
				var pictures, behind, twice bool // which are run: a picture by itself, by what stands behind it, and one with a program's ending within
				for _, a := range seen.Answers {
					if runs, known := a.Field("runs_code"); known && runs.Bool() {
						pictures = pictures || strings.HasSuffix(a.Address, ".jpg")
						behind = behind || strings.Contains(a.Address, ".jpg/")
						twice = twice || strings.HasSuffix(a.Address, ".php.jpg")
					}
				}
				assert.Equal(t, said.pictures, pictures, "%s: pictures are run", kind)
				assert.Equal(t, said.pictures, twice, "%s: pictures with a program's ending within are run", kind)
				assert.Equal(t, said.behind, behind, "%s: pictures are run by what stands behind them", kind)
				for _, file := range asked {
					u, err := url.Parse(loaded.Address() + "up/" + file)
					require.NoError(t, err)
					request, err := http.NewRequest(http.MethodGet, "http://"+at[kind]+"/up/"+file, nil)
					require.NoError(t, err)
					request.Host = "site.example"
					response, err := plainClient.Do(request)
					require.NoError(t, err)
					body, err := io.ReadAll(response.Body)
					response.Body.Close()
					require.NoError(t, err)
					a := servers.Work(u)
					ran := string(body) == "ran"
					if status := a.Get(answer.Status); ran {
						assert.NotEqual(t, "403", status.Text(), "%s %s: it is run (%v)", kind, file, a.Way)
						assert.Equal(t, "program", a.Text(answer.Handler), "%s %s", kind, file)
					} else if response.StatusCode == http.StatusForbidden {
						told++
						assert.Equal(t, "403", status.Text(), "%s %s: it is refused: %s", kind, file, body)
						assert.Empty(t, a.Text(answer.Runs), "%s %s", kind, file)
					} else {
						t.Logf("%s %s %d %s", kind, file, response.StatusCode, body)
					}
				}
			}
		})
	}
	assert.Positive(t, told)
}
