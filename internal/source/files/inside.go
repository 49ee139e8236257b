package files

import (
	"bytes"
	"errors"
	"io/fs"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"weltaxis/internal/dialect"
	"weltaxis/internal/tree"
)

// Bounds of looking into files.
const (
	maxOpened   = 20_000    // files that are opened
	headBytes   = 1 << 10   // that are read of one, to know what it is
	wholeSize   = 8 << 10   // that a program has at most whose statements are looked at, and in which a picture is searched
	drawingSize = 256 << 10 // in which a drawing is searched for scripts, and a file of the server's for what it lets run
)

// An opener looks into files, a bounded number of them.
type opener struct {
	files  tree.Files
	opened atomic.Int64
	passed atomic.Int64 // that were not opened any more

	mu     sync.Mutex
	unread int     // that could not be opened
	first  failure // of those, that of the smallest path
}

// fails notes a file that could not be opened.
func (o *opener) fails(rel string, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.unread++; o.unread == 1 || rel < o.first.path {
		o.first = failure{strings.Clone(rel), err}
	}
}

// head is the first bytes of a file; nil when it could not be opened, or enough were.
func (o *opener) head(rel string, n int) []byte {
	if o.opened.Add(1) > maxOpened {
		o.passed.Add(1)
		return nil
	}
	head, err := tree.Head(o.files, rel, n)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			o.fails(rel, err)
		}
		return nil
	}
	return head
}

// inside corrects, by what an entry holds, what its name promises: the role, and the content.
func (o *opener) inside(e tree.Entry, role, within, promised string, mayBeServed bool) (string, string) {
	switch {
	case e.Kind != tree.File:
	case role == dialect.Override && within == dialect.Uploads:
		return role, o.override(e)
	case within == dialect.Uploads && promised == program:
		return role, o.statements(e)
	case within == dialect.Uploads && role == dialect.Uploads:
		return o.upload(e, role, promised)
	case role == dialect.Private && isKeyName(e.Path):
		return o.key(e, role), promised
	case mayBeServed && (role == dialect.Other || role == dialect.Code || role == dialect.Uploads) && promised != program && (promised != picture || e.Names > 1):
		return o.secret(e, role, promised), promised
	}
	return role, promised
}

// phpTag opens a program of the commonest runtime; other languages have endings of their own.
// The short one may stand in a picture by chance, so words must follow it.
var phpTag = regexp.MustCompile(`(?i)<\?php|<script\s+language\s*=\s*["']?php|<\?=[\t\n\r -~]{12}|<\?=[\t\n\r -~]+$`)

// upload looks into what lies among the uploads.
func (o *opener) upload(e tree.Entry, role, promised string) (string, string) {
	ending := strings.ToLower(filepath.Ext(e.Path))
	if ending == ".svg" {
		if svgScript.Match(o.head(e.Path, drawingSize)) {
			return role, scripting
		}
		return role, promised
	}
	if promised == page { // text is shown as it is
		if role := o.secret(e, role, promised); role != dialect.Uploads || !begins(o.head(e.Path, 64)) {
			return role, promised
		}
		return role, dormant
	}
	head := o.head(e.Path, wholeSize)
	switch {
	case phpTag.Match(head):
		return role, disguised
	case begins(head) && promised != command && promised != program:
		return role, dormant
	}
	if promised == data || promised == picture && !strings.HasPrefix(http.DetectContentType(head), "image/") { // what it is called is not what it is
		return secretIn(head, role), promised
	}
	return role, promised
}

// byteMarks are what editors put before a text (Unicode 15, 23.8, byte order mark).
var byteMarks = []string{"\xef\xbb\xbf", "\xff\xfe", "\xfe\xff"}

// begins tells whether a text begins as a program does: one of the operating system's, or one of a runtime's, with a byte mark or blanks before it.
func begins(head []byte) bool {
	for _, mark := range byteMarks {
		head = bytes.TrimPrefix(head, []byte(mark))
	}
	if slices.ContainsFunc(magics[:len(magics)-1], func(magic string) bool { return bytes.HasPrefix(head, []byte(magic)) }) {
		return true
	}
	at := phpTag.FindIndex(bytes.TrimLeft(bytes.ReplaceAll(head, []byte{0}, nil), " \t\r\n"))
	return at != nil && at[0] == 0
}

// svgScript is how a drawing carries a script (SVG 2 §15, OWASP File Upload Cheat Sheet).
var svgScript = regexp.MustCompile(`(?is)<script[\s/>]|<[^>]*[\s"'/]on[a-z]+\s*=|javascript:|data:text/html`)

// secret looks whether a file that may be served is something nobody outside should see.
func (o *opener) secret(e tree.Entry, role, promised string) string {
	ending := strings.ToLower(filepath.Ext(e.Path))
	if promised == page && ending != ".txt" && ending != ".xml" && ending != ".json" {
		return role
	}
	return secretIn(o.head(e.Path, headBytes), role)
}

// Signatures of what nobody outside should see, by first bytes: private keys (RFC 7468 and others), databases, dumps.
var (
	keySigns      = [][]byte{[]byte("PRIVATE KEY-----"), []byte("PRIVATE KEY BLOCK-----"), []byte("PuTTY-User-Key-File"), []byte("\x03\xd9\xa2\x9a"), []byte("\xfe\xed\xfe\xed")}
	databaseSigns = [][]byte{[]byte("SQLite format 3\x00"), []byte("\x00\x01\x00\x00Standard Jet DB"), []byte("\x00\x01\x00\x00Standard ACE DB")}
	dumpSigns     = [][]byte{[]byte("-- MySQL dump"), []byte("-- MariaDB dump"), []byte("/*M!999999"), []byte("-- PostgreSQL database dump"), []byte("PGDMP"), []byte("-- Host: "), []byte("BEGIN TRANSACTION;")}
	// What is no prose begins so, but for comments and empty lines: statements, or one assignment after the other.
	dumpStart     = regexp.MustCompile(`(?i)^(?:\s*(?:--[^\n]*|#[^\n]*|/\*.*?\*/;?)?\n)*\s*(?:create (?:table|database)\s|insert into\s|drop table\s|set (?:names|foreign_key_checks|sql_mode)\b|lock tables\s|use \S+;)[^\n]*[(;` + "`" + `=]`)
	settingsStart = regexp.MustCompile(`^(?:\s*(?:#[^\n]*)?\n)*(?:export\s+)?[A-Z][A-Z0-9_]*=`)
	passwordLine  = regexp.MustCompile(`(?m)^(?:export\s+)?[A-Z0-9_]*(?:PASSWORD|PASSWD|SECRET|SECRET_KEY|API_KEY|TOKEN)=\S`)
)

// secretIn is the role of what begins so; the given one when nothing tells.
func secretIn(head []byte, role string) string {
	begins := func(signs [][]byte, within int) bool {
		for _, sign := range signs {
			if at := bytes.Index(head, sign); at >= 0 && at <= within {
				return true
			}
		}
		return false
	}
	switch {
	case begins(keySigns, 200), begins(databaseSigns, 0), settingsStart.Match(head) && passwordLine.Match(head):
		return dialect.Private
	case begins(dumpSigns, 400), dumpStart.Match(head):
		return dialect.Backup
	}
	return role
}

func isKeyName(path string) bool {
	ending := strings.ToLower(filepath.Ext(path))
	return ending == ".pem" || ending == ".key" || ending == ".db"
}

// key tells a private key from a public one, from a certificate and from what only has such a name.
func (o *opener) key(e tree.Entry, role string) string {
	head := o.head(e.Path, headBytes)
	switch {
	case head == nil || secretIn(head, dialect.Other) != dialect.Other:
		return role
	case bytes.Contains(head, []byte("-----BEGIN CERTIFICATE")), bytes.Contains(head, []byte("-----BEGIN PUBLIC KEY")), bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("ssh-")):
		return dialect.Other
	}
	return role
}

// A text in a program that nothing is put into, and what may stand behind exit.
const (
	plainText     = "(?:'[^'\\\\]*'|\"[^\"$\\\\]*\")"
	plainArgument = `(?:\(\s*(?:` + plainText + `|\d+)?\s*\))?`
)

var (
	// textOrComment is what a comment may begin in, and a comment; one of a line ends with the program too, at ?>.
	textOrComment = regexp.MustCompile(`(?s)'(?:[^'\\]|\\.)*'|"(?:[^"\\]|\\.)*"|/\*.*?\*/|(?://|#)(?:[^\n?]|\?+[^>?\n])*`)
	// harmless are statements that show nothing and do nothing: they end the program, or turn visitors away. What stands in
	// their parentheses is a text or a number, since anything else would be run.
	harmless = regexp.MustCompile(`(?i)^(?:declare\(strict_types=1\);|(?:exit|die)` + plainArgument + `;?|return(?:\s*(?:\[\]|null|true|false|0|1))?;?|http_response_code\(\s*\d+\s*\);|header\(\s*` + plainText + `(?:\s*,\s*(?:true|false|\d+))*\s*\);|(?:!\s*)?defined\(\s*` + plainText + `\s*\)\s*(?:\|\||or|&&|and)\s*(?:exit|die)` + plainArgument + `;|;)*$`)
	phpMark  = regexp.MustCompile(`(?i)<\?(?:php|=)?|\?>`)
)

// statements tells whether a program does anything: the empty one, and the one that turns visitors away, are what systems put
// into a folder so that it is not listed.
func (o *opener) statements(e tree.Entry) string {
	text := o.head(e.Path, wholeSize+1)
	if text == nil || len(text) > wholeSize {
		return program
	}
	left := textOrComment.ReplaceAllStringFunc(string(text), func(found string) string {
		if found[0] == '\'' || found[0] == '"' {
			return found
		}
		return ""
	})
	left = strings.Join(strings.Fields(phpMark.ReplaceAllString(left, " ")), " ")
	if harmless.MatchString(strings.ReplaceAll(strings.ReplaceAll(left, "; ", ";"), " ;", ";")) {
		return inert
	}
	return program
}

var (
	overrideComment = regexp.MustCompile(`(?m)^\s*[#;].*$`)
	grants          = regexp.MustCompile(`(?im)^\s*(?:(?:Add|Set)Handler\s+"?(?:application|proxy|php|cgi|fcgid|server-)|AddType\s+"?application/x-httpd|ForceType\s+"?application/x-httpd|Action\s|Options\s(?:[^\n]*\s)?\+?ExecCGI|php_(?:admin_)?value\s+auto_(?:prepend|append)|php_(?:admin_)?flag\s+engine\s+on|auto_(?:prepend|append)_file\s*=|RewriteRule[^\n]*\[[^\]]*\b(?:H|T)=)`)
	// forbidsCGI is how programs are forbidden by giving them to a handler that may not run any.
	forbidsCGI = regexp.MustCompile(`(?im)^\s*Options\s[^\n]*-ExecCGI\b`)
	asCGI      = regexp.MustCompile(`(?im)^\s*(?:Add|Set)Handler\s+"?cgi-script\b.*$`)
)

// override tells whether a file of the server's among the uploads lets something run there; one that forbids it is a help.
func (o *opener) override(e tree.Entry) string {
	text := overrideComment.ReplaceAll(o.head(e.Path, drawingSize), nil)
	if forbidsCGI.Match(text) {
		text = asCGI.ReplaceAll(text, nil)
	}
	if grants.Match(text) {
		return program
	}
	return data
}
