package render

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image"
	"image/jpeg"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/pace"
	"weltaxis/internal/report"
)

// wellFormed reads a drawing, and says how many of each element are in it.
func wellFormed(t *testing.T, drawing string) map[string]int {
	t.Helper()
	counts := map[string]int{}
	for d := xml.NewDecoder(strings.NewReader(drawing)); ; {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return counts
		}
		require.NoError(t, err, drawing)
		if start, is := token.(xml.StartElement); is {
			counts[start.Name.Local]++
		}
	}
}

var hundredths = regexp.MustCompile(`(?:x|x1|x2|cx|width)="(-?[0-9.]+|NaN|[+-]Inf)%"`)

// fits tells that nothing is drawn beside a drawing.
func fits(t *testing.T, drawing string) {
	t.Helper()
	for _, at := range hundredths.FindAllStringSubmatch(drawing, -1) {
		value, err := strconv.ParseFloat(at[1], 64)
		require.NoError(t, err)
		assert.True(t, value >= 0 && value <= 100.01, at[0])
	}
}

func TestRowsAreDrawnToOneScale(t *testing.T) {
	balance := drawnBalance([]areaBalance{{Name: "a", Held: 6, Deviate: 2}, {Name: "b", Held: 1, Deviate: 3}, {Name: "c"}})
	assert.Contains(t, balance[0].Bar, `x="0.00%" y="2" width="75.00%"`)
	assert.Contains(t, balance[0].Bar, `x="75.00%" y="2" width="25.00%"`)
	assert.Contains(t, balance[1].Bar, `x="12.50%" y="2" width="37.50%"`)
	for _, a := range balance {
		fits(t, string(a.Bar))
		assert.Equal(t, map[string]int{"svg": 1, "rect": 2}, wellFormed(t, string(a.Bar)))
	}
	fits(t, string(drawnBalance([]areaBalance{{}})[0].Bar))
	weights := drawnWeights([]report.Weighed{{Page: &facts.Page{Weight: 10}, Markup: 4, Rest: 6}, {Page: &facts.Page{Weight: 5}, Markup: 5}})
	assert.Contains(t, weights[0].Bar, `class="pale" x="40.00%" y="2" width="60.00%"`)
	assert.Contains(t, weights[1].Bar, `class="bar" x="0.00%" y="2" width="50.00%"`)
}

func TestTimesAreDrawnOneByOne(t *testing.T) {
	drawing := string(timesChart(report.PageTimes{Name: `/"><script>`, Plain: []float64{1, 2, 100}, Around: []float64{40, 50}, Sum: pace.Summary{Median: 2}, Beside: pace.Summary{Median: 45}}))
	fits(t, drawing)
	counts := wellFormed(t, drawing)
	assert.Equal(t, 5, counts["circle"], "a mark for each request")
	assert.Equal(t, 4, counts["line"])
	assert.Contains(t, drawing, "100 ms")
	for _, none := range []report.PageTimes{{}, {Plain: []float64{0, 0, 0}}} {
		fits(t, string(timesChart(none)))
	}
	assert.NotContains(t, timesChart(report.PageTimes{Plain: []float64{1, 2, 3}}), "around")
}

func TestHowLongIsByPowersOfTen(t *testing.T) {
	last := -1.0
	for _, seconds := range []int64{0, 1, 60, 3600, 86400, 30 * 86400, 365 * 86400} {
		at := keptScale(seconds)
		assert.Greater(t, at, last, seconds)
		last = at
	}
	assert.InDelta(t, 0, keptScale(-1), 0)
	assert.InDelta(t, 1, keptScale(1<<62), 0)
	for most, want := range map[float64]float64{0: 0.1, 0.1: 0.1, 0.11: 0.2, 3: 5, 5.1: 10, 100: 100, 101: 200} {
		assert.InEpsilon(t, want, roundedUp(most), 1e-9, most)
	}
}

func TestLayersAreDrawnAsFarAsIsKnown(t *testing.T) {
	layers := []report.Layer{{Name: "browser", Keeps: report.KeepsIt, Seconds: 3600}, {Name: "network", Seconds: -1}, {Name: "server", Keeps: report.KeepsNot, Seconds: -1}, {Name: "page", Keeps: report.KeepsIt, Seconds: -1},
		{Name: "object", Keeps: report.KeepsOther, Seconds: -1}}
	drawing := string(layersChart(&report.CacheWay{Page: `/"><b>`, Layers: layers}))
	fits(t, drawing)
	assert.Equal(t, map[string]int{"svg": 1, "rect": 3, "line": 4, "text": 12}, wellFormed(t, drawing))
	assert.Equal(t, 2, strings.Count(drawing, `class="dashed"`))
	for _, says := range []string{">1h<", ">not known<", ">keeps nothing<", ">nobody says<"} {
		assert.Contains(t, drawing, says)
	}
	assert.NotContains(t, drawing, "object")
	var words []string
	for _, l := range layers {
		words = append(words, keepsWords(l))
	}
	assert.Equal(t, []string{"for 1h", "not known", "no", "yes; for how long nobody says", "–"}, words)
}

func TestATrendIsDrawnAuditByAudit(t *testing.T) {
	n := func(v float64) *float64 { return &v }
	trend := report.Trend{What: "first <byte>", Values: []*float64{n(10), nil, n(0), n(20)}}
	drawing := string(trendChart(trend))
	fits(t, drawing)
	assert.Equal(t, 4, wellFormed(t, drawing)["rect"])
	assert.Equal(t, 1, strings.Count(drawing, `class="pale"`), "what was not seen is no column")
	assert.Contains(t, drawing, "first &lt;byte&gt;, from audit to audit: 10 at first, 20 at last")
	fits(t, string(trendChart(report.Trend{Values: []*float64{nil, nil}})))
	assert.Equal(t, "not seen", fromTo(report.Trend{}))
	assert.Equal(t, "–", numberOr(nil, "–"))
}

// A picture is put into the page once, however many pages are shared with it; what a snapshot calls a picture and is none is not.
func TestAPictureIsInThePageOnce(t *testing.T) {
	drawn := func(width, height int) []byte {
		var out bytes.Buffer
		require.NoError(t, jpeg.Encode(&out, image.NewGray(image.Rect(0, 0, width, height)), nil))
		return out.Bytes()
	}
	pictures := []facts.Picture{{Address: "a", Small: drawn(30, 16)}, {Address: "b", Small: []byte("<svg onload=alert(1)>")}, {Address: "c", Small: drawn(maxArt+1, 1)}, {Address: "d", Small: append(drawn(9, 9), make([]byte, maxArtSize)...)},
		{Address: "unused", Small: drawn(5, 5)}, {Address: "", Small: drawn(5, 5)}}
	of := func(address string) report.Preview { return report.Preview{Card: report.Card{Picture: address}} }
	var f documentFrame
	home := of("a")
	f.previews(pictures, &home, []report.Preview{of("b"), of("a"), of("c"), of("d"), of("elsewhere"), of("")})
	require.Len(t, f.Art, 1)
	assert.Equal(t, "picture-1", f.Front.Art)
	assert.Equal(t, 30, f.Art[0].Width)
	var ids []string
	for _, p := range f.Inner {
		ids = append(ids, p.Art)
	}
	assert.Equal(t, []string{"", "picture-1", "", "", "", ""}, ids)
	var none documentFrame
	none.previews(pictures, nil, nil)
	assert.Nil(t, none.Front)
}
