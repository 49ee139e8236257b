package render

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

func rowsOf(pages ...facts.Page) []audit.PageRow {
	var rows []audit.PageRow
	for i := range pages {
		rows = append(rows, audit.PageRow{Page: &pages[i], Deviates: []string{"titles.unique"}})
	}
	return rows
}

func TestPageTable(t *testing.T) {
	var out bytes.Buffer
	rows := rowsOf(facts.Page{Path: "/a\x1b[2J", Title: "Same", Status: 200, Indexable: true, Robots: "listed"}, facts.Page{Path: "/b", Title: "Same", Status: 200, Indexable: true, Robots: "not listed: the tag says so"},
		facts.Page{Path: "/c", Status: 503})
	Pages(Sheet{&out, 100}, sample(), rows)
	text := ansi.Strip(out.String())
	assert.Contains(t, text, `/a\x1b[2J`)
	assert.Contains(t, text, "not listed")
	assert.NotContains(t, text, "the tag says so")
	assert.Contains(t, text, "answers 503")
	assert.Contains(t, text, "2× “Same”")
	assert.Contains(t, text, "unique")
	assert.NotContains(t, text, "the same description")
}

func TestCSVIsDefused(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, PagesCSV(&out, rowsOf(facts.Page{Address: "https://a.example/", Title: "=HYPERLINK(\"x\")", Description: "+1, \"quoted\"\nline", CardTitle: "@x", Canonical: "a\u202eb\x1b[2J\xff", Depth: -1})))
	records, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	require.Len(t, records, 2)
	cell := map[string]string{}
	for i, name := range records[0] {
		cell[name] = records[1][i]
	}
	assert.Equal(t, `'=HYPERLINK("x")`, cell["title"])
	assert.Equal(t, "'+1, \"quoted\"\nline", cell["description"])
	assert.Equal(t, "'@x", cell["card_title"])
	assert.Equal(t, `a\u202eb\u001b[2J\ufffd`, cell["canonical"])
	assert.Equal(t, "-1", cell["depth"])
	assert.Equal(t, "titles.unique", cell["deviates"])
}

func TestPreview(t *testing.T) {
	preview := func(page facts.Page, width int) string {
		var out bytes.Buffer
		Preview(Sheet{&out, width}, page)
		for line := range strings.Lines(out.String()) {
			assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), width, line)
		}
		return ansi.Strip(out.String())
	}
	long := strings.Repeat("Puppets and lamps ", 12)
	text := preview(facts.Page{Address: "https://www.a.example/x/y/", Title: long, TitlePixels: 2000, Description: strings.Repeat(long, 3), DescPixels: 9000, Indexable: true,
		CardImage: "https://www.a.example/i.png", CardWidth: 1200, CardHeight: 630}, 100)
	assert.Contains(t, text, "www.a.example › x › y")
	assert.Contains(t, text, "so it is cut off")
	assert.Contains(t, text, " …")
	assert.Contains(t, text, "1200 × 630 pixels")

	text = preview(facts.Page{Address: "http://a.example/", Robots: "not listed: the tag says so", CardImage: "x\x07", CardUnseen: "it answers 404"}, 60)
	assert.Contains(t, text, "Search engines do not show it: not listed")
	assert.Contains(t, text, "(no title")
	assert.Contains(t, text, "(no description")
	assert.Contains(t, text, "could not be looked at")
	assert.Contains(t, text, "it answers 404")
	assert.NotContains(t, text, "\x07")
	assert.Contains(t, preview(facts.Page{Address: "http://a.example/", Indexable: true}, 60), "no picture")
}
