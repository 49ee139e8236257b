package render

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// Values writes neutral values as the file that fix --values reads.
func Values(w io.Writer, r *audit.Result, kept []facts.Reading) error {
	if _, err := fmt.Fprintf(w, "# How %s is kept, on %s. What is its own is left out.\n# weltaxis fix --values brings another site to these values.\n",
		strings.Join(strings.Fields(Safe(r.Site)), " "), r.Taken.Format("2 January 2006")); err != nil {
		return err
	}
	values := yaml.MapSlice{}
	for _, reading := range kept {
		values = append(values, yaml.MapItem{Key: reading.Name, Value: valueOf(reading.Value)})
	}
	text, err := yaml.Marshal(yaml.MapSlice{{Key: "values", Value: values}})
	if err == nil {
		_, err = w.Write(text)
	}
	return err
}

// valueOf is a value as the file has it: a list of texts, or a text that its type reads again.
func valueOf(v facts.Value) any {
	switch v.Type() {
	case facts.List:
		return v.List()
	case facts.Size:
		return strconv.FormatInt(v.Number(), 10)
	}
	return v.String()
}

// Exported says what was written down and what was left out.
func Exported(p Sheet, file string, kept []facts.Reading, left []string) {
	p.block(0, "", 0, fmt.Sprintf("%s of the site written to %s.", report.Count(len(kept), "value", "values"), Safe(file)), plain)
	if len(left) > 0 {
		p.block(0, "", 0, "Left out, because they deviate: "+report.List(left)+".", plain)
	}
	p.block(0, "", 0, "Another site is brought to them with: weltaxis fix --site SITE --values "+Safe(file), quiet)
}
