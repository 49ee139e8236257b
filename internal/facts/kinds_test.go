package facts

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKindsOfChangeHaveOneWordEach, which goes there and back; the words of earlier journals are none of them.
func TestKindsOfChangeHaveOneWordEach(t *testing.T) {
	seen := map[string]bool{}
	for k := KindSet; k <= KindReload; k++ {
		text, err := json.Marshal(k)
		require.NoError(t, err)
		var back ChangeKind
		require.NoError(t, json.Unmarshal(text, &back))
		assert.Equal(t, k, back)
		assert.False(t, seen[k.String()], k.String())
		seen[k.String()] = true
	}
	assert.Len(t, changeWords[1:], len(seen))
	for _, word := range []string{"setting", "modes", "file", "person", "SET"} {
		var k ChangeKind
		assert.Error(t, k.UnmarshalText([]byte(word)), word)
	}
}

// TestALikenessInWords is what people read of a class of files.
func TestALikenessInWords(t *testing.T) {
	for _, c := range []struct {
		l    Likeness
		want string
	}{
		{Likeness{Role: "config", Kind: "file", Path: "a.ini"}, "a.ini"},
		{Likeness{Role: "code", Kind: "file", Content: "program", Owner: "app", Group: "www"}, "code files that are programs, of app:www"},
		{Likeness{Role: "code", Kind: "file", Content: "command", Owner: "app", Group: "www", Public: true}, "code files that are commands, served, of app:www"},
		{Likeness{Role: "uploads", Kind: "folder", Content: "none", Owner: "app", Group: "app"}, "uploads folders, of app:app"},
	} {
		assert.Equal(t, c.want, c.l.InWords())
	}
}
