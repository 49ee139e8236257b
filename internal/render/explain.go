package render

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/report"
)

// Explain writes what a name is about, and how it stands at a site.
func Explain(p Sheet, e *report.Explanation, site string) {
	fmt.Fprintln(p, bold.Render(Safe(e.Name)))
	fmt.Fprintln(p)
	p.parts(e.Parts)
	if len(e.Here) > 0 {
		fmt.Fprintln(p)
		p.line("at " + Safe(site))
		p.parts(e.Here)
	}
}

func (p Sheet) parts(parts []report.Part) {
	label := 0
	for _, part := range parts {
		label = max(label, columnsOf(part.Label)+gap)
	}
	said := ""
	for _, part := range parts {
		name := part.Label
		if name == said {
			name = ""
		} else {
			said = name
		}
		p.block(0, name, label, Safe(part.Says), plain)
	}
}

// A Step is a command to try, and what it does.
type Step struct{ Does, Command string }

// TryNext lists commands to try.
func TryNext(p Sheet, steps []Step) {
	fmt.Fprintln(p)
	p.line("try next")
	for _, s := range steps {
		fmt.Fprintf(p, "%s\n  %s\n", quiet.Render(s.Does), Safe(s.Command))
	}
}

// Served says where the demo's sites answer, and what to try on them.
func Served(p Sheet, dir string, folders []string, connect func(folder string) map[string]string, steps []Step) {
	p.block(0, "", 0, "Serving the demo in "+Safe(dir)+" until interrupted (Ctrl-C).", bold)
	for _, folder := range folders {
		addresses := slices.Compact(slices.Sorted(maps.Values(connect(folder))))
		p.block(0, folder, 24, "on "+strings.Join(addresses, " and "), plain)
	}
	p.block(0, "", 0, "The site files say so too, as long as it goes on.", quiet)
	TryNext(p, steps)
}

// CacheWay writes what will become of a page in each layer.
func CacheWay(p Sheet, w *report.CacheWay, site string) {
	fmt.Fprintln(p, bold.Render(Safe(site+" "+w.Page)))
	fmt.Fprintln(p)
	var rows [][]string
	for _, l := range w.Layers {
		rows = append(rows, []string{l.Name, Safe(l.Declared), Safe(l.Configured), Safe(l.Observed)})
	}
	p.table([]string{"layer", "declared", "configured", "observed"}, rows, func(_, column int) Style {
		if column == 0 {
			return bold
		}
		return plain
	})
	fmt.Fprintln(p)
	p.line("what each does with this page")
	var does []report.Part
	for _, l := range w.Layers {
		does = append(does, report.Part{Label: l.Name, Says: l.Does})
	}
	p.parts(does)
	fmt.Fprintln(p)
	p.line("who gets it from where")
	p.parts(w.Visits)
	fmt.Fprintln(p)
	p.line("after a change, the old page may still be seen")
	p.parts(w.OldPages)
}
