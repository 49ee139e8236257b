package demo

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/format"
)

// brindle is the stand-in content system for playhouses: a prompt book, which is a table of cues and lines, and
// playhouse.php, where a few things are said louder than in the book.
type brindle struct{}

func (brindle) lore() *lore { return brindleLore() }

func (brindle) keep(in *installation, root string) ([]string, error) {
	if err := os.WriteFile(filepath.Join(root, "playhouse.php"), []byte(in.playhousePHP()), 0o644); err != nil {
		return nil, err
	}
	written, err := in.fillDatabase(root, in.fillPromptBook)
	return append(written, "playhouse.php"), err
}

func (in *installation) playhousePHP() string {
	var aloud strings.Builder
	for _, word := range slices.Sorted(maps.Keys(in.aloud)) {
		fmt.Fprintf(&aloud, "        '%s' => %s,\n", word, in.aloud[word])
	}
	where := "        'driver' => 'sqlite',\n        'file' => __DIR__ . '/understage/prompt.db',\n"
	if d := in.database; d != nil {
		where = fmt.Sprintf("        'driver' => '%s',\n        'host' => '127.0.0.1',\n        'port' => %s,\n        'name' => '%s',\n        'user' => '%s',\n        'password' => '%s',\n",
			d.driver, d.port, d.name, d.user, d.password)
	}
	return fmt.Sprintf(`<?php
/*
 * Brindle reads this before the curtain rises.
 */
$playhouse = [
    // What is said here is louder than what the prompt book says.
    'aloud' => [
%s    ],
    // Where the prompt book lies, and whose it is.
    'database' => [
%s        'company' => 'house',
    ],
    // Seals the sessions of everybody who has come in by the stage door.
    'seal_key' => '%s',
];
`, aloud.String(), where, strings.ReplaceAll(in.secret, "'", `\'`))
}

// aside begins the cues of what has no cue of its own: no person sets these, they let a test make one thing wrong.
const aside = "aside."

// fillPromptBook writes a line for every cue.
func (in *installation) fillPromptBook(insert inserter) error {
	lines, rest := map[string]any{}, maps.Clone(in.options)
	for _, k := range brindleLore().in("prompt") {
		if text, told := in.options[k.option]; told {
			lines[k.path] = k.spelling.store(text, false)
		}
		delete(rest, k.option)
	}
	for option, text := range rest {
		lines[aside+option] = text
	}
	for _, cue := range slices.Sorted(maps.Keys(lines)) {
		if err := insert("prompt_house", cue, lines[cue]); err != nil {
			return err
		}
	}
	return nil
}

type brindleKeeper struct {
	root string
	db   *sql.DB
}

func (brindle) open(root string, database *databaseServer) (keeper, error) {
	file := filepath.Join(root, brindleLore().Database.File)
	db, err := database.openSQL(file)
	return remembering(&brindleKeeper{root, db}, database, func() []string { return []string{file, filepath.Join(root, "playhouse.php")} }), err
}

func (k *brindleKeeper) close() { k.db.Close() }

func (k *brindleKeeper) entries(ctx context.Context) ([]entry, error) {
	return brindleLore().entriesIn(ctx, k.db)
}

func (k *brindleKeeper) options(ctx context.Context) (map[string]string, error) {
	lines, err := pairs(ctx, k.db, "SELECT cue, line FROM prompt_house")
	if err != nil {
		return nil, err
	}
	options := map[string]string{}
	for _, kept := range brindleLore().in("prompt") {
		if line, there := lines[kept.path]; there {
			options[kept.option] = kept.spelling.read(line)
		}
	}
	for cue, line := range lines {
		if option, is := strings.CutPrefix(cue, aside); is {
			options[option] = line
		}
	}
	text, err := textOf(k.root, "playhouse.php")
	if err != nil {
		return nil, err
	}
	doc, err := format.Read("php", []byte(text), format.Options{Dir: "/"})
	if err != nil {
		return nil, err
	}
	for word, option := range map[string]string{"address": "public_url", "keep_pages": "cache", "debug": "debug"} {
		if e, there := doc.Lookup("$playhouse.aloud." + word); there && e.Unresolved == "" {
			options[option] = fmt.Sprint(e.Value)
		}
	}
	return options, nil
}
