package fix

import (
	"fmt"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"
	"github.com/aymanbagabas/go-udiff"

	"weltaxis/internal/dialect"
	"weltaxis/internal/store"
)

// Diffs are the edits of a change as unified diffs, for files, without the secrets of the files.
func (p *Plan) Diffs(c Change) []string {
	var all []string
	for _, e := range c.Edits {
		if e.Kind != dialect.KindFile && e.Kind != dialect.KindAPI {
			continue
		}
		edits := udiff.Strings(string(e.Before), string(e.After))
		text, err := udiff.ToUnified("a/"+e.File, "b/"+e.File, string(e.Before), edits, 2)
		if err != nil {
			continue
		}
		all = append(all, p.Discern(text))
	}
	return all
}

// Cells are the edits of a change to rows of a database.
func (c Change) Cells() []store.Edit {
	return slices.DeleteFunc(slices.Clone(c.Edits), func(e store.Edit) bool { return e.Kind == dialect.KindFile || e.Kind == dialect.KindAPI })
}

// Letters writes permission bits as ls does: rw-r-----.
func Letters(mode uint32) string {
	text := []byte("rwxrwxrwx")
	for i := range text {
		if mode&(1<<(8-i)) == 0 {
			text[i] = '-'
		}
	}
	for _, special := range []struct {
		bit        uint32
		at         int
		with, bare byte
	}{{0o4000, 2, 's', 'S'}, {0o2000, 5, 's', 'S'}, {0o1000, 8, 't', 'T'}} {
		if mode&special.bit != 0 {
			if text[special.at] == '-' {
				text[special.at] = special.bare
			} else {
				text[special.at] = special.with
			}
		}
	}
	return string(text)
}

// Script is a shell script that makes the changes, and takes them back when it is called with undo: for somebody
// with more rights to read and run. What it cannot do stands in it as a comment.
func (p *Plan) Script(site, root string) string {
	do, undo := "", ""
	for _, c := range p.Changes {
		d, u := p.scriptOf(c)
		do += fmt.Sprintf("\n  # %d. %s\n%s", c.ID, comment(c), d)
		if u != "" { // backwards
			undo = fmt.Sprintf("\n  # %d. %s, back\n%s", c.ID, comment(c), u) + undo
		}
	}
	return fmt.Sprintf(`#!/bin/sh
# What Weltaxis proposes for %s. Read it before you run it.
#   sh this-script apply     makes the changes
#   sh this-script undo      takes them back
set -eu
cd %s

apply() {
  :%s}

undo() {
  :%s}

case "${1:-}" in
  apply) apply ;;
  undo) undo ;;
  *) echo "say apply or undo" >&2; exit 2 ;;
esac
`, oneLine(site), shellescape.Quote(root), "\n"+do, "\n"+undo)
}

func comment(c Change) string {
	what := c.Name
	if c.Kind == Modes {
		what = "permissions of " + c.Subject
	}
	return oneLine(fmt.Sprintf("%s (%s; %s)", what, strings.Join(c.Rules, ", "), c.Risk))
}

func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, text)
}

func (p *Plan) scriptOf(c Change) (do, undo string) {
	if !c.Makeable() {
		why := c.Cannot
		if c.Needs != "" {
			why = c.Needs
			if c.To.Type() == "" {
				why = "needs --value " + c.Key + "=...: " + c.Needs
			}
		}
		return "  # not from here: " + oneLine(strings.TrimSpace(why+" "+strings.Join(c.Steps, " "))) + "\n", ""
	}
	switch c.Kind {
	case Modes:
		for _, m := range c.Members {
			do += fmt.Sprintf("  chmod %04o -- %s\n", c.To.Number(), shellescape.Quote("./"+m.Path))
			undo += fmt.Sprintf("  chmod %04o -- %s\n", c.From.Number(), shellescape.Quote("./"+m.Path))
		}
		return do, undo
	case Purge:
		return fmt.Sprintf("  find %s -mindepth 1 -not -name '.*' -delete\n", shellescape.Quote("./"+c.Name)), ""
	}
	for _, e := range c.Edits {
		d, u := p.scriptEdit(e)
		do, undo = do+d, u+undo
	}
	return do, undo
}

func (p *Plan) scriptEdit(e store.Edit) (do, undo string) {
	if e.Kind == dialect.KindFile && e.Before == nil {
		return fmt.Sprintf("  set -C; cat > %s <<'END-OF-CHANGE'\n%sEND-OF-CHANGE\n", shellescape.Quote(e.File), e.After), fmt.Sprintf("  rm -- %s\n", shellescape.Quote("./"+e.File))
	}
	if e.Kind == dialect.KindFile {
		diff := func(from, to []byte) string {
			text, err := udiff.ToUnified(e.File, e.File, string(from), udiff.Strings(string(from), string(to)), 0)
			if err != nil || p.Discern(text) != text {
				return "  # the line holds a secret, so it does not stand here: change " + oneLine(e.File) + " by hand\n"
			}
			return fmt.Sprintf("  patch --unified --no-backup-if-mismatch -p0 -- %s <<'END-OF-CHANGE'\n%sEND-OF-CHANGE\n", shellescape.Quote(e.File), text)
		}
		return diff(e.Before, e.After), diff(e.After, e.Before)
	}
	run := func(statement string) string {
		if p.Discern(statement) != statement {
			return "  # the statement holds a secret, so it does not stand here: change it by hand\n"
		}
		return fmt.Sprintf("  %s <<'END-OF-CHANGE'\n%s\nEND-OF-CHANGE\n", p.clients[e.Database], statement)
	}
	return run(e.SQL()), run(e.Reversed().SQL())
}
