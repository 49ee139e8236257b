package store

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
)

// TestEditsGoThroughAJournal and come back the same, whatever their type: with none told from empty, and with any bytes.
func TestEditsGoThroughAJournal(t *testing.T) {
	old, empty := "old \x00 é", ""
	all := Edits{
		FileEdit{"ini/a", "a.ini", []byte("a\xff\x00"), []byte("b"), 0}, FileEdit{"robots.txt", "robots.txt", nil, []byte{}, 0}, FileEdit{"x", "x", nil, []byte{}, 33}, FileEdit{"x", "x", []byte{}, nil, 0},
		DocumentEdit{"api/a", "/v1/settings", []byte("{}"), []byte(`{"a":1}`)},
		RowEdit{"options/title", dialect.KindTable, "main", "options", "value", map[string]string{"name": "title"}, nil, &old, true, nil, nil, false},
		RowEdit{"pages/7/title", dialect.KindRow, "main", "pages", "title", map[string]string{"id": "7"}, &empty, nil, false, map[string]*string{"changed": &old, "by": nil}, []Beside{{"log", `["x"]`, nil, map[string]*string{"what": &old, "who": nil}}}, false},
	}
	text, err := json.Marshal(all)
	require.NoError(t, err)
	var back Edits
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, all, back)
	for i, e := range all {
		assert.Equal(t, e, e.Reversed().Reversed(), "%d", i)
		assert.False(t, e.Nothing(), "%d", i)
		assert.Equal(t, "elsewhere", e.at("elsewhere").At())
	}
	for _, wrong := range []string{`[{"kind":"moon"}]`, `[{}]`, `[{"kind":"file"}]`, `[{"kind":"file","file":"a","mode":7}]`, `[{"kind":"row","table":"a","column":"b"}]`, `{}`, `["a"]`} {
		assert.Error(t, json.Unmarshal([]byte(wrong), &back), wrong)
	}
}

// TestNothing: an edit that would change nothing is none; what is not there is something else than what is empty.
func TestNothing(t *testing.T) {
	same, empty := "same", ""
	for _, c := range []struct {
		e    Edit
		want bool
	}{
		{FileEdit{Before: []byte("a"), After: []byte("a")}, true}, {FileEdit{Before: nil, After: []byte{}}, false}, {FileEdit{Before: []byte("a")}, false},
		{DocumentEdit{Before: []byte("a"), After: []byte("a")}, true}, {DocumentEdit{Before: []byte("a"), After: []byte("b")}, false},
		{RowEdit{Old: &same, New: &same}, true}, {RowEdit{Old: nil, New: &empty}, false}, {RowEdit{Old: &same, New: &empty}, false},
	} {
		assert.Equal(t, c.want, c.e.Nothing(), "%+v", c.e)
	}
}
