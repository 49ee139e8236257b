package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/nearest"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

// siteAmong takes the site from the front of the arguments, if it stands there.
func (p *program) siteAmong(args []string) []string {
	if len(args) == 0 || p.site != "" {
		return args
	}
	stat, err := os.Stat(args[0])
	if err == nil && stat.IsDir() {
		_, err = os.Stat(filepath.Join(args[0], site.FileName))
	}
	if err != nil {
		return args
	}
	p.site = args[0]
	return args[1:]
}

// A fixing is one run of fix.
type fixing struct {
	*program
	write, script, yes bool
	reload             bool
	reveal             bool
	forget             bool
	risk               string // as --allow says it
	allow              facts.Risk
	said               []string
	values             string
	alone              map[string]bool // the settings of which --value says something

	site   *site.Site
	before *audit.Result
	look   audit.Options
}

func (p *program) fixCommand() *cobra.Command {
	f := &fixing{program: p}
	c := p.written(p.keeping(p.comparing(p.looking(&cobra.Command{
		Use:   "fix [SITE] [RULE ...]",
		Short: "Shows what would put the deviations right, and with --write does it",
		Long: `Shows the changes that would put the deviations right, or those of the rules, areas, severities or settings that
are named: each in its place, with what it can break. Nothing is written without --write.

With --write the safe changes are made; --allow visible makes those that visitors or search engines notice as well.
Disruptive ones, which can lock somebody out or break the site, are made only with --allow disruptive, when they are
named one by one, and after a yes, on the terminal or with --yes.

Before each write the old value is read again; after it the site is looked at again. What makes the home page stop
answering is taken back at once; at the end up to twelve addresses are asked again, with GET, and what stopped answering
is brought back by taking changes back, unless that was what was asked for, as a maintenance notice is. weltaxis undo
takes a run back; weltaxis history lists what was done.

What --value says is for the setting that it names: no other is changed, but what is named besides. It is held against what the
setting takes and against the rules, and what is more than safe needs --allow.

The site is the first argument when that is a site file or its folder, else the one of --site, or of the folder one is
in.

What servers and the language runtime are told is changed in their own files, tested by the server in a private copy,
and counts when the server reads it: --reload has it do so and looks at the site then. Addresses that were lost since
--previous lead where --value lead.OLD=NEW says.

Exit status: 0 the plan was shown, or all that was asked for was done and took · 1 something did not take · 2 wrong use`,
		RunE:    func(c *cobra.Command, args []string) error { return f.run(c.Context(), p.siteAmong(args)) },
		Example: "  weltaxis fix mysite\n  weltaxis fix mysite --write\n  weltaxis fix mysite titles --write --allow visible --value site.title=\"Lantern Lane\"\n  weltaxis undo mysite",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return append(judgedNames(), facts.Names(facts.Settings)...), cobra.ShellCompDirectiveDefault
		},
	}))), "text", "json")
	flags := c.Flags()
	flags.BoolVar(&f.write, "write", false, "make the changes")
	flags.StringVar(&f.risk, "allow", facts.Safe.String(), "make changes up to this risk: safe, visible or disruptive")
	flags.StringArrayVar(&f.said, "value", nil, "a value that only a person can say, as NAME=VALUE; page.NAME.title=VALUE for a page's own")
	flags.StringVar(&f.values, "values", "", "a file of values that settings --export wrote")
	flags.BoolVar(&f.reveal, "reveal", false, "show what looks like a secret in the changes, on a terminal only")
	flags.BoolVar(&f.script, "script", false, "print the changes as a script with its undo, for somebody with more rights")
	complete(c, "allow", facts.RiskWords()...)
	_ = c.MarkFlagFilename("values", "yaml", "yml")
	flags.BoolVar(&f.reload, "reload", false, "have servers read again what they are told, after all is written, and look at the site then")
	flags.BoolVar(&f.forget, "no-keep", false, "keep nothing of the audits before and after, and of what was done, but what undo needs")
	flags.BoolVar(&f.yes, "yes", false, "answer yes to what disruptive changes ask")
	return c
}

func (f *fixing) run(ctx context.Context, names []string) error {
	if err := f.allow.UnmarshalText([]byte(f.risk)); err != nil || f.risk == "" {
		return fmt.Errorf("--allow: there is no risk %q%s; there are %s", f.risk, nearest.Hint(f.risk, facts.RiskWords()), strings.Join(facts.RiskWords(), ", "))
	}
	f.revealed = f.reveal
	if f.reveal && (!atTerminal(f.out) || f.output != "" || f.script || f.format != "text") {
		return errors.New("--reveal shows secrets on a terminal only, as text")
	}
	name, err := f.siteArgument(nil)
	if err != nil {
		return err
	}
	if f.site, err = f.load(name); err != nil {
		return err
	}
	values, err := f.valuesSaid()
	if err != nil {
		return err
	}
	if f.look, err = f.comparedOptions(); err != nil {
		return err
	}
	f.look.Answered = f.answered(ctx, f.site)
	f.since(ctx, f.site, &f.look)
	if f.before, err = audit.Run(ctx, f.site, f.now(), f.look); err != nil {
		return err
	}
	names = present(f.before.Rules, names)
	for _, key := range slices.Sorted(maps.Keys(f.alone)) { // what is said of some settings is for those, and what is named besides
		if !slices.Contains(names, key) {
			names = append(names, key)
		}
	}
	plan, err := f.plan(ctx, values, names)
	if err != nil {
		return err
	}
	if f.write && !f.script && f.terminal() {
		if asked, err := f.askValues(plan, values); err != nil {
			return err
		} else if asked {
			if plan, err = f.plan(ctx, values, names); err != nil {
				return err
			}
		}
	}
	switch {
	case f.script:
		f.format = "sh"
		chosen, rest, err := plan.Gate(fix.Consent{Upto: f.allow, Names: names}) // whoever runs it says yes by that
		if err != nil {
			return err
		}
		script, err := plan.Script(f.site.Name, f.rootForScript(), chosen, rest)
		if err != nil {
			return err
		}
		return f.program.write(form{"sh", func(w io.Writer) error {
			_, err := io.WriteString(w, script)
			return err
		}})
	case !f.write:
		return f.program.write(f.text(func(page render.Sheet) { render.Plan(page, f.site.Name, plan, f.allow) }), jsonForm(plan.Changes))
	}
	return f.make(ctx, plan, names)
}

func (f *fixing) rootForScript() string {
	if set := f.site.Sources.Settings; set != nil {
		return f.site.Resolve(set.Root)
	}
	if tree := f.site.Sources.Files; tree != nil {
		return f.site.Resolve(tree.Root)
	}
	return f.site.Dir
}

// valuesSaid are those of --values, and over them those of --value.
func (f *fixing) valuesSaid() (map[string]string, error) {
	values := map[string]string{}
	f.alone = map[string]bool{}
	if f.values != "" {
		var err error
		if values, err = site.LoadValues(f.values); err != nil {
			return nil, fmt.Errorf("--values: %w", err)
		}
	}
	for _, text := range f.said {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, fmt.Errorf("--value: %q is not NAME=VALUE", text)
		}
		now, changed := facts.PresentSetting(name)
		if changed {
			slog.Warn(facts.Renamed(name, now))
		}
		values[now], f.alone[now] = value, true
	}
	return values, nil
}

// plan works out the plan, narrowed to what was named.
func (f *fixing) plan(ctx context.Context, values map[string]string, names []string) (*fix.Plan, error) {
	w, err := fix.WishesFor(f.site, f.before, f.look, values)
	if err != nil {
		return nil, err
	}
	w.Reveal, w.Reload = f.reveal, f.reload
	plan, err := fix.New(ctx, w)
	if err != nil {
		return nil, err
	}
	unknown := plan.Named(names)
	for _, key := range slices.Sorted(maps.Keys(f.alone)) {
		if !slices.ContainsFunc(plan.Changes, func(c fix.Change) bool { return c.Key == key }) {
			plan.Already = append(plan.Already, key+" is "+values[key]+" already")
		}
	}
	if unknown = slices.DeleteFunc(unknown, func(name string) bool { return f.alone[name] }); len(unknown) > 0 { // what is so already changes nothing
		return nil, fmt.Errorf("nothing that deviates is called %s; weltaxis audit lists what does", strings.Join(unknown, ", "))
	}
	return plan, nil
}

// terminal tells whether a person can be asked.
func (f *fixing) terminal() bool {
	file, is := f.in.(*os.File)
	return is && term.IsTerminal(file.Fd()) && !f.quiet
}

// askValues asks for what only a person can say.
func (f *fixing) askValues(plan *fix.Plan, values map[string]string) (asked bool, err error) {
	f.meter.hide()
	answers := bufio.NewScanner(f.in)
	for _, c := range plan.Changes {
		if c.Needs == "" || c.Key == "" {
			continue
		}
		fmt.Fprintf(f.err, "%s\n  is %q; %s\n  new value (nothing leaves it): ", c.Key, render.Safe(c.From.String()), render.Safe(c.Needs))
		if !answers.Scan() {
			return asked, answers.Err()
		}
		if text := strings.TrimSpace(answers.Text()); text != "" {
			values[c.Key], asked = text, true
		}
	}
	return asked, nil
}

// confirm asks for a yes to a disruptive change.
func (f *fixing) confirm(c fix.Change) error {
	if f.yes {
		return nil
	}
	if !f.terminal() {
		return fmt.Errorf("%s is disruptive (%s); add --yes if it is to be made", render.Safe(c.Title()), c.Because)
	}
	f.meter.hide()
	fmt.Fprintf(f.err, "%s: %s becomes %s.\n  Take care: %s.\n  Type yes to make it: ", render.Safe(c.Title()), render.Safe(c.From.String()), render.Safe(c.To.String()), render.Safe(c.Because))
	answer := bufio.NewScanner(f.in)
	if !answer.Scan() || strings.TrimSpace(answer.Text()) != "yes" {
		return fmt.Errorf("%s was not confirmed", render.Safe(c.Title()))
	}
	return nil
}

func (f *fixing) make(ctx context.Context, plan *fix.Plan, names []string) error {
	for _, c := range plan.Changes {
		if f.alone[c.Key] && c.Makeable() && c.Risk > f.allow {
			return fmt.Errorf("nothing was written: %s is %s (%s); add --allow %s", render.Safe(c.Key), c.Risk, render.Safe(c.Because), c.Risk)
		}
	}
	chosen, rest, err := plan.Gate(fix.Consent{Upto: f.allow, Names: names, Yes: f.confirm})
	if err != nil {
		return err
	}
	done := &fix.Report{Outcomes: []fix.Outcome{}, New: []string{}, Left: []string{}}
	if len(chosen) > 0 {
		env, closeJournal, err := f.changing(ctx, f.site, f.before, f.look)
		if err != nil {
			return err
		}
		defer closeJournal()
		if done, err = fix.Write(ctx, chosen, fix.SeenIn(f.before), env); err != nil {
			return err
		}
	}
	if done.Run != "" {
		f.keepRun(context.WithoutCancel(ctx), plan, done, rest)
	}
	if err := f.program.write(f.text(func(page render.Sheet) { render.Outcome(page, f.site.Name, done, rest) }), jsonForm(done)); err != nil {
		return err
	}
	for _, o := range done.Outcomes {
		if o.Result != fix.Took {
			return status(exitDeviates)
		}
	}
	return nil
}

func (p *program) undoCommand() *cobra.Command {
	var since string
	c := p.written(p.keeping(p.sited(&cobra.Command{
		Use:   "undo [SITE] [CHANGE]",
		Short: "Takes changes back: those of the last run, one, or all since a day",
		Long: `Takes changes back, the newest first: those of the last run of fix; one, by its number in weltaxis history; or with
--since all since a day or time. What somebody has changed meanwhile is left as it is, and said. What an emptied cache
held comes back when all that visitors see of its run does; the site is looked at again, and what deviates now and did
not before the run is said.

Exit status: 0 all is as it was · 1 something is not, or deviates that did not · 2 wrong use

The site is the first argument when that is a site file or its folder, else the one of --site, or of the folder one is
in.`,
		Args: takes(0, 2),
		RunE: func(c *cobra.Command, args []string) error {
			choice, err := undoChoice(p.siteAmong(args), since)
			if err != nil {
				return err
			}
			name, err := p.siteArgument(nil)
			if err != nil {
				return err
			}
			s, err := p.load(name)
			if err != nil {
				return err
			}
			state, err := p.stateFolder(s)
			if err != nil {
				return err
			}
			env, closeJournal, err := p.changing(c.Context(), s, nil, p.options())
			if err != nil {
				return err
			}
			defer closeJournal()
			records, err := fix.ReadJournal(state)
			if err != nil {
				return err
			}
			chosen := fix.Chosen(records, choice)
			if len(chosen) == 0 {
				return errors.New("there is nothing to take back; weltaxis history lists what was done")
			}
			undone := fix.Undo(c.Context(), chosen, env)
			if p.movedFrom != "" {
				undone.Says = strings.TrimSpace("It was changed when the site lay at " + filepath.Dir(p.movedFrom) + ". " + undone.Says)
			}
			p.reopened(s, chosen)
			if err := p.write(p.text(func(page render.Sheet) { render.Undone(page, s.Name, undone) }), jsonForm(undone)); err != nil {
				return err
			}
			if len(undone.New) > 0 || slices.ContainsFunc(undone.Changes, func(u fix.Undoing) bool { return !u.Back }) {
				return status(exitDeviates)
			}
			return nil
		},
		Example: "  weltaxis undo mysite\n  weltaxis undo mysite 12\n  weltaxis undo mysite --since 2026-11-23", ValidArgsFunction: completeSites,
	})), "text", "json")
	c.Flags().BoolVar(&p.offline, "offline", false, "let no request leave")
	c.Flags().StringVar(&since, "since", "", "a day or time, as 2026-11-23 or 2026-11-23T10:00:00Z")
	return c
}

func undoChoice(args []string, since string) (fix.Choice, error) {
	var choice fix.Choice
	switch {
	case len(args) > 1:
		return choice, fmt.Errorf("%q is no site file, and no folder that holds one", args[0])
	case len(args) == 1 && since != "":
		return choice, errors.New("say either a change or --since")
	case len(args) == 1:
		n, err := strconv.Atoi(args[0])
		if err != nil || n < 1 {
			return choice, fmt.Errorf("%q is no number of a change; weltaxis history lists them", args[0])
		}
		choice.ID = n
	case since != "":
		at, err := facts.Date.Parse(since)
		if err != nil {
			return choice, fmt.Errorf("--since: %w", err)
		}
		choice.Since = time.Unix(at.Number(), 0)
	}
	return choice, nil
}

// keepRun keeps what a run found, changed and left, with the audits before and after it. A run that cannot be kept was made all the same.
func (f *fixing) keepRun(ctx context.Context, plan *fix.Plan, made *fix.Report, rest []fix.Change) {
	if f.forget {
		return
	}
	work := report.WorkOf(f.site.Name, f.before, made, rest, plan.Discern, f.now())
	for _, look := range []struct {
		result *audit.Result
		into   *int64
	}{{f.before, &work.Before}, {made.After, &work.After}} {
		if look.result == nil {
			continue
		}
		news, note := f.keep(ctx, f.site, look.result, made.Run, false)
		if news == nil {
			slog.Warn("the audits of this run", "kept", note)
			return
		}
		*look.into = news.Audit
	}
	if err := f.keepWork(ctx, work); err != nil {
		slog.Warn("what this run did could not be kept for history show", "error", err)
	}
}

func (f *fixing) keepWork(ctx context.Context, work *report.Work) error {
	dir, err := f.historyFolder()
	if err != nil {
		return err
	}
	data, err := json.Marshal(work)
	if err != nil {
		return err
	}
	store, _, err := history.Make(ctx, dir)
	if err != nil {
		return err
	}
	defer store.Close()
	return store.KeepRun(ctx, historyOf(f.site), work.Run, work.At, data)
}
