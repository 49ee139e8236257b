package render

import (
	"encoding/csv"
	"fmt"
	"html"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/pace"
	"weltaxis/internal/report"
)

// laneLabel is how wide the names of the lanes of a chart are, and laneEnd what stands behind them.
const (
	laneLabel = 10
	laneEnd   = 34
)

// lapMarks are how single requests are drawn: by what became of them, and around the cache.
var lapMarks = map[string]string{"hit": "●", "stale": "◐", "miss": "○", "bypass": "○", "untold": "◆"}

const aroundMark = "◇"

// Pace writes how fast pages came, with a lane for each way in which every request is a mark.
func Pace(p Sheet, r *report.Pace) {
	fmt.Fprintln(p, bold.Render(Safe(r.Site)))
	p.block(0, "", 0, fmt.Sprintf("%d requests, %s of each page in each way, in turn; times to the first byte, connecting left out, as seen from here", r.Requests, counted(r.Times)), quiet)
	for i := range r.Pages {
		page := &r.Pages[i]
		fmt.Fprintln(p)
		p.line(Safe(page.Path))
		if len(page.Laps) > 0 {
			p.lanes(page)
		}
		for _, says := range page.Says {
			p.block(0, "", 0, Safe(says), plain)
		}
		if b := page.Before; b != nil {
			p.block(0, "", 0, fmt.Sprintf("Before, %s: %s. %s", b.Taken.Local().Format("2 January 2006 15:04"), pace.Milliseconds(b.Plain.Median), Safe(b.Says)), plain)
		}
	}
	if slices.ContainsFunc(r.Pages, func(page report.PacePage) bool { return len(page.Laps) > 0 }) {
		fmt.Fprintln(p)
		p.block(0, "", 0, "● a cache answered  ◐ with an old page  ○ made anew  ◆ no header says  ◇ around the cache", quiet)
	}
}

func counted(n int) string {
	if n == 1 {
		return "one"
	}
	return strconv.Itoa(n)
}

// lanes draws both ways on one scale, which begins at 0.
func (p Sheet) lanes(page *report.PacePage) {
	room := max(p.width()-laneLabel-laneEnd, 16)
	most := scale(page)
	at := func(ms float64) int { return min(int(ms/most*float64(room-1)+0.5), room-1) }
	for _, lane := range []struct {
		name   string
		around bool
		sum    pace.Summary
		whole  pace.Summary
	}{{"visitor", false, page.First.Plain, page.Whole.Plain}, {"around", true, page.First.Around, page.Whole.Around}} {
		if lane.sum.Count == 0 {
			continue
		}
		sum := fmt.Sprintf("  %s %s", bold.Render(pad(pace.Milliseconds(lane.sum.Median), 8)), quiet.Render(fmt.Sprintf("±%.0f %%, whole %s", 100*lane.sum.Spread(), pace.Milliseconds(lane.whole.Median))))
		rows := stacked(page, lane.around, room, at)
		for i, row := range rows {
			name, end := "", ""
			if i == len(rows)-1 {
				name, end = lane.name, sum
			}
			fmt.Fprintln(p, trimmed(quiet.Render(pad(name, laneLabel))+row+end))
		}
	}
	end := pace.Milliseconds(most)
	fmt.Fprintf(p, "%s%s\n", strings.Repeat(" ", laneLabel), quiet.Render("0"+strings.Repeat(" ", max(room-1-columnsOf(end), 1))+end))
}

// maxStack is how many marks stand above one another; where there are more, their number stands on top.
const maxStack = 4

// stacked are the rows of a lane, the lowest last: where several requests took as long, their marks stand above one another.
func stacked(page *report.PacePage, around bool, room int, at func(float64) int) []string {
	marks := map[int][]string{}
	highest := 1
	for _, lap := range page.Laps {
		if lap.Around != around {
			continue
		}
		mark := lapMarks[lap.Outcome]
		if around {
			mark = aroundMark
		}
		here := at(lap.First)
		marks[here] = append(marks[here], mark)
		highest = max(highest, min(len(marks[here]), maxStack))
	}
	rows := make([]string, highest)
	for i := range rows {
		above := highest - 1 - i
		for column := range room {
			here := marks[column]
			switch {
			case above == maxStack-1 && len(here) > maxStack:
				rows[i] += laneStyle(around).Render(strconv.Itoa(min(len(here), 9)))
			case above < len(here):
				rows[i] += laneStyle(around).Render(here[above])
			case above == 0:
				rows[i] += quiet.Render("·")
			default:
				rows[i] += " "
			}
		}
	}
	return rows
}

func laneStyle(around bool) Style {
	if around {
		return severityStyles[2]
	}
	return title
}

// scale is the end of a page's scale: its longest time, rounded up.
func scale(page *report.PacePage) float64 {
	most := 0.0
	for _, lap := range page.Laps {
		most = max(most, lap.First)
	}
	return roundedUp(most)
}

// roundedUp is the next 1, 2 or 5 of a power of ten, a tenth at least.
func roundedUp(most float64) float64 {
	most = max(most, 0.1)
	power := math.Pow(10, math.Floor(math.Log10(most)))
	for _, step := range []float64{1, 2, 5, 10} {
		if most <= step*power {
			return step * power
		}
	}
	return most
}

// PaceCSV writes a line for each request.
func PaceCSV(w io.Writer, r *report.Pace) error {
	out := csv.NewWriter(w)
	_ = out.Write([]string{"page", "request", "way", "outcome", "status", "connect_ms", "first_byte_ms", "whole_ms", "bytes"})
	number := func(ms float64) string { return strconv.FormatFloat(ms, 'f', 3, 64) }
	for i := range r.Pages {
		for n, lap := range r.Pages[i].Laps {
			_ = out.Write([]string{defused(r.Pages[i].Path), strconv.Itoa(n + 1), map[bool]string{false: "visitor", true: "around"}[lap.Around], lap.Outcome, strconv.Itoa(lap.Status), number(lap.Connect), number(lap.First), number(lap.Whole), strconv.Itoa(lap.Bytes)})
		}
	}
	out.Flush()
	return out.Error()
}

// The measures of the drawing, in pixels.
const (
	svgWidth, svgLane, svgLeft, svgRight = 860, 34, 90, 220
)

// PaceSVG draws the lanes of all pages one below the other (SVG 2). Everything from the site is escaped.
func PaceSVG(w io.Writer, r *report.Pace) error {
	var b strings.Builder
	y := 60
	text := func(x, y int, class, says string) {
		fmt.Fprintf(&b, "<text x=\"%d\" y=\"%d\" class=%q>%s</text>\n", x, y, class, html.EscapeString(Safe(says)))
	}
	for i := range r.Pages {
		page := &r.Pages[i]
		text(16, y, "page", page.Path)
		y += 18
		most := scale(page)
		room := float64(svgWidth - svgLeft - svgRight)
		at := func(ms float64) float64 { return svgLeft + ms/most*room }
		for _, lane := range []struct {
			name   string
			around bool
			sum    pace.Summary
		}{{"visitor", false, page.First.Plain}, {"around", true, page.First.Around}} {
			if lane.sum.Count == 0 {
				continue
			}
			middle := y + svgLane/2
			text(16, middle+4, "lane", lane.name)
			fmt.Fprintf(&b, "<line x1=\"%d\" y1=\"%d\" x2=\"%.0f\" y2=\"%d\" class=\"axis\"/>\n<line x1=\"%.1f\" y1=\"%d\" x2=\"%.1f\" y2=\"%d\" class=\"median\"/>\n", svgLeft, middle, svgLeft+room, middle, at(lane.sum.Median), middle-11, at(lane.sum.Median), middle+11)
			for _, lap := range page.Laps {
				if lap.Around == lane.around {
					kept := lap.Outcome == "hit" || lap.Outcome == "stale"
					class := map[bool]string{true: "kept", false: "made"}[kept && !lap.Around]
					if lap.Around {
						class = "around"
					}
					fmt.Fprintf(&b, "<circle cx=\"%.1f\" cy=\"%d\" r=\"5\" class=%q><title>%s, %s</title></circle>\n", at(lap.First), middle, class, html.EscapeString(lap.Outcome), pace.Milliseconds(lap.First))
				}
			}
			text(svgWidth-svgRight+16, middle+4, "sum", fmt.Sprintf("%s  ±%.0f %%", pace.Milliseconds(lane.sum.Median), 100*lane.sum.Spread()))
			y += svgLane
		}
		text(svgLeft-4, y+8, "scale", "0")
		text(svgWidth-svgRight-40, y+8, "scale", pace.Milliseconds(most))
		y += 26
		for _, says := range page.Says {
			for _, line := range wrap(Safe(says), 116) {
				text(16, y, "says", line)
				y += 18
			}
		}
		y += 22
	}
	heading := fmt.Sprintf("%s, %s: milliseconds to the first byte, connecting left out", r.Site, r.Taken.Local().Format("2 January 2006 15:04"))
	text(16, 28, "heading", heading)
	text(16, y, "scale", "filled blue: a cache answered; hollow: made anew, or no header says; grey: around the cache; stroke: the median")
	_, err := fmt.Fprintf(w, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %[1]d %[2]d" role="img" aria-label="%[3]s">
<style>
text { font: 13px sans-serif; fill: #222; }
.heading, .page, .sum { font-weight: bold; }
.lane, .scale { fill: #666; }
.axis { stroke: #bbb; }
.median { stroke: #222; stroke-width: 2; }
.kept { fill: #1f5fa8; fill-opacity: 0.75; }
.made { fill: #fff; stroke: #1f5fa8; stroke-width: 1.5; }
.around { fill: #888; fill-opacity: 0.6; }
</style>
<rect width="100%%" height="100%%" fill="#fff"/>
%[4]s</svg>
`, svgWidth, y+20, html.EscapeString(Safe(heading)), b.String())
	return err
}
