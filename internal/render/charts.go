package render

import (
	"fmt"
	"html/template"
	"math"
	"slices"
	"strings"

	"weltaxis/internal/pace"
	"weltaxis/internal/report"
)

// A chart is drawn in rows from the top down, in pixels, and across in hundredths of the width that it is given: so it fits a telephone
// and paper alike, and its letters keep their size (SVG 2 §8.9).
type chart struct {
	strings.Builder
	height int
}

// The measures of charts.
const (
	chartRow = 22 // pixels
	chartBar = 14
	plotEnd  = 82 // hundredths: where what is drawn in a row ends
)

// text writes at so many hundredths, and pixels, into the row that begins at the height.
func (c *chart) text(x float64, shift int, class, says string) {
	c.at(x, shift, c.height+chartBar, class, says)
}

func (c *chart) at(x float64, shift, y int, class, says string) {
	fmt.Fprintf(c, `<text x="%.2f%%" dx="%d" y="%d" class="%s">%s</text>`, x, shift, y, class, template.HTMLEscapeString(says))
}

// bar draws from so many hundredths on, so many wide.
func (c *chart) bar(class string, x, wide float64) {
	fmt.Fprintf(c, `<rect class="%s" x="%.2f%%" y="%d" width="%.2f%%" height="%d"/>`, class, x, c.height+2, wide, chartBar)
}

// next begins another row.
func (c *chart) next() { c.height += chartRow }

// drawn is the chart, with what it is called for whoever does not see it.
func (c *chart) drawn(called string) template.HTML {
	return template.HTML(fmt.Sprintf(`<svg width="100%%" height="%d" role="img" aria-label="%s">%s</svg>`, c.height, template.HTMLEscapeString(called), c.String()))
}

// rowBar draws parts of a whole side by side, for a row of a table that has their numbers; the longest row of all is as wide as there is room.
func rowBar(most int, parts ...barPart) template.HTML {
	var c chart
	x := 0.0
	for _, part := range parts {
		wide := 100 * float64(part.of) / float64(max(most, 1))
		c.bar(part.class, x, wide)
		x += wide
	}
	return template.HTML(fmt.Sprintf(`<svg class="row" width="100%%" height="%d" aria-hidden="true">%s</svg>`, chartBar+4, c.String()))
}

// A barPart is a part of a bar, and what it is drawn as.
type barPart struct {
	class string
	of    int
}

// drawnBalance are areas with how many rules of each hold and deviate as a bar.
func drawnBalance(areas []areaBalance) []areaBalance {
	most := 0
	for _, a := range areas {
		most = max(most, a.Held+a.Deviate)
	}
	for i, a := range areas {
		areas[i].Bar = rowBar(most, barPart{"bar", a.Held}, barPart{"loud", a.Deviate})
	}
	return areas
}

// A drawnWeight is what a page weighs, as a bar: the markup, and what it loads.
type drawnWeight struct {
	report.Weighed
	Bar template.HTML
}

func drawnWeights(pages []report.Weighed) (drawn []drawnWeight) {
	most := 0
	for _, p := range pages {
		most = max(most, p.Weight)
	}
	for _, p := range pages {
		drawn = append(drawn, drawnWeight{p, rowBar(most, barPart{"bar", p.Markup}, barPart{"pale", p.Rest})})
	}
	return drawn
}

// timesChart draws every request for a page as a mark, in a lane for each way in which it was asked for.
func timesChart(t report.PageTimes) template.HTML {
	most := 0.0
	for _, ms := range slices.Concat(t.Plain, t.Around) {
		most = max(most, ms)
	}
	most = roundedUp(most)
	var c chart
	const left = 18
	at := func(ms float64) float64 { return left + ms/most*(plotEnd-left-2) }
	for _, lane := range []struct {
		name, class string
		times       []float64
		sum         pace.Summary
	}{{"visitor", "bar", t.Plain, t.Sum}, {"around", "hollow", t.Around, t.Beside}} {
		if len(lane.times) == 0 {
			continue
		}
		middle := c.height + chartRow/2 - 1
		c.text(0, 0, "quiet", lane.name)
		fmt.Fprintf(&c, `<line class="axis" x1="%d%%" x2="%d%%" y1="%d" y2="%[3]d"/><line class="median" x1="%.2[4]f%%" x2="%.2[4]f%%" y1="%[5]d" y2="%[6]d"/>`, left, plotEnd-2, middle, at(lane.sum.Median), middle-8, middle+8)
		for _, ms := range lane.times {
			fmt.Fprintf(&c, `<circle class="%s" cx="%.2f%%" cy="%d" r="4"/>`, lane.class, at(ms), middle)
		}
		c.text(plotEnd, 0, "", pace.Milliseconds(lane.sum.Median))
		c.next()
	}
	c.text(left, 0, "quiet", "0")
	c.at(plotEnd-2, 0, c.height+chartBar, "quiet end", pace.Milliseconds(most))
	c.next()
	return c.drawn("Times to the first byte of " + t.Name + ", request by request; the table below has the numbers.")
}

// keptScale is how far along the scale a time lies for which something is kept, from 0 to 1 for a year: by its power of ten.
func keptScale(seconds int64) float64 {
	const year = 365 * 24 * 3600
	return min(math.Log10(1+float64(max(seconds, 0)))/math.Log10(1+year), 1)
}

// layersChart draws for how long each layer keeps a page, from the visitor inwards.
func layersChart(w *report.CacheWay) template.HTML {
	const left, end = 20, 72
	at := func(seconds int64) float64 { return left + keptScale(seconds)*(end-left) }
	var c chart
	for _, l := range w.Layers {
		if l.Keeps == report.KeepsOther {
			continue
		}
		c.text(0, 0, "", l.Name)
		switch {
		case l.Keeps == report.KeepsIt && l.Seconds >= 0:
			c.bar("bar", left, at(l.Seconds)-left)
			c.text(at(l.Seconds), 6, "", report.Lasting(l.Seconds))
		case l.Keeps == report.KeepsIt:
			c.bar("dashed", left, end-left)
			c.text(end, 6, "", "nobody says")
		case l.Keeps == report.KeepsNot:
			c.text(left, 0, "quiet", "keeps nothing")
		default:
			c.bar("dashed", left, end-left)
			c.text(end, 6, "", "not known")
		}
		c.next()
	}
	for _, tick := range []struct {
		seconds int64
		name    string
	}{{60, "1 min"}, {3600, "1 h"}, {24 * 3600, "1 day"}, {365 * 24 * 3600, "1 year"}} {
		fmt.Fprintf(&c, `<line class="axis" x1="%.2[1]f%%" x2="%.2[1]f%%" y1="0" y2="%d"/>`, at(tick.seconds), c.height)
		c.text(at(tick.seconds), 0, "quiet middle", tick.name)
	}
	c.next()
	return c.drawn("For how long each layer keeps " + w.Page + "; the table below says it in words.")
}

// trendChart draws a number from audit to audit as columns from nothing to the largest; what was not seen is a stroke.
func trendChart(t report.Trend) template.HTML {
	most := 0.0
	for _, v := range t.Values {
		if v != nil {
			most = max(most, *v)
		}
	}
	const high = 48
	var c chart
	c.height = high + 2
	step := 100 / float64(len(t.Values))
	for i, v := range t.Values {
		class, tall := "bar", 1.5
		switch {
		case v == nil:
			class = "pale"
		case most > 0:
			tall = max(*v/most*high, 1.5)
		}
		fmt.Fprintf(&c, `<rect class="%s" x="%.2f%%" y="%.1f" width="%.2f%%" height="%.1f"/>`, class, float64(i)*step, high-tall, min(step*0.75, 8), tall)
	}
	fmt.Fprintf(&c, `<line class="axis" x1="0" x2="100%%" y1="%d" y2="%[1]d"/>`, high)
	return c.drawn(t.What + ", from audit to audit: " + fromTo(t) + "; the table below has the numbers.")
}

// fromTo says where a number began, and where it is.
func fromTo(t report.Trend) string {
	known := t.Known()
	if len(known) == 0 {
		return "not seen"
	}
	return fmt.Sprintf("%s at first, %s at last", number(known[0]), number(known[len(known)-1]))
}
