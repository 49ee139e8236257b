package width

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPixels(t *testing.T) {
	assert.Equal(t, 0, Pixels("", TitleSize))
	assert.Greater(t, Pixels("WWWW", TitleSize), Pixels("iiii", TitleSize))
	assert.Equal(t, Pixels("é", TitleSize), Pixels("e\u0301", TitleSize), "a mark that combines takes no room")
	assert.Equal(t, 2*TitleSize, Pixels("漢字", TitleSize))
	// Liberation Sans has the widths of the face it stands in for: 1139 units of 2048 for a digit.
	assert.Equal(t, 111, Pixels("0000000000", TitleSize))
	for text, about := range map[string]int{"Puppet shows | Family theatre | Lantern Lane": 403, "Ж": 20} {
		assert.InDelta(t, about, Pixels(text, TitleSize), 3, text)
	}
}

func TestCut(t *testing.T) {
	assert.Equal(t, "short", Cut("short", TitleSize, WideTitle))
	long := strings.Repeat("puppets and lamps ", 20)
	cut := Cut(long, TitleSize, WideTitle)
	assert.True(t, strings.HasSuffix(cut, " …"))
	assert.LessOrEqual(t, Pixels(cut, TitleSize), WideTitle)
	assert.Greater(t, Pixels(cut, TitleSize), 450)
	assert.False(t, strings.HasSuffix(strings.TrimSuffix(cut, " …"), " "), "it ends with a word")
	one := Cut(strings.Repeat("x", 200), TitleSize, 100)
	assert.LessOrEqual(t, Pixels(one, TitleSize), 100, "a word without end is cut in the middle")
}

func FuzzCut(f *testing.F) {
	f.Add("a b", 100)
	f.Fuzz(func(t *testing.T, text string, limit int) {
		if limit < 50 || limit > 5000 {
			return
		}
		if cut := Cut(text, TitleSize, limit); Pixels(cut, TitleSize) > limit+1 {
			t.Fatalf("%q is %d wide", cut, Pixels(cut, TitleSize))
		}
	})
}

// TestColumns: a title line of a wide screen holds about 80 characters of running text, the most that WCAG 2.2, success
// criterion 1.4.8, lets a line have, in 16 pixels.
func TestColumns(t *testing.T) {
	text := "Hand-made puppet shows for families in a converted lamp works: matinees every weekend, workshops in the holidays. " +
		"Honey from eleven apiaries in the hollin woods, beekeeping courses every spring, and a swarm line that answers all summer. " +
		"Maps, ropes, windlasses and mugs from the keepers of the Copperbeck canal. Whatever you buy here goes into a lock gate."
	assert.InDelta(t, WideTitle, 80*float64(Pixels(text, 16))/float64(len(text)), 20)
	assert.Equal(t, TitleSize, Pixels("…", TitleSize), "room for the ellipsis")
}
