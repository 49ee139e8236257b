package render

import (
	"fmt"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/discover"
	"weltaxis/internal/report"
)

// A DialectSummary is a dialect as the list of dialects has it in JSON.
type DialectSummary struct {
	Dialect  string   `json:"dialect"`
	Title    string   `json:"title"`
	Version  int      `json:"version"`
	About    string   `json:"about"`
	Settings []string `json:"settings"`
	Lists    int      `json:"lists"`
}

// DialectList lists dialects for JSON.
func DialectList(all []*dialect.Dialect) []DialectSummary {
	list := []DialectSummary{}
	for _, d := range all {
		list = append(list, DialectSummary{d.Name, d.Named(), d.Version, strings.TrimSpace(d.About), d.Names(), len(d.Lists)})
	}
	return list
}

// Dialects writes the dialects that come with the program.
func Dialects(p Sheet, all []*dialect.Dialect) {
	var rows [][]string
	for _, d := range all {
		rows = append(rows, []string{d.Name, fmt.Sprintf("%d\u00a0of\u00a0%d", len(d.Names()), len(d.Names())+len(d.Unmapped())), fmt.Sprint(len(d.Lists)), strings.Join(strings.Fields(d.About), " ")})
	}
	p.table([]string{"dialect", "settings", "lists", "about"}, rows, func(int, int) Style { return plain })
}

// CheckedDialect writes what came of holding a dialect against itself, and against an installation if there was
// one.
func CheckedDialect(p Sheet, d *dialect.Dialect, where string, checked []discover.Checked) {
	fmt.Fprintf(p, "%s is in order: %s and %s.\n", bold.Render(Safe(d.String())), report.Count(len(d.Names()), "setting", "settings"), report.Count(len(d.Lists), "list", "lists"))
	if where == "" {
		fmt.Fprintln(p, quiet.Render("With --root FOLDER or --site SITE every entry is read there, translated, and translated back."))
		return
	}
	var rows [][]string
	var wrong []discover.Checked
	unseen := 0
	for _, c := range checked {
		if c.Unseen {
			unseen++
			continue
		}
		if c.Wrong != "" {
			wrong = append(wrong, c)
			continue
		}
		note := c.Note
		if note == "" {
			note = "there and back"
		}
		rows = append(rows, []string{c.Name, Safe(c.Value), Safe(c.Place), note})
	}
	fmt.Fprintf(p, "Held against %s:\n\n", Safe(where))
	if len(rows) > 0 {
		p.table([]string{"setting", "value", "place", "read"}, rows, func(_, column int) Style {
			if column == 3 {
				return quiet
			}
			return plain
		})
		fmt.Fprintln(p)
	}
	if len(wrong) == 0 {
		fmt.Fprintf(p, "All %d entries were read, and would be written back as they are.\n", len(checked))
		return
	}
	p.line("wrong")
	for _, c := range wrong {
		p.block(2, c.Name+"  ", len(c.Name)+2, Safe(c.Wrong), plain)
	}
	if unseen > 0 {
		fmt.Fprintf(p, "\nFor that reason %s could not be read.\n", report.Count(unseen, "more entry", "more entries"))
	}
}

// A DraftSummary is a draft in JSON.
type DraftSummary struct {
	Recognised []discover.Likeness `json:"recognised"`
	Findings   []FindingSummary    `json:"findings"`
	Roles      dialect.Roles       `json:"roles"`
	Notes      []string            `json:"notes"`
	Dialect    string              `json:"dialect"` // the YAML
}

// A FindingSummary is one finding of a draft in JSON.
type FindingSummary struct {
	Setting  string   `json:"setting"`
	Place    string   `json:"place"`
	Origin   string   `json:"origin"`
	Sure     float64  `json:"sure"`
	Written  bool     `json:"written"`
	Shown    string   `json:"value"`
	Because  []string `json:"because"`
	RunnerUp string   `json:"runner_up,omitempty"`
}

// DraftJSON is a draft for JSON.
func DraftJSON(d *discover.Draft, known []discover.Likeness) DraftSummary {
	s := DraftSummary{Recognised: known, Findings: []FindingSummary{}, Roles: d.Roles, Notes: d.Notes, Dialect: string(d.YAML())}
	for _, f := range d.Findings {
		s.Findings = append(s.Findings, FindingSummary{f.Setting, f.Place, f.Origin, f.Sure, f.Certain, f.Shown, f.Because, f.Next})
	}
	return s
}

// Draft writes what was found, why, what else it might be, and how sure that is. The draft itself has been written
// to a file, or has not.
func Draft(p Sheet, d *discover.Draft, known []discover.Likeness, file string) {
	for _, k := range known {
		p.block(0, "", 0, fmt.Sprintf("This looks like %s (sure: %.2f): %s. There is a dialect for it: settings: {dialect: %s, root: ...}.", k.Dialect, k.Sure, report.List(k.By), k.Dialect), bold)
	}
	var rows [][]string
	for _, f := range d.Findings {
		does := "suggested"
		if f.Certain {
			does = "written"
		}
		because := strings.Join(f.Because, "; ")
		if f.Next != "" && !f.Certain {
			because += "; or " + f.Next
		}
		rows = append(rows, []string{f.Setting, Safe(f.Shown), Safe(f.Origin), fmt.Sprintf("%.2f", f.Sure), does, Safe(because)})
	}
	p.table([]string{"setting", "value", "place", "sure", "draft", "because"}, rows, func(row, column int) Style {
		if column == 4 && row < len(rows) && rows[row][4] == "written" {
			return bold
		}
		if column == 5 {
			return quiet
		}
		return plain
	})
	fmt.Fprintln(p)
	for _, note := range d.Notes {
		p.block(0, "", 0, Safe(note), plain)
	}
	sure := d.Certain()
	fmt.Fprintf(p, "%s written as sure, %s in comments.\n", report.Count(sure, "setting", "settings"), report.Count(len(d.Findings)-sure, "suggestion", "suggestions"))
	if file != "" {
		if !strings.ContainsAny(file, `/\`) {
			file = "./" + file
		}
		p.block(0, "", 0, fmt.Sprintf("The draft is in %s. Hold it against the installation with: weltaxis dialect check %s --root FOLDER", Safe(file), Safe(file)), plain)
		return
	}
	fmt.Fprintln(p, quiet.Render("--output found.yaml writes the draft; --ask asks about the suggestions."))
}
