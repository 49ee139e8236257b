package render

import (
	"bytes"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"
	"time"
	"unicode"

	"weltaxis/internal/audit"
	"weltaxis/internal/pace"
	"weltaxis/internal/report"
)

// The document as a page: its template, its look, and what sorts its tables, each in a file of its own.
var (
	//go:embed document/*.html
	documentPages embed.FS
	//go:embed document/report.css
	documentStyle string
	//go:embed document/report.js
	documentScript string

	documentTemplates = sync.OnceValue(func() *template.Template {
		return template.Must(template.New("").Funcs(template.FuncMap{
			"list":     report.List,
			"count":    report.Count,
			"who":      whoText,
			"sentence": sentence,
			"capital":  report.Capital,
			"keeps":    keepsWords,
			"layers":   layersChart,
			"times":    timesChart,
			"weights":  drawnWeights,
			"paths":    paths,
			"trend":    trendChart,
			"fromto":   fromTo,
			"mode":     modeWords,
			"ought":    ought,
			"served":   servedWord,
			"ms":       pace.Milliseconds,
			"number":   func(v *float64) string { return numberOr(v, "–") },
			"day":      func(at time.Time) string { return at.UTC().Format("2 Jan 2006, 15:04") },
		}).ParseFS(documentPages, "document/*.html"))
	})
)

// A documentFrame is what every page has: its policy, its head, its look, and what its parts are.
type documentFrame struct {
	Policy, Head, Day string
	Style             template.CSS
	Script            template.JS
	Note              template.HTML // the author's word, "" when there is none
	Art               []artwork
	Front             *shownPreview // the home page as it is found; nil when it was not seen
	Inner             []shownPreview
	Balance           []areaBalance
	Parts             []documentPart
}

// A documentPart is a part of the page, for its list of parts.
type documentPart struct {
	ID, Title string
	Count     int
}

// An areaBalance is how many rules of an area hold, deviate and were not judged.
type areaBalance struct {
	Name                    string
	Held, Deviate, Unjudged int
	Bar                     template.HTML
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

// frame begins a page, with the author's word on top.
func frame(stage string, taken time.Time, balance []areaBalance, note string) (documentFrame, error) {
	if stage == "" {
		stage = "stage unknown"
	}
	day := taken.UTC().Format("2 January 2006, 15:04 MST")
	f := documentFrame{Policy: documentPolicy(), Day: day, Head: stage + ", looked at on " + day, Style: template.CSS(documentStyle), Script: template.JS(documentScript), Balance: drawnBalance(balance)}
	var err error
	f.Note, err = letter(note)
	f.part("word", "A word before", 0, f.Note != "")
	return f, err
}

// part adds a part of the page to its list of parts, if it is there.
func (f *documentFrame) part(id, title string, count int, there bool) {
	if there {
		f.Parts = append(f.Parts, documentPart{id, title, count})
	}
}

// HTML writes a report as one page that loads nothing, readable without its script, on paper and on a telephone. A note is the
// author's word in Markdown, to stand on top.
func HTML(w io.Writer, d *report.Document, note string) error {
	var balance []areaBalance
	for _, a := range d.Areas {
		balance = append(balance, areaBalance{Name: a.Name, Held: len(a.Held), Deviate: a.Deviate, Unjudged: a.Unjudged})
	}
	top, err := frame(d.Stage, d.Taken, balance, note)
	if err != nil {
		return err
	}
	view := struct {
		*report.Document
		documentFrame
	}{d, top}
	view.previews(d.Snapshot.Pictures, d.Home, d.Others)
	view.part("first", "What to do first", 0, len(d.Words.First) > 0)
	view.part("done", "What was done", len(d.Done), len(d.Done) > 0)
	view.part("since", "What is new", len(d.Words.News), d.Words.Since != "")
	view.part("overview", "Area by area", 0, true)
	view.part("course", "How it went", 0, d.Course != nil)
	for _, a := range balance {
		view.part("area-"+a.Name, report.Capital(a.Name), a.Deviate, a.Deviate > 0)
	}
	view.part("found", "How it is found", 0, view.Front != nil)
	view.part("pages", "Pages", len(d.Pages), len(d.Pages) > 0)
	view.part("weights", "What pages weigh", 0, len(d.Weights) > 0)
	view.part("speed", "How fast it is", 0, len(d.Times) > 0)
	view.part("caches", "What caches keep", 0, len(d.Caches) > 0)
	view.part("tree", "Who may do what", 0, len(d.Roles) > 0)
	view.part("exposure", "What a stranger can tell", len(d.Exposure.Tells), len(d.Exposure.Tells) > 0 || d.Exposure.Unseen == "")
	view.part("unseen", "What was not judged", 0, len(d.Words.Unseen)+len(d.Words.Gaps) > 0)
	view.part("accepted", "What one lives with", len(d.Words.Accepted), len(d.Words.Accepted) > 0)
	view.part("again", "To come back to", 0, len(d.Words.Due)+len(d.Words.Lapsed)+len(d.Words.Astray)+len(d.Later) > 0)
	view.part("holds", "What is as it should be", 0, true)
	return laidOut(w, "report.html", view)
}

// ClientHTML writes a report for whoever the site is kept for, as HTML does.
func ClientHTML(w io.Writer, c *report.Client, note string) error {
	var balance []areaBalance
	for _, a := range c.Areas {
		balance = append(balance, areaBalance{Name: a.Name, Held: a.Held, Deviate: a.Deviate, Unjudged: a.Unjudged})
	}
	top, err := frame(c.Stage, c.Taken, balance, note)
	if err != nil {
		return err
	}
	view := struct {
		*report.Client
		documentFrame
	}{c, top}
	view.previews(c.Pictures, c.Home, c.Others)
	view.part("first", "What comes first", 0, len(c.First) > 0)
	view.part("done", "What was done", len(c.Done), len(c.Done) > 0)
	view.part("overview", "Area by area", 0, true)
	view.part("course", "How it went", 0, c.Course != nil)
	for _, a := range balance {
		view.part("area-"+a.Name, report.Capital(a.Name), a.Deviate, a.Deviate > 0)
	}
	view.part("found", "How it is found", 0, view.Front != nil)
	view.part("pages", "Pages", len(c.Pages), len(c.Pages) > 0)
	view.part("weights", "What pages weigh", 0, len(c.Weights) > 0)
	view.part("speed", "How fast it is", 0, len(c.Times) > 0)
	view.part("rest", "What else there is to know", 0, len(c.Rest) > 0)
	return laidOut(w, "client.html", view)
}

// A workList is one of the lists of what deviated before or after a run.
type workList struct {
	ID, Title, Means string
	Briefs           []report.Brief
}

// WorkHTML writes what a run of fix found, changed and left, as HTML does.
func WorkHTML(w io.Writer, work *report.Work) error {
	top, err := frame("", work.At, nil, "")
	if err != nil {
		return err
	}
	view := struct {
		*report.Work
		documentFrame
		Stands string
		Lists  []workList
	}{Work: work, documentFrame: top}
	view.Stands = fmt.Sprintf("%s: %d seen to have taken. Of what deviated %s no more.", report.Count(len(work.Changes), "change", "changes"), work.Took(), report.Count(len(work.Settled), "matter does", "matters do"))
	if view.Unseen() {
		view.Stands = report.Count(len(work.Changes), "change", "changes") + "; nobody could look afterwards."
	}
	view.part("changed", "What was changed", len(work.Changes), true)
	for _, list := range []workList{
		{"settled", "What deviates no more", "It deviated before the run, and did not after it.", work.Settled},
		{"new", "What deviates now, and did not", "It did not deviate before the run, and did after it.", work.New},
		{"still", "What still deviates", "It deviated before the run and after it.", work.Left},
		{"found", "What was found", "All that deviated before the run.", work.Found}, // which are the first and the third, when there was a look
	} {
		if list.ID == "found" && !view.Unseen() {
			continue
		}
		view.part(list.ID, list.Title, len(list.Briefs), len(list.Briefs) > 0)
		if len(list.Briefs) > 0 {
			view.Lists = append(view.Lists, list)
		}
	}
	view.part("left", "What is left, and for whom", len(work.Waits), len(work.Waits) > 0)
	return laidOut(w, "work.html", view)
}

// laidOut fills a template and writes the page.
func laidOut(w io.Writer, name string, view any) error {
	var page bytes.Buffer
	if err := documentTemplates().ExecuteTemplate(&page, name, view); err != nil {
		return err
	}
	_, err := w.Write(readable(page.Bytes()))
	return err
}

// readable shows a sign in the place of what nobody sees: controls, and what turns the direction of writing. Spaces of all widths, what joins or
// parts letters in writing that needs it, and where a word may be broken are left.
func readable(page []byte) []byte {
	return bytes.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || unicode.IsPrint(r) || unicode.Is(unicode.Zs, r) || strings.ContainsRune("\u200c\u200d\u00ad", r) {
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
	return report.Capital(step) + "."
}

// numberOr writes a number that may not have been seen.
func numberOr(v *float64, otherwise string) string {
	if v == nil {
		return otherwise
	}
	return number(*v)
}

// keepsWords say whether a layer keeps a page, and for how long.
func keepsWords(l report.Layer) string {
	switch {
	case l.Keeps == report.KeepsIt && l.Seconds >= 0:
		return "for " + report.Lasting(l.Seconds)
	case l.Keeps == report.KeepsIt:
		return "yes; for how long nobody says"
	case l.Keeps == report.KeepsNot:
		return "no"
	case l.Keeps == report.KeepsOther:
		return "–"
	}
	return "not known"
}

// paths are the entries of a class as far as they are named, and how many more there are.
func paths(row audit.ClassRow) string {
	if row.Count > len(row.Paths) {
		return strings.Join(row.Paths, ", ") + more(row)
	}
	return report.List(row.Paths)
}
