package store

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMergeChangesOnlyItsOwnLines(t *testing.T) {
	const base = "a = 1\nb = 2\nc = 3\n"
	for name, c := range map[string]struct{ ours, theirs, want string }{
		"the lines beside":       {"a = old\nb = 2\nc = 3\n", "a = 1\nb = new\nc = 3\n", "a = old\nb = new\nc = 3\n"},
		"the same line":          {"a = old\nb = 2\nc = 3\n", "a = theirs\nb = 2\nc = 3\n", ""},
		"a line before it":       {"a = 1\nb = old\nc = 3\n", "# x\na = 1\nb = 2\nc = 3\n", "# x\na = 1\nb = old\nc = 3\n"},
		"the line taken away":    {"a = 1\nb = old\nc = 3\n", "a = 1\nc = 3\n", ""},
		"ours is to go":          {"a = 1\nc = 3\n", "a = 1\nb = 2\nc = 4\n", "a = 1\nc = 4\n"},
		"no line end at the end": {"a = old\nb = 2\nc = 3\n", "a = 1\nb = 2\nc = 3", "a = old\nb = 2\nc = 3"},
		"nothing of theirs":      {"a = old\nb = 2\nc = 3\n", base, "a = old\nb = 2\nc = 3\n"},
	} {
		merged, clean := merge(base, c.ours, c.theirs)
		assert.Equal(t, c.want != "", clean, name)
		assert.Equal(t, c.want, merged, name)
	}
}

// FuzzMerge: what comes of it has every line of theirs that ours says nothing of.
func FuzzMerge(f *testing.F) {
	f.Add("a\nb\nc\n", "a\nx\nc\n", "a\nb\nc\nd\n")
	f.Add("", "a", "\n")
	f.Fuzz(func(t *testing.T, base, ours, theirs string) {
		if strings.Count(base+ours+theirs, "\n") > 200 {
			return
		}
		if merged, clean := merge(base, ours, base); !clean || merged != ours {
			t.Fatalf("theirs has changed nothing: %q becomes %q", ours, merged)
		}
		if merged, clean := merge(base, base, theirs); !clean || merged != theirs {
			t.Fatalf("ours has changed nothing: %q becomes %q", theirs, merged)
		}
	})
}
