package fix

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"
	"github.com/aymanbagabas/go-udiff"

	"weltaxis/internal/dialect"
	"weltaxis/internal/store"
)

// Script is a shell script that makes the chosen changes, and takes them back when it is called with undo: for somebody
// with more rights to read and run. What it cannot do, and what was not chosen, stands in it as a comment.
//
// No value of the site stands where a shell or a database reads it as anything but a value: what goes into files comes
// through here-documents whose end is random, and what goes into databases is written in hexadecimal digits. Every change
// checks that what is there is what was there when the script was written.
func (p *Plan) Script(site, root string, chosen, rest []Change) (string, error) {
	root, err := filepath.Abs(root)
	if err != nil {
		return "", err
	}
	var do, undo []string
	for _, c := range chosen {
		d, u := rows[c.Kind].script(p, c)
		do = append(append(do, "", "# "+comment(c)), d...)
		if len(u) > 0 { // backwards
			undo = slices.Concat([]string{"", "# " + comment(c) + ", back"}, u, undo)
		}
	}
	for _, c := range rest {
		do = append(do, "", "# not made: "+comment(c)+": "+oneLine(c.whyNot()))
	}
	return fmt.Sprintf(`#!/bin/sh
# What Weltaxis proposes for %s. Read it before you run it.
#   sh this-script apply     makes the changes
#   sh this-script undo      takes them back
# ROOT=FOLDER in front of it says where the installation lies, if it is not where it was when this was written.
set -eu
cd -- "${ROOT:-%s}"

stop() { printf '%%s is not as it was when this was written; stopped\n' "$1" >&2; exit 1; }

# into FILE: puts the change on standard input into a file, which stays the one that it is where it may be written to.
into() {
  if [ -w "$1" ]; then
    new=$(mktemp) && patch -s -F 0 -r - -o "$new" -- "$1" && cat -- "$new" > "$1" && rm -- "$new" || stop "$1"
  else
    patch -s -F 0 -r - --no-backup-if-mismatch -- "$1" || stop "$1"
  fi
}

apply() {
  :%s
}

undo() {
  :%s
}

case "${1:-}" in
  apply) apply ;;
  undo) undo ;;
  *) echo "say apply or undo" >&2; exit 2 ;;
esac
`, oneLine(site), strings.ReplaceAll(shellescape.Quote(root), `"`, `\"`), indented(do), indented(undo)), nil
}

// indented are the lines of a function. What belongs to a here-document stays where it is.
func indented(lines []string) string {
	var b strings.Builder
	for _, line := range lines {
		b.WriteString("\n")
		if line != "" {
			b.WriteString("  " + line)
		}
	}
	return b.String()
}

func comment(c Change) string {
	return oneLine(fmt.Sprintf("%s (%s; %s)", c.Title(), strings.Join(c.Rules, ", "), c.Risk))
}

// whyNot says why a change is not among those that are made.
func (c Change) whyNot() string {
	switch {
	case c.Cannot != "":
		return c.Cannot + " " + strings.Join(c.Steps, " ")
	case c.Needs != "" && c.To.Type() == "":
		return "needs --value " + c.Key + "=...: " + c.Needs
	case c.Needs != "":
		return c.Needs
	case c.ForPerson():
		return strings.Join(c.Steps, " ")
	}
	return "it is " + c.Risk.String() + ", which --allow and names decide"
}

// document is a command with a text on its standard input, which no line of the text can end.
func document(command, text string) string {
	mark := make([]byte, 8)
	_, _ = rand.Read(mark) // never fails (crypto/rand)
	end := "END-" + hex.EncodeToString(mark)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return fmt.Sprintf("%s <<'%s'\n%s%s", command, end, text, end)
}

func scriptEdits(p *Plan, c Change) (do, undo []string) {
	for _, e := range c.Edits {
		do = append(do, p.scriptEdit(e))
		undo = append([]string{p.scriptEdit(e.Reversed())}, undo...)
	}
	return do, undo
}

const byHand = "# it holds a secret, so it does not stand here: change it by hand"

func (p *Plan) scriptEdit(e store.Edit) string {
	at := shellescape.Quote("./" + e.File)
	switch {
	case e.IsFile() && e.Before == nil:
		return document(fmt.Sprintf("[ ! -e %s ] || stop %s; cat > %s", at, at, at), string(e.After))
	case e.IsFile() && e.After == nil:
		return "rm -- " + at
	case e.IsFile():
		text, err := udiff.ToUnified("a", "b", string(e.Before), udiff.Strings(string(e.Before), string(e.After)), 0)
		if err != nil || p.Discern(text) != text || strings.ContainsRune(text, 0) {
			return byHand
		}
		return document("into "+at, text)
	}
	for _, text := range []*string{e.Old, e.New} {
		if text != nil && p.Discern(*text) != *text {
			return byHand
		}
	}
	client, driver := p.clients[e.Database].Command, p.clients[e.Database].Driver
	if client == "" {
		return "# nobody knows how " + oneLine(e.Database) + " is reached: change it by hand"
	}
	shown := func(text *string) string {
		if text == nil {
			return "nothing"
		}
		return fmt.Sprintf("%q", *text)
	}
	return "# " + oneLine(fmt.Sprintf("%s, %s: %s becomes %s", e.Table, e.Column, shown(e.Old), shown(e.New))) + "\n  " +
		document(client+" || stop "+shellescape.Quote("the row of "+e.Table), sqlOf(driver, e))
}

// An sqlSpelling is how one database writes what a script needs (ISO 9075 where it says nothing else).
type sqlSpelling struct {
	begin, end string
	quote      string                  // of a name
	text       func(hex string) string // a text from its bytes
	same       func(column, hex string) string
	temporary  string
	changed    string // checks that the statement before it changed one row
	update     string // the statement that changes and checks, when that is one; %s is the change
}

var sqlSpellings = map[string]sqlSpelling{
	dialect.SQLite: {begin: "BEGIN IMMEDIATE", end: "COMMIT", quote: `"`, temporary: "CREATE TEMP TABLE weltaxis_check (one INTEGER CHECK (one = 1))",
		text:    func(hex string) string { return "CAST(X'" + hex + "' AS TEXT)" },
		same:    func(column, hex string) string { return "CAST(" + column + " AS BLOB) = X'" + hex + "'" },
		changed: "INSERT INTO weltaxis_check SELECT changes()"},
	dialect.MySQL: {begin: "START TRANSACTION", end: "COMMIT", quote: "`", temporary: "CREATE TEMPORARY TABLE weltaxis_check (one INTEGER CHECK (one = 1))",
		text: func(hex string) string { return "CONVERT(X'" + hex + "' USING utf8mb4)" },
		same: func(column, hex string) string {
			return "CAST(CONVERT(" + column + " USING utf8mb4) AS BINARY) = X'" + hex + "'"
		},
		changed: "INSERT INTO weltaxis_check SELECT ROW_COUNT()"},
	dialect.PostgreSQL: {begin: "BEGIN", end: "COMMIT", quote: `"`, temporary: "CREATE TEMPORARY TABLE weltaxis_check (one integer CHECK (one = 1)) ON COMMIT DROP",
		text: func(hex string) string { return "convert_from(decode('" + hex + "', 'hex'), 'UTF8')" },
		same: func(column, hex string) string {
			return column + "::text = convert_from(decode('" + hex + "', 'hex'), 'UTF8')"
		},
		update: "WITH changed AS (%s RETURNING 1) INSERT INTO weltaxis_check SELECT count(*) FROM changed"},
}

// sqlOf is an edit of a row as statements: in one transaction it is checked that one row is there as it was, that row is
// changed, and it is checked that one was.
func sqlOf(driver string, e store.Edit) string {
	as := sqlSpellings[driver]
	name := func(text string) string {
		return as.quote + strings.ReplaceAll(text, as.quote, as.quote+as.quote) + as.quote
	}
	bytes := func(text string) string { return hex.EncodeToString([]byte(text)) }
	var where []string
	for _, column := range slices.Sorted(maps.Keys(e.Where)) {
		where = append(where, as.same(name(column), bytes(e.Where[column])))
	}
	key := strings.Join(where, " AND ")
	is := name(e.Column) + " IS NULL"
	if e.Old != nil {
		is = as.same(name(e.Column), bytes(*e.Old))
	}
	to := "NULL"
	if e.New != nil {
		to = as.text(bytes(*e.New))
	}
	table, check, change := name(e.Table), "", ""
	switch {
	case e.Insert && e.Old == nil:
		columns, values := []string{name(e.Column)}, []string{to}
		for _, column := range slices.Sorted(maps.Keys(e.Where)) {
			columns, values = append(columns, name(column)), append(values, as.text(bytes(e.Where[column])))
		}
		check = fmt.Sprintf("INSERT INTO weltaxis_check SELECT 1 - count(*) FROM %s WHERE %s", table, key)
		change = fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(columns, ", "), strings.Join(values, ", "))
	case e.Insert && e.New == nil:
		check = fmt.Sprintf("INSERT INTO weltaxis_check SELECT count(*) FROM %s WHERE %s AND %s", table, key, is)
		change = fmt.Sprintf("DELETE FROM %s WHERE %s AND %s", table, key, is)
	default:
		check = fmt.Sprintf("INSERT INTO weltaxis_check SELECT count(*) FROM %s WHERE %s AND %s", table, key, is)
		change = fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s AND %s", table, name(e.Column), to, key, is)
	}
	statements := []string{as.begin, as.temporary, check}
	if as.update != "" {
		statements = append(statements, fmt.Sprintf(as.update, change))
	} else {
		statements = append(statements, change, as.changed)
	}
	return strings.Join(append(statements, as.end), ";\n") + ";\n"
}
