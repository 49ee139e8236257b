package render

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"strings"
	"unicode"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// The document as a page: its template, its look, and what sorts its tables, each in a file of its own.
var (
	//go:embed document/report.html
	documentPage string
	//go:embed document/report.css
	documentStyle string
	//go:embed document/report.js
	documentScript string

	documentTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
		"list":     report.List,
		"count":    report.Count,
		"who":      func(who []facts.Who) string { return strings.TrimPrefix(riskText(facts.Safe, who), "fix safe: ") },
		"sentence": sentence,
	}).Parse(documentPage))
)

// A documentView is what the template is given.
type documentView struct {
	*report.Document
	Policy, Head, Day string
	Style             template.CSS
	Script            template.JS
	Chart             template.HTML
	Parts             []documentPart
	Areas             []documentArea
}

// A documentPart is a part of the page, for its list of parts.
type documentPart struct {
	ID, Title string
	Count     int
}

// A documentArea is an area with a name to lead to it.
type documentArea struct {
	report.DocumentArea
	ID, Title string
}

// sourceHash is how a policy names a piece of style or script that it lets through (CSP Level 3 §2.3.1).
func sourceHash(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// documentPolicy lets the page's own style and script through, and nothing else from anywhere (CSP Level 3).
func documentPolicy() string {
	return "default-src 'none'; style-src " + sourceHash(documentStyle) + "; script-src " + sourceHash(documentScript) + "; img-src data:; base-uri 'none'; form-action 'none'"
}

// HTML writes a report as one page that loads nothing, readable without its script, on paper and on a telephone.
func HTML(w io.Writer, d *report.Document) error {
	stage := d.Stage
	if stage == "" {
		stage = "stage unknown"
	}
	day := d.Taken.UTC().Format("2 January 2006, 15:04 MST")
	view := documentView{Document: d, Policy: documentPolicy(), Day: day, Head: stage + ", looked at on " + day, Style: template.CSS(documentStyle), Script: template.JS(documentScript), Chart: areaChart(d.Areas)}
	part := func(id, title string, count int, there bool) {
		if there {
			view.Parts = append(view.Parts, documentPart{id, title, count})
		}
	}
	part("first", "What to do first", 0, len(d.Words.First) > 0)
	part("since", "What is new", len(d.Words.News), d.Words.Since != "")
	part("overview", "Area by area", 0, true)
	for _, a := range d.Areas {
		title := strings.ToUpper(a.Name[:1]) + a.Name[1:]
		view.Areas = append(view.Areas, documentArea{a, "area-" + a.Name, title})
		part("area-"+a.Name, title, a.Deviate, a.Deviate > 0)
	}
	part("pages", "Pages", len(d.Pages), len(d.Pages) > 0)
	part("unseen", "What was not judged", 0, len(d.Words.Unseen)+len(d.Words.Gaps) > 0)
	part("accepted", "What one lives with", len(d.Words.Accepted), len(d.Words.Accepted) > 0)
	part("again", "To come back to", 0, len(d.Words.Due)+len(d.Words.Lapsed)+len(d.Words.Astray) > 0)
	part("holds", "What is as it should be", 0, true)
	var page bytes.Buffer
	if err := documentTemplate.Execute(&page, view); err != nil {
		return err
	}
	_, err := w.Write(readable(page.Bytes()))
	return err
}

// readable shows a sign in the place of what nobody sees: controls, and what turns the direction of writing.
func readable(page []byte) []byte {
	return bytes.Map(func(r rune) rune {
		if r == '\n' || r == '\u00a0' || unicode.IsPrint(r) {
			return r
		}
		return unicode.ReplacementChar
	}, page)
}

// sentence ends a step of a fix as a sentence.
func sentence(step string) string {
	step = strings.TrimRight(step, " ")
	if step == "" || strings.HasSuffix(step, ".") || strings.HasSuffix(step, "?") {
		return step
	}
	return strings.ToUpper(step[:1]) + step[1:] + "."
}

// The measures of the chart, in its own units.
const (
	chartWidth  = 640
	chartLabel  = 110
	chartRow    = 22
	chartBar    = 14
	chartNumber = 60
)

// areaChart draws how many rules of each area hold and how many deviate, as bars side by side; the table beside it has the same numbers.
func areaChart(areas []report.DocumentArea) template.HTML {
	most := 1
	for _, a := range areas {
		most = max(most, len(a.Held)+a.Deviate)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %d %d" role="img" aria-label="Rules that hold and rules that deviate, by area; the table below has the numbers.">`, chartWidth, chartRow*len(areas))
	scale := float64(chartWidth-chartLabel-chartNumber) / float64(most)
	for i, a := range areas {
		top := i * chartRow
		held, deviate := float64(len(a.Held))*scale, float64(a.Deviate)*scale
		fmt.Fprintf(&b, `<text x="0" y="%d">%s</text>`, top+chartBar, template.HTMLEscapeString(a.Name))
		fmt.Fprintf(&b, `<rect class="bar" x="%d" y="%d" width="%.1f" height="%d"/>`, chartLabel, top+2, held, chartBar)
		fmt.Fprintf(&b, `<rect class="loud" x="%.1f" y="%d" width="%.1f" height="%d"/>`, chartLabel+held, top+2, deviate, chartBar)
		fmt.Fprintf(&b, `<text x="%.1f" y="%d">%d + %d</text>`, chartLabel+held+deviate+6, top+chartBar, len(a.Held), a.Deviate)
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}
