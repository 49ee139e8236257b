package server

import (
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/source/server/answer"
)

func site(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	return dir
}

func TestAnswersOfNginx(t *testing.T) {
	dir := site(t, map[string]string{"public/index.html": "x", "public/about/index.html": "x", "public/uploads/a.jpg": "x"})
	conf := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf(`http {
    add_header X-Frame-Options DENY always;
    server {
        listen 443 ssl;
        server_name lantern-lane.example;
        root %s/public;
        location / { try_files $uri $uri/ =404; }
        location ^~ /uploads/ { autoindex on; add_header X-Content-Type-Options nosniff; }
        location ~ \.php$ { fastcgi_pass 127.0.0.1:9; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; }
    }
}`, dir)), 0o600))
	address, _ := url.Parse("https://lantern-lane.example/")
	s, gaps := Open(nil, []Config{{Nginx, conf}}, address, nil)
	require.Empty(t, gaps)
	layout, err := s.Layout(t.Context(), gaps)
	require.NoError(t, err)
	root, known := layout.Effective("server.root")
	require.True(t, known)
	require.Equal(t, dir+"/public", root.Value.Text())
	require.Equal(t, 6, root.Origin.Line)

	seen, err := s.Answers(t.Context(), Probes{Uploads: []string{filepath.Join(dir, "public", "uploads")}, Inner: []string{"/about/"}})
	require.NoError(t, err)
	told := map[string]string{}
	for _, a := range seen.Answers {
		for _, field := range []string{"status", "handler", "runs_code", "leaks_source", "listed", "framing"} {
			if v, known := a.Field(field); known {
				told[a.Kind+" "+a.Path()+" "+field] = v.String()
			}
		}
	}
	for name, want := range map[string]string{
		"home / status": "200", "inner page /about/ handler": "static", "uploaded script /uploads/made-up.php handler": "static",
		"uploaded script /uploads/made-up.php leaks_source": "yes", "folder /uploads/ listed": "yes", "inner page /about/ listed": "no", "home / framing": "DENY", "folder /uploads/ framing": "",
		"script with path /made-up.php/x status": "404",
	} {
		got, there := told[name]
		require.True(t, there, name)
		require.Equal(t, want, got, name)
	}
	require.Len(t, seen.Shadowed, 1)
	require.Equal(t, 2, seen.Shadowed[0].At.Line)
	require.Equal(t, 8, seen.Shadowed[0].By.Line)
}

// TestOneBeforeTheOther: nginx hands to Apache, and each field has the line of the server that decides it.
func TestOneBeforeTheOther(t *testing.T) {
	dir := site(t, map[string]string{"public/index.html": "x", "public/old/.htaccess": "Require all denied\n"})
	front, back := filepath.Join(dir, "nginx.conf"), filepath.Join(dir, "apache.conf")
	require.NoError(t, os.WriteFile(front, []byte("http { server { listen 80; server_name lantern-lane.example;\nadd_header Strict-Transport-Security max-age=9 always;\nlocation / { proxy_pass http://127.0.0.1:8080;\nproxy_set_header Host $host; } } }"), 0o600))
	require.NoError(t, os.WriteFile(back, []byte(fmt.Sprintf("LoadModule headers_module x/mod_headers.so\nLoadModule autoindex_module x/mod_autoindex.so\nDocumentRoot %[1]s/public\nServerName lantern-lane.example\nListen 8080\n<Directory %[1]s/public>\nRequire all granted\nHeader set X-Frame-Options DENY\n</Directory>\n", dir)), 0o600))
	address, _ := url.Parse("http://lantern-lane.example/")
	s, gaps := Open(nil, []Config{{Nginx, front}, {Apache, back}}, address, nil)
	require.Empty(t, gaps)
	home := s.Fact("home", address, s.Work(address))
	for field, want := range map[string]string{"status": "200", "handler": "static", "file": dir + "/public/index.html", "hsts": "max-age=9", "framing": "DENY"} {
		v, known := home.Field(field)
		require.True(t, known, "%s: %s", field, home.Why(field).Because)
		require.Equal(t, want, v.String(), field)
	}
	require.Equal(t, front, home.OriginOf("hsts").File)
	require.Equal(t, back, home.OriginOf("framing").File)
	require.Equal(t, 8, home.OriginOf("framing").Line)
	seen, err := s.Answers(t.Context(), Probes{})
	require.NoError(t, err)
	require.Len(t, seen.Shadowed, 1, "the override file is not read")
}

// TestWhoAsksAndHow: the main addresses are worked out for somebody with a session, and for what is sent there, too.
func TestWhoAsksAndHow(t *testing.T) {
	dir := site(t, map[string]string{"public/index.html": "x", "public/uploads/a.jpg": "x"})
	conf := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(conf, []byte("http { server { listen 80; server_name lantern-lane.example; root "+dir+`/public;
if ($cookie_lamp) { return 302 /own/; }
location / { try_files $uri $uri/index.html =404; }
location ~ \.php$ { fastcgi_pass 127.0.0.1:9; }
location ~* \.phar$ { fastcgi_pass 127.0.0.1:9; fastcgi_param SCRIPT_FILENAME $document_root$uri; }
location ^~ /uploads/ { location ~ \.php$ { deny all; } location ~* \.phar$ { fastcgi_pass 127.0.0.1:9; fastcgi_param SCRIPT_FILENAME $document_root$uri; } } } }`), 0o600))
	address, _ := url.Parse("http://lantern-lane.example/")
	s, gaps := Open(nil, []Config{{Nginx, conf}}, address, nil)
	require.Empty(t, gaps)
	seen, err := s.Answers(t.Context(), Probes{Login: "/door/", Inner: []string{"/a/", "/b/"}, Cookies: []string{"other", "lamp"}, Uploads: []string{filepath.Join(dir, "public", "uploads")}})
	require.NoError(t, err)
	said := map[string]string{}
	var run []string
	for i := range seen.Answers {
		a := &seen.Answers[i]
		if status, known := a.Field("status"); known {
			said[a.Identity()] = status.String()
		}
		if runs, known := a.Field("runs_code"); known && runs.Bool() && a.Kind == "uploaded script" {
			run = append(run, a.Path())
		}
	}
	assert.Equal(t, "200", said["home /"])
	assert.Equal(t, "302", said["with a session /"])
	assert.Equal(t, "302", said["with a session /a/"])
	assert.Equal(t, "405", said["posted /"], "a file takes nothing")
	assert.Contains(t, said, "posted /door/")
	assert.NotContains(t, said, "with a session /door/")
	assert.NotContains(t, said, "posted /b/", "one inner page stands for all")
	assert.Equal(t, []string{"/uploads/made-up.phar"}, run, "what shields one name forgets another")
}

// TestEncryptionOnAnotherPort: where the usual port is led to another, as a container's is, the host that encrypts answers for https; where
// none does, encryption ends before it gets here.
func TestEncryptionOnAnotherPort(t *testing.T) {
	dir := site(t, map[string]string{"public/index.html": "x"})
	apache := "LoadModule dir_module x/mod_dir.so\nLoadModule alias_module x/mod_alias.so\nLoadModule ssl_module x/mod_ssl.so\nListen 8081\nListen 8444\n"
	for kind, texts := range map[string][2]string{
		Nginx: {
			"http { server { listen 8081; server_name lantern-lane.example; return 301 https://lantern-lane.example$request_uri; }",
			"server { listen 8444 ssl; server_name lantern-lane.example; root " + dir + "/public; } }",
		},
		Apache: {
			apache + "<VirtualHost *:8081>\nServerName lantern-lane.example\nRedirect permanent / https://lantern-lane.example/\n</VirtualHost>\n",
			"<VirtualHost *:8444>\nServerName lantern-lane.example\nSSLEngine on\nDocumentRoot " + dir + "/public\n<Directory " + dir + "/public>\nRequire all granted\n</Directory>\n</VirtualHost>\n",
		},
	} {
		conf := filepath.Join(dir, kind+".conf")
		home, _ := url.Parse("https://lantern-lane.example/")
		for want, text := range map[string]string{"200": texts[0] + texts[1], "301": texts[0]} {
			if kind == Nginx && want == "301" {
				text += " }"
			}
			require.NoError(t, os.WriteFile(conf, []byte(text), 0o600))
			s, gaps := Open(nil, []Config{{kind, conf}}, home, nil)
			require.Empty(t, gaps)
			assert.Equal(t, want, s.Work(home).Text(answer.Status), "%s\n%s", kind, text)
		}
	}
}

// TestWhatCouldNotBeReadMaySayAnything: an included file that is not there to be read leaves untold what it may hold, and no more.
func TestWhatCouldNotBeReadMaySayAnything(t *testing.T) {
	dir := site(t, map[string]string{"public/index.html": "x"})
	require.NoError(t, exec.Command("mkfifo", filepath.Join(dir, "hidden.conf")).Run()) // which nobody reads, root neither
	address, _ := url.Parse("http://lantern-lane.example/")
	for name, c := range map[string]struct {
		kind    string
		text    string
		known   []string
		unknown []string
	}{
		"nginx, around a host that answers by itself": {Nginx, "http { include hidden.conf; server { listen 80; server_name lantern-lane.example; return 204; } }", []string{"status", "handler", "server"}, []string{"hsts", "nosniff", "compressed", "body_limit", "server_header"}},
		"nginx, but the host says it itself":          {Nginx, "http { include hidden.conf; server { listen 80; server_name lantern-lane.example; client_max_body_size 2m; server_tokens off; return 204; } }", []string{"status", "body_limit", "server_header"}, []string{"hsts"}},
		"nginx, in the host":                          {Nginx, "http { server { listen 80; server_name lantern-lane.example; include hidden.conf; return 204; } }", []string{"server"}, []string{"status", "handler", "hsts"}},
		"nginx, around a host of another name":        {Nginx, "http { include hidden.conf; server { listen 80; return 204; } }", nil, []string{"status", "hsts"}},
		"apache, before everything":                   {Apache, "Include hidden.conf\nListen 80\nServerName lantern-lane.example\nRedirect / /x/", nil, []string{"status", "location", "hsts", "body_limit"}},
		"apache, in the host":                         {Apache, "Listen 80\n<VirtualHost *:80>\nServerName lantern-lane.example\nInclude hidden.conf\nRedirect / /x/\n</VirtualHost>", nil, []string{"status", "location", "hsts"}},
		"apache, in another host":                     {Apache, "Listen 80\nLoadModule alias_module x/mod_alias.so\n<VirtualHost *:80>\nServerName lantern-lane.example\nRedirect / /x/\n</VirtualHost>\n<VirtualHost *:80>\nServerName other.example\nInclude hidden.conf\n</VirtualHost>", []string{"status", "location", "hsts"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			conf := filepath.Join(dir, "server.conf")
			require.NoError(t, os.WriteFile(conf, []byte(c.text), 0o600))
			s, gaps := Open(nil, []Config{{c.kind, conf}}, address, nil)
			require.NotEmpty(t, gaps)
			home := s.Fact("home", address, s.Work(address))
			for _, field := range c.known {
				_, known := home.Field(field)
				assert.True(t, known, "%s: %s", field, home.Why(field).Because)
			}
			for _, field := range c.unknown {
				v, known := home.Field(field)
				assert.False(t, known, "%s: %s", field, v)
				assert.Contains(t, home.Why(field).Because, "hidden.conf", field)
			}
		})
	}
}

// TestOneEntryRunsNothingThatWasUploaded: a program that answers for every address is not what lies there.
func TestOneEntryRunsNothingThatWasUploaded(t *testing.T) {
	dir := site(t, map[string]string{"public/index.php": "x", "public/uploads/a.jpg": "x"})
	address, _ := url.Parse("http://lantern-lane.example/")
	head := "Listen 80\nLoadModule rewrite_module x/mod_rewrite.so\nLoadModule proxy_fcgi_module x/p.so\nLoadModule mime_module x/mod_mime.so\nServerName lantern-lane.example\nDocumentRoot " + dir + "/public\n<Directory />\nRequire all granted\nOptions FollowSymLinks\n</Directory>\n"
	php := "<FilesMatch \"\\.php$\">\nSetHandler proxy:fcgi://127.0.0.1:9\n</FilesMatch>\n"
	for name, c := range map[string]struct {
		kind, text string
		run        []string // of .php, .jpg
	}{
		"nginx, one entry":                 {Nginx, "location / { fastcgi_pass 127.0.0.1:9; fastcgi_param SCRIPT_FILENAME $document_root/index.php; }", nil},
		"nginx, what is named":             {Nginx, "location / { fastcgi_pass 127.0.0.1:9; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; }", []string{".php", ".jpg"}},
		"nginx, programs by their ending":  {Nginx, "location ~ \\.php$ { fastcgi_pass 127.0.0.1:9; fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; }", []string{".php"}},
		"apache, one entry":                {Apache, php + "RewriteEngine On\nRewriteRule ^/ " + dir + "/public/index.php [L]\n", nil},
		"apache, programs by their ending": {Apache, php, []string{".php"}},
		"apache, pictures are programs":    {Apache, php + "AddHandler proxy:fcgi://127.0.0.1:9 .jpg\n", []string{".php", ".jpg"}},
	} {
		t.Run(name, func(t *testing.T) {
			conf, text := filepath.Join(dir, "server.conf"), head+c.text
			if c.kind == Nginx {
				text = "http { server { listen 80; server_name lantern-lane.example; root " + dir + "/public; " + c.text + " } }"
			}
			require.NoError(t, os.WriteFile(conf, []byte(text), 0o600))
			s, gaps := Open(nil, []Config{{c.kind, conf}}, address, nil)
			require.Empty(t, gaps)
			seen, err := s.Answers(t.Context(), Probes{Uploads: []string{filepath.Join(dir, "public", "uploads")}})
			require.NoError(t, err)
			for _, ending := range []string{".php", ".jpg"} {
				for i := range seen.Answers {
					if a := &seen.Answers[i]; a.Path() == "/uploads/made-up"+ending {
						runs, known := a.Field("runs_code")
						require.True(t, known, a.Why("runs_code").Because)
						assert.Equal(t, slices.Contains(c.run, ending), runs.Bool(), ending)
					}
				}
			}
		})
	}
}

// TestFoldersThatAreListed: wherever a folder is listed, and only where a list shows something.
func TestFoldersThatAreListed(t *testing.T) {
	address, _ := url.Parse("http://lantern-lane.example/")
	head := "Listen 80\nLoadModule alias_module x/mod_alias.so\nLoadModule dir_module x/mod_dir.so\nLoadModule autoindex_module x/mod_autoindex.so\nServerName lantern-lane.example\nDocumentRoot DIR/public\n<Directory />\nRequire all granted\nAllowOverride All\n</Directory>\n"
	for name, c := range map[string]struct {
		kind, text, override string
		listed               []string
	}{
		"apache, deep, by its folder":       {Apache, "<Directory DIR/public/a/b/c/d>\nOptions +Indexes\n</Directory>", "", []string{"/a/b/c/d/"}},
		"apache, deep, by its address":      {Apache, "<Location /a/b/c/d>\nOptions +Indexes\n</Location>", "", []string{"/a/b/c/d/"}},
		"apache, deep, by an override file": {Apache, "", "Options +Indexes\n", []string{"/a/b/c/d/"}},
		"apache, outside of the root":       {Apache, "Alias /far DIR/far\n<Directory DIR/far>\nOptions Indexes\n</Directory>", "", []string{"/far/"}},
		"apache, every file left out":       {Apache, "<Directory DIR/public>\nOptions Indexes\nIndexIgnore *\n</Directory>", "", nil},
		"apache, some files left out":       {Apache, "<Directory DIR/public/a/b>\nOptions Indexes\nIndexIgnore *.txt\n</Directory>\n<Directory DIR/public/a/b/c>\nOptions -Indexes\n</Directory>", "", []string{"/a/b/"}},
		"apache, left out and put back":     {Apache, "<Directory DIR/public/a/b/c/d>\nOptions Indexes\nIndexIgnore *\nIndexIgnoreReset On\n</Directory>", "", []string{"/a/b/c/d/"}},
		"nginx, deep, by its address":       {Nginx, "location /a/b/c/d/ { autoindex on; }", "", []string{"/a/b/c/d/"}},
		"nginx, within a place":             {Nginx, "location /a/ { location /a/b/c/ { autoindex on; } }", "", []string{"/a/b/c/"}},
		"nginx, outside of the root":        {Nginx, "location /far/ { alias DIR/far/; autoindex on; }", "", []string{"/far/"}},
		"nginx, only within":                {Nginx, "location /a/b/c/d/ { internal; autoindex on; }", "", nil},
	} {
		t.Run(name, func(t *testing.T) {
			files := map[string]string{"public/index.html": "x", "public/a/b/c/d/x.txt": "x", "far/x": "x"}
			if c.override != "" {
				files["public/a/b/c/d/.htaccess"] = c.override
			}
			dir := site(t, files)
			text := head + c.text
			if c.kind == Nginx {
				text = "http { server { listen 80; server_name lantern-lane.example; root DIR/public; " + c.text + " } }"
			}
			conf := filepath.Join(dir, "server.conf")
			require.NoError(t, os.WriteFile(conf, []byte(strings.ReplaceAll(text, "DIR", dir)), 0o600))
			s, gaps := Open(nil, []Config{{c.kind, conf}}, address, nil)
			require.Empty(t, gaps)
			seen, err := s.Answers(t.Context(), Probes{})
			require.NoError(t, err)
			var listed []string
			for i := range seen.Answers {
				if v, known := seen.Answers[i].Field("listed"); known && v.Bool() {
					listed = append(listed, seen.Answers[i].Path())
				}
			}
			assert.Equal(t, c.listed, listed)
		})
	}
}
