package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/password"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

// A shutting is one run of maintenance or lock.
type shutting struct {
	fixing
	lock     bool
	until    string
	message  string
	name     string
	password string // the file that holds it
	server   bool
	how      fix.Shutting
	made     bool // the password was made here
	left     []string
}

func (p *program) maintenanceCommand() *cobra.Command {
	s := &shutting{fixing: fixing{program: p}}
	c := s.command(&cobra.Command{
		Use:   "maintenance on|off [SITE]",
		Short: "Puts the site's own notice up, or takes it down, and looks from outside whether it is so",
		Long: `Shows what would put the site's own maintenance notice up, or take it down, and with --write does it: by the switch of
the content system where its dialect names one, and else, or with --server, by lines of the web server's configuration
that answer 503 with Retry-After at every page, and leave robots.txt, certificate challenges, the sign-in page and whoever is signed in alone.

Afterwards the caches are emptied, and every kind of address is asked for as a stranger does: the home page, an inner
page, a style, a picture, the feed, the sitemap, robots.txt, the sign-in page, an address that cannot exist, what certificates
are renewed by, and the address without encryption. What is wrong is said, with the rule that says so. --until says when the site is to be back;
audits know it, and a follow-up reminds of it. It is kept as a run of fix: weltaxis undo takes it back.

Exit status: 0 it was shown, or done and is so everywhere · 1 it is not, or not everywhere · 2 wrong use`,
		Example: "  weltaxis maintenance on mysite --until 2h\n  weltaxis maintenance on mysite --until 2h --write\n  weltaxis maintenance off mysite --write",
	})
	c.Flags().StringVar(&s.until, "until", "", "when the site is to be back: 2h, 18:30, 2026-11-27, 2026-11-27T10:00 (default: in 24 hours)")
	c.Flags().StringVar(&s.message, "message", "", "what the notice says, in place of what it says now")
	return c
}

func (p *program) lockCommand() *cobra.Command {
	s := &shutting{fixing: fixing{program: p}, lock: true}
	c := s.command(&cobra.Command{
		Use:   "lock on|off [SITE]",
		Short: "Puts name and password before the whole site, or takes them away, and looks whether it is so",
		Long: `Shows what would put name and password before the whole site, or take them away, and with --write does it: by the
switch of the content system where its dialect names one, and else, or with --server, by lines of the web server's configuration. The password is
made here and shown once, unless --password-file gives one; it is kept as bcrypt does. Robots.txt and certificate challenges stay open.
What the server answers before it asks for a password, or would let in all the same, is named before, and nothing is written unless --leave-open names it.

Afterwards the caches are emptied, and every kind of address is asked for as a stranger does, on a site of one's own in other spellings
as well, and as somebody with the password. Where the web server still lets a stranger in, what was done is taken back. What does not come in any more is said: jobs that visits trigger, calls from payment services. It is kept as a run of fix: weltaxis undo takes
it back.

Exit status: 0 it was shown, or done and is so everywhere · 1 it is not, or not everywhere · 2 wrong use`,
		Example: "  weltaxis lock on mysite\n  weltaxis lock on mysite --name visitors --write\n  weltaxis lock off mysite --write",
	})
	c.Flags().StringVar(&s.name, "name", "preview", "the name that is asked for")
	c.Flags().StringVar(&s.password, "password-file", "", "a file whose first line is the password; - for standard input")
	_ = c.MarkFlagFilename("password-file")
	return c
}

// command gives a command what both have.
func (s *shutting) command(c *cobra.Command) *cobra.Command {
	p := s.program
	c.Args = takes(1, 2)
	c.ValidArgs = []string{"on", "off"}
	c.RunE = func(c *cobra.Command, args []string) error { return s.run(c.Context(), args) }
	p.written(p.keeping(p.sited(c)), "text", "json")
	flags := c.Flags()
	flags.BoolVar(&s.write, "write", false, "do it")
	flags.BoolVar(&s.server, "server", false, "by the web server, whatever switch the content system has")
	flags.StringVar(&s.risk, "allow", facts.Visible.String(), "disruptive makes what the web server's own test can tell nothing of")
	complete(c, "allow", facts.RiskWords()...)
	flags.StringArrayVar(&s.left, "leave-open", nil, "leave this place open, by the name that is said where it cannot be closed; may be repeated")
	flags.BoolVar(&s.reload, "reload", false, "have servers read again what they are told, and look at the site then")
	flags.BoolVar(&p.offline, "offline", false, "let no request leave: nobody looks whether it is so")
	flags.BoolVar(&s.forget, "no-keep", false, "keep nothing of the audits before and after, and of what was done, but what undo needs")
	return c
}

func (s *shutting) run(ctx context.Context, args []string) error {
	switch args[0] {
	case "on":
	case "off":
		s.how.Open = true
	default:
		return fmt.Errorf("%q is neither on nor off%s", args[0], nearest.Hint(args[0], []string{"on", "off"}))
	}
	if err := s.allow.UnmarshalText([]byte(s.risk)); err != nil || s.risk == "" {
		return fmt.Errorf("--allow: there is no risk %q%s; there are %s", s.risk, nearest.Hint(s.risk, facts.RiskWords()), strings.Join(facts.RiskWords(), ", "))
	}
	name, err := s.siteArgument(args[1:])
	if err != nil {
		return err
	}
	if s.site, err = s.load(name); err != nil {
		return err
	}
	if err := s.wanted(); err != nil {
		return err
	}
	if s.look, err = s.comparedOptions(); err != nil {
		return err
	}
	s.look.Answered = s.answered(ctx, s.site)
	s.look.Doors = true
	s.since(ctx, s.site, &s.look)
	s.remembering(ctx)
	if s.before, err = audit.Run(ctx, s.site, s.now(), s.look); err != nil {
		return err
	}
	if len(s.before.Snapshot.Pages) > 1 {
		s.look.Seen = s.before.Snapshot
	}
	if s.how.Open {
		return s.open(ctx)
	}
	return s.shut(ctx)
}

// remembering lets the look know where the site had pages, styles and a feed when it was open.
func (s *shutting) remembering(ctx context.Context) {
	store, err := s.reading(ctx)
	if err != nil {
		return
	}
	defer store.Close()
	audits, err := store.List(ctx, historyOf(s.site))
	for back := 1; err == nil && back <= min(maxLooksBack, len(audits)); back++ {
		if kept, broken := store.Load(ctx, audits[len(audits)-back]); broken == nil && len(kept.Snapshot.Pages) > 1 {
			s.look.Seen = kept.Snapshot
			return
		}
	}
}

// wanted reads what was said of how it is to be closed.
func (s *shutting) wanted() (err error) {
	s.how.Lock, s.how.Server, s.how.Message, s.how.Left = s.lock, s.server, s.message, s.left
	if s.lock {
		return s.credentials()
	}
	s.how.Until = s.now().Add(24 * time.Hour)
	if s.until != "" {
		s.how.Until, err = untilSaid(s.until, s.now())
	}
	return err
}

// untilSaid is when something is to end: after a time, at an hour, or on a day.
func untilSaid(text string, now time.Time) (time.Time, error) {
	if span, err := time.ParseDuration(strings.TrimPrefix(text, "+")); err == nil && span > 0 {
		return now.Add(span), nil
	}
	for _, layout := range []string{"15:04", "2006-01-02", "2006-01-02T15:04", "2006-01-02 15:04", time.RFC3339} {
		at, err := time.ParseInLocation(layout, text, now.Location())
		if err != nil {
			continue
		}
		if layout == "15:04" {
			at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
			if !at.After(now) {
				at = at.AddDate(0, 0, 1)
			}
		}
		if !at.After(now) {
			return at, fmt.Errorf("--until: %s is past", text)
		}
		return at, nil
	}
	return now, fmt.Errorf("--until: %q is no time; write it as 2h, 18:30, 2026-11-27 or 2026-11-27T10:00", text)
}

// mostOfBcrypt is how many bytes of a password bcrypt takes.
const mostOfBcrypt = 72

// credentials are the name and the password of the lock: given, or made.
func (s *shutting) credentials() error {
	if s.how.Name = s.name; s.name == "" || strings.ContainsAny(s.name, ":\r\n") {
		return fmt.Errorf("--name: %q cannot be the name of a lock: it is not empty, and has no colon (RFC 7617 §2)", s.name)
	}
	if s.password == "" {
		s.how.Password, s.made = rand.Text(), true
		return nil
	}
	var data []byte
	var err error
	if s.password == "-" {
		data, err = io.ReadAll(io.LimitReader(s.in, 4096))
	} else {
		data, err = orders.ReadNamed(s.password, 4096)
	}
	if err != nil {
		return fmt.Errorf("--password-file: %w", err)
	}
	first, _, _ := strings.Cut(string(data), "\n")
	s.how.Password = strings.TrimRight(first, "\r")
	if why := password.Weak(s.how.Password, s.name, s.site.Name, s.site.Address(), s.site.Said("brand")); why != "" {
		return fmt.Errorf("--password-file: its first line would be guessed: %s; take another, or leave the option out and have one made", why)
	}
	if len(s.how.Password) > mostOfBcrypt {
		return fmt.Errorf("--password-file: its first line has %d bytes, and of a password %d count", len(s.how.Password), mostOfBcrypt)
	}
	return nil
}

// shut closes the site, or locks it.
func (s *shutting) shut(ctx context.Context) error {
	plan, err := s.planned(ctx)
	if err != nil {
		return err
	}
	if !s.write {
		return s.shown(plan)
	}
	if s.lock {
		s.look.User = s.how.Name + ":" + s.how.Password
	} else {
		s.look.Announced = s.how.Until
	}
	done, rest, err := s.makeAll(ctx, plan)
	if err != nil {
		return err
	}
	took := slices.ContainsFunc(done.Outcomes, func(o fix.Outcome) bool {
		return !o.Finisher() && o.Record > 0 && o.Result != fix.Broke && o.Result != fix.Trouble
	})
	already := len(done.Outcomes) == 0 && len(rest) == 0
	if (took || already) && !s.lock {
		if err := s.announce(done.Run); err != nil {
			return err
		}
	}
	if already && !s.lock {
		if done.After, err = audit.Run(ctx, s.site, s.now(), s.look); err != nil {
			return err
		}
	}
	view := report.ShutOf(s.site.Name, s.lock, false, done, rest)
	if s.reload && done.After != nil && (!view.Took || view.Worst()) {
		if later, err := s.aLittleLater(ctx); err == nil {
			done.After = later
			view = report.ShutOf(s.site.Name, s.lock, false, done, rest)
		}
	}
	if view.Took && done.After != nil && byServer(done) {
		if open := report.OpenOf(done.After, s.lock, s.left); len(open) > 0 {
			return s.notWhole(ctx, done, open)
		}
	}
	return s.told(done, rest)
}

// byServer tells whether the web server was told it, which stands before every address or before none.
func byServer(done *fix.Report) bool {
	return slices.ContainsFunc(done.Outcomes, func(o fix.Outcome) bool { return o.Kind == fix.Server && o.Result == fix.Took })
}

// notWhole takes back what does not close every address, and says which were open.
func (s *shutting) notWhole(ctx context.Context, done *fix.Report, open []string) error {
	state, err := s.stateFolder(s.site)
	if err != nil {
		return err
	}
	records, err := fix.ReadJournal(state)
	if err != nil {
		return err
	}
	back, err := s.takeBack(ctx, fix.Standing(records, s.lock))
	if err != nil {
		return err
	}
	s.forgetAnnounced()
	view := report.ShutOf(s.site.Name, s.lock, true, &fix.Report{Outcomes: []fix.Outcome{}}, nil)
	view.Gaps, view.Doors, view.Wrong = open, nil, nil
	view.Doors, _ = report.DoorsOf(done.After, s.lock, false)
	for _, u := range back {
		view.Back = append(view.Back, backSays(u))
	}
	if err := s.program.write(s.text(func(page render.Sheet) { render.Shut(page, view, &fix.Report{}, nil) }), jsonForm(view)); err != nil {
		return err
	}
	return status(exitDeviates)
}

func backSays(u fix.Undoing) string {
	return u.Title() + ": " + map[bool]string{true: "taken back", false: "not taken back"}[u.Back] + strings.TrimSuffix(", "+u.Says, ", ")
}

// planned is the plan of closing the site or opening it.
func (s *shutting) planned(ctx context.Context) (*fix.Plan, error) {
	w, err := fix.WishesFor(s.site, s.before, s.look, nil)
	if err != nil {
		return nil, err
	}
	w.Reload = s.reload
	if w.Dialect != nil {
		s.how.Cookie = w.Dialect.CookieName()
	}
	if err := s.how.Into(&w, s.site, s.before.Snapshot); err != nil {
		return nil, err
	}
	w.Pages = true // what caches keep is emptied, whatever the settings say of them
	plan, err := fix.New(ctx, w)
	if err != nil {
		return nil, err
	}
	for i := range plan.Changes {
		c := &plan.Changes[i]
		if c.Untested != "" && s.allow != facts.Disruptive {
			c.Cannot = fmt.Sprintf("the web server's own test can tell nothing of it, so nobody knows before whether the server takes it (%s); --allow disruptive makes it all the same", c.Untested)
		}
		if at := slices.IndexFunc(c.Also, func(address string) bool { return strings.HasPrefix(address, "http://") }); s.lock && at >= 0 {
			c.Cannot = fmt.Sprintf("at %s the password would be asked for without encryption; have it lead to the encrypted address before: weltaxis fix hardening.https", c.Also[at])
		}
		if plain := s.unencrypted(); s.lock && !s.how.Open && c.Kind == fix.Server && plain != "" && !slices.Contains(s.left, plain) {
			c.Cannot = fmt.Sprintf("pages come over %s as well, where nobody would be asked, or without encryption; have it lead to the encrypted address before: weltaxis fix hardening.https, or say --leave-open %s", plain, plain)
		}
	}
	return plan, nil
}

// unencrypted is the address of the site without encryption, where pages were seen to come from there; "" for none.
func (s *shutting) unencrypted() string {
	home, err := url.Parse(s.site.Address())
	leads, known := s.before.Snapshot.Is(facts.LiveEncrypts.Term)
	if err != nil || home.Scheme != "https" || !known || leads.Bool() {
		return ""
	}
	return "http://" + home.Host
}

func (s *shutting) shown(plan *fix.Plan) error {
	view := &report.Shut{Site: s.site.Name, Lock: s.lock, Open: s.how.Open, Until: s.how.Until}
	return s.program.write(s.text(func(page render.Sheet) { render.ShutPlan(page, view, plan) }), jsonForm(plan.Changes))
}

// makeAll makes all that is planned: the command is the consent.
func (s *shutting) makeAll(ctx context.Context, plan *fix.Plan) (done *fix.Report, rest []fix.Change, err error) {
	var chosen []fix.Change
	for _, c := range plan.Changes {
		if c.Makeable() {
			chosen = append(chosen, c)
		} else {
			rest = append(rest, c)
		}
	}
	if !slices.ContainsFunc(chosen, func(c fix.Change) bool { return !c.Finisher() }) {
		return &fix.Report{Outcomes: []fix.Outcome{}, New: []string{}, Left: []string{}}, rest, nil
	}
	env, closeJournal, err := s.changing(ctx, s.site, s.before, s.look)
	if err != nil {
		return nil, nil, err
	}
	defer closeJournal()
	if done, err = fix.Write(ctx, chosen, fix.SeenIn(s.before), env); err == nil && done.Run != "" {
		s.keepRun(context.WithoutCancel(ctx), plan, done, rest)
	}
	return done, rest, err
}

// told says what came of it, and what a stranger gets now.
func (s *shutting) told(done *fix.Report, rest []fix.Change) error {
	view := report.ShutOf(s.site.Name, s.lock, s.how.Open, done, rest)
	view.Until = s.how.Until
	if s.made && view.Took && !s.how.Open {
		view.Name, view.Password = s.how.Name, s.how.Password
	}
	if err := s.program.write(s.text(func(page render.Sheet) { render.Shut(page, view, done, rest) }), jsonForm(view)); err != nil {
		return err
	}
	if !view.Took || view.Worst() || slices.ContainsFunc(done.Outcomes, func(o fix.Outcome) bool { return o.Result != fix.Took }) {
		return status(exitDeviates)
	}
	return nil
}

// open takes the notice or the lock away: what the web server was told by a run of this program is taken back, and the content system's own switch
// is turned.
func (s *shutting) open(ctx context.Context) error {
	state, err := s.stateFolder(s.site)
	if err != nil {
		return err
	}
	records, err := fix.ReadJournal(state)
	if err != nil {
		return err
	}
	standing := fix.Standing(records, s.lock)
	plan, err := s.planned(ctx)
	if errors.Is(err, fix.ErrByServer) || errors.Is(err, fix.ErrNoWay) && len(standing) > 0 {
		plan, err = &fix.Plan{Discern: func(text string) string { return text }}, nil
	}
	if err != nil {
		return err
	}
	onlyFinishers := !slices.ContainsFunc(plan.Changes, func(c fix.Change) bool { return !c.Finisher() })
	if len(standing) == 0 && onlyFinishers {
		view := report.ShutOf(s.site.Name, s.lock, true, nil, nil)
		view.Doors, view.Wrong = report.DoorsOf(s.before, s.lock, true)
		if err := s.program.write(s.text(func(page render.Sheet) { render.Shut(page, view, nil, nil) }), jsonForm(view)); err != nil {
			return err
		}
		if view.Worst() {
			return status(exitDeviates)
		}
		return nil
	}
	if !s.write {
		view := &report.Shut{Site: s.site.Name, Lock: s.lock, Open: true}
		for _, r := range standing {
			view.Back = append(view.Back, r.Title())
		}
		return s.program.write(s.text(func(page render.Sheet) { render.ShutPlan(page, view, plan) }), jsonForm(plan.Changes))
	}
	s.look.Announced = time.Time{}
	var back []fix.Undoing
	if len(standing) > 0 {
		undone, err := s.takeBack(ctx, standing)
		if err != nil {
			return err
		}
		back = undone
	}
	done, rest := &fix.Report{Outcomes: []fix.Outcome{}, New: []string{}, Left: []string{}}, []fix.Change(nil)
	if !onlyFinishers {
		if done, rest, err = s.makeAll(ctx, plan); err != nil {
			return err
		}
	}
	if done.After == nil {
		if done.After, err = s.lookAgain(ctx, back); err != nil {
			return err
		}
	}
	s.forgetAnnounced()
	return s.toldBack(done, rest, back)
}

// settles is how long a server that was told to read its configuration again may go on by the one before.
const settles = 2 * time.Second

// lookAgain looks at the site, and once more a little later where a server may not have read yet what it was told.
func (s *shutting) lookAgain(ctx context.Context, back []fix.Undoing) (*audit.Result, error) {
	r, err := audit.Run(ctx, s.site, s.now(), s.look)
	if err != nil || !slices.ContainsFunc(back, func(u fix.Undoing) bool { return u.Back }) || !report.ShutOf("", s.lock, true, &fix.Report{After: r}, nil).Worst() {
		return r, err
	}
	return s.aLittleLater(ctx)
}

// aLittleLater looks when a server has had time to read what it was told.
func (s *shutting) aLittleLater(ctx context.Context) (*audit.Result, error) {
	select {
	case <-ctx.Done():
	case <-time.After(settles):
	}
	return audit.Run(ctx, s.site, s.now(), s.look)
}

func (s *shutting) takeBack(ctx context.Context, standing []fix.LogLine) ([]fix.Undoing, error) {
	env, closeJournal, err := s.changing(ctx, s.site, nil, s.look)
	if err != nil {
		return nil, err
	}
	defer closeJournal()
	env.Recheck = nil // it is looked at once, when all is done
	return fix.Undo(ctx, standing, env).Changes, nil
}

// toldBack says what came of taking back, besides what was done.
func (s *shutting) toldBack(done *fix.Report, rest []fix.Change, back []fix.Undoing) error {
	view := report.ShutOf(s.site.Name, s.lock, true, done, rest)
	stays := false
	for _, u := range back {
		view.Back = append(view.Back, backSays(u))
		stays = stays || !u.Back
	}
	if err := s.program.write(s.text(func(page render.Sheet) { render.Shut(page, view, done, rest) }), jsonForm(view)); err != nil {
		return err
	}
	if stays || view.Worst() || slices.ContainsFunc(done.Outcomes, func(o fix.Outcome) bool { return o.Result != fix.Took }) {
		return status(exitDeviates)
	}
	return nil
}

// closedFile is where it is kept until when a site is closed, beside what was changed of it.
const closedFile = "closed.json"

// An announcement is until when a site is closed, and by which run.
type announcement struct {
	Format int       `json:"format"`
	Run    string    `json:"run"`
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until"`
}

// announce keeps until when the site is closed, so that audits know it.
func (s *shutting) announce(run string) error {
	state, err := s.stateFolder(s.site)
	if err != nil {
		return err
	}
	if before, _ := s.announcement(s.site); run == "" {
		run = cmp.Or(before.Run, "none of ours")
	}
	data, err := json.Marshal(announcement{1, run, s.now().UTC().Truncate(time.Second), s.how.Until.UTC().Truncate(time.Second)})
	if err != nil {
		return err
	}
	if err := writeFile("the announcement", filepath.Join(state, closedFile), func(w io.Writer) error { _, err := w.Write(data); return err }); err != nil {
		return fmt.Errorf("the site is closed, and until when could not be kept: %w", err)
	}
	return nil
}

func (p *program) announcement(s *site.Site) (a announcement, file string) {
	state, err := p.stateFolder(s)
	if err != nil {
		return a, ""
	}
	file = filepath.Join(state, closedFile)
	data, err := readKept(file, 4096)
	if err != nil || json.Unmarshal(data, &a) != nil || a.Format != 1 {
		return announcement{}, file
	}
	return a, file
}

// announced is until when a site is closed, as was said when it was closed.
func (p *program) announced(s *site.Site) time.Time {
	if s.Path == s.Address() {
		return time.Time{}
	}
	a, _ := p.announcement(s)
	return a.Until
}

// reopened forgets that a site is closed when the run is taken back that closed it.
func (p *program) reopened(s *site.Site, undone []fix.LogLine) {
	if a, file := p.announcement(s); a.Run != "" && slices.ContainsFunc(undone, func(r fix.LogLine) bool { return r.Run == a.Run }) {
		removeKept(file)
	}
}

func (s *shutting) forgetAnnounced() {
	if a, file := s.announcement(s.site); !s.lock && a.Run != "" {
		removeKept(file)
	}
}
