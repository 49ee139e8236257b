//go:build linux

package hostile

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"weltaxis/internal/fix"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// table is all of them. Where nothing is said of a row's exit status, that is that of what deviates or could not be seen.
func table() []hostile {
	var all []hostile
	for _, some := range [][]hostile{pages(), answers(), beside(), named(), trees(), databases(), texts(), servers(), runtimes(), lists(), odd()} {
		all = append(all, some...)
	}
	return all
}

const any = -1

// pages are pages of which there is too much.
func pages() []hostile {
	return []hostile{
		{name: "a title of 3 MB", serve: markup("<title>", strings.Repeat("x", 1000), 3000, "</title>"), exit: 0, says: "titles."},
		{name: "a thousand titles", serve: markup("", "<title>t#</title>", 20000, ""), exit: 1, says: "titles"},
		{name: "100 000 links", serve: markup("<title>T</title><body>", "<a href=/p#>p</a>", 100_000, ""), exit: any, says: "not all was read", requests: 1500},
		{name: "links to a hundred thousand hosts", serve: markup("<title>T</title><body>", "<img src=https://h#.example/>", 60_000, ""), exit: 0, says: "It answers"},
		{name: "nesting a million deep", serve: markup("<title>T</title><body>", "<div>", 700_000, ""), exit: 0, says: "It answers"},
		{name: "a million attributes", serve: markup("<title>T</title><body><p ", "a#=1 ", 400_000, ">"), exit: any, says: "It answers"},
		{name: "headers that tell of a hundred caches each", serve: func(w http.ResponseWriter, r *http.Request) {
			for name, value := range map[string]string{"Cache-Status": "lamp; hit; ttl=99999999999; detail=\"\u202edlrow\"", "X-Cache": "HIT from \u202epmal", "Vary": "Accept-Encoding, X-A", "Cache-Control": "max-age=99999999999999999999, private=\"a,b", "Server-Timing": "cache;desc=hit", "Age": "99999999999999999999"} {
				w.Header().Set(name, strings.Repeat(value+", ", 300))
			}
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<title>T</title><link rel=stylesheet href=/a.css><script src=/a.js></script>")
		}, exit: any, says: "It answers"},
		{name: "a script nested a hundred thousand deep", serve: func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/a.js" {
				w.Header().Set("Content-Type", "text/javascript")
				fmt.Fprint(w, strings.Repeat("(a=>[{", 100_000))
				return
			}
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<title>T</title><script src=/a.js></script>")
		}, exit: any, says: "It answers"},
		{name: "a million entities", serve: markup("<title>", "&amp;&copy;", 300_000, "</title>"), exit: 0, says: "titles."},
		{name: "structured data nested deep", serve: page(func(b *bytes.Buffer) {
			b.WriteString(`<title>T</title><script type="application/ld+json">` + strings.Repeat(`{"@graph":[`, 50_000) + "</script>")
		}), exit: 0, says: "structured data of / 1 block does not parse"},
		{name: "structured data without an end", serve: markup("<title>T</title>", `<script type="application/ld+json">{"@type":"Thing","name":"#"}</script>`, 50_000, ""), exit: 0, says: "It answers"},
		{name: "a comment that never ends", serve: page(func(b *bytes.Buffer) { b.WriteString("<title>T</title><!--" + strings.Repeat("-", 3<<20)) }), exit: 0, says: "It answers"},
		{name: "descriptions", serve: markup("<title>T</title>", `<meta name=description content="#">`, 50_000, ""), exit: 0, says: "descriptions"},
		{name: "bytes that are no text", serve: page(func(b *bytes.Buffer) {
			b.WriteString("<title>\xff\xfe\x00\x01 T</title>" + strings.Repeat("\x00\xc0", 100_000))
		}), exit: 0, says: "It answers"},
		{name: "pages without an end", serve: func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprintf(w, "<title>Day %s</title><a href=%sx>next</a><a href=%sy>other</a>", r.URL.Path, r.URL.Path, r.URL.Path)
		}, exit: any, says: "more addresses were not looked at", seconds: 20},
		{name: "addresses without an end", serve: page(func(b *bytes.Buffer) {
			b.WriteString("<title>T</title><a href=/" + strings.Repeat("a", 1<<20) + ">long</a>")
		}), exit: 0, says: "It answers"},
	}
}

// answers are servers that answer in ways of their own.
func answers() []hostile {
	drip := func(c net.Conn, head, piece string) {
		_, _ = c.Write([]byte(head))
		for {
			if _, err := c.Write([]byte(piece)); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	ok := "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n"
	turned := func(after int64, refuse http.HandlerFunc) http.HandlerFunc {
		var n atomic.Int64
		return func(w http.ResponseWriter, r *http.Request) {
			if n.Add(1) > after {
				refuse(w, r)
				return
			}
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, "<title>Home of it all</title>")
			for i := range 200 {
				fmt.Fprintf(w, "<a href=/p%d>p</a>", i)
			}
		}
	}
	reset := func(w http.ResponseWriter, _ *http.Request) {
		conn, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			_ = conn.(*net.TCPConn).SetLinger(0)
			conn.Close()
		}
	}
	var hops atomic.Int64
	return []hostile{
		{name: "headers that drip", raw: func(c net.Conn) { drip(c, "HTTP/1.1 200 OK\r\n", "X: y\r\n") }, exit: 3, says: "It does not answer"},
		{name: "an answer before it is asked", early: true, raw: func(c net.Conn) { _, _ = c.Write([]byte(ok + "Content-Length: 20\r\n\r\n<title>Early</title>")) }, exit: any, says: "Hostile"},
		{name: "a body that drips", raw: func(c net.Conn) { drip(c, ok+"\r\n<title>T", "x") }, exit: 3, says: "too long"},
		{name: "no answer", raw: func(c net.Conn) { time.Sleep(time.Minute) }, exit: 3, says: "too long"},
		{name: "closed at once", raw: func(c net.Conn) {}, exit: 1, says: "closed before the answer was whole"},
		{name: "closed in the middle", raw: func(c net.Conn) { _, _ = c.Write([]byte(ok + "Content-Length: 1000\r\n\r\n<title>")) }, exit: 1, says: "the body ended before"},
		{name: "no HTTP", raw: func(c net.Conn) { _, _ = c.Write([]byte("SSH-2.0-x\r\n")) }, exit: 1, says: "It does not answer"},
		{name: "a status of its own", raw: func(c net.Conn) {
			_, _ = c.Write([]byte("HTTP/1.1 999 \x1b[2J\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"))
		}, exit: any, says: "999"},
		{name: "a header of 1 MB", raw: func(c net.Conn) { _, _ = c.Write([]byte(ok + "X: " + strings.Repeat("y", 1<<20) + "\r\n\r\n")) }, exit: 1, says: "It does not answer"},
		{name: "ten thousand headers", raw: func(c net.Conn) {
			_, _ = c.Write([]byte(ok + strings.Repeat("X: y\r\n", 10_000) + "Connection: close\r\n\r\n<title>T</title>"))
		}, exit: any, says: "Hostile"},
		{name: "a body without an end", raw: func(c net.Conn) {
			_, _ = c.Write([]byte(ok + "\r\n<title>T</title>"))
			for {
				if _, err := c.Write(bytes.Repeat([]byte("y"), 1<<16)); err != nil {
					return
				}
			}
		}, exit: any, says: "longer than"},
		{name: "a bomb in gzip", serve: func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Content-Encoding", "gzip")
			var member bytes.Buffer
			z := gzip.NewWriter(&member)
			_, _ = z.Write(bytes.Repeat([]byte("y"), 1<<20))
			_ = z.Close()
			for range 2000 { // members that follow one another are one text (RFC 1952, section 2.2)
				if _, err := w.Write(member.Bytes()); err != nil {
					return
				}
			}
		}, exit: any, says: "longer than", seconds: 30},
		{name: "gzip that is none", serve: func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			fmt.Fprint(w, "<title>T</title>")
		}, exit: 1, says: "is not compressed that way"},
		{name: "redirects in a circle", serve: func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/", http.StatusFound) }, exit: 1, says: "circle"},
		{name: "redirects without an end", serve: func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, fmt.Sprintf("/%d", hops.Add(1)), http.StatusFound)
		}, exit: 1, says: "redirects"},
		{name: "a redirect into the machine", serve: func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "file:///etc/passwd", http.StatusFound)
		}, exit: 1, says: "another site"},
		{name: "a redirect to another port", serve: func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		}, exit: 1, says: "another site"},
		{name: "a redirect that is no address", serve: func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", "http://[::1")
			w.WriteHeader(302)
		}, exit: 1, says: "failed to parse Location header"},
		{name: "too many requests after a while", serve: turned(10, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(429) }), exit: any, says: "it refuses us now", requests: 60},
		{name: "forbidden after a while", serve: turned(10, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403) }), exit: any, says: "it refuses us now", requests: 60},
		{name: "reset after a while", serve: turned(10, reset), exit: any, says: "it refuses us now", requests: 80},
		{name: "cookies", serve: func(w http.ResponseWriter, r *http.Request) {
			for i := range 1000 {
				http.SetCookie(w, &http.Cookie{Name: fmt.Sprint("c", i), Value: "\x1b[2J"})
			}
			at("/none", "", "")(w, r)
		}, exit: any, says: "It answers"},
	}
}

// beside are the files beside the pages.
func beside() []hostile {
	laughs := `<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a "ha">` + func() (s string) {
		for i := 'b'; i < 'n'; i++ {
			s += fmt.Sprintf(`<!ENTITY %c "&%c;&%c;&%c;&%c;&%c;&%c;&%c;&%c;&%c;&%c;">`, i, i-1, i-1, i-1, i-1, i-1, i-1, i-1, i-1, i-1, i-1)
		}
		return s
	}() + `]><urlset><url><loc>&m;</loc></url></urlset>`
	png := "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x0f\xff\xff\x00\x0f\xff\xff\x08\x06\x00\x00\x00" + strings.Repeat("\x00", 64)
	return []hostile{
		{name: "a flood in robots.txt", serve: at("/robots.txt", "text/plain", "User-agent: *\n"+strings.Repeat("Disallow: /a*b*c*d*e$\n", 100_000)), exit: any, says: "It answers"},
		{name: "stars in robots.txt", serve: at("/robots.txt", "text/plain", "User-agent: *\nDisallow: /"+strings.Repeat("*a", 200_000)+"\n"), exit: any, says: "It answers"},
		{name: "private paths in robots.txt", serve: at("/robots.txt", "text/plain", "User-agent: nobody\nDisallow: /x\nUser-agent: *\nAllow: /\n"+strings.Repeat("Disallow: /backup-x\n", 5000)), exit: any, says: "It answers", requests: 140},
		{name: "sitemaps that name sitemaps", serve: at("/sitemap.xml", "application/xml", "<sitemapindex>"+strings.Repeat("<sitemap><loc>/sitemap.xml</loc></sitemap>", 10_000)+"</sitemapindex>"), exit: any, says: "It answers", requests: 200},
		{name: "a sitemap of a million", serve: at("/sitemap.xml", "application/xml", "<urlset>"+strings.Repeat("<url><loc>http://a.example/x</loc></url>", 90_000)+"</urlset>"), exit: any, says: "It answers", requests: 120},
		{name: "a sitemap that laughs", serve: at("/sitemap.xml", "application/xml", laughs), exit: any, says: "It answers"},
		{name: "a feed that laughs", serve: func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/feed" {
				at("/feed", "application/rss+xml", laughs)(w, r)
				return
			}
			markup(`<title>T</title><link rel=alternate type="application/rss+xml" href=/feed>`, "", 0, "")(w, r)
		}, exit: any, says: "It answers"},
		{name: "an icon that would fill the memory", serve: at("/favicon.ico", "image/png", png), exit: any, says: "It answers"},
	}
}

// named are files that somebody names on the command line or in a site file.
func named() []hostile {
	return []hostile{
		{name: "the site file is a pipe", in: pipe("weltaxis.yaml"), exit: 2, says: "reading the site file weltaxis.yaml: it is no ordinary file but a named pipe"},
		{name: "the site file is a device", in: link("weltaxis.yaml", "/dev/zero"), exit: 2, says: "but a device"},
		{name: "the site file is large", in: write("weltaxis.yaml", strings.Repeat("# x\n", 1<<20)), exit: 2, says: "more than 1048576 bytes"},
		{name: "the site file is nested deep", in: write("weltaxis.yaml", "site: "+strings.Repeat("[", 100_000)), exit: 2, says: "weltaxis.yaml"},
		{name: "the site file has fifty thousand keys", in: write("weltaxis.yaml", strings.Repeat("k: v\n", 50_000)), exit: 2, says: "lines or entries"},
		{name: "the site file laughs", in: write("weltaxis.yaml", "a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c]\nsite: *d\n"), exit: 2, says: "weltaxis.yaml"},
		{name: "the site file is no text", in: write("weltaxis.yaml", "\x00\xff\x1b[2J\u202e: x"), exit: 2, says: "weltaxis.yaml"},
		{name: "the baseline is a pipe", in: pipe("own.yaml"), args: "audit --offline --baseline own.yaml", exit: 2, says: "reading the baseline own.yaml: it is no ordinary file but a named pipe"},
		{name: "the baseline is a device", args: "baseline check /dev/zero", exit: 2, says: "but a device"},
		{name: "a rule that takes for ever", in: write("own.yaml", rule(`[1,2,3,4,5,6,7,8,9].all(a, [1,2,3,4,5,6,7,8,9].all(b, [1,2,3,4,5,6,7,8,9].all(c, [1,2,3,4,5,6,7,8,9].all(d, [1,2,3,4,5,6,7,8,9].all(e, [1,2,3,4,5,6,7,8,9].all(f, [1,2,3,4,5,6,7,8,9].all(g, class.count >= 0)))))))`)),
			args: "audit --offline --full --baseline own.yaml --only titles.mine", exit: 3, says: "the rule itself is broken"},
		{name: "a rule that makes long texts", in: write("own.yaml", rule(`class.role.replace("", "aaaaaaaaaaaaaaaa").replace("a", "aaaaaaaaaaaaaaaa").replace("a", "aaaaaaaaaaaaaaaa").replace("a", "aaaaaaaaaaaaaaaa").size() < 5`)),
			args: "audit --offline --full --baseline own.yaml --only titles.mine", exit: any, says: "titles.mine", mebibyte: 400},
		{name: "the dialect is a pipe", in: both(pipe("mine.yaml"), write("weltaxis.yaml", "site: S\nsources: {settings: {dialect: ./mine.yaml, root: ./site}}\n")), exit: 2, says: "a named pipe"},
		{name: "the dialect is a device", args: "dialect check /dev/zero.yaml", exit: 2, says: "reading the dialect"},
		{name: "a dialect whose query reads files", in: write("mine.yaml", "dialect: mine\nversion: 1\ndatabases: {main: {sqlite: x.db}}\nsettings:\n  site.title: {query: \"SELECT load_file('/etc/passwd')\"}\n"), args: "dialect check ./mine.yaml", exit: 2, says: "it does not call load_file()"},
		{name: "the values are a pipe", in: pipe("kept.yaml"), args: "fix --offline --values kept.yaml", exit: 2, says: "a named pipe"},
		{name: "the certificates are a pipe", in: both(pipe("ca.pem"), write("weltaxis.yaml", "site: S\nintent: {address: https://a.example}\nsources: {live: {trust: ca.pem}}\n")), exit: 2, says: "a named pipe"},
		{name: "the secret is a pipe", in: both(pipe("token"), write("weltaxis.yaml", "site: S\nsources: {settings: {dialect: brindle, root: ./site, api: http://127.0.0.1:1, token: \"file:token\"}}\n")), exit: 2, says: "cannot be read"},
		{name: "the snapshot is a pipe", in: pipe("seen.json"), args: "audit seen.json", exit: 2, says: "a named pipe"},
		{name: "the snapshot is a device", in: link("seen.json", "/dev/zero"), args: "audit seen.json", exit: 2, says: "but a device"},
		{name: "the earlier snapshot is a pipe", in: pipe("seen.json"), args: "audit --offline --previous seen.json", exit: 2, says: "a named pipe"},
		{name: "the snapshot is nested deep", in: write("seen.json", strings.Repeat(`{"a":[`, 500_000)), args: "audit seen.json", exit: 2, says: "no snapshot"},
		{name: "the snapshot has words of its own", in: write("seen.json", `{"format":2,"site":"\u001b[2J\u202e","taken":"2026-11-25T00:00:00Z","sources":[{"source":"files","where":"\u0007"}],"readings":[],"gaps":[{"source":"files","what":"\u001b]0;x\u0007","kind":"failed","because":"\u202e"}],"classes":[{"role":"\u001b","kind":"file","content":"data","public":true,"mode":"0777","owner":"\u202e","group":"","count":-5,"paths":["\u001b[2J"]}]}`),
			args: "audit seen.json --full", exit: 1, says: `\x1b[2J`},
		{name: "the snapshot is from another time", in: write("seen.json", `{"format":99,"site":"x"}`), args: "audit seen.json", exit: 2, says: "format"},
		{name: "the snapshot's clock is wrong", in: write("seen.json", `{"format":2,"site":"x","taken":"9999-12-31T23:59:59Z","sources":[],"readings":[],"gaps":[]}`), args: "audit seen.json", exit: 0, says: "9999"},
		{name: "an argument of a megabyte", args: "explain " + strings.Repeat("x", 100_000), exit: 2, says: "nothing is called"},
		{name: "an argument that a terminal obeys", args: "explain \x1b[2J\u202ex", exit: 2, says: `\x1b[2J`},
		{name: "output into a pipe that nobody reads is interrupted elsewhere", args: "schema site --output /dev/full", exit: 2, says: "no space left"},
	}
}

// rule is a rule of one's own with this condition for every class of files.
func rule(holds string) string {
	return "rules:\n  - id: titles.mine\n    severity: low\n    each: files.classes as class\n    holds: '" + strings.ReplaceAll(holds, "'", "''") + "'\n    says: It is so.\n    expected: else\n    why: so\n    fix: {risk: safe, steps: [mend it]}\n"
}

// trees are folders that hold what no site should.
func trees() []hostile {
	onlyFiles := write("weltaxis.yaml", "site: S\nintent: {stage: live}\nsources: {files: {root: ./site}, settings: {dialect: brindle, root: ./site}}\n")
	return []hostile{
		{name: "a configuration that is a pipe", in: pipe("site/playhouse.php"), args: "audit --offline", exit: 3, says: "playhouse.php: it is no ordinary file but a named pipe"},
		{name: "a configuration that is a device", in: link("site/playhouse.php", "/dev/zero"), args: "audit --offline", exit: 3, says: "playhouse.php"},
		{name: "a configuration that never ends", in: func(t *testing.T, dir string) {
			write("site/playhouse.php", "<?php\n$a = '")(t, dir)
			require.NoError(t, os.Truncate(filepath.Join(dir, "site/playhouse.php"), 8<<30))
		}, args: "audit --offline", exit: 3, says: "playhouse.php"},
		{name: "a configuration nested deep", in: write("site/playhouse.php", "<?php\n$playhouse = "+strings.Repeat("[", 300_000)+";"), args: "audit --offline", exit: 3, says: "playhouse.php"},
		{name: "pipes and sockets among the files", in: both(pipe("site/foyer/pipe.php"), pipe("site/foyer/posters/x.jpg")), args: "audit --offline", exit: any, says: "Looked at"},
		{name: "links in a circle", in: both(link("site/foyer/round", "round"), link("site/foyer/up", "..")), args: "audit --offline", exit: any, says: "Looked at"},
		{name: "a link out of the site", in: link("site/foyer/out", "/etc"), args: "files --offline", exit: any, says: "Looked at"},
		{name: "names that a terminal obeys", in: both(write("site/foyer/\x1b[2J\u202e.sql", "x"), write("site/foyer/a\nb.sql", "x")), args: "audit --offline --full", exit: 1, says: `\x1b[2J`},
		{name: "thirty thousand files", in: func(t *testing.T, dir string) {
			for i := range 30_000 {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "site/foyer/posters", fmt.Sprintf("p%d.jpg", i)), nil, 0o644))
			}
		}, args: "audit --offline", exit: any, says: "Looked at", seconds: 20},
		{name: "a folder five hundred deep", in: func(t *testing.T, dir string) {
			onlyFiles(t, dir)
			deep := filepath.Join(dir, "site/foyer/posters", strings.Repeat("d/", 500))
			require.NoError(t, os.MkdirAll(deep, 0o755))
		}, args: "audit --offline", exit: any, says: "Looked at"},
		{name: "discovery among pipes", in: both(pipe("site/config.ini"), link("site/settings.yaml", "/dev/zero")), args: "dialect discover --root site", exit: 0, says: "written as sure"},
		{name: "a journal that is a pipe", in: func(t *testing.T, dir string) {
			pipe(filepath.Join(journalOf(t, dir), "journal.jsonl"))(t, dir)
		}, args: "history --state state", exit: 2, says: "a named pipe"},
		{name: "a journal with words of its own", in: func(t *testing.T, dir string) {
			write(filepath.Join(journalOf(t, dir), "journal.jsonl"), `{"format":2,"run":"\u001b[2J","id":1,"at":"2026-11-25T00:00:00Z","event":"done","kind":"set","name":"\u202e","from":"\u0007","to":"\u001b]0;x\u0007","risk":"safe","until":"2099-01-01T00:00:00Z"}`+"\n")(t, dir)
		}, args: "history --state state", exit: 0, says: `\u{202e}`},
		{name: "a history that is a pipe", in: func(t *testing.T, dir string) {
			pipe(filepath.Join(historyOf(t, dir), "history.db"))(t, dir)
		}, args: "audit --offline", exit: any, says: "no ordinary file"},
		{name: "a history that is a device, compared", in: func(t *testing.T, dir string) {
			link(filepath.Join(historyOf(t, dir), "history.db"), "/dev/zero")(t, dir)
		}, args: "compare", exit: 2, says: "history.db is a link"},
		{name: "a history in which a table is a view without an end", in: func(t *testing.T, dir string) {
			db, err := sql.Open("sqlite", filepath.Join(dir, historyOf(t, dir), "history.db"))
			require.NoError(t, err)
			defer db.Close()
			_, err = db.Exec(`PRAGMA application_id = 1466726515; PRAGMA user_version = 2; CREATE TABLE site (id INTEGER, key TEXT, name TEXT, address TEXT);
				INSERT INTO site VALUES (1, 'Lantern Lane Puppet Theatre, in order' || char(10) || 'https://www.lanternlane.example', '', '');
				CREATE VIEW audit AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i AS id, 1 AS site, 0 AS taken, '' AS tool, '' AS baseline, '' AS dialect, '' AS stage, '' AS part, 0 AS aside, 0 AS partial,
				'' AS run, NULL AS alignment, NULL AS judged, '{}' AS counts, '{}' AS measures FROM n`)
			require.NoError(t, err)
		}, args: "history", exit: 2, says: "history.db", seconds: 90, mebibyte: 700},
		{name: "two snapshots that differ in words of their own", in: func(t *testing.T, dir string) {
			const shape = `{"format":7,"tool":"a","site":"A","taken":"2026-11-25T00:00:00Z","sources":[{"source":"settings","where":"."}],"readings":[{"source":"settings","name":"site.title","value":%q,"origin":{"file":"\u001b]0;x\u0007"}}],"gaps":[]}`
			write("a.json", fmt.Sprintf(shape, "a"))(t, dir)
			write("b.json", strings.Replace(fmt.Sprintf(shape, "b"), `"value":"b"`, `"value":"\u202e\u001b[2J"`, 1))(t, dir)
		}, args: "compare a.json b.json", exit: 1, says: `\u{202e}`},
		{name: "a snapshot without an end, compared", in: link("b.json", "/dev/zero"), args: "compare b.json b.json", exit: 2, says: "b.json"},
		{name: "a journal that was cut", in: func(t *testing.T, dir string) {
			write(filepath.Join(journalOf(t, dir), "journal.jsonl"), `{"format":2,"run":"x","id":1,"kind":"set","na`)(t, dir)
		}, args: "undo --offline --state state", exit: 2, says: "nothing to take back"},
		{name: "a folder that changes while it is read", in: func(t *testing.T, dir string) {
			done := make(chan struct{})
			t.Cleanup(func() { close(done) })
			go func() {
				for i := 0; ; i++ {
					select {
					case <-done:
						return
					default:
					}
					name := filepath.Join(dir, "site/foyer/posters", fmt.Sprint("moving", i%50))
					_ = os.MkdirAll(filepath.Join(name, "deep"), 0o755)
					_ = os.WriteFile(filepath.Join(name, "deep", "a.jpg"), []byte("x"), 0o644)
					_ = os.RemoveAll(filepath.Join(dir, "site/foyer/posters", fmt.Sprint("moving", (i+25)%50)))
				}
			}()
		}, args: "audit --offline", exit: any, says: "Looked at"},
	}
}

// journalOf makes the folder in which what was changed at the site would be kept.
func journalOf(t *testing.T, dir string) string {
	t.Helper()
	folder := filepath.Join("state", "weltaxis", fix.FolderName("Lantern Lane Puppet Theatre, in order", filepath.Join(dir, "weltaxis.yaml")))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, folder), 0o755))
	return folder
}

// historyOf makes the folder in which audits would be kept.
func historyOf(t *testing.T, dir string) string {
	t.Helper()
	folder := filepath.Join("state", "weltaxis")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, folder), 0o755))
	return folder
}

// databases are files of SQLite that mean ill.
func databases() []hostile {
	const file = "site/understage/prompt.db"
	changed := func(statements string) func(*testing.T, string) {
		return func(t *testing.T, dir string) {
			t.Helper()
			db, err := sql.Open("sqlite", filepath.Join(dir, file))
			require.NoError(t, err)
			defer db.Close()
			_, err = db.Exec(statements)
			require.NoError(t, err)
		}
	}
	return []hostile{
		{name: "the database is a pipe", in: pipe(file), args: "audit --offline", exit: 3, says: "prompt.db: it is no ordinary file but a named pipe"},
		{name: "the database is a device", in: link(file, "/dev/zero"), args: "audit --offline", exit: 3, says: "prompt.db"},
		{name: "the database is a text", in: write(file, strings.Repeat("text ", 100)), args: "audit --offline", exit: 3, says: "it is no SQLite database"},
		{name: "a table that is a view without an end", in: changed("ALTER TABLE prompt_house RENAME TO kept; CREATE VIEW prompt_house AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT 'x' || i AS cue, i AS line FROM n"),
			args: "audit --offline", exit: 3, says: "too long", seconds: 90},
		{name: "a value of 300 MB", in: changed("UPDATE prompt_house SET line = zeroblob(300000000) WHERE cue = 'playbill.title'"), args: "audit --offline", exit: 3, says: "longer than is read", mebibyte: 250},
		{name: "values that a terminal obeys", in: changed("UPDATE prompt_house SET line = char(27) || '[2J' || char(8238) || char(7) WHERE cue = 'playbill.title'"), args: "settings --offline", exit: any, says: `\x1b[2J`},
		{name: "values that are no text", in: changed("UPDATE prompt_house SET line = x'00ff1b' WHERE cue LIKE 'playbill%'"), args: "audit --offline --full", exit: any, says: "Looked at"},
		{name: "a trigger and a view with functions", in: changed("CREATE VIEW evil AS SELECT load_extension('x'); CREATE TRIGGER t AFTER UPDATE ON prompt_house BEGIN SELECT RAISE(ABORT, 'no'); END"), args: "audit --offline", exit: 3, says: "where this is a copy, its configuration names the original"}, // as it is
	}
}

// texts go through every format.
func texts() []hostile {
	evil := "=cmd|' /C calc'!A0\x1b[2J\u202e\x00\x07"
	home := markup("<title>"+evil+"</title><meta name=description content='"+strings.ReplaceAll(evil, "'", "")+"'>", "", 0, "")
	return []hostile{
		{name: "texts as a table", serve: home, in: nil, args: "pages {url}", exit: any, says: `\x1b[2J`},
		{name: "texts as JSON", serve: home, args: "pages {url} --format json", exit: any, says: `\u001b[2J\u202e`},
		{name: "texts as CSV", serve: home, args: "pages {url} --format csv", exit: any, says: `'=cmd`},
		{name: "texts as a preview", serve: home, args: "preview {url} /", exit: any, says: `\x1b[2J`},
		{name: "texts as an audit in JSON", serve: home, args: "audit {url} --format json", exit: any, says: `\u202e`},
		{name: "texts as a snapshot", serve: home, args: "snapshot {url}", exit: any, says: `\u202e`},
	}
}
