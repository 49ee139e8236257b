package fix

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
	"weltaxis/internal/store"
)

// diffs are the edits of a change as unified diffs, for files, without the secrets of the files.
func (p *Plan) diffs(c Change) []string {
	var all []string
	for _, e := range c.Edits {
		text, is := e.(store.TextEdit)
		if !is {
			continue
		}
		before, after := text.Texts()
		if diff, err := p.diff(text.Name(), string(before), string(after)); err == nil {
			all = append(all, diff)
		}
	}
	return all
}

// diff is what becomes of a text. Lines are shown without secrets as the whole of the text tells them, of which a part would not tell enough.
func (p *Plan) diff(name, before, after string) (string, error) {
	unified, err := udiff.ToUnifiedDiff("a/"+name, "b/"+name, before, udiff.Lines(before, after), 2)
	if err != nil {
		return "", err
	}
	shownBefore, shownAfter := strings.SplitAfter(p.Discern(before), "\n"), strings.SplitAfter(p.Discern(after), "\n")
	if len(shownBefore) != strings.Count(before, "\n")+1 || len(shownAfter) != strings.Count(after, "\n")+1 { // one of several lines was taken out
		return p.Discern(fmt.Sprint(unified)), nil
	}
	for _, h := range unified.Hunks {
		was, is := h.FromLine-1, h.ToLine-1
		for i, line := range h.Lines {
			shown := shownAfter
			at := is
			if line.Kind == udiff.Delete {
				shown, at = shownBefore, was
			}
			if at < len(shown) {
				h.Lines[i].Content = strings.TrimSuffix(shown[at], "\n") + line.Content[len(strings.TrimSuffix(line.Content, "\n")):]
			}
			if line.Kind != udiff.Insert {
				was++
			}
			if line.Kind != udiff.Delete {
				is++
			}
		}
	}
	return fmt.Sprint(unified), nil
}

// cells are the edits of a change to rows of a database.
func (p *Plan) cells(c Change) []Cell {
	var all []Cell
	for _, edit := range c.Edits {
		e, is := edit.(store.RowEdit)
		if !is {
			continue
		}
		from, to := "(not set)", "(not set)"
		if p.secretRow(e) {
			all = append(all, Cell{fmt.Sprintf("table %s, column %s", e.Table, e.Column), secrets.Hidden, secrets.Hidden})
			continue
		}
		if e.Old != nil {
			from = p.Discern(*e.Old)
		}
		if e.New != nil {
			to = p.Discern(*e.New)
		}
		row := strings.Join(slices.Sorted(maps.Values(e.Where)), " ")
		all = append(all, Cell{fmt.Sprintf("table %s, %s, column %s", e.Table, row, e.Column), from, to})
	}
	return all
}

// secretRow tells whether a row, by the name of its column or by what it is found by, holds something secret.
func (p *Plan) secretRow(e store.RowEdit) bool {
	return !p.reveal && (secrets.Key(e.Column) || slices.ContainsFunc(slices.Collect(maps.Values(e.Where)), secrets.Key))
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

// oneLine keeps a text from a site on its line of comment, in characters that no terminal takes for more.
func oneLine(text string) string {
	return facts.Shorten(strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || r >= 0x200b && r <= 0x206f || r == 0xfeff {
			return ' '
		}
		return r
	}, text), 300)
}
