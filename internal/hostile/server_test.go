//go:build linux

package hostile

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// servers are configurations of web servers that mean ill, or were never meant to be read.
func servers() []hostile {
	site := func(kind string) func(*testing.T, string) {
		return write("weltaxis.yaml", "site: S\nintent: {stage: live, address: https://x.example}\nsources: {server: {"+kind+": server.conf}}\n")
	}
	of := func(kind, text string) func(*testing.T, string) { return both(site(kind), write("server.conf", text)) }
	host := func(inside string) string {
		return "http { server { listen 443 ssl; server_name x.example; root /nowhere; " + inside + " } }"
	}
	return []hostile{
		{name: "an include of nothing", in: of("nginx", "http {\ninclude other.conf;\n}"), args: "explain /", exit: 3, says: "other.conf is not there, so the server does not start"},
		{name: "a configuration that includes itself", in: of("nginx", "events {}\ninclude server.conf;"), args: "explain /", exit: 3, says: "server.conf, line 2: server.conf includes itself"},
		{name: "an include in a circle", in: both(of("nginx", "events {}\ninclude other.conf;"), write("other.conf", "\ninclude server.conf;")), args: "explain /", exit: 3, says: "other.conf, line 2: server.conf includes itself"},
		{name: "a section that includes itself", in: of("apache", "Include server.conf"), args: "audit", exit: 3, says: "server.conf, line 1: server.conf includes itself"},
		{name: "a million directives", in: of("nginx", host(strings.Repeat("add_header a b;\n", 500_000))), args: "explain /", exit: 3, says: "more than 400000 directives; the rest was not read", mebibyte: 300, seconds: 30},
		{name: "a million lines", in: of("apache", strings.Repeat("Header set a b\n", 500_000)), args: "explain /", exit: 3, says: "more than 400000 directives; the rest was not read", mebibyte: 300, seconds: 30},
		{name: "places inside one another without end", in: of("nginx", host(strings.Repeat("location / { ", 100_000))), args: "explain /", exit: 3, says: "blocks inside one another more than 200 deep"},
		{name: "a quotation mark that is never closed", in: of("nginx", "http { server { listen 443;\nserver_name 'x; } }"), args: "audit", exit: 3, says: "a quotation mark is not closed, so the server does not start"},
		{name: "a configuration that is a server's device", in: both(site("nginx"), link("server.conf", "/dev/zero")), args: "audit", exit: 3, says: "server.conf"},
		{name: "a configuration that waits", in: both(site("apache"), pipe("server.conf")), args: "audit", exit: 3, says: "named pipe"},
		{name: "a configuration of eight gigabytes", in: func(t *testing.T, dir string) {
			of("nginx", "http {")(t, dir)
			require.NoError(t, os.Truncate(filepath.Join(dir, "server.conf"), 8<<30))
		}, args: "audit", exit: 3, says: "server.conf"},
		{name: "an include of everything", in: of("nginx", "http { include /proc/*/*; }"), args: "explain /", exit: 3, says: "x.example", seconds: 20},
		{name: "an expression that takes for ever", in: of("nginx", host(`location ~ "^/(a|aa)+$" { deny all; }`)), args: "explain /" + strings.Repeat("a", 200) + "!", exit: 0, says: "takes too long"},
		{name: "thousands of expressions that take for ever", in: of("nginx", host(many("location ~ \"^/(a|aa)+%d$\" { deny all; }\n", 20_000))), args: "explain /" + strings.Repeat("a", 200) + "!", exit: 0, says: "takes too long", mebibyte: 300, seconds: 30},
		{name: "thousands of rules that take for ever", in: of("apache", "LoadModule rewrite_module m/mod_rewrite.so\nServerName x.example\nListen 443\nRewriteEngine On\n"+many("RewriteRule ^/(a|aa)+%d$ /x\n", 20_000)), args: "explain /" + strings.Repeat("a", 200) + "!", exit: 0, says: "takes too long", mebibyte: 300, seconds: 30},
		{name: "a map that leads to itself", in: of("nginx", "http { map $a $a { default $a; } server { listen 443 ssl; server_name x.example; return 200 $a; } }"), args: "explain /", exit: 0, says: "its way"},
		{name: "rules that never end", in: of("apache", "LoadModule rewrite_module m/mod_rewrite.so\nServerName x.example\nListen 443\nRewriteEngine On\nRewriteRule ^(.*)$ $1$1 [N]"), args: "explain /ab", exit: 0, says: "grows without end"},
		{name: "folders that stand for one another", in: of("apache", "DocumentRoot /\nListen 443\nServerName x.example\n<Directory />\nRequire all granted\n</Directory>\nDirectoryIndex "+strings.Repeat("etc/ usr/ var/ tmp/ ", 50)), args: "explain /", exit: 0, says: "its way", seconds: 20},
		{name: "a configuration that a terminal obeys", in: of("nginx", host("location /\x1b[2J\u202e { add_header X-Frame-Options \"\x1b]0;x\x07\" always; } location / { return 200 x; }")), args: "explain /\x1b[2J\u202e", exit: any, says: `\x1b[2J`},
		{name: "an override file that is a pipe", in: func(t *testing.T, dir string) {
			of("apache", "DocumentRoot "+filepath.Join(dir, "site")+"\nListen 443\nServerName x.example\n<Directory />\nAllowOverride All\nRequire all granted\n</Directory>")(t, dir)
			pipe("site/.htaccess")(t, dir)
		}, args: "explain /x", exit: 0, says: "its way"},
		{name: "a hundred thousand hosts", in: of("nginx", "http { "+strings.Repeat("server { listen 443 ssl; server_name a.example; }\n", 60_000)+"server { listen 443 ssl; server_name x.example; return 204; } }"), args: "explain /", exit: 0, says: "204", mebibyte: 300, seconds: 30},
	}
}

// many is a line as often as wanted, with its number.
func many(line string, times int) string {
	var all strings.Builder
	for i := range times {
		fmt.Fprintf(&all, line, i)
	}
	return all.String()
}
