package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/identity"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/pace"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

// Whom a page is for.
const forAdministrator, forClient = "administrator", "client"

var readers = []string{forAdministrator, forClient}

// maxNote is how long an author's word may be, in bytes: it is a letter and no book.
const maxNote = 64 << 10

// A paging is how a report is written as a page.
type paging struct {
	reader, noteFile string
	note             string
}

// paged gives a command the options of a page.
func (p *program) paged(c *cobra.Command, as *paging) *cobra.Command {
	c.Flags().StringVar(&as.reader, "for", forAdministrator, "whom --format html is for, administrator or client")
	complete(c, "for", readers...)
	c.Flags().StringVar(&as.noteFile, "note", "", "a file with a word of your own in Markdown, to stand on top of the page")
	return c
}

// check reads what the options name, before anything is looked at.
func (as *paging) check(c *cobra.Command, p *program) error {
	if !slices.Contains(readers, as.reader) {
		return fmt.Errorf("--for: there is no report for %q%s; there are %s", as.reader, nearest.Hint(as.reader, readers), strings.Join(readers, ", "))
	}
	if p.format != "html" && as.said(c) {
		return errors.New("--for and --note are of the page: add --format html")
	}
	if as.noteFile == "" {
		return nil
	}
	data, err := orders.ReadNamed(as.noteFile, maxNote)
	if err != nil {
		return fmt.Errorf("--note: %w", err)
	}
	if !utf8.Valid(data) {
		return fmt.Errorf("--note: %s is not UTF-8; save it as that", as.noteFile)
	}
	as.note = strings.TrimPrefix(string(data), "\ufeff") // which some editors put before a text
	return nil
}

func (as *paging) said(c *cobra.Command) bool { return c.Flags().Changed("for") || as.noteFile != "" }

// form writes a report as a page. What is kept of the site is only read when it is.
func (as *paging) form(r *report.Report, kept func() report.Kept) form {
	return form{"html", func(w io.Writer) error {
		if as.reader == forClient {
			return render.ClientHTML(w, report.ClientOf(r, kept()), as.note)
		}
		return render.HTML(w, report.DocumentOf(r, kept()), as.note)
	}}
}

// keptOf is what is kept of a site beside a look; nothing for an address, and for a snapshot. The number is that of the look, 0 when it is not kept.
// What cannot be read is said, and missing.
func (p *program) keptOf(ctx context.Context, s *site.Site, of *facts.Snapshot, number int64) (k report.Kept) {
	k.Audit = number
	if s == nil || s.Path == s.Address() {
		return k
	}
	if state, err := p.stateFolder(s); err == nil {
		if k.Changes, err = fix.ReadJournal(state); err != nil {
			slog.Warn("what was changed could not be read, so it is not told", "error", err)
		}
		if k.Pace, err = lastPace(state, of.Taken); err != nil {
			slog.Warn("how fast pages came could not be read, so it is not told", "error", err)
		}
	}
	store, err := p.reading(ctx)
	if err != nil {
		return k // whoever keeps says it
	}
	defer store.Close()
	if k.Audits, err = store.List(ctx, historyOf(s)); err == nil {
		k.Runs, err = runs(ctx, store, s, k, of.Taken)
	}
	if err == nil && of.Signs != nil {
		k.Signs, err = otherSigns(ctx, store, monthBefore(before(k.Audits, number), of.Taken), of)
	}
	if err != nil {
		slog.Warn("earlier audits could not be read, so what they would tell is missing", "error", err)
	}
	return k
}

// lastPace is the last run of pace in the month before a look; nil when there is none.
func lastPace(state string, taken time.Time) (*pace.Run, error) {
	var kept []pace.Run
	err := identity.AsCaller(func() (err error) {
		kept, err = pace.Read(state)
		return err
	})
	for _, run := range slices.Backward(kept) {
		if run.Taken.Before(taken.Add(time.Second)) && taken.Sub(run.Taken) <= report.DoneSince {
			return &run, nil
		}
	}
	return nil, err
}

// runs are those of the changes of which something is kept, as far back as is told of them.
func runs(ctx context.Context, store *history.Store, s *site.Site, k report.Kept, taken time.Time) (list []*report.Work, err error) {
	names, err := store.Runs(ctx, historyOf(s))
	if err != nil {
		return nil, err
	}
	for _, done := range report.DoneOf(k, taken) {
		if _, there := names[done.Run]; !there {
			continue
		}
		work, err := workOf(ctx, store, s, done.Run)
		if err != nil {
			return list, err
		}
		list = append(list, work)
	}
	return list, nil
}

// workOf is what is kept of a run of fix.
func workOf(ctx context.Context, store *history.Store, s *site.Site, name string) (*report.Work, error) {
	data, err := store.Run(ctx, historyOf(s), name)
	if err != nil {
		return nil, err
	}
	work := &report.Work{}
	if err := json.Unmarshal(data, work); err != nil {
		return nil, fmt.Errorf("what is kept of the run %s is not understood: %w", name, err)
	}
	if work.Format > report.WorkFormat {
		return nil, fmt.Errorf("the run %s was kept by a newer version of this program; use that", name)
	}
	return work, nil
}

// before are the audits that were kept before one, the newest first; all before one that is not kept.
func before(audits []history.Audit, number int64) []history.Audit {
	earlier := slices.DeleteFunc(slices.Clone(audits), func(a history.Audit) bool { return number != 0 && a.ID >= number })
	slices.Reverse(earlier)
	return earlier
}

// monthBefore are the newest of the audits before a look and the first of the month before it: what a page is set beside.
func monthBefore(earlier []history.Audit, taken time.Time) []history.Audit {
	of := slices.DeleteFunc(slices.Clone(earlier), func(a history.Audit) bool { return taken.Sub(a.Taken) > report.DoneSince })
	if len(of) < 2 {
		return of
	}
	return []history.Audit{of[0], of[len(of)-1]}
}

// otherSigns is the first of some audits that saw other signs of what the site runs on than a look, or else the first that looked for any; nil when
// none did.
func otherSigns(ctx context.Context, store *history.Store, among []history.Audit, now *facts.Snapshot) (first *facts.Snapshot, err error) {
	for _, a := range among {
		signs, err := store.Signs(ctx, a)
		if err != nil {
			return first, err
		}
		if signs == nil {
			continue
		}
		look := &facts.Snapshot{Taken: a.Taken, Seen: facts.Seen{Signs: signs}}
		if !report.SameSigns(signs, now.Signs) {
			return look, nil
		}
		if first == nil {
			first = look
		}
	}
	return first, nil
}
