package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"weltaxis/internal/announce"
	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/identity"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/source/live"
)

// An announcing is one run of announce.
type announcing struct {
	fixing
	all    bool
	made   bool // the key is new
	record *announce.Record
	file   string // where the record is kept
	view   *report.Announcement
	looks  map[string]announce.Look
}

func (p *program) announceCommand() *cobra.Command {
	a := &announcing{fixing: fixing{program: p}}
	c := p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "announce [SITE]",
		Short: "The very last step: tells search engines of new and changed addresses",
		Long: `Shows what search engines would be told, and with --write tells them: the addresses that are new, changed or gone since they were
last told, by the open IndexNow protocol, at the endpoint that the site file names (announce: {endpoint: ...}). Nobody else is contacted, and
no address is told of twice without need; --all tells of all again.

It is refused as long as something critical stands, something high in titles, metadata, visibility or permalinks, one of these could not
be seen, or the site file does not say that the site is live: the first crawl decides the first impression. The tags and files by which
engines know whose the site is (intent.tokens, intent.token_files) are looked at from outside.

An engine knows by a key that it is the site's keeper who speaks. Where the site file names none, one is made, and its file written into the folder that is
served, as a run of fix, which weltaxis undo takes back; it is asked for from outside before anything is sent. Which addresses have been told of is kept beside the site's changes.
A page counts as changed when its title, description, headings, number of words, pictures, structured data or language are others; what changed on all
of them alike, as a menu, counts for none.

Exit status: 0 it was shown, or all was taken, or nothing is new · 1 refused, or not all was taken · 2 wrong use`,
		Args:    takes(0, 1),
		RunE:    func(c *cobra.Command, args []string) error { return a.run(c.Context(), args) },
		Example: "  weltaxis announce mysite\n  weltaxis announce mysite --write", ValidArgsFunction: completeSites,
	})), "text", "json")
	c.Flags().BoolVar(&a.write, "write", false, "tell them")
	c.Flags().BoolVar(&a.all, "all", false, "tell of all addresses again, whether they changed or not")
	return c
}

func (a *announcing) run(ctx context.Context, args []string) error {
	name, err := a.siteArgument(args)
	if err != nil {
		return err
	}
	if a.site, err = a.load(name); err != nil {
		return err
	}
	if a.site.Announce == nil {
		return fmt.Errorf("%s names no endpoint, and nobody else is contacted; write announce: {endpoint: https://HOST/indexnow} into it, as the engine says", a.site.Path)
	}
	if a.site.Sources.Live == nil {
		return fmt.Errorf("%s has no live source, and what search engines see is seen from outside alone; write sources: live: {} into it", a.site.Path)
	}
	a.look = a.options()
	a.look.Answered = a.answered(ctx, a.site)
	a.since(ctx, a.site, &a.look)
	if a.before, err = audit.Run(ctx, a.site, a.now(), a.look); err != nil {
		return err
	}
	if err := a.compare(ctx); err != nil {
		return err
	}
	switch {
	case len(a.view.Refused) > 0:
		a.view.Says = fmt.Sprintf("Nobody is told yet: %s to be put right before, since the first crawl decides the first impression.", report.Count(len(a.view.Refused), "thing has", "things have"))
	case len(a.view.News.All()) == 0:
		a.view.Says = fmt.Sprintf("Nothing is new since %s told of; nobody is contacted. --all tells of all again.", report.Count(a.view.Before, "address was", "addresses were"))
	case !a.write:
		a.view.Says = fmt.Sprintf("%s would be told of %s. --write does it.", a.view.Endpoint, report.Count(len(a.view.News.All()), "address", "addresses"))
		if a.keyMissing(ctx) != nil {
			file := "a file with a key"
			if !a.made {
				file = a.view.KeyFile
			}
			a.view.Says += " Before that " + file + " is written into the folder that is served, by which engines know who speaks."
		}
	default:
		if err := a.tell(ctx); err != nil {
			return err
		}
	}
	if err := a.program.write(a.text(func(page render.Sheet) { render.Announcement(page, a.view) }), jsonForm(a.view)); err != nil {
		return err
	}
	if len(a.view.Refused) > 0 || a.write && len(a.view.News.All()) > 0 && !a.view.Sent {
		return status(exitDeviates)
	}
	return nil
}

// compare works out what stands in the way, and what is new.
func (a *announcing) compare(ctx context.Context) error {
	state, err := a.stateFolder(a.site)
	if err != nil {
		return err
	}
	a.file = filepath.Join(state, announce.FileName)
	var kept *announce.Record
	err = identity.AsCaller(func() (err error) {
		kept, err = announce.Load(a.file)
		return err
	})
	if err != nil {
		return err
	}
	a.record = kept.For(a.site.Announce.Endpoint)
	switch {
	case a.site.Announce.Key != "":
		a.record.Key = a.site.Announce.Key
	case announce.CheckKey(a.record.Key) != nil:
		a.record.Key, a.made = announce.NewKey(), true
	}
	a.view = &report.Announcement{Site: a.site.Name, Address: a.site.Address(), Endpoint: a.record.Endpoint, Refused: report.Obstacles(a.before), Proofs: report.Proofs(a.before),
		KeyFile: announce.KeyFile(a.record.Key), Before: len(a.record.Told), Answers: []announce.Answer{}}
	a.looks = announce.Looks(a.before.Snapshot.Pages)
	before := a.record
	if a.all {
		before = &announce.Record{Told: map[string]announce.Told{}}
	}
	a.view.News = before.Since(a.looks, a.gone(ctx))
	return nil
}

// gone are those of the addresses that were told of and were not met that are gone: no more to be listed, or not there when they are asked for once more.
func (a *announcing) gone(ctx context.Context) func([]string) []string {
	return func(missing []string) (gone []string) {
		var ask []string
		for _, address := range missing {
			if slices.ContainsFunc(a.before.Snapshot.Pages, func(p facts.Page) bool { return p.Address == address }) {
				gone = append(gone, address)
			} else {
				ask = append(ask, address)
			}
		}
		answers, err := fix.Ask(ctx, a.site, a.now(), ask, a.look)
		if err != nil {
			return gone
		}
		for _, address := range ask {
			if answers[address] == http.StatusNotFound || answers[address] == http.StatusGone {
				gone = append(gone, address)
			}
		}
		return gone
	}
}

// keyMissing says why the key's file is not seen from outside, nil when it is.
func (a *announcing) keyMissing(ctx context.Context) error {
	status, body, err := fix.Fetch(ctx, a.site, a.now(), a.view.KeyFile, a.look)
	switch {
	case err != nil:
		return err
	case status != http.StatusOK:
		return fmt.Errorf("it answers %d", status)
	case string(bytes.TrimSpace(body)) != a.record.Key:
		return errors.New("it holds something else than the key")
	}
	return nil
}

// tell shows the key, and sends what is new.
func (a *announcing) tell(ctx context.Context) error {
	if err := a.showKey(ctx); err != nil {
		a.view.Says = err.Error()
		return nil
	}
	home, err := url.Parse(a.site.Address())
	if err != nil {
		return err
	}
	client := announce.Client()
	defer client.CloseIdleConnections()
	told := 0
	for _, batch := range announce.Messages(home, a.record.Key, a.view.News.All()) {
		answer := announce.Send(ctx, client, a.record.Endpoint, live.UserAgent, batch)
		a.view.Answers = append(a.view.Answers, answer)
		if answer.Took {
			told += answer.Count
			a.record.Note(batch.URLList, a.looks, a.now())
			if err := a.keepRecord(); err != nil {
				return err
			}
		}
		if answer.Stop || ctx.Err() != nil {
			break
		}
	}
	all := len(a.view.News.All())
	a.view.Sent = told == all
	a.view.Says = fmt.Sprintf("%s has been told of %s.", a.record.Endpoint, report.Count(told, "address", "addresses"))
	if !a.view.Sent {
		a.view.Says = fmt.Sprintf("%s has been told of %d of %s; the rest is told the next time.", a.record.Endpoint, told, report.Count(all, "address", "addresses"))
	}
	return nil
}

func (a *announcing) keepRecord() error {
	data, err := a.record.Encode()
	if err != nil {
		return err
	}
	if err := identity.AsCaller(func() error { return os.MkdirAll(filepath.Dir(a.file), 0o700) }); err != nil {
		return err
	}
	return writeFile("announce", a.file, func(w io.Writer) error { _, err := w.Write(data); return err })
}

// showKey has the site show the key, where it does not: its file is written into the folder that is served, as a run of fix, and asked for from outside.
func (a *announcing) showKey(ctx context.Context) error {
	missing := a.keyMissing(ctx)
	if missing == nil {
		return nil
	}
	by := fmt.Sprintf("write a file %s that holds %s into the folder that is served, and run this again", strings.TrimPrefix(a.view.KeyFile, "/"), a.record.Key)
	if err := a.keepRecord(); err != nil { // the same key the next time
		return err
	}
	w, err := fix.WishesFor(a.site, a.before, a.look, nil)
	if err != nil {
		return err
	}
	if w.Dialect == nil {
		return fmt.Errorf("nobody is told: %s is not seen from outside (%s), and the site file does not say where the site's files are; %s", a.view.KeyFile, missing, by)
	}
	w.Deviations, w.Covered, w.Pages = []facts.Deviation{{Rule: "announce.key", Severity: facts.Note, Fix: facts.Proposal{Risk: facts.Safe, Write: &facts.Line{File: strings.TrimPrefix(a.view.KeyFile, "/"), Start: a.record.Key}}}}, nil, false
	plan, err := fix.New(ctx, w)
	if err != nil {
		return err
	}
	env, closeJournal, err := a.changing(ctx, a.site, a.before, a.look)
	if err != nil {
		return err
	}
	defer closeJournal()
	env.Recheck = nil
	chosen, _, err := plan.Gate(fix.Consent{Upto: facts.Safe})
	if err != nil {
		return err
	}
	done, err := fix.Write(ctx, chosen, fix.SeenIn(a.before), env)
	if err != nil {
		return err
	}
	for _, o := range done.Outcomes {
		if o.Result != fix.Took {
			return fmt.Errorf("nobody is told: %s could not be written: %s; %s", a.view.KeyFile, o.Says, by)
		}
	}
	if len(done.Outcomes) == 0 {
		why := "from here"
		for _, c := range plan.Changes {
			if c.Cannot != "" {
				why = "(" + c.Cannot + ")"
			}
		}
		return fmt.Errorf("nobody is told: %s cannot be written %s; %s", a.view.KeyFile, why, by)
	}
	if missing = a.keyMissing(ctx); missing != nil {
		return fmt.Errorf("nobody is told: %s is written, and not seen from outside: %s; look why the web server does not give it (weltaxis undo takes it away)", a.view.KeyFile, missing)
	}
	return nil
}
