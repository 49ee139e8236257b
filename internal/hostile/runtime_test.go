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

// runtimes are files for a language runtime that mean ill, or were never meant to be read.
func runtimes() []hostile {
	front := func(t *testing.T, dir string) {
		write("weltaxis.yaml", "site: S\nintent: {stage: live, address: https://x.example}\nsources: {server: {nginx: server.conf}, runtime: {php: php}}\n")(t, dir)
		write("server.conf", fmt.Sprintf("events {}\nhttp { server { listen 443 ssl; server_name x.example; root %s/www; location / { fastcgi_pass 127.0.0.1:9000; fastcgi_param SCRIPT_FILENAME $document_root/index.php; fastcgi_param DOCUMENT_ROOT $document_root; } } }", dir))(t, dir)
		write("www/index.php", "<?php")(t, dir)
		write("php/php-fpm.conf", "[www]\nlisten = 9000\n")(t, dir)
	}
	of := func(text string) func(*testing.T, string) { return both(front, write("php/php.ini", text)) }
	beside := func(more func(*testing.T, string)) func(*testing.T, string) {
		return both(of("display_errors = Off\n"), more)
	}
	return []hostile{
		{name: "a php.ini that is a pipe", in: both(front, pipe("php/php.ini")), args: "audit", exit: 3, says: "named pipe"},
		{name: "a php.ini that never ends", in: both(front, link("php/php.ini", "/dev/zero")), args: "audit", exit: 3, says: "php.ini"},
		{name: "a php.ini of eight gigabytes", in: func(t *testing.T, dir string) {
			of("")(t, dir)
			require.NoError(t, os.Truncate(filepath.Join(dir, "php/php.ini"), 8<<30))
		}, args: "audit", exit: 3, says: "php.ini"},
		{name: "a runtime that is not there", in: both(front, write("weltaxis.yaml", "site: S\nintent: {address: https://x.example}\nsources: {server: {nginx: server.conf}, runtime: {php: nowhere}}\n")), args: "audit", exit: 2, says: "does not exist"},
		{name: "a value in brackets without end", in: of("memory_limit = " + strings.Repeat("(", 3<<20)), args: "explain runtime.troubles", exit: any, says: "runtime.troubles"},
		{name: "a value of signs without end", in: of("memory_limit = " + strings.Repeat("~", 3<<20)), args: "audit", exit: any, says: "stops reading php/php.ini at line 1"},
		{name: "a quotation that is never closed", in: of("memory_limit = \"" + strings.Repeat("x\n", 1<<20)), args: "audit", exit: any, says: "a quote is not closed"},
		{name: "values that name one another", in: of(many("a%d = \"${b}${b}${b}${b}\"\n", 90_000)), args: "audit", exit: any, says: "runtime"},
		{name: "a value that doubles itself", in: of("a = 0123456789\n" + strings.Repeat("a = \"${a}${a}\"\n", 60)), args: "audit", exit: any, says: "runtime", mebibyte: 300, seconds: 20},
		{name: "a million values", in: of(many("a%d = 1\n", 250_000)), args: "audit", exit: any, says: "more than 100000 lines", mebibyte: 300, seconds: 20},
		{name: "a hundred thousand sections", in: of(many("[PATH=/a%d]\nmemory_limit = 1\n", 90_000)), args: "audit", exit: any, says: "runtime", mebibyte: 300, seconds: 20},
		{name: "pools that include one another", in: beside(both(write("php/php-fpm.conf", "include = more.conf\n"), write("php/more.conf", "include = php-fpm.conf\ninclude = more.conf\n"))), args: "audit", exit: 3, says: "included"},
		{name: "pools that include everything", in: beside(write("php/php-fpm.conf", "include = /proc/*/*\n")), args: "audit", exit: 3, says: "runtime", seconds: 20},
		{name: "a folder's own file that is a pipe", in: beside(pipe("www/.user.ini")), args: "audit", exit: 3, says: ".user.ini"},
		{name: "thousands of folders' own files", in: beside(func(t *testing.T, dir string) {
			for i := range 3000 {
				write(fmt.Sprintf("www/a%d/.user.ini", i), "memory_limit = 1\n")(t, dir)
			}
		}), args: "audit", exit: any, says: "runtime", seconds: 30},
		{name: "lines that a terminal obeys", in: of("Display_Errors = \"\x1b[2J\u202e\x1b]0;x\x07\"\n"), args: "audit", exit: any, says: `\x1b[2J`},
	}
}
