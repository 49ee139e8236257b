package demo

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// member adds an account.
func member(login, role string) func(*installation) {
	return func(b *installation) { b.accounts = append(b.accounts, account{login, role}) }
}

// answers has an address answer with a text that is no page.
func answers(path, text string, more ...disturbance) func(*installation) {
	return servedOn(path, append([]disturbance{answering(http.StatusOK), header("Content-Type", "application/octet-stream"), instead(text)}, more...)...)
}

// inAnswers puts a text into every answer of a status.
func inAnswers(status int, text string) func(*installation) {
	return func(b *installation) {
		b.before = before(func(string) bool { return true }, func(a *answer) {
			if a.status == status {
				a.body = append(a.body, text...)
			}
		})
	}
}

// onAbout puts a text onto the page about whoever it is.
func onAbout(text string) func(*installation) {
	return func(b *installation) { onPage("about", func(p *page) { p.Body += text }).do(b) }
}

// contactSays is what security.txt says.
func contactSays(text string) func(*installation) {
	return func(b *installation) {
		b.files[b.system.lore().Public+"/.well-known/security.txt"] = file{text, 0o644}
	}
}

// sessionIs has the login page set a session's cookie.
func sessionIs(cookie string) func(*installation) {
	return func(b *installation) {
		servedOn(b.options["signin_path"]+"/", header("Set-Cookie", cookie))(b)
	}
}

// keyFor gives a key of the site to a service, or has it call one.
func keyFor(name, service, kind string) func(*installation) {
	return func(b *installation) { b.keys = append(b.keys, outsider{name, service, kind}) }
}

// besides does things to the folder of the site after it was written.
func besides(do ...func(root string) error) func(*installation) {
	return func(b *installation) {
		b.beside = func(root string) error {
			for _, one := range do {
				if err := one(root); err != nil {
					return err
				}
			}
			return nil
		}
	}
}

// ofTheTheatre changes a Brindle alone, whose folders it names.
func ofTheTheatre(change func(*installation)) func(*installation) {
	return func(b *installation) {
		if uploadsOf[b.system.lore().Maker] == "foyer/posters" {
			change(b)
		}
	}
}

// givenTo gives entries below a site's root to a user by number, whom this machine need not know; only the superuser may.
func givenTo(uid int, names ...string) func(root string) error {
	return func(root string) error {
		for _, name := range names {
			if err := os.Lchown(filepath.Join(root, name), uid, -1); err != nil {
				return err
			}
		}
		return nil
	}
}

// onList gives entries below a site's root an access control list.
func onList(list string, names ...string) func(root string) error {
	return func(root string) error {
		for _, name := range names {
			if out, err := exec.Command("setfacl", "-m", list, filepath.Join(root, name)).CombinedOutput(); err != nil {
				return fmt.Errorf("setfacl: %w: %s", err, out)
			}
		}
		return nil
	}
}

// inGroup gives entries below a site's root to a group, and a mode.
func inGroup(group int, mode os.FileMode, names ...string) func(root string) error {
	return func(root string) error {
		for _, name := range names {
			if err := os.Lchown(filepath.Join(root, name), -1, group); err != nil {
				return err
			}
			if err := os.Chmod(filepath.Join(root, name), mode); err != nil {
				return err
			}
		}
		return nil
	}
}

// ofConfig does something to the configuration file of the twin, whichever it is.
func ofConfig(do func(names ...string) func(string) error) func(*installation) {
	return func(b *installation) { b.beside = do(configOf[b.system.lore().Maker]) }
}

// configOf is where each system is told its secrets, and uploadsOf where it puts what is uploaded.
var (
	configOf  = map[string]string{"Brindle": "playhouse.php", "Hobnail": "lockbook.ini", "Ostler": "almanac.toml"}
	uploadsOf = map[string]string{"Brindle": "foyer/posters", "Hobnail": "quayside/cargo", "Ostler": "plot/pressed"}
)

// picturesMode gives the pictures of the site a mode.
func picturesMode(mode os.FileMode) func(*installation) {
	return func(b *installation) {
		for name := range b.system.lore().Pictures {
			b.chmod(mode, name)
		}
	}
}

var hardeningKinds = []change{
	{"hardening.registration", "a magazine lets anybody in", saying("purpose: community", "purpose: magazine")},
	{"hardening.registration-confirm", "for members only, and nobody asks for the mailbox", func(b *installation) {
		saying("purpose: community", "purpose: community")(b)
		b.set("register_confirm", "no")
	}},
	{"hardening.accounts-known", "the account of a firm that has left", member("web-works-2024", "keeper")},
	{"hardening.accounts-known", "an account that looks like one of the staff", member("juniper-fo1d", "keeper")},
	{"hardening.accounts-known", "an account without letters", member("0000", "keeper")},
	{"hardening.login-limit", "a limit that limits nothing", told("signin_tries", "5000")},
	{"hardening.second-factor", "a second factor that nobody may have", told("second_step", "no")},
	{"hardening.upload-role", "uploads by anybody", told("upload_from", "anybody")},
	{"hardening.upload-types", "programs by another ending", told("upload_types", "jpg png phtml")},
	{"hardening.upload-types", "in capitals, with a dot", told("upload_types", "jpg .PHP5 png")},
	{"hardening.upload-types", "pages", told("upload_types", "jpg html")},
	{"hardening.upload-types", "scripts", told("upload_types", "js pdf")},
	{"hardening.upload-types", "drawings that carry scripts, packed", told("upload_types", "jpg svgz")},
	{"hardening.upload-types", "everything", told("upload_types", "*")},
	{"hardening.upload-types", "archives of programs", told("upload_types", "jpg phar")},
	{"hardening.upload-types", "what opens programs by itself", told("upload_types", "pdf hta")},
	{"hardening.upload-types", "programs by their media type", told("upload_types", "image/png text/x-php")},
	{"hardening.upload-types", "all pictures, drawings that carry scripts among them", told("upload_types", "application/pdf image/*")},
	{"hardening.code-editing", "in the way of a programmer", func(b *installation) { b.set("code_editing", "yes"); b.aloud["edit_code"] = "1" }},
	{"permissions.plain-entries", "a socket", besides(func(root string) error {
		near := filepath.Join(os.TempDir(), fmt.Sprint("s", time.Now().UnixNano())) // the name of a socket has a hundred bytes or so (unix(7))
		listener, err := net.Listen("unix", near)
		if err != nil {
			return err
		}
		listener.(*net.UnixListener).SetUnlinkOnClose(false)
		return errors.Join(listener.Close(), os.Rename(near, filepath.Join(root, "s")))
	})},
	{"hardening.hsts", "for no time at all", servedOnAll(header("Strict-Transport-Security", "max-age=0"))},
	{"hardening.hsts", "without how long", servedOnAll(header("Strict-Transport-Security", "includeSubDomains; preload"))},
	{"hardening.hsts", "said twice in one line", servedOnAll(header("Strict-Transport-Security", "max-age=15552000, max-age=15552000"))},
	{"hardening.hsts", "not said", servedOnAll(func(a *answer) { a.header.Del("Strict-Transport-Security") })},
	{"hardening.certificate", "thirteen days left of ninety", func(b *installation) { b.certified = 13 * 24 * time.Hour }},
	{"hardening.content-policy", "one that only reports", servedOnAll(func(a *answer) {
		a.header.Set("Content-Security-Policy-Report-Only", a.header.Get("Content-Security-Policy"))
		a.header.Del("Content-Security-Policy")
	})},
	{"hardening.content-policy", "everything from everywhere", servedOnAll(header("Content-Security-Policy", "default-src * 'unsafe-inline' 'unsafe-eval' data:"))},
	{"hardening.content-policy", "scripts in files limited, those in attributes not", servedOnAll(header("Content-Security-Policy", "script-src-elem 'self'; script-src-attr 'unsafe-inline'; object-src 'none'; base-uri 'self'"))},
	{"hardening.content-policy", "limits other things", servedOnAll(header("Content-Security-Policy", "upgrade-insecure-requests"))},
	{"hardening.permissions-policy", "in the words of the header before it", servedOnAll(header("Permissions-Policy", "camera 'none'; microphone 'none'"))},
	{"hardening.permissions-policy", "not said", servedOnAll(func(a *answer) { a.header.Del("Permissions-Policy") })},
	{"permissions.no-needless-execute", "pictures that came by a stick", picturesMode(0o755)},
	{"hardening.nothing-leaks", "a file that lies where pictures do", inUploads("all-2026-09-02.sql", "-- MariaDB dump\nCREATE TABLE a (b INT);\n")},
	{"hardening.nothing-leaks", "the environment", answers("/.env", "APP_ENV=production\nDB_PASSWORD=invented\n")},
	{"hardening.nothing-leaks", "an old environment", answers("/.env.old", "export DB_HOST=127.0.0.1\n")},
	{"hardening.nothing-leaks", "a repository's branch", answers("/.git/HEAD", "ref: refs/heads/main\n")},
	{"hardening.nothing-leaks", "a repository at one commit", answers("/.git/HEAD", "4f2e0d0c9b8a7f6e5d4c3b2a1908f7e6d5c4b3a2\n")},
	{"hardening.nothing-leaks", "an archive in the site's name", func(b *installation) {
		answers("/"+strings.Split(strings.TrimPrefix(b.options["public_url"], "https://www."), ".")[0]+".zip", "PK\x03\x04\x14\x00")(b)
	}},
	{"hardening.nothing-leaks", "what an editor left of a program", answers("/index.php~", "<?php\n$a = 1;\n")},
	{"hardening.nothing-leaks", "what another editor left", answers("/.index.php.swp", "b0VIM 9.0\x00")},
	{"hardening.nothing-leaks", "a copy of the configuration", func(b *installation) {
		answers("/"+configOf[b.system.lore().Maker]+".bak", "password = invented\n")(b)
	}},
	{"hardening.nothing-leaks", "a log", answers("/debug.log", "[2026-11-20 09:14:02] somebody came in\n")},
	{"hardening.nothing-leaks", "a log of requests", answers("/access.log", "192.0.2.7 - - [20/Nov/2026:09:14:02 +0000] \"GET / HTTP/1.1\" 200 17\n")},
	{"hardening.nothing-leaks", "a key", answers("/server.key", privateKey)},
	{"hardening.nothing-leaks", "passwords", answers("/.htpasswd", "juniper:$apr1$invented$notahashatall\n")},
	{"hardening.nothing-leaks", "a database", answers("/db.sqlite3", "SQLite format 3\x00")},
	{"hardening.nothing-leaks", "a part of it", answers("/dump.sql.gz", "\x1f\x8b\x08\x00", answering(http.StatusPartialContent))},
	{"hardening.nothing-leaks", "what the runtime says", answers("/info.php", "<!DOCTYPE html><html><head><title>PHP 8.2.1 - phpinfo()</title></head></html>")},
	{"hardening.errors-served", "on an address that cannot exist", inAnswers(http.StatusNotFound, "PHP Fatal error:  Uncaught LampException: dark in /srv/works/lamp.php:12\nStack trace:\n#0 {main}\n thrown in /srv/works/lamp.php on line 12\n")},
	{"hardening.errors-served", "of a database", onAbout("SQLSTATE[HY000] [2002] Connection refused")},
	{"hardening.errors-served", "of another language", onAbout("Traceback (most recent call last):\n  File \"/srv/lamp.py\", line 3, in lit")},
	{"hardening.errors-served", "a notice that nobody minds", onAbout("<br>\n<b>Notice</b>:  Undefined variable $lamp in <b>/srv/works/lamp.php</b> on line <b>7</b><br>")},
	{"hardening.registration-served", "an extension's own form", func(b *installation) {
		b.set("register", "shut", "messages", "no")
		servedOn("/about/", header("Cache-Control", "private, no-store"))(b)
		onAbout(`<form method="post" action="/members/create-account/"><input type="email" name="mail"><input type="password" name="word" autocomplete="new-password"></form>`)(b)
	}},
	{"hardening.registration-served", "two passwords and a mailbox", func(b *installation) {
		b.set("register", "shut", "messages", "no")
		servedOn("/about/", header("Cache-Control", "private, no-store"))(b)
		onAbout(`<form method="post" action="/x/"><input name="your-email"><input type="password" name="a"><input type="password" name="b"></form>`)(b)
	}},
	{"hardening.security-contact", "without until when", contactSays("Contact: mailto:post@install.example\n")},
	{"hardening.security-contact", "with a bare address", contactSays("Contact: post@install.example\nExpires: 2099-01-01T00:00:00Z\n")},
	{"hardening.security-contact", "twice until when", contactSays("Contact: https://install.example/\nExpires: 2099-01-01T00:00:00Z\nExpires: 2098-01-01T00:00:00Z\n")},
	{"hardening.security-contact", "a day without an hour", contactSays("Contact: tel:+44-1632-960001\nExpires: 2099-01-01\n")},
	{"hardening.security-contact", "a page in its place", servedOn("/.well-known/security.txt", answering(http.StatusOK), header("Content-Type", "text/html"), instead("<!doctype html><title>Contact: us</title>"))},
	{"hardening.spam-served", "a letter to everybody", onAbout(`<form method="POST"><textarea name="words"></textarea></form>`)},
	{"hardening.cookies", "one whose name promises what it does not keep", sessionIs("__Host-sid=0123456789abcdef0123456789abcdef; Secure; HttpOnly; SameSite=Lax; Path=/stage-door")},
	{"hardening.cookies", "a promise in capitals", sessionIs("__SECURE-sid=0123456789abcdef0123456789abcdef; HttpOnly; SameSite=Lax")},
	{"hardening.cookies", "for requests of others in a word that nobody knows", sessionIs("sid=0123456789abcdef0123456789abcdef; Secure; HttpOnly; SameSite=Sometimes")},
	{"hardening.installer-gone", "in another usual place, for a database", answers("/setup.php", `<html><h1>Database host</h1><form action="?step=2" method="POST"><input name="host"></form>`, header("Content-Type", "text/html"))},
	{"hardening.installer-gone", "one that says that it is done", answers("/install/", `<!doctype html><p>It is already installed. Please remove the install folder.</p>`, header("Content-Type", "text/html"))},
	{"hardening.generator-hidden", "a tag without a number", servedOnAll(inHead(`<meta name="generator" content="Some System">`))},
	{"hardening.discreet", "a feed that names what made it", feedSays("<generator>Brindle</generator>")},
	{"hardening.discreet", "a header of its own", servedOnAll(header("X-Generator", "Brindle"))},
	{"hardening.keys-known", "a host that is one of ours but for a hyphen", func(b *installation) {
		b.siteFile = strings.Replace(b.siteFile, "services: [", "services: [webworks.example, ", 1)
		keyFor("figures", "web-works.example", "key")(b)
	}},
	{"hardening.installer-gone", "one that only asks for the language yet", answers("/installer/", `<!doctype html><title>Setup</title><form method=post><select name="lang"></select><button>Go on</button></form>`, header("Content-Type", "text/html"))},
	{"hardening.keys-known", "a call to a service that nobody named", keyFor("hooks", "https://hooks.webworks.example/in?site=1", "call")},
	{"hardening.keys-known", "a host that only ends like one of ours", keyFor("stub", "evil-quickstub.example", "key")},
	{"hardening.keys-known", "a key for nobody", keyFor("unnamed", "", "key")},
	{"hardening.head-code", "in an inline script", told("head_code", `<script>var s=document.createElement('script');s.async=1;s.src="//figures.webworks.example/c";document.head.append(s)</script>`)},
	{"hardening.head-code", "with slashes that are escaped", told("head_code", `<script type="text/plain">{"to":"https:\/\/figures.webworks.example\/c"}</script>`)},
	{"hardening.head-code", "in a style", told("head_code", `<style media="not all">@import url(//fonts.webworks.example/a.css)</style>`)},
	{"hardening.head-code", "written in numbers", told("head_code", `<script type="text/plain">document.title=String.fromCharCode(97)</script>`)},
	{"hardening.head-code", "run from a text", told("head_code", `<script type="text/plain">eval("1")</script>`)},
	{"hardening.head-code", "in letters that are spelt", told("head_code", `<script type="text/plain">x="\x68\x74\x74\x70\x73\x3a\x2f\x2f\x61"</script>`)},
	{"hardening.firewall-learning", "for a month", told("wall", "learning", "wall_since", time.Now().AddDate(0, -1, 0).Format(time.DateOnly))},
	{"hardening.messages", "two thousand an hour", told("messages_hour", "2000")},
	{"hardening.backup-age", "of four days ago", told("copies_taken", time.Now().AddDate(0, 0, -4).Format(time.DateOnly))},
	{"hardening.backup-age", "of a year ago, for a brochure", func(b *installation) {
		saying("purpose: community", "purpose: brochure")(b)
		saying("purpose: shop", "purpose: brochure")(b)
		b.set("copies_taken", time.Now().AddDate(-1, 0, 0).Format(time.DateOnly), "register", "shut", "messages", "no")
	}},
	{"hardening.backups", "one that is not where it is said to lie", told("copies_at", "copies/gone.tar.gz")},
	{"permissions.secrets-private", "a group that others are in", ofConfig(func(names ...string) func(string) error { return inGroup(1, 0o440, names...) })},
	{"permissions.secrets-private", "somebody on a list of access", ofConfig(func(names ...string) func(string) error { return onList("u:nobody:r", names...) })},
	{"permissions.secrets-private", "a group on a list of access", ofConfig(func(names ...string) func(string) error { return onList("g:mail:r", names...) })},
	{"permissions.config-locked", "somebody on a list of access may write", ofConfig(func(names ...string) func(string) error { return onList("u:nobody:w", names...) })},
	{"permissions.group-write-limited", "uploads of a group that others are in", func(b *installation) {
		b.chmod(0o775, uploadsOf[b.system.lore().Maker])
		b.beside = inGroup(1, 0o775, uploadsOf[b.system.lore().Maker])
	}},
	{"permissions.group-write-limited", "uploads that somebody on a list may write to", func(b *installation) {
		b.chmod(0o775, uploadsOf[b.system.lore().Maker])
		b.beside = onList("u:nobody:rwx", uploadsOf[b.system.lore().Maker])
	}},
	{"permissions.one-owner", "a picture that the superuser put beside the rest", besides(func(root string) error {
		return os.WriteFile(filepath.Join(root, "notes.txt"), nil, 0o644)
	}, givenTo(4711, "notes.txt"))},
	{"permissions.one-owner", "a folder of somebody else", besides(func(root string) error { return os.Mkdir(filepath.Join(root, "old"), 0o755) }, givenTo(4711, "old"))},
	{"permissions.no-set-id", "a command that runs as its owner", besides(func(root string) error {
		name := filepath.Join(root, "bin", "tidy")
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, []byte("#!/bin/sh\n"), 0o755); err != nil {
			return err
		}
		return os.Chmod(name, os.ModeSetuid|0o755)
	})},
}

var hardeningHarmless = []change{
	{"", "a shop lets buyers in without a mail", func(b *installation) {
		saying("purpose: community", "purpose: shop")(b)
		b.set("register_confirm", "no", "cache_excludes", "/basket/*")
	}},
	{"", "nobody may register", told("register", "shut", "messages", "no")},
	{"", "an account with a low role", member("somebody-new", "writer")},
	{"", "an account that is spelt otherwise in the site file", func(b *installation) {
		b.siteFile = strings.Replace(b.siteFile, "staff: [", "staff: [Night Owl, ", 1)
		member("night_owl", "keeper")(b)
	}},
	{"hardening.listing-seen", "by another server", listing("Directory listing for FOLDER")},
	{"", "a page about an index", listing("Index of the plays")},
	{"", "a page about another folder", listing("Index of /elsewhereFOLDER")},
	{"", "ten attempts", told("signin_tries", "10")},
	{"", "uploads by the staff alone", told("upload_from", "keeper")},
	{"", "documents of offices", told("upload_types", "jpg png docx xlsx odt csv json psd mp3 shp com2 phd")},
	{"", "encrypted for a year, with all names below", servedOnAll(header("Strict-Transport-Security", `max-age="31536000"; includeSubDomains`))},
	{"", "a policy with nonces", servedOnAll(header("Content-Security-Policy", "script-src 'nonce-c3R1ZmY=' 'strict-dynamic' https: 'unsafe-inline'; object-src 'none'; base-uri 'none'"))},
	{"", "two policies, of which one lets much", servedOnAll(func(a *answer) { a.header.Add("Content-Security-Policy", "default-src *") })},
	{"", "media types of pictures and papers", told("upload_types", "image/png image/jpeg application/pdf application/vnd.oasis.opendocument.text text/plain audio/*")},
	{"", "a policy in the head of the page", servedOnAll(func(a *answer) {
		says := a.header.Get("Content-Security-Policy")
		a.header.Del("Content-Security-Policy")
		inHead(`<meta http-equiv="Content-Security-Policy" content="` + says + `">`)(a)
	})},
	{"", "one feature kept from others", servedOnAll(header("Permissions-Policy", "geolocation=(self)"))},
	{"", "a month left of the certificate", func(b *installation) { b.certified = 30 * 24 * time.Hour }},
	{"", "a command where commands lie", besides(func(root string) error {
		if err := os.MkdirAll(filepath.Join(root, "bin"), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(root, "bin", "nightly"), []byte("#!/bin/sh\nexit 0\n"), 0o755); err != nil {
			return err
		}
		return os.Chmod(filepath.Join(root, "bin", "nightly"), 0o755)
	})},
	{"", "pictures that only their owner and the group read", picturesMode(0o640)},
	{"", "a page about environments where one would lie", answers("/.env", "<!doctype html><html><title>DB_HOST=x</title>", header("Content-Type", "text/html"))},
	{"", "one answer for all that is not there", func(b *installation) {
		b.before = before(func(path string) bool {
			return strings.HasPrefix(path, "/.env") || strings.HasSuffix(path, ".sql") || strings.HasSuffix(path, ".gz")
		},
			answering(http.StatusOK), header("Content-Type", "text/plain"), instead("DB_HOST=none\nCREATE TABLE none (none INT);\n"))
	}},
	{"", "a text that lies where a dump would", answers("/dump.sql", "There is none.\n")},
	{"", "a file of settings that is empty", answers("/.env", "")},
	{"", "an article about failures", onAbout("<pre>PHP Warning:  include(lamp.php): failed in /srv/works/lamp.php on line 12</pre><code>SQLSTATE[HY000]</code> is what a database says. There is no exception on line 4.")},
	{"", "a form for letters with a field that people do not see", onAbout(`<form method="post"><textarea name="words"></textarea><input name="website" tabindex="-1" autocomplete="off"></form>`)},
	{"", "a form for a newsletter where nobody may register", func(b *installation) {
		b.set("register", "shut", "messages", "no")
		servedOn("/about/", header("Cache-Control", "private, no-store"))(b)
		onAbout(`<form method="post" action="/newsletter/sign-up/" class="sign-up"><input type="email" name="mail"></form>`)(b)
	}},
	{"", "a form for another password where nobody may register", func(b *installation) {
		b.set("register", "shut", "messages", "no")
		servedOn("/about/", header("Cache-Control", "private, no-store"))(b)
		onAbout(`<form method="post" action="/reset-password/"><input type="password" autocomplete="new-password"><input type="password" autocomplete="new-password"></form>`)(b)
	}},
	{"", "a signed contact with a comment", contactSays("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n# who we are\nContact: mailto:post@install.example\nContact: https://install.example/flaws\nExpires: 2099-01-01T00:00:00.000Z\nPreferred-Languages: en, de\n-----BEGIN PGP SIGNATURE-----\n\nExpires: 1\n-----END PGP SIGNATURE-----\n")},
	{"", "a session that keeps what its name promises", sessionIs("__Host-sid=0123456789abcdef0123456789abcdef; Secure; HttpOnly; SameSite=Strict; Path=/")},
	{"", "a page about setting up a stage", answers("/setup/", `<!doctype html><h1>How we set up the stage</h1><form><input name="q"></form>`, header("Content-Type", "text/html"))},
	{"", "the name of a server without a number", servedOnAll(header("Server", "nginx"))},
	{"", "a guide to installing, with a letter to subscribe to", answers("/install/", `<!doctype html><title>How to install the stage: next steps</title><p>Enter the database host, then continue.</p><form method="post"><input type="email" name="letter"></form>`, header("Content-Type", "text/html"))},
	{"", "a form for remarks where nobody may register", func(b *installation) {
		b.set("register", "shut", "messages", "no")
		servedOn("/about/", header("Cache-Control", "private, no-store"))(b)
		onAbout(`<form method="post" class="join-the-discussion"><input type="email" name="mail"><textarea name="words"></textarea><input name="trap" tabindex="-1" autocomplete="off"></form>`)(b)
	}},
	{"", "code in the head of a host of the site's own", func(b *installation) {
		b.set("head_code", strings.Replace(`<link rel="preconnect" href="`+b.options["public_url"]+`">`, "www.", "static.", 1))
	}},
	{"", "code in the head that names no host", told("head_code", `<script type="text/plain">document.documentElement.className = "lit" // a function (of light)</script>`)},
	{"", "code in the head of the site's own name", func(b *installation) {
		b.set("head_code", `<link rel="license" href="`+b.options["public_url"]+`/privacy/"><meta name="color-scheme" content="light">`)
	}},
	{"", "a name of a service that is known, spelt otherwise", func(b *installation) {
		b.siteFile = strings.Replace(b.siteFile, "services: [", "services: [Figure Box, ", 1)
		keyFor("figures", "figure_box", "call")(b)
	}},
	{"", "a host below one that is known", func(b *installation) {
		b.siteFile = strings.Replace(b.siteFile, "services: [", "services: [webworks.example, ", 1)
		keyFor("figures", "https://hooks.webworks.example:8443/in", "call")(b)
	}},
	{"", "a learning phase of yesterday", told("wall", "learning", "wall_since", time.Now().AddDate(0, 0, -1).Format(time.DateOnly))},
	{"", "a back-up of yesterday", told("copies_taken", time.Now().AddDate(0, 0, -1).Format(time.DateOnly))},
	{"", "a back-up within the site's folder that is not served", func(b *installation) {
		b.set("copies_at", "copies/night.tar.gz")
		b.folders["copies"] = 0o750
		b.files["copies/night.tar.gz"] = file{"\x1f\x8b\x08\x00", 0o640}
	}},
	{"", "no messages at all, however many an hour", told("messages", "no", "messages_hour", "0")},
	{"", "no filter where nobody may comment", told("comments_filter", "no", "comments", "shut", "comments_pages", "closed")},
	{"", "the configuration of a group that nobody else is in", ofConfig(func(names ...string) func(string) error { return inGroup(0, 0o440, names...) })},
	{"", "a list that the mask takes everything from", ofConfig(func(names ...string) func(string) error { return onList("u:nobody:rw,m::---", names...) })},
	{"", "uploads that belong to the web server", func(b *installation) {
		b.beside = givenTo(4711, uploadsOf[b.system.lore().Maker])
	}},
	{"", "an override file that the web server's group may read", ofTheTheatre(func(b *installation) {
		b.webUser = "nobody"
		besides(givenTo(65534, "foyer/posters", "foyer/posters/winter", "foyer/lamplit"), inGroup(65534, 0o640, "foyer/.htaccess"))(b)
	})},
	{"", "a list that names the web server", ofTheTheatre(func(b *installation) {
		b.webUser = "nobody"
		besides(givenTo(65534, "foyer/posters", "foyer/posters/winter", "foyer/lamplit"), onList("d:u:nobody:rwx", "foyer/posters"))(b)
	})},
	{"", "a folder whose files take its group", func(b *installation) {
		b.beside = inGroup(0, os.ModeSetgid|0o755, uploadsOf[b.system.lore().Maker])
	}},
}

func TestHardeningSpeltOtherwise(t *testing.T) {
	for i, c := range slices.Concat(hardeningKinds, hardeningHarmless) {
		t.Run(strings.ReplaceAll(c.rule+": "+c.name, "/", "-"), func(t *testing.T) {
			t.Parallel()
			b := twins[i%len(twins)]()
			if strings.HasPrefix(c.rule, "hardening.registration") || c.rule == "hardening.code-editing" {
				b = twins[i%2]() // the third is a shop, and says some of it otherwise
			}
			c.do(b)
			var says, rules []string
			for _, d := range auditOf(t, b).Deviations {
				says, rules = append(says, d.Rule+": "+d.Says), append(rules, d.Rule)
			}
			slices.Sort(rules)
			want := []string{c.rule}
			if c.rule == "" {
				want = nil
			}
			assert.Equal(t, want, slices.Compact(rules), "%s: %q", b.folder, says)
		})
	}
}
