package fix

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
	"weltaxis/internal/trial"
)

// A toldSite is a site behind a real server with a real runtime, and what is wrong in what they have been told.
type toldSite struct {
	dir, address string
	kind         string
	client       *http.Client
	files        map[string]string // of the configuration, as it was written
	state        string
}

const toldProgram = `<?php session_start(); header("Content-Type: text/html; charset=utf-8"); ?><!doctype html><html lang="en-GB"><head><title>Stage door of the lamp works</title></head><body><h1>Stage door</h1><a href="/about/">About</a> <a href="/posters/a.jpg">A poster</a></body></html>`

// toldSites are the same faults, told nginx before PHP-FPM, and Apache with PHP in it.
func toldSites(t *testing.T, kind string) *toldSite {
	t.Helper()
	return toldSitesWith(t, kind, "", nil)
}

// toldSitesWith have more lines in their host, in which DIR is their folder and OTHER a free address, and more files.
func toldSitesWith(t *testing.T, kind, more string, files map[string]string) *toldSite {
	t.Helper()
	s := &toldSite{dir: servertest.Public(t), address: servertest.FreeAddress(t), kind: kind, state: t.TempDir(), files: map[string]string{}, client: &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}}
	port := s.address[strings.LastIndexByte(s.address, ':')+1:]
	for name, text := range map[string]string{"www/index.php": toldProgram, "www/about/index.php": strings.ReplaceAll(toldProgram, "Stage door", "About us"), "www/posters/a.jpg": "\xff\xd8\xff", "www/posters/winter/b.jpg": "\xff\xd8\xff", "www/README.txt": "Brindle 3.4.2\n", "www/uploads/x.jpg": "\xff\xd8\xff"} {
		s.write(t, name, text)
	}
	for name, text := range files {
		s.write(t, name, text)
	}
	more = strings.NewReplacer("DIR", s.dir, "ADDRESS", s.address).Replace(more)
	if strings.Contains(more, "OTHER") {
		more = strings.ReplaceAll(more, "OTHER", servertest.FreeAddress(t))
	}
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "sessions"), 0o700))
	user := ""
	php := "[PHP]\ndisplay_errors = On ; while we build\nexpose_php = On\nallow_url_include = On\nsession.name = STAGE\nsession.save_path = " + s.dir + "/sessions\n"
	reload, runtimeReload := "", ""
	switch kind {
	case "nginx":
		fpm, nginx := servertest.Program(t, "php-fpm*"), servertest.Program(t, "nginx")
		if os.Getuid() == 0 {
			user = "user = root\ngroup = root\n"
		}
		s.write(t, "php/php.ini", php)
		s.write(t, "php/php-fpm.conf", fmt.Sprintf("[global]\npid = %[1]s/fpm.pid\nerror_log = %[1]s/fpm.log\ndaemonize = no\n[site]\n%[2]slisten = %[1]s/fpm.sock\npm = static\npm.max_children = 1\n", s.dir, user))
		s.write(t, "server.conf", fmt.Sprintf(`user root;
daemon off;
pid %[1]s/pid;
error_log %[1]s/log;
events {}
http {
    types { text/html html; image/jpeg jpg; text/plain txt; }
    access_log off;
    fastcgi_temp_path %[1]s/t1; client_body_temp_path %[1]s/t2; proxy_temp_path %[1]s/t3; uwsgi_temp_path %[1]s/t4; scgi_temp_path %[1]s/t5;
    server {
        listen %[2]s;
        server_name site.example;
        root %[1]s/www;
        index index.php;
        location /posters/ {
            add_header Cache-Control "public, max-age=60";
            autoindex on;
        }
        location ~ \.(php|phtml)$ {
            fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
            fastcgi_param DOCUMENT_ROOT $document_root;
            fastcgi_param SERVER_NAME $server_name;
            fastcgi_param REQUEST_METHOD $request_method;
            fastcgi_param REQUEST_URI $request_uri;
            fastcgi_pass unix:%[1]s/fpm.sock;
        }
%[3]s    }
}
`, s.dir, s.address, more))
		servertest.Begin(t, filepath.Join(s.dir, "fpm.sock"), exec.Command(fpm, "-F", "-R", "-y", filepath.Join(s.dir, "php/php-fpm.conf"), "-c", filepath.Join(s.dir, "php")))
		servertest.Begin(t, s.address, exec.Command(nginx, "-p", s.dir, "-c", filepath.Join(s.dir, "server.conf"), "-e", filepath.Join(s.dir, "log")))
		reload = fmt.Sprintf(`, reload: [%q, "-p", %q, "-c", %q, "-s", "reload"]`, nginx, s.dir, filepath.Join(s.dir, "server.conf"))
		s.write(t, "reload-fpm", "#!/bin/sh\nkill -USR2 $(cat "+s.dir+"/fpm.pid)\n")
		runtimeReload = fmt.Sprintf(`, reload: ["sh", %q]`, filepath.Join(s.dir, "reload-fpm"))
	case "apache":
		apache, module := servertest.Program(t, "apache2"), servertest.Program(t, "libphp*.so")
		if os.Getuid() == 0 {
			user = "User www-data\nGroup www-data\n"
			require.NoError(t, os.Chmod(filepath.Join(s.dir, "sessions"), 0o777))
		}
		s.write(t, "php/php.ini", php)
		s.write(t, "mime.types", "text/html html\nimage/jpeg jpg\ntext/plain txt\n")
		modules := ""
		if strings.Contains(more, "access_compat") {
			modules = "LoadModule access_compat_module /usr/lib/apache2/modules/mod_access_compat.so\n"
		}
		for _, m := range []string{"mpm_prefork", "authz_core", "alias", "dir", "mime", "autoindex", "headers", "rewrite", "authn_core", "authn_file", "auth_basic", "authz_user"} {
			modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
		}
		s.write(t, "server.conf", fmt.Sprintf(`ServerRoot %[1]s
PidFile %[1]s/pid
ErrorLog %[1]s/log
Listen %[2]s
Mutex file:%[1]s default
StartServers 1
MinSpareServers 1
MaxSpareServers 1
%[3]sLoadModule php_module %[4]s
PHPIniDir %[1]s/php
%[5]sTypesConfig %[1]s/mime.types
ServerName site.example
ServerTokens Full
<FilesMatch "\.(php|phtml)$">
    SetHandler application/x-httpd-php
</FilesMatch>
<Directory %[1]s/www>
    Options Indexes FollowSymLinks
    DirectoryIndex index.php
    Require all granted
</Directory>
<VirtualHost *:%[6]s>
    ServerName site.example
    DocumentRoot %[1]s/www
%[7]s</VirtualHost>
`, s.dir, s.address, modules, module, user, port, more))
		command := exec.Command(apache, "-DFOREGROUND", "-f", filepath.Join(s.dir, "server.conf"))
		command.Env = append(os.Environ(), "PHP_INI_SCAN_DIR=")
		servertest.Begin(t, s.address, command)
		reload = fmt.Sprintf(`, reload: [%q, "-k", "graceful", "-f", %q]`, apache, filepath.Join(s.dir, "server.conf"))
	}
	for _, name := range []string{"server.conf", "php/php.ini"} {
		s.files[name] = s.read(t, name)
	}
	s.write(t, "weltaxis.yaml", fmt.Sprintf("site: Stage door\nintent: {stage: live, address: \"http://site.example:%[1]s/\", brand: Stage door}\nsources:\n  live: {own: true, rate: 0, connect: {\"site.example:%[1]s\": %[2]q}}\n  server: {%[3]s: server.conf%[4]s}\n  runtime: {php: php%[5]s}\n", port, s.address, kind, reload, runtimeReload))
	return s
}

func (s *toldSite) write(t *testing.T, name, text string) {
	t.Helper()
	full := filepath.Join(s.dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
}

func (s *toldSite) read(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(s.dir, name))
	require.NoError(t, err)
	return string(data)
}

// get is what a visitor gets at a path.
func (s *toldSite) get(t *testing.T, path string) (int, http.Header, string) {
	t.Helper()
	request, err := http.NewRequest(http.MethodGet, "http://"+s.address+path, nil)
	require.NoError(t, err)
	request.Host = "site.example"
	response, err := s.client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, response.Header, string(body)
}

// audit looks at the site.
func (s *toldSite) audit(t *testing.T) (*site.Site, *audit.Result) {
	t.Helper()
	loaded, err := site.Load(filepath.Join(s.dir, "weltaxis.yaml"))
	require.NoError(t, err)
	r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test"})
	require.NoError(t, err)
	return loaded, r
}

// toldRules are rules that server or runtime decide, by how one sees from outside that each holds; nil where only the configuration tells.
var toldRules = map[string]func(t *testing.T, s *toldSite) bool{
	"hardening.framing": func(t *testing.T, s *toldSite) bool {
		_, h, _ := s.get(t, "/about/")
		return h.Get("X-Frame-Options") == "SAMEORIGIN"
	},
	"hardening.nosniff": func(t *testing.T, s *toldSite) bool {
		_, h, _ := s.get(t, "/")
		return h.Get("X-Content-Type-Options") == "nosniff"
	},
	"hardening.referrer": func(t *testing.T, s *toldSite) bool {
		_, h, _ := s.get(t, "/")
		return h.Get("Referrer-Policy") == "strict-origin-when-cross-origin"
	},
	"hardening.listing-off": func(t *testing.T, s *toldSite) bool { code, _, _ := s.get(t, "/posters/"); return code == 403 },
	"hardening.upload-inert": func(t *testing.T, s *toldSite) bool {
		code, _, _ := s.get(t, "/uploads/made-up.php")
		return code == 403
	},
	"hardening.readme-hidden": func(t *testing.T, s *toldSite) bool { code, _, _ := s.get(t, "/README.txt"); return code == 403 },
	"hardening.versions-hidden": func(t *testing.T, s *toldSite) bool {
		_, h, _ := s.get(t, "/posters/a.jpg")
		return !strings.ContainsAny(h.Get("Server"), "0123456789")
	},
	"hardening.cookies": func(t *testing.T, s *toldSite) bool {
		_, h, _ := s.get(t, "/")
		return strings.Contains(h.Get("Set-Cookie"), "HttpOnly") && strings.Contains(h.Get("Set-Cookie"), "SameSite=Lax")
	},
	"runtime.discreet":          func(t *testing.T, s *toldSite) bool { _, h, _ := s.get(t, "/"); return h.Get("X-Powered-By") == "" },
	"runtime.errors-hidden":     func(t *testing.T, s *toldSite) bool { return s.ini(t, "display_errors") == "" },
	"runtime.no-remote-include": func(t *testing.T, s *toldSite) bool { return s.ini(t, "allow_url_include") == "" },
	"runtime.session-cookie":    func(t *testing.T, s *toldSite) bool { return s.ini(t, "session.use_strict_mode") == "1" },
}

// ini is what the real runtime says of a directive, where it can be asked.
func (s *toldSite) ini(t *testing.T, name string) string {
	t.Helper()
	s.write(t, "www/ask.php", "<?php echo '@', ini_get('"+name+"');")
	defer os.Remove(filepath.Join(s.dir, "www/ask.php"))
	_, _, body := s.get(t, "/ask.php")
	_, value, _ := strings.Cut(body, "@")
	return value
}

// Each rule that server or runtime decide is caught with its line, put right, tested, loaded, seen to be right from outside, and taken back
// to the byte, loaded again, and seen as it was.
func TestWhatServersAreToldIsPutRightAndTakenBack(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"nginx", "apache"} {
		t.Run(kind, func(t *testing.T) {
			s := toldSites(t, kind)
			loaded, before := s.audit(t)
			var names []string
			for rule, holds := range toldRules {
				if rule == "hardening.upload-inert" && !deviates(before, rule) {
					s.write(t, "www/uploads/y.jpg", "\xff\xd8\xff")
				}
				require.True(t, deviates(before, rule) || covered(before, rule), "%s: %v", rule, before.NotJudged)
				require.False(t, holds(t, s), "%s holds before anything is done", rule)
				names = append(names, rule)
			}
			slices.Sort(names)
			journal, err := OpenJournal(s.state, time.Now)
			require.NoError(t, err)
			defer journal.Close()
			report := s.fix(t, loaded, before, journal, names, true)
			for _, o := range report.Outcomes {
				assert.Equal(t, Took, o.Result, "%s: %s", o.Title(), o.Says)
			}
			for rule, holds := range toldRules {
				assert.Eventually(t, func() bool { return holds(t, s) }, 5*time.Second, 50*time.Millisecond, "%s does not hold", rule)
			}
			_, after := s.audit(t)
			for _, rule := range names {
				assert.False(t, deviates(after, rule), rule)
			}
			records, err := ReadJournal(s.state)
			require.NoError(t, err)
			env, err := For(loaded, nil, audit.Options{Tool: "test"}, journal)
			require.NoError(t, err)
			undone := Undo(t.Context(), Chosen(records, Choice{}), env)
			for _, u := range undone.Changes {
				assert.True(t, u.Back, "%s: %s", u.Name, u.Says)
			}
			assert.Empty(t, undone.Says)
			for name, text := range s.files {
				assert.Equal(t, text, s.read(t, name), name)
			}
			for rule, holds := range toldRules {
				assert.Eventually(t, func() bool { return !holds(t, s) }, 5*time.Second, 50*time.Millisecond, "%s is not as it was", rule)
			}
		})
	}
}

func deviates(r *audit.Result, rule string) bool {
	return slices.ContainsFunc(r.Deviations, func(d facts.Deviation) bool { return d.Rule == rule })
}

func covered(r *audit.Result, rule string) bool {
	for _, c := range r.Covered {
		if c.Rule == rule {
			return true
		}
	}
	return false
}

// fix makes what is planned for rules.
func (s *toldSite) fix(t *testing.T, loaded *site.Site, before *audit.Result, journal *Journal, rules []string, reload bool) *Report {
	t.Helper()
	plan := s.plan(t, loaded, before, rules, reload)
	chosen, _, err := plan.Gate(Consent{Upto: facts.Disruptive, Names: rules})
	require.NoError(t, err)
	env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
	require.NoError(t, err)
	report, err := Write(context.WithoutCancel(t.Context()), chosen, SeenIn(before), env)
	require.NoError(t, err)
	return report
}

// unframed tells whether the header is gone, ten times in a row: for a moment after a reload the former workers answer as well.
func (s *toldSite) unframed(t *testing.T) bool {
	for range 10 {
		if _, h, _ := s.get(t, "/"); h.Get("X-Frame-Options") != "" {
			return false
		}
		time.Sleep(20 * time.Millisecond)
	}
	return true
}

func (s *toldSite) plan(t *testing.T, loaded *site.Site, before *audit.Result, rules []string, reload bool) *Plan {
	t.Helper()
	w, err := WishesFor(loaded, before, audit.Options{Tool: "test"}, nil)
	require.NoError(t, err)
	w.Reload = reload
	for _, c := range before.Covered { // each by itself
		w.Deviations = append(w.Deviations, c.Deviation)
	}
	plan, err := New(t.Context(), w)
	require.NoError(t, err)
	assert.Empty(t, plan.Named(rules))
	for _, c := range plan.Changes {
		if c.Kind != Reload {
			assert.Empty(t, c.Cannot, c.Title())
		}
	}
	return plan
}

// some are the rules whose fixes the runs below make: of the server and of the runtime, in two files.
var some = []string{"hardening.framing", "hardening.listing-off", "runtime.discreet", "runtime.errors-hidden"}

// TestAToldRun is a run that is killed at a point, for the test after it.
func TestAToldRun(t *testing.T) {
	dir, n := os.Getenv("WELTAXIS_TOLD"), 0
	if dir == "" {
		t.Skip("a part of TestKilledWhileServersAreTold")
	}
	at, err := strconv.Atoi(os.Getenv("WELTAXIS_KILL"))
	require.NoError(t, err)
	s := &toldSite{dir: dir, state: filepath.Join(dir, "state")}
	loaded, before := s.audit(t)
	journal, err := OpenJournal(s.state, time.Now)
	require.NoError(t, err)
	chosen, _, err := s.chosen(t, loaded, before).Gate(Consent{Upto: facts.Disruptive, Names: []string{""}})
	require.NoError(t, err)
	env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
	require.NoError(t, err)
	env.Step = func(string) {
		if n++; n == at {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		}
	}
	_, err = Write(t.Context(), chosen, SeenIn(before), env)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "points"), []byte(strconv.Itoa(n)), 0o600))
}

// chosen is the plan of a run that is killed: to close the site, or to lock it, or some rules' fixes.
func (s *toldSite) chosen(t *testing.T, loaded *site.Site, before *audit.Result) *Plan {
	t.Helper()
	if how := os.Getenv("WELTAXIS_SHUT"); how != "" {
		return s.shut(t, loaded, before, Shutting{Lock: how == "lock", Name: "preview", Password: "open sesame now"})
	}
	return s.plan(t, loaded, before, some, true)
}

// Killed at any point of a run in which servers are told something, the site answers, each file is the old or the new one, and undo brings
// both back and has them read again.
func TestKilledWhileServersAreTold(t *testing.T) {
	t.Parallel()
	killed(t, "", []string{"server.conf", "php/php.ini"}, 200)
}

// killed kills a run at many points.
func killed(t *testing.T, how string, changed []string, answers ...int) {
	s := toldSites(t, "nginx")
	s.state = filepath.Join(s.dir, "state")
	run := func(at int) {
		command := exec.Command(os.Args[0], "-test.run", "^TestAToldRun$")
		command.Env = append(os.Environ(), "WELTAXIS_SHUT="+how, "WELTAXIS_TOLD="+s.dir, "WELTAXIS_KILL="+strconv.Itoa(at), "TMPDIR="+t.TempDir()) // a killed one clears nothing away
		out, err := command.CombinedOutput()
		if at == 0 {
			require.NoError(t, err, string(out))
		}
	}
	run(0)
	all, err := strconv.Atoi(s.read(t, "points"))
	require.NoError(t, err)
	after := map[string]string{}
	for name := range s.files {
		after[name] = s.read(t, name)
		require.Equal(t, slices.Contains(changed, name), s.files[name] != after[name], name)
	}
	s.undo(t)
	points := 20
	if how != "" {
		points = 6
	}
	if os.Getenv("WELTAXIS_SOAK") != "" {
		points = 100
	}
	for n := range points {
		at := 1 + n*all/points
		run(at)
		for name, was := range s.files {
			is := s.read(t, name)
			old, fresh := strings.Split(was, "\n"), strings.Split(after[name], "\n")
			for _, line := range strings.Split(is, "\n") {
				assert.True(t, slices.Contains(old, line) || slices.Contains(fresh, line), "killed at %d, %s: %s", at, name, line)
			}
		}
		code, _, _ := s.get(t, "/")
		require.Contains(t, answers, code, "killed at %d", at)
		s.undo(t)
		for name, was := range s.files {
			require.Equal(t, was, s.read(t, name), "killed at %d", at)
		}
	}
	assert.Eventually(t, func() bool {
		code, h, _ := s.get(t, "/")
		return h.Get("X-Frame-Options") == "" && code == 200
	}, 5*time.Second, 50*time.Millisecond)
	lists, err := filepath.Glob(filepath.Join(s.dir, passwordsName+"*"))
	require.NoError(t, err)
	assert.Empty(t, lists)
}

// undo takes all back that a journal has.
func (s *toldSite) undo(t *testing.T) *Undone {
	t.Helper()
	journal, err := OpenJournal(s.state, time.Now)
	require.NoError(t, err)
	defer journal.Close()
	records, err := ReadJournal(s.state)
	require.NoError(t, err)
	loaded, err := site.Load(filepath.Join(s.dir, "weltaxis.yaml"))
	require.NoError(t, err)
	env, err := For(loaded, nil, audit.Options{Tool: "test"}, journal)
	require.NoError(t, err)
	env.Recheck = nil
	undone := Undo(t.Context(), Chosen(records, Choice{Since: time.Unix(1, 0)}), env)
	for _, u := range undone.Changes {
		assert.True(t, u.Back, "%s: %s", u.Name, u.Says)
	}
	return undone
}

// write makes some changes, as an environment that a test has changed has it.
func (s *toldSite) writeWith(t *testing.T, reload bool, change func(*Env)) *Report {
	t.Helper()
	loaded, before := s.audit(t)
	for range 10 { // a former worker that was not given a turn yet may answer once more
		if !slices.ContainsFunc(some, func(rule string) bool { return before.VerdictOf(rule) != facts.Deviates }) {
			break
		}
		time.Sleep(300 * time.Millisecond)
		loaded, before = s.audit(t)
	}
	chosen, _, err := s.plan(t, loaded, before, some, reload).Gate(Consent{Upto: facts.Visible})
	require.NoError(t, err)
	require.NotEmpty(t, chosen)
	journal, err := OpenJournal(s.state, time.Now)
	require.NoError(t, err)
	defer journal.Close()
	env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
	require.NoError(t, err)
	change(&env)
	report, err := Write(t.Context(), chosen, SeenIn(before), env)
	require.NoError(t, err)
	return report
}

// asItWas holds that nothing is changed, and the site answers.
func (s *toldSite) asItWas(t *testing.T) {
	t.Helper()
	for name, was := range s.files {
		assert.Equal(t, was, s.read(t, name))
	}
	code, _, _ := s.get(t, "/")
	assert.Equal(t, 200, code)
	require.Eventually(t, func() bool { return s.unframed(t) }, 5*time.Second, 50*time.Millisecond)
}

func TestWhatServersAreToldGoesWrong(t *testing.T) {
	t.Parallel()
	s := toldSites(t, "nginx")
	results := func(r *Report) (all []string) {
		for _, o := range r.Outcomes {
			all = append(all, o.Result)
		}
		return slices.Compact(slices.Sorted(slices.Values(all)))
	}

	t.Run("written and not loaded is said", func(t *testing.T) {
		r := s.writeWith(t, false, func(*Env) {})
		assert.Equal(t, []string{Unread}, results(r))
		_, h, _ := s.get(t, "/")
		assert.Empty(t, h.Get("X-Frame-Options"))
		undone := s.undo(t)
		assert.Contains(t, undone.Says, "counts when they read it again")
		s.asItWas(t)
	})

	t.Run("a server that does not come back", func(t *testing.T) {
		broken := true
		r := s.writeWith(t, true, func(e *Env) {
			real := e.Run
			e.Ask = func(_ context.Context, addresses []string) map[string]int {
				answers := map[string]int{}
				for _, address := range addresses {
					answers[address] = 200
					if broken {
						answers[address] = 0
					}
				}
				return answers
			}
			broken = false
			reloads := 0
			e.Run = func(ctx context.Context, args []string) (string, error) {
				reloads++
				broken = reloads == 2 // both were told to read it, and it is gone; it comes back with what was
				return real(ctx, args)
			}
		})
		assert.Subset(t, results(r), []string{Broke})
		assert.NotContains(t, r.Outcomes[0].Says, "could not be taken back")
		s.asItWas(t)
	})

	t.Run("a reload that fails", func(t *testing.T) {
		r := s.writeWith(t, true, func(e *Env) {
			e.Run = func(context.Context, []string) (string, error) { return "no such process", fmt.Errorf("exit status 1") }
		})
		assert.Equal(t, []string{Trouble, Broke, Waits}, append([]string{}, sortedBy(results(r), Trouble, Broke, Waits)...))
		s.asItWas(t)
	})

	t.Run("a test that fails only after writing", func(t *testing.T) {
		r := s.writeWith(t, true, func(e *Env) {
			asked := 0
			e.Try = func(context.Context, map[string][]byte) trial.Verdict {
				if asked++; asked%3 != 0 { // as it was, and as it is to be
					return trial.Verdict{}
				}
				return trial.Verdict{Says: "it does not like it"}
			}
		})
		assert.Contains(t, r.Outcomes[0].Says, "it does not like it")
		assert.NotContains(t, results(r), Took)
		s.asItWas(t)
	})

	t.Run("the server's own test refuses it", func(t *testing.T) {
		loaded, _ := s.audit(t)
		w := worldOf(loaded, nil, nil)
		try := tryOf(w)
		as := func(name, text string) string {
			v := try(t.Context(), map[string][]byte{filepath.Join(s.dir, name): []byte(text)})
			return v.Says + v.Untested
		}
		assert.Empty(t, as("server.conf", s.files["server.conf"]+"# more\n"))
		says := as("server.conf", strings.Replace(s.files["server.conf"], "autoindex on;", "autoindex perhaps;", 1))
		assert.Contains(t, says, "autoindex")
		assert.Contains(t, says, filepath.Join(s.dir, "server.conf")+":", "the line is that of the file itself")
		assert.Empty(t, as("php/php.ini", "a = 1\n"))
		assert.Contains(t, as("php/php.ini", "a = (\n"), "syntax error")
		assert.Contains(t, as("php/php-fpm.conf", s.files["server.conf"]), "only when it reads it", "nobody tests a pool, and that is said")
		assert.Empty(t, as("www/.user.ini", "a = 1\n"), "what the web server is told has nothing to do with it")
	})

	t.Run("one of two is loaded", func(t *testing.T) {
		r := s.writeWith(t, true, func(e *Env) {})
		assert.Equal(t, []string{Took}, results(r))
		assert.Empty(t, s.undo(t).Says)
		require.Eventually(t, func() bool { return s.unframed(t) }, 5*time.Second, 50*time.Millisecond)
		siteFile := s.read(t, "weltaxis.yaml")
		s.write(t, "weltaxis.yaml", regexp.MustCompile(`(runtime: \{php: php), reload: [^}]*`).ReplaceAllString(siteFile, "$1"))
		r = s.writeWith(t, true, func(*Env) {})
		for _, o := range r.Outcomes {
			is := Took
			if o.Kind == Runtime {
				is = Unread
			}
			assert.Equal(t, is, o.Result, o.Title())
		}
		assert.Contains(t, s.undo(t).Says, "counts when they read it again", "the runtime has not")
		s.write(t, "weltaxis.yaml", siteFile)
		s.asItWas(t)
		require.Eventually(t, func() bool { return s.unframed(t) }, 5*time.Second, 50*time.Millisecond)
	})

	t.Run("somebody else writes meanwhile", func(t *testing.T) {
		theirs := strings.Replace(s.files["server.conf"], "        index index.php;\n", "        index index.php;\n        client_max_body_size 9m;\n", 1)
		loaded, before := s.audit(t)
		chosen, _, err := s.plan(t, loaded, before, some, false).Gate(Consent{Upto: facts.Visible})
		require.NoError(t, err)
		s.write(t, "server.conf", theirs)
		journal, err := OpenJournal(s.state, time.Now)
		require.NoError(t, err)
		env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
		require.NoError(t, err)
		report, err := Write(t.Context(), chosen, SeenIn(before), env)
		require.NoError(t, err)
		journal.Close()
		assert.Equal(t, []string{Unread}, results(report), "what they wrote is elsewhere")
		assert.Contains(t, s.read(t, "server.conf"), "client_max_body_size 9m;")
		assert.Contains(t, s.read(t, "server.conf"), "autoindex off;")
		mine := s.read(t, "server.conf")
		s.write(t, "server.conf", strings.Replace(mine, "9m;", "10m;", 1)) // and again, after it
		s.undo(t)
		assert.Equal(t, strings.Replace(theirs, "9m;", "10m;", 1), s.read(t, "server.conf"), "their lines stay, and mine are gone")
		s.write(t, "server.conf", s.files["server.conf"])

		chosen, _, err = s.plan(t, loaded, before, []string{"hardening.listing-off"}, false).Gate(Consent{Upto: facts.Visible})
		require.NoError(t, err)
		s.write(t, "server.conf", strings.Replace(s.files["server.conf"], "autoindex on;", "autoindex  on; # the posters", 1))
		journal, err = OpenJournal(s.state, time.Now)
		require.NoError(t, err)
		env.Journal = journal
		report, err = Write(t.Context(), chosen, SeenIn(before), env)
		require.NoError(t, err)
		journal.Close()
		assert.Contains(t, []string{Left, Unread}, report.Outcomes[0].Result)
		assert.Contains(t, s.read(t, "server.conf"), "# the posters", "what they wrote stays")
		s.undo(t)
		s.write(t, "server.conf", s.files["server.conf"])
	})
}

// sortedBy puts words in an order.
func sortedBy(words []string, order ...string) []string {
	slices.SortFunc(words, func(a, b string) int { return slices.Index(order, a) - slices.Index(order, b) })
	return words
}

// What was lost leads to where a person says, and to nothing that is not there; the likeliest pages are proposed.
func TestWhatWasLostLeadsOn(t *testing.T) {
	t.Parallel()
	for _, kind := range []string{"nginx", "apache"} {
		t.Run(kind, func(t *testing.T) {
			s := toldSites(t, kind)
			loaded, err := site.Load(filepath.Join(s.dir, "weltaxis.yaml"))
			require.NoError(t, err)
			base := strings.TrimSuffix(loaded.Address(), "/")
			options := audit.Options{Tool: "test", Previous: &facts.Snapshot{Seen: facts.Seen{Pages: []facts.Page{{Address: base + "/about-us/"}, {Address: base + "/zzz/"}}}}}
			before, err := audit.Run(t.Context(), loaded, time.Now(), options)
			require.NoError(t, err)
			require.True(t, deviates(before, "permalinks.old-lead-on"), "%v", before.NotJudged)
			plan := func(values map[string]string) map[string]Change {
				w, err := WishesFor(loaded, before, options, values)
				require.NoError(t, err)
				w.Reload = true
				plan, err := New(t.Context(), w)
				require.NoError(t, err)
				require.Empty(t, plan.Named([]string{"permalinks.old-lead-on"}))
				all := map[string]Change{}
				for _, c := range plan.Changes {
					all[c.Key+c.Name[:min(5, len(c.Name))]] = c
				}
				return all
			}
			const old, none = "lead./about-us/perma", "lead./zzz/perma"
			unsaid := plan(nil)
			assert.Equal(t, "where its page is now; the likeliest: /about/", unsaid[old].Needs)
			assert.Equal(t, "where its page is now; nothing there is much like it", unsaid[none].Needs)
			for value, says := range map[string]string{"/nowhere/": "no page of the site was seen", "/about-us/": "lead to itself", "https://elsewhere.example/": "no address of this site", "about": "no address of this site"} {
				assert.Contains(t, plan(map[string]string{"lead./about-us/": value})[old].Cannot, says, value)
			}
			for _, code := range []int{http.StatusFound, http.StatusMovedPermanently} { // for a trial, and for good when that is said once more
				said := plan(map[string]string{"lead./about-us/": "/about/"})
				if code == http.StatusMovedPermanently {
					assert.Contains(t, plan(nil)[old].Needs, "it leads to /about/ for a time; say /about/ if that is to be for good")
				}
				require.Empty(t, said[old].Cannot)
				require.Empty(t, said[old].Needs)
				assert.Equal(t, code == http.StatusFound, said[old].Step)
				assert.Equal(t, code == http.StatusMovedPermanently, said[old].Lasting, "browsers keep what is for good")
				journal, err := OpenJournal(s.state, time.Now)
				require.NoError(t, err)
				env, err := For(loaded, before, options, journal)
				require.NoError(t, err)
				report, err := Write(t.Context(), []Change{said[old], said[map[string]string{"nginx": "nginx", "apache": "Apach"}[kind]]}, SeenIn(before), env)
				require.NoError(t, err)
				journal.Close()
				for _, o := range report.Outcomes {
					assert.Contains(t, []string{Took, NotTook}, o.Result, "%s: %s", o.Title(), o.Says) // the other address is lost still
				}
				var header http.Header
				assert.Eventually(t, func() bool {
					s.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
					is, h, _ := s.get(t, "/about-us/")
					header = h
					return is == code
				}, 5*time.Second, 50*time.Millisecond)
				assert.True(t, strings.HasSuffix(header.Get("Location"), "/about/"), header.Get("Location"))
				before, err = audit.Run(t.Context(), loaded, time.Now(), options)
				require.NoError(t, err)
				again := slices.ContainsFunc(before.FollowUps, func(f facts.FollowUp) bool { return f.Rule == "permalinks.old-lead-on" })
				assert.Equal(t, code == http.StatusFound, again, "somebody is to come back to a trial: %v", before.FollowUps)
			}
			s.undo(t)
			s.undo(t)
			s.asItWas(t)
		})
	}
}
