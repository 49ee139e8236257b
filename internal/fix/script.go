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
	var do, undo, last []string
	for _, c := range chosen {
		d, u := []string{"# no script does this: make it from here, or by hand"}, []string(nil)
		if script := rows[c.Kind].script; script != nil {
			d, u = script(p, c)
		}
		do = append(append(do, "", "# "+comment(c)), d...)
		u = slices.Concat([]string{"", "# " + comment(c) + ", back"}, u)
		switch {
		case len(u) == 2: // nothing to take back
		case c.Finisher():
			last = append(last, u...)
		default: // backwards
			undo = append(u, undo...)
		}
	}
	undo = append(undo, last...)
	for _, c := range rest {
		do = append(do, "", "# not made: "+comment(c)+": "+oneLine(c.whyNot()))
	}
	return fmt.Sprintf(`#!/bin/sh
# What Weltaxis proposes for %s. Read it before you run it.
#   sh this-script apply     makes the changes
#   sh this-script undo      takes them back
# What the database programs need to be let in stands in their own configuration (~/.my.cnf, ~/.pgpass).
# ROOT=FOLDER in front of it says where the installation lies, if it is not where it was when this was written.
set -eu
[ -n "${ROOT:-}" ] || ROOT=%s
cd -- "$ROOT"

stop() { printf '%%s is not as it was when this was written; stopped\n' "$1" >&2; exit 1; }

# into FILE: puts the change on standard input into a file, which stays the one that it is where it may be written to.
into() {
  if [ -w "$1" ]; then
    new=$(mktemp) && patch -s --binary -F 0 -r - -o "$new" -- "$1" && cat -- "$new" > "$1" && rm -- "$new" || stop "$1"
  else
    patch -s --binary -F 0 -r - --no-backup-if-mismatch -- "$1" || stop "$1"
  fi
}

# allow FROM TO NAME: changes the permissions of what is no link and has those that it had.
allow() {
  [ ! -L "$3" ] && [ "$(stat -c %%a -- "$3")" = "$1" ] || stop "$3"
  chmod "$2" -- "$3"
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
`, oneLine(site), shellescape.Quote(root), indented(do), indented(undo)), nil
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

// document is a command with a text on its standard input, which no line of the text can end. << in the command is
// where it is given; the text ends with a line end.
func document(command, text string) string {
	mark := make([]byte, 8)
	_, _ = rand.Read(mark) // never fails (crypto/rand)
	end := "END-" + hex.EncodeToString(mark)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return fmt.Sprintf("%s\n%s%s", strings.Replace(command, "<<", "<<'"+end+"'", 1), text, end)
}

// exactly is the start of a pipe that gives a text to the byte, without the line end that a document adds.
func exactly(text string) string { return fmt.Sprintf("head -c %d << | ", len(text)) }

// scriptEdits writes edits of files one by one, and those of one database in one transaction.
func scriptEdits(p *Plan, c Change) (do, undo []string) {
	for edits := c.Edits; len(edits) > 0; {
		var there, back []string
		switch e := edits[0].(type) {
		case store.FileEdit:
			there, back, edits = []string{p.scriptFile(e)}, []string{p.scriptFile(e.Reversed().(store.FileEdit))}, edits[1:]
		case store.RowEdit:
			var rows, reversed []store.RowEdit
			for len(edits) > 0 {
				row, is := edits[0].(store.RowEdit)
				if !is || row.Database != e.Database {
					break
				}
				rows, reversed, edits = append(rows, row), append([]store.RowEdit{row.Reversed().(store.RowEdit)}, reversed...), edits[1:]
			}
			there, back = p.scriptRows(rows), p.scriptRows(reversed)
		default:
			there, edits = []string{"# " + oneLine(e.At()) + " is changed over HTTP, which no script does: make it from here"}, edits[1:]
		}
		do, undo = append(do, there...), append(back, undo...)
	}
	return do, undo
}

const byHand = "# it holds a secret, so it does not stand here: change it by hand"

// scriptRows are edits of one database.
func (p *Plan) scriptRows(edits []store.RowEdit) []string {
	var lines []string
	shown := func(text *string) string {
		if text == nil {
			return "nothing"
		}
		return fmt.Sprintf("%q", *text)
	}
	for _, e := range edits {
		for _, text := range []*string{e.Old, e.New} {
			if text != nil && (p.Discern(*text) != *text || p.secretRow(e)) {
				return []string{byHand}
			}
		}
		lines = append(lines, "# "+oneLine(fmt.Sprintf("%s, %s: %s becomes %s", e.Table, e.Column, shown(e.Old), shown(e.New))))
	}
	to := p.clients[edits[0].Database]
	if to.Command == "" {
		return []string{"# nobody knows how " + oneLine(edits[0].Database) + " is reached: change it by hand"}
	}
	return append(lines, document(to.Command+" << || stop "+shellescape.Quote("a row of "+oneLine(edits[0].Table)), sqlOf(to.Driver, edits)))
}

func (p *Plan) scriptFile(e store.FileEdit) string {
	at := shellescape.Quote("./" + e.File)
	if filepath.IsAbs(e.File) { // of a server, which lies elsewhere
		at = shellescape.Quote(e.File)
	}
	whole := string(e.Before) + string(e.After)
	if strings.ContainsRune(whole, 0) {
		return "# it holds bytes that no script holds: change it by hand"
	}
	if (e.Before == nil || e.After == nil) && p.Discern(whole) != whole {
		return byHand
	}
	switch {
	case e.Before == nil && e.Group != 0:
		return fmt.Sprintf("[ ! -e %s ] || stop %s\n  umask 077\n  %s\n  chgrp %d -- %s && chmod 640 -- %s\n  umask 022", at, at, document(exactly(string(e.After))+"cat > "+at, string(e.After)), e.Group, at, at)
	case e.Before == nil:
		return fmt.Sprintf("[ ! -e %s ] || stop %s\n  %s", at, at, document(exactly(string(e.After))+"cat > "+at, string(e.After)))
	case e.After == nil:
		return document(exactly(string(e.Before))+"cmp -s - "+at+" || stop "+at, string(e.Before)) + "\n  rm -- " + at
	}
	text, err := udiff.ToUnified("a", "b", string(e.Before), udiff.Strings(string(e.Before), string(e.After)), 0)
	if err != nil || p.Discern(text) != text {
		return byHand
	}
	return document("into "+at+" <<", text)
}

// An sqlSpelling is how one database writes what a script needs (ISO 9075 where it says nothing else). A text is written
// without any character that ends it or that a client of the database obeys.
type sqlSpelling struct {
	begin, temporary string
	text             func(text string) string            // a literal
	same             func(column, literal string) string // compared to the byte
	changed          string                              // checks that the statement before it changed one row
	update           string                              // the statement that changes and checks, when that is one; %s is the change
}

var sqlSpellings = map[string]sqlSpelling{
	dialect.SQLite: {begin: "BEGIN IMMEDIATE", temporary: "CREATE TEMP TABLE weltaxis_check (one INTEGER CHECK (one = 1))",
		text: func(text string) string { return fmt.Sprintf("CAST(X'%x' AS TEXT)", text) },
		same: func(column, literal string) string {
			return "CAST(" + column + " AS TEXT) = " + literal + " COLLATE BINARY"
		},
		changed: "INSERT INTO weltaxis_check SELECT changes()"},
	dialect.MySQL: {begin: "START TRANSACTION", temporary: "CREATE TEMPORARY TABLE weltaxis_check (one INTEGER CHECK (one = 1))",
		text: func(text string) string { return fmt.Sprintf("CONVERT(X'%x' USING utf8mb4)", text) },
		same: func(column, literal string) string {
			return "CAST(CONVERT(" + column + " USING utf8mb4) AS BINARY) = CAST(" + literal + " AS BINARY)"
		},
		changed: "INSERT INTO weltaxis_check SELECT ROW_COUNT()"},
	dialect.PostgreSQL: {begin: "BEGIN", temporary: "CREATE TEMPORARY TABLE weltaxis_check (one integer CHECK (one = 1)) ON COMMIT DROP",
		// Of no type of its own, so that it becomes that of the column (PostgreSQL 15, 4.1.2.3).
		text: func(text string) string {
			var b strings.Builder
			for _, r := range text {
				fmt.Fprintf(&b, `\+%06x`, r)
			}
			return "U&'" + b.String() + "'"
		},
		same:   func(column, literal string) string { return column + "::text = " + literal },
		update: "WITH changed AS (%s RETURNING 1) INSERT INTO weltaxis_check SELECT count(*) FROM changed"},
}

// sqlOf are edits of rows as statements, in one transaction: of each it is checked that one row is there as it was, that row
// is changed, and it is checked that one was.
func sqlOf(driver string, edits []store.RowEdit) string {
	as := sqlSpellings[driver]
	statements := []string{as.begin, as.temporary}
	for _, e := range edits {
		check, change := as.edit(e, func(name string) string { return store.Quoted(driver, name) })
		statements = append(statements, "INSERT INTO weltaxis_check SELECT "+check)
		if as.update != "" {
			statements = append(statements, fmt.Sprintf(as.update, change))
		} else {
			statements = append(statements, change, as.changed)
		}
	}
	return strings.Join(append(statements, "COMMIT"), ";\n") + ";\n"
}

// edit is an edit as what has to be one before it, and the statement. Names are written as quoted does.
func (as sqlSpelling) edit(e store.RowEdit, quoted func(string) string) (check, change string) {
	keys := slices.Sorted(maps.Keys(e.Where))
	var where []string
	for _, column := range keys {
		where = append(where, as.same(quoted(column), as.text(e.Where[column])))
	}
	table, column, is, to := quoted(e.Table), quoted(e.Column), quoted(e.Column)+" IS NULL", "NULL"
	if e.Old != nil {
		is = as.same(column, as.text(*e.Old))
	}
	if e.New != nil {
		to = as.text(*e.New)
	}
	row := fmt.Sprintf("FROM %s WHERE %s", table, strings.Join(where, " AND "))
	switch {
	case e.Insert && e.Old == nil:
		columns, values := []string{column}, []string{to}
		for _, key := range keys {
			columns, values = append(columns, quoted(key)), append(values, as.text(e.Where[key]))
		}
		return "1 - count(*) " + row, fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(columns, ", "), strings.Join(values, ", "))
	case e.Insert && e.New == nil:
		return fmt.Sprintf("count(*) %s AND %s", row, is), fmt.Sprintf("DELETE %s AND %s", row, is)
	}
	set := column + " = " + to
	for _, name := range slices.Sorted(maps.Keys(e.Again())) {
		value := "NULL"
		if held := e.Again()[name]; held != nil {
			value = as.text(*held)
		}
		set += ", " + quoted(name) + " = " + value
	}
	return fmt.Sprintf("count(*) %s AND %s", row, is), fmt.Sprintf("UPDATE %s SET %s WHERE %s AND %s", table, set, strings.Join(where, " AND "), is)
}
