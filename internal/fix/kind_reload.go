package fix

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"

	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
	"weltaxis/internal/store"
)

// What servers have been told counts when they read it again. That is done only when it was asked for, after all that is written, and
// again after it is taken back.
var reloadRow = row{
	rank:   always(91),
	title:  func(name, _ string, _ *facts.Likeness) string { return name + ", told to read its configuration again" },
	ready:  func(Change) bool { return true },
	show:   func(_ *Plan, c Change) Shown { return Shown{To: shownCommand(c.args)} },
	apply:  applyReload,
	revert: revertReload,
	script: func(_ *Plan, c Change) (do, undo []string) {
		line := shellescape.QuoteCommand(c.args)
		if shownCommand(c.args) != line {
			line = "# " + oneLine(c.Name) + " is to read its configuration again, by the command of the site file, which may hold a secret: " + oneLine(shownCommand(c.args))
		}
		return []string{line}, []string{line}
	},
	still:    notTook,
	payload:  func(b before) bool { return b.Call != "" }, // the program; its words may be secret, and what a journal says is not started
	finisher: true,
}

// A Loader has something read its configuration again.
type Loader struct {
	Name    string   // nginx, Apache, PHP-FPM
	Command []string // nil when nobody knows it
	Why     string   // why it is not to be told from here; "" when it may be, or nobody knows how
	Files   func(file string) bool
}

// finishTold adds the reading again, where something is told that a server reads only then.
func (p *planning) finishTold() {
	for _, l := range p.Loaders {
		var reads []string
		for _, c := range p.plan.Changes {
			if rows[c.Kind].told && c.Makeable() {
				reads = append(reads, slices.DeleteFunc(c.files(), func(name string) bool { return !l.Files(name) })...)
			}
		}
		if len(reads) == 0 {
			continue
		}
		if p.plan.loaders = append(p.plan.loaders, l); !p.Reload {
			continue
		}
		c := Change{Kind: Reload, Name: l.Name, Rules: []string{}, Risk: facts.Visible, Group: toldTogether, Because: "what is wrong in it shows only now; the site is looked at afterwards", args: l.Command, reads: reads, To: facts.TextOf(facts.String, shownCommand(l.Command))}
		if l.Command == nil {
			c.cannot(errors.New(cmp.Or(l.Why, "nobody knows how") + "; say it in the site file, as reload: [COMMAND, ARGUMENT, ...]"))
		}
		at := slices.IndexFunc(p.plan.Changes, Change.ForPerson)
		if at < 0 {
			at = len(p.plan.Changes)
		}
		p.plan.Changes = slices.Insert(p.plan.Changes, at, c)
	}
}

// Unloaded are the servers that have to read their configuration again before what is planned counts, when nobody asked for that.
func (p *Plan) Unloaded() (names []string) {
	for _, l := range p.loaders {
		asked := slices.ContainsFunc(p.Changes, func(c Change) bool { return c.Kind == Reload && c.Name == l.Name })
		told := slices.ContainsFunc(p.Changes, func(c Change) bool {
			return rows[c.Kind].told && c.Makeable() && slices.ContainsFunc(c.files(), l.Files)
		})
		if told && !asked {
			names = append(names, l.Name)
		}
	}
	return names
}

// files are those that a change is of.
func (c Change) files() []string { return filesOf(c.Edits) }

func filesOf(edits []store.Edit) (names []string) {
	for _, e := range edits {
		names = append(names, e.At())
	}
	return names
}

// shownCommand is a command as a shell runs it, without the words that may be secret.
func shownCommand(args []string) string {
	words := secrets.Command(args)
	for i, word := range words {
		if !strings.Contains(word, secrets.Hidden) {
			words[i] = shellescape.Quote(word)
		}
	}
	return strings.Join(words, " ")
}

// saidBy is what a command said, without the words that it was given.
func saidBy(args []string, says string) string {
	for i, shown := range secrets.Command(args) {
		if shown != args[i] && len(args[i]) >= 4 {
			says = strings.ReplaceAll(says, args[i], secrets.Hidden)
		}
	}
	return prefixed(": ", secrets.Shown(says))
}

func applyReload(ctx context.Context, e *Env, c Change) Outcome {
	out := Outcome{Change: c}
	if e.Run == nil {
		return out.failed(errors.New("no program is started from here"))
	}
	record := c.logLine()
	out = e.journalled(out, record, before{Call: c.args[0], Reads: c.reads}, func(int) error {
		if says, err := e.Run(ctx, c.args); err != nil {
			return fmt.Errorf("%s: %w%s", shownCommand(c.args), err, saidBy(c.args, says))
		}
		return nil
	})
	if out.Result == Took {
		e.loaded = append(e.loaded, c)
	}
	return out
}

func prefixed(prefix, text string) string {
	if text == "" {
		return ""
	}
	return prefix + text
}

// revertReload has it read again what is there now, by the command that is known today: what a journal says is not started.
func revertReload(ctx context.Context, e *Env, b before) (string, error) {
	var known []Loader
	if e.Run != nil && e.Loaders != nil {
		known = e.Loaders()
	}
	i := slices.IndexFunc(known, func(l Loader) bool { return l.Name == b.of.Name && l.Command != nil })
	if i < 0 {
		return "", errors.New("nobody here knows how it is told now, so what was taken back counts only when the server reads it")
	}
	says, err := e.Run(ctx, known[i].Command)
	if err != nil {
		return "", fmt.Errorf("%w%s; what was taken back counts only when the server reads it", err, prefixed(": ", says))
	}
	return "", nil
}

// loadAgain has servers that have been told to read what is taken back now, read again.
func (e *Env) loadAgain(ctx context.Context) error {
	var failed error
	for _, l := range e.loaded {
		if says, err := e.Run(ctx, l.args); err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w%s", shownCommand(l.args), err, saidBy(l.args, says)))
		}
	}
	return failed
}
