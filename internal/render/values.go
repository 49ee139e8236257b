package render

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// Values writes neutral values as the file that fix --values reads.
func Values(w io.Writer, r *audit.Result, kept []facts.Reading) error {
	if _, err := fmt.Fprintf(w, "# How %s is kept, on %s. What is its own is left out.\n# weltaxis fix --values brings another site to these values.\nvalues:\n",
		strings.Join(strings.Fields(Safe(r.Site)), " "), r.Taken.Format("2 January 2006")); err != nil {
		return err
	}
	for _, reading := range kept {
		if _, err := fmt.Fprintf(w, "  %s: %s\n", reading.Name, valueText(reading.Value)); err != nil {
			return err
		}
	}
	return nil
}

// valueText is a value as the file has it: a list of texts, or a text that its type reads again.
func valueText(v facts.Value) string {
	switch v.Type() {
	case facts.List:
		items := make([]string, len(v.List()))
		for i, item := range v.List() {
			items[i] = strconv.Quote(item)
		}
		return "[" + strings.Join(items, ", ") + "]"
	case facts.Size:
		return strconv.Quote(strconv.FormatInt(v.Number(), 10))
	}
	return strconv.Quote(v.String())
}

// Exported says what was written down and what was left out.
func Exported(p Sheet, file string, kept []facts.Reading, left []string) {
	fmt.Fprintf(p, "%s of the site written to %s.\n", count(len(kept), "value", "values"), Safe(file))
	if len(left) > 0 {
		p.block(0, "", 0, "Left out, because they deviate: "+list(left)+".", plain)
	}
	p.block(0, "", 0, "Another site is brought to them with: weltaxis fix --site SITE --values "+Safe(file), quiet)
}
