package files

import (
	"bytes"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"

	"weltaxis/internal/dialect"
	"weltaxis/internal/tree"
)

// Bounds of looking into files.
const (
	maxOpened = 20_000  // files that are opened
	headBytes = 1 << 10 // that are read of one, to know what it is
	wholeSize = 8 << 10 // that a program has at most whose statements are looked at, and a picture whose scripts are
)

// An opener looks into files, a bounded number of them.
type opener struct {
	root   string
	opened atomic.Int64
	passed atomic.Int64 // that were not opened any more
}

// head is the first bytes of a file; nil when it could not be opened, or enough were.
func (o *opener) head(rel string, n int) []byte {
	if o.opened.Add(1) > maxOpened {
		o.passed.Add(1)
		return nil
	}
	head, err := tree.Head(filepath.Join(o.root, filepath.FromSlash(rel)), n)
	if err != nil {
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
	case mayBeServed && (role == dialect.Other || role == dialect.Code || role == dialect.Uploads) && promised != program && promised != picture:
		return o.secret(e, role, promised), promised
	}
	return role, promised
}

// phpTags open a program of the commonest runtime; other languages have endings of their own.
var phpTags = [][]byte{[]byte("<?php"), []byte("<?="), []byte("<?PHP"), []byte("<script language=\"php\"")}

// upload looks into what lies among the uploads.
func (o *opener) upload(e tree.Entry, role, promised string) (string, string) {
	ending := strings.ToLower(filepath.Ext(e.Path))
	if ending == ".svg" {
		if svgScripts(o.head(e.Path, wholeSize)) {
			return role, scripting
		}
		return role, promised
	}
	if promised == page { // text is shown as it is
		return o.secret(e, role, promised), promised
	}
	head := o.head(e.Path, wholeSize)
	for _, tag := range phpTags {
		if bytes.Contains(head, tag) {
			return role, disguised
		}
	}
	if promised == data {
		return secretIn(head, role), promised
	}
	return role, promised
}

var svgScript = regexp.MustCompile(`(?is)<script[\s/>]|<[^>]*[\s"'/]on[a-z]+\s*=|javascript:|data:text/html`)

// svgScripts tells whether a drawing carries a script (SVG 2 §15, OWASP File Upload Cheat Sheet).
func svgScripts(text []byte) bool { return svgScript.Match(text) }

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
	dumpLine      = regexp.MustCompile(`(?im)^\s*(?:create table|insert into|drop table)\b`)
	passwordLine  = regexp.MustCompile(`(?im)^\s*(?:export\s+)?[A-Z][A-Z0-9_]*(?:PASSWORD|PASSWD|SECRET|SECRET_KEY|API_KEY|TOKEN)\s*=\s*\S`)
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
	case begins(keySigns, 200), begins(databaseSigns, 0), passwordLine.Match(head):
		return dialect.Private
	case begins(dumpSigns, 400), dumpLine.Match(head):
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

var (
	phpComment = regexp.MustCompile(`(?s)/\*.*?\*/|(?://|#)[^\n]*`)
	// harmless are statements that show nothing and do nothing: they end the program, or turn visitors away.
	harmless = regexp.MustCompile(`(?i)^(?:declare\(strict_types=1\);|exit(?:\([^;]*\))?;?|die(?:\([^;]*\))?;?|return(?:\s*(?:\[\]|null|true|false|0|1))?;?|http_response_code\(\d+\);|header\([^;]*\);|defined\([^;]*\)\s*(?:\|\||or)\s*(?:exit|die)(?:\([^;]*\))?;|silence;|;)*$`)
	phpMark  = regexp.MustCompile(`(?i)<\?(?:php|=)?|\?>`)
)

// statements tells whether a program does anything: the empty one, and the one that turns visitors away, are what systems put
// into a folder so that it is not listed.
func (o *opener) statements(e tree.Entry) string {
	text := o.head(e.Path, wholeSize+1)
	if text == nil || len(text) > wholeSize {
		return program
	}
	left := phpComment.ReplaceAllString(string(text), "")
	left = strings.Join(strings.Fields(phpMark.ReplaceAllString(left, " ")), " ")
	if harmless.MatchString(strings.ReplaceAll(strings.ReplaceAll(left, "; ", ";"), " ;", ";")) {
		return inert
	}
	return program
}

var (
	overrideComment = regexp.MustCompile(`(?m)^\s*[#;].*$`)
	grants          = regexp.MustCompile(`(?im)^\s*(?:AddHandler|AddType\s+application/x-httpd|SetHandler\s+(?:"?application|"?proxy|php|cgi|server-)|ForceType\s+application/x-|Action\s|Options\s[^\n]*\+?ExecCGI|php_value\s+auto_(?:prepend|append)|php_flag\s+engine\s+on|auto_(?:prepend|append)_file\s*=|RewriteRule[^\n]*\[[^\]]*\b(?:H|E|T)=)`)
)

// override tells whether a file of the server's among the uploads lets something run there; one that forbids it is a help.
func (o *opener) override(e tree.Entry) string {
	text := overrideComment.ReplaceAll(o.head(e.Path, wholeSize), nil)
	if grants.Match(text) {
		return program
	}
	return data
}
