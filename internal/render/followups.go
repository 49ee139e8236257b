package render

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	ics "github.com/arran4/golang-ical"

	"weltaxis/internal/facts"
	"weltaxis/internal/report"
	"weltaxis/internal/secrets"
)

// FollowUps writes what to come back to, the due first.
func FollowUps(p Sheet, f *report.FollowUps) {
	p.block(0, "", 0, "What to come back to at "+Safe(f.Site), bold)
	switch {
	case f.Looked == nil:
		p.block(0, "", 0, "No audit is kept yet, so what rules want looked at again is not known; weltaxis audit keeps one.", quiet)
	default:
		p.block(0, "", 0, "what rules want is of the audit of "+f.Looked.UTC().Format("2 January 2006, 15:04 MST"), quiet)
	}
	if len(f.All) == 0 {
		fmt.Fprintln(p)
		fmt.Fprintln(p, "Nothing.")
		return
	}
	due := ""
	for _, a := range f.All {
		of := "later"
		if a.Due(f.Now) {
			of = "due"
		}
		if of != due {
			due = of
			fmt.Fprintln(p)
			p.line(of)
		}
		p.block(0, string(a.On), 12, Safe(report.FollowUp(a)), plain)
	}
}

// Calendar writes what to come back to as a calendar of whole days (RFC 5545 §3.6.1).
func Calendar(w io.Writer, f *report.FollowUps) error {
	calendar := ics.NewCalendar()
	calendar.SetProductId("-//Weltaxis//follow-ups//EN")
	calendar.SetMethod(ics.MethodPublish)
	for _, a := range f.All {
		day, err := time.Parse(time.DateOnly, string(a.On))
		if err != nil {
			return fmt.Errorf("a follow-up is on %q, which is no day", a.On)
		}
		event := calendar.AddEvent(a.UID + "@" + host(f.Address))
		event.SetDtStampTime(f.Now)
		event.SetAllDayStartAt(day)
		event.SetAllDayEndAt(day.AddDate(0, 0, 1))
		event.SetSummary(clean(facts.Shorten(f.Site, 80) + ": " + report.FollowUp(a)))
		event.SetDescription(clean(report.FollowUp(a)))
		if strings.HasPrefix(f.Address, "http") {
			event.SetURL(clean(f.Address))
		}
		event.SetTimeTransparency(ics.TransparencyTransparent)
	}
	return calendar.SerializeTo(w, ics.WithNewLineWindows)
}

// clean takes secrets out of a text, before its lines are folded, and what is not printed: control characters, which a calendar must not hold (RFC 5545 §3.1), and what turns the direction of
// writing.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) && r != '\n' {
			return -1
		}
		return r
	}, secrets.Shown(strings.ReplaceAll(text, "\r", "")))
}

func host(address string) string {
	if name := facts.URLHost(address); name != "" {
		return name
	}
	return "weltaxis.example"
}
