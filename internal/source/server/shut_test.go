package server

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// What stays open of a host that is locked, by lines that stand in it, and what only looks so.
func TestWhatStaysOpenOfALock(t *testing.T) {
	for name, c := range map[string]struct {
		kind, lines string
		open        string // in one of those that are named; "" for nothing
		unknown     string // why it cannot be told
	}{
		"nothing":                         {Nginx, "", "", ""},
		"files of a kind":                 {Nginx, `location ~* \\.(pdf|zip)$ { auth_basic off; }`, "/made-up.pdf", ""},
		"an expression that begins so":    {Nginx, `location ~ "^/private/[0-9]{4}/" { auth_basic off; }`, "/private/0000/", ""},
		"an expression glued to its sign": {Nginx, `location ~^/private/ { auth_basic off; }`, "/private/", ""},
		"one that is not understood":      {Nginx, `location ~ ^/(?!x)private { auth_basic off; }`, "", "no address can be made up"},
		"nor one that lifts nothing":      {Nginx, `location ~ /[.](?!well-known/) { deny all; }`, "", ""},
		"robots.txt":                      {Nginx, "location = /robots.txt { auth_basic off; }", "", ""},
		"a robots.txt of another folder":  {Nginx, "location /members/ { auth_basic off; }", "/members/", ""},
		"a folder that is called like it": {Nginx, "location /.well-known/acme-challenge-old/ { auth_basic off; }", "acme-challenge-old/", ""},
		"the first letter of robots.txt":  {Nginx, "location = /r { return 200 x; }", "/r ", ""},
		"what robots.txt is fitted by":    {Nginx, "location ~ ^/robots { auth_basic off; }", "", ""},
		"challenges":                      {Nginx, "location /.well-known/acme-challenge/ { auth_basic off; }", "", ""},
		"another place for challenges":    {Nginx, "location /x/acme-challenge/ { auth_basic off; }", "/x/acme-challenge/", ""},
		"files of a kind at Apache":       {Apache, "<FilesMatch \"\\\\.pdf$\">\nRequire all granted\n</FilesMatch>", "/made-up.pdf", ""},
		"a file at Apache":                {Apache, "<Files \"price-*.csv\">\nRequire all granted\n</Files>", "/price-made-up.csv", ""},
		"a folder at Apache":              {Apache, "<Directory DIR/www/inner>\nRequire all granted\n</Directory>", "/inner/x.html", ""},
		"a folder elsewhere at Apache":    {Apache, "<Directory /usr/share/none>\nRequire all granted\n</Directory>", "", ""},
		"robots.txt at Apache":            {Apache, "<Files robots.txt>\nRequire all granted\n</Files>", "", ""},
		"addresses of a kind at Apache":   {Apache, "<LocationMatch \"^/inner/.*[.]js$\">\nRequire all granted\n</LocationMatch>", "/inner/.js", ""},
		"another method at Apache":        {Apache, "LIMIT", "POST ", ""},
	} {
		dir := t.TempDir()
		for _, file := range []string{"www/index.html", "www/robots.txt", "www/members/robots.txt", "www/inner/x.html", "www/.well-known/acme-challenge/token"} {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, file)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte("x"), 0o644))
		}
		lines := strings.ReplaceAll(strings.ReplaceAll(c.lines, `\\\\`, `\\`), "DIR", dir)
		text := fmt.Sprintf("events {}\nhttp { types { text/html html; } server { listen 80; server_name site.example; root %s/www; auth_basic x; auth_basic_user_file u; %s } }\n", dir, strings.ReplaceAll(lines, `\\`, `\`))
		if c.kind == Apache {
			asks := "Require valid-user"
			if lines == "LIMIT" {
				asks, lines = "<Limit GET>\nRequire valid-user\n</Limit>", ""
			}
			text = "Listen 80\nLoadModule authz_core_module m.so\nLoadModule authn_core_module m.so\nLoadModule auth_basic_module m.so\nLoadModule authn_file_module m.so\nLoadModule authz_user_module m.so\nLoadModule dir_module m.so\nLoadModule mime_module m.so\nServerName site.example\nDocumentRoot " + dir + "/www\n<Directory " + dir + "/www>\nAuthType Basic\nAuthName x\nAuthUserFile u\n" + asks + "\n</Directory>\n" + strings.ReplaceAll(lines, `\\`, `\`) + "\n"
		}
		conf := filepath.Join(dir, "server.conf")
		require.NoError(t, os.WriteFile(conf, []byte(text), 0o644))
		home, err := url.Parse("http://site.example/")
		require.NoError(t, err)
		s, gaps := Open(nil, []Config{{c.kind, conf}}, home, nil)
		require.Empty(t, gaps, name)
		seen, err := s.Answers(t.Context(), Probes{})
		require.NoError(t, err)
		snapshot := facts.Snapshot{Seen: seen}
		open, known := snapshot.Is(facts.ServerShutOpen.Term)
		switch said := strings.Join(open.List(), "; "); {
		case c.unknown != "":
			assert.False(t, known, "%s: %s", name, said)
			assert.Contains(t, fmt.Sprint(seen.Gaps), c.unknown, name)
		case c.open == "":
			assert.True(t, known, "%s: %v", name, seen.Gaps)
			assert.Empty(t, said, name)
		default:
			assert.Contains(t, said, c.open, "%s\n%s\n%v", name, text, seen.Gaps)
		}
	}
}

func TestATextIsMadeUpForAnExpression(t *testing.T) {
	for expression, want := range map[string]string{`\.(pdf|zip)$`: ".pdf", `^/x/\d+/[^/]+\.html?$`: "/x/0/a.htm", `(?i)^/A`: "/A", `a{3}b*c+`: "aaac", `^$`: ""} {
		sample, known := sampleOf(expression)
		assert.True(t, known, expression)
		assert.Equal(t, want, sample, expression)
	}
	for _, expression := range []string{`(`, `(?!x)y`, `a$b`} {
		_, known := sampleOf(expression)
		assert.False(t, known, expression)
	}
	long, _ := sampleOf(`(((a{1000}){1000})`)
	assert.LessOrEqual(t, len(long), 2*maxSample)
}
