// Package cli is the command line: one file a command, each turning flags into one call of the core and handing
// what comes back to package render.
//
// It computes nothing. It may import everything.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"weltaxis/internal/audit"
	"weltaxis/internal/clock"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/identity"
	"weltaxis/internal/nearest"
	"weltaxis/internal/orders"
	"weltaxis/internal/progress"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/secrets"
	"weltaxis/internal/site"
)

// The exit statuses, documented in --help.
const (
	exitFine        = 0
	exitDeviates    = 1
	exitWrong       = 2
	exitPartial     = 3
	exitInterrupted = 130 // SIGINT
	exitTerminated  = 143 // SIGTERM
)

const statusHelp = `Exit status:
  0    nothing at or above --alarm, and everything asked for was seen
  1    something deviates at or above --alarm
  2    wrong use, or a site file, baseline or dialect that cannot be used
  3    no such deviation, but something asked for could not be seen
  130  interrupted, or 143 when by SIGTERM`

// version is set when a release is built; otherwise it comes from the build's own record.
var version = ""

func versionText() string {
	if version != "" {
		return version
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	if v := info.Main.Version; v != "" && v != "(devel)" {
		return v
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 {
			return "0.1.0-dev+" + s.Value[:12]
		}
	}
	return "0.1.0-dev"
}

// A program is one run: its streams and the flags that mean the same everywhere.
type program struct {
	in       io.Reader
	out, err io.Writer

	site      string
	stage     string
	only      []string
	format    string
	output    string
	baselines []string
	quiet     bool
	offline   bool
	ignore    bool // robots.txt
	pictures  bool // those that pages are shared with are kept
	previous  string
	pages     []string // the only ones to look at
	meter     *meter
	said      bool // that the command was interrupted
	waiting   bool // for that
	log       string
	state     string   // folder of what is kept
	movedFrom string   // where the site lay when it was changed, where it was moved since
	revealed  bool     // what looks like a secret is asked for, on a terminal
	onNew     []string // the arguments of the command that --on-new names
	now       clock.Clock
}

// status is an error that only carries an exit status; what there was to say has been said.
type status int

func (s status) Error() string { return "exit status " + strconv.Itoa(int(s)) }

// Main runs one command and returns its exit status.
func Main(args []string, in io.Reader, out, err io.Writer) int {
	// A run often shares a small server with the site it looks at: memory before speed. The limit is a wish, not a
	// bound; GOMEMLIMIT overrides it.
	debug.SetGCPercent(50)
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(120 << 20)
	}
	meter := newMeter(err)
	err = &discreet{under: err}
	defer meter.hide()
	ctx, signals := catching(func(code int) {
		meter.hide()
		fmt.Fprintln(err, "weltaxis: interrupted")
		os.Exit(code)
	})
	defer signals.stop()
	now, wrong := clock.FromEnvironment()
	if wrong != nil {
		fmt.Fprintf(err, "weltaxis: %s\n", render.Safe(wrong.Error()))
		return exitWrong
	}
	p := &program{in: in, out: out, err: err, meter: meter, format: "text", now: now}
	root := p.command()
	args, p.onNew = withoutCommand(args)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(err)
	failure := root.ExecuteContext(progress.To(ctx, meter.tell))
	meter.hide()
	if code := signals.status(); code != 0 && p.waiting {
		return exitFine
	} else if code != 0 {
		if !p.said {
			fmt.Fprintln(err, "weltaxis: interrupted")
		}
		return code
	}
	var code status
	switch {
	case failure == nil:
		return exitFine
	case errors.As(failure, &code):
		return int(code)
	}
	fmt.Fprintf(err, "weltaxis: %s\n", render.Safe(failure.Error()))
	return exitWrong
}

// withoutCommand takes the arguments of the command that --on-new names from the end of those of audit: they are not this program's.
func withoutCommand(args []string) (own, command []string) {
	i := slices.IndexFunc(args, func(arg string) bool { return arg == "--on-new" || strings.HasPrefix(arg, "--on-new=") || arg == "--" })
	if i < 0 || args[i] == "--" || !slices.Contains(args[:i], "audit") {
		return args, nil
	}
	end := i + 1
	if args[i] == "--on-new" {
		end = min(i+2, len(args))
	}
	return args[:end], args[end:]
}

func (p *program) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "weltaxis",
		Short: "Audits the settings of a content-managed site against a baseline",
		Long: `Weltaxis looks at a content-managed site from every side it is shown, sets what it sees side by side,
and reports what deviates from a baseline of good practice, with fixes.

Begin with:  weltaxis demo

` + statusHelp,
		Version:       versionText(),
		SilenceErrors: true,
		SilenceUsage:  true,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("there is no command %q%s; weltaxis --help lists them", args[0], nearest.Hint(args[0], p.commandNames()))
			}
			return nil
		},
		PersistentPreRunE: func(*cobra.Command, []string) error { return p.prepare() },
		RunE:              func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.SetVersionTemplate("weltaxis {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return fmt.Errorf("%w; %s --help lists the options", err, c.CommandPath())
	})
	root.PersistentFlags().StringVar(&p.log, "log", "", "log what is done to standard error: debug, info, warn or error")
	complete(root, "log", "debug", "info", "warn", "error")
	for _, c := range p.commands() {
		root.AddCommand(c)
	}
	return root
}

// takes checks that a command has so many arguments, and says how it is written where it has not.
func takes(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch {
		case len(args) >= least && len(args) <= most:
			return nil
		case len(args) == 0:
			return fmt.Errorf("an argument is missing; write %s", c.UseLine())
		}
		return fmt.Errorf("%s; write %s", report.Count(len(args), "argument does not fit", "arguments do not fit"), c.UseLine())
	}
}

// commands lists the commands in the order of the help.
func (p *program) commands() []*cobra.Command {
	return []*cobra.Command{
		p.demoCommand(), p.auditCommand(), p.settingsCommand(), p.pagesCommand(), p.filesCommand(), p.lookCommand(), p.exposureCommand(), p.previewCommand(), p.fixCommand(), p.undoCommand(), p.maintenanceCommand(), p.lockCommand(), p.historyCommand(), p.compareCommand(), p.followUpsCommand(), p.announceCommand(), p.paceCommand(), p.snapshotCommand(),
		p.explainCommand(), p.baselineCommand(), p.dialectCommand(), p.schemaCommand(),
	}
}

func (p *program) commandNames() []string {
	var names []string
	for _, c := range p.commands() {
		names = append(names, c.Name())
	}
	return names
}

// prepare checks the flags that mean the same everywhere.
func (p *program) prepare() error {
	if p.stage != "" && !slices.Contains(site.Stages(), p.stage) {
		return fmt.Errorf("--stage: there is no stage %q%s; there are %s", p.stage, nearest.Hint(p.stage, site.Stages()), strings.Join(site.Stages(), ", "))
	}
	var handler slog.Handler = &notices{to: p.err, quiet: p.quiet}
	if p.log != "" {
		var level slog.Level
		if err := level.UnmarshalText([]byte(p.log)); err != nil {
			return fmt.Errorf("--log: there is no level %q; there are debug, info, warn and error", p.log)
		}
		handler = slog.NewTextHandler(p.err, &slog.HandlerOptions{Level: level, ReplaceAttr: masked})
	}
	slog.SetDefault(slog.New(handler))
	for _, says := range orders.ForgetPaths() {
		slog.Warn(says)
	}
	return nil
}

// masked takes out of a log line what looks like a secret, as a token in an address.
func masked(_ []string, a slog.Attr) slog.Attr {
	if text := a.Value.String(); a.Key != slog.TimeKey && secrets.Mask(text) != text {
		a.Value = slog.StringValue(secrets.Mask(text))
	}
	return a
}

// notices is where log lines go when no log was asked for: warnings are said as sentences, each once; the rest is not.
type notices struct {
	to    io.Writer
	quiet bool
	said  sync.Map
}

func (n *notices) Enabled(_ context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && !n.quiet
}

func (n *notices) Handle(_ context.Context, r slog.Record) error {
	if _, again := n.said.LoadOrStore(r.Message, true); again {
		return nil
	}
	text := "weltaxis: " + render.Safe(r.Message)
	r.Attrs(func(a slog.Attr) bool {
		text += "; " + a.Key + ": " + render.Safe(secrets.Mask(a.Value.String()))
		return true
	})
	_, err := fmt.Fprintln(n.to, text)
	return err
}

func (n *notices) WithAttrs([]slog.Attr) slog.Handler { return n }
func (n *notices) WithGroup(string) slog.Handler      { return n }

func (p *program) options() audit.Options {
	return audit.Options{Stage: p.stage, Only: p.only, Baselines: p.baselines, Tool: versionText(), Offline: p.offline, IgnoreRobots: p.ignore, Pages: p.pages, Pictures: p.pictures}
}

// siteArgument is the site a command is about: its argument, or --site, or the folder one is in.
func (p *program) siteArgument(args []string) (string, error) {
	switch {
	case len(args) > 0 && p.site != "":
		return "", errors.New("the site is named twice, as an argument and with --site; name it once")
	case len(args) > 0:
		return args[0], nil
	case p.site != "":
		return p.site, nil
	}
	return ".", nil
}

// audit gathers and judges the site a command is about. A snapshot file is judged as it is.
func (p *program) audit(ctx context.Context, args []string) (*report.Report, error) {
	_, result, err := p.auditOf(ctx, args)
	if err != nil {
		return nil, err
	}
	return report.New(result), nil
}

// auditOf is the same as a result, with the site; of a snapshot file there is none.
func (p *program) auditOf(ctx context.Context, args []string) (*site.Site, *audit.Result, error) {
	name, err := p.siteArgument(args)
	if err != nil {
		return nil, nil, err
	}
	if strings.EqualFold(filepath.Ext(name), ".json") {
		result, err := p.judgeFile(name)
		return nil, result, err
	}
	s, err := p.loadSite(name)
	if err != nil {
		return nil, nil, err
	}
	slog.Info("auditing", "site", s.Name, "file", s.Path)
	options, err := p.comparedOptions()
	if err != nil {
		return nil, nil, err
	}
	options.Pictures = options.Pictures && (s.Path != s.Address() || p.format == "html") // an address alone is not kept
	options.Answered = p.answered(ctx, s)
	p.since(ctx, s, &options)
	result, err := audit.Run(ctx, s, p.now(), options)
	if result == nil {
		return nil, nil, err
	}
	if err != nil { // interrupted; what was seen until then is worth saying
		fmt.Fprintln(p.err, "weltaxis: interrupted; this is what was seen until then")
		p.said = true
	}
	return s, result, nil
}

// foresee has an audit tell risks as the plan knows them, where that can be worked out; where it cannot, they stay the least there are.
func (p *program) foresee(ctx context.Context, s *site.Site, result *audit.Result) {
	if err := fix.Foresee(ctx, s, result, p.options()); err != nil {
		slog.Info("risks of fixes are not worked out", "site", s.Name, "why", facts.InWords(err))
	}
}

// loadSite reads a site file, or makes do with an address.
func (p *program) loadSite(name string) (*site.Site, error) {
	if strings.HasPrefix(name, "https://") || strings.HasPrefix(name, "http://") {
		return site.Bare(name)
	}
	if _, err := os.Stat(name); err != nil && site.WithScheme(name) != name && !strings.HasSuffix(name, ".yaml") && !strings.HasSuffix(name, ".yml") {
		return site.Bare(name) // a host, and nothing of that name lies here
	}
	return p.load(name)
}

// load reads a site file. Started by root on one that is another's, this program goes on as that user: whoever could change the file gives its
// orders, and gives them with his own rights.
func (p *program) load(name string) (*site.Site, error) {
	if identity.Caller() == 0 {
		if err := identity.Act(0); err != nil { // whoever another site was
			return nil, err
		}
		if err := p.become(name); err != nil {
			return nil, err
		}
	}
	s, err := site.Load(name)
	if err != nil {
		return nil, err
	}
	if roots := s.Roots(); len(roots) > 0 {
		err = act(roots[0])
	}
	return s, err
}

// act has the rest be done as the one whose tree lies in a folder, started by root on one that is not root's.
func act(root string) error {
	if identity.Caller() != 0 {
		return nil
	}
	of, err := orders.Holder(root)
	if fault := (*orders.Fault)(nil); errors.As(err, &fault) {
		return fmt.Errorf("whose %s is cannot be told, since others could exchange it: %w", root, err)
	}
	if err != nil || of == 0 {
		return nil // looking at it says what is wrong
	}
	if err := identity.Act(of); err != nil {
		return fmt.Errorf("%s belongs to %s: %w", root, identity.Name(of), err)
	}
	return nil
}

// become goes on as the one whose site file it is, if it is not root's alone.
func (p *program) become(name string) error {
	if stat, err := os.Stat(name); err == nil && stat.IsDir() {
		name = filepath.Join(name, site.FileName)
	}
	var fault *orders.Fault
	if _, err := orders.In(0).Check(name); !errors.As(err, &fault) || fault.Owner <= 0 {
		return nil // loading it says what is wrong
	}
	of := fault.Owner
	if _, err := orders.In(of).Check(name); err != nil {
		return fmt.Errorf("the site file %s is not obeyed: %w", name, err)
	}
	if err := identity.Become(of); err != nil {
		return fmt.Errorf("%s gives the orders of %s, and this cannot go on as that user: %w", name, identity.Name(of), err)
	}
	slog.Warn(fmt.Sprintf("%s gives the orders of %s: this goes on as that user, with that user's state folder and nothing of root's environment", name, identity.Name(of)))
	return nil
}

// judgeFile judges a snapshot that was kept.
func (p *program) judgeFile(name string) (*audit.Result, error) {
	snapshot, err := readSnapshot(name)
	if err != nil {
		return nil, err
	}
	rules, err := audit.RulesFor(snapshot, p.options())
	if err != nil {
		return nil, err
	}
	return audit.Judge(rules, snapshot, p.options()), nil
}

// A form is one way to write a result.
type form struct {
	name  string
	write func(io.Writer) error
}

// text is the form for people; it is laid out for the terminal it goes to.
func (p *program) text(lay func(render.Sheet)) form {
	return form{"text", func(w io.Writer) error {
		under := w
		if through, is := w.(*writer); is {
			under = through.masks.under
		}
		lay(render.Sheet{Writer: &colorprofile.Writer{Forward: w, Profile: colorprofile.Detect(under, terminal())}, Width: widthOf(under)})
		return nil
	}}
}

// terminal is what of the environment says what kind of terminal there is. Nothing else is asked: inside of another program of terminals
// the library would start one by name.
func terminal() (env []string) {
	for _, name := range []string{"TERM", "COLORTERM", "NO_COLOR", "CLICOLOR", "CLICOLOR_FORCE", "WT_SESSION"} {
		if value, there := os.LookupEnv(name); there {
			env = append(env, name+"="+value)
		}
	}
	return env
}

func jsonForm(v any) form {
	return form{"json", func(w io.Writer) error { return render.JSON(w, v) }}
}

// write writes the asked-for one of the forms to standard output or --output.
func (p *program) write(forms ...form) error {
	var names []string
	for _, f := range forms {
		names = append(names, f.name)
	}
	i := slices.Index(names, p.format)
	if i < 0 {
		return fmt.Errorf("--format: there is no format %q here%s; there are %s", p.format, nearest.Hint(p.format, names), strings.Join(names, ", "))
	}
	p.meter.hide()
	if p.output == "" {
		if p.quiet {
			return nil
		}
		return p.toStdout(forms[i].write)
	}
	return writeFile("--output", p.output, forms[i].write)
}

// widthOf is the width of the terminal that w is, or COLUMNS, or 80.
func widthOf(w io.Writer) int {
	if file, ok := w.(*os.File); ok {
		if width, _, err := term.GetSize(file.Fd()); err == nil && width > 0 {
			return width
		}
	}
	if width, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && width > 0 {
		return width
	}
	return 80
}

// severityOf takes a severity, or "never", which is 0.
func severityOf(flag, word string) (severity facts.Severity, err error) {
	if word == "never" {
		return 0, nil
	}
	if err := severity.UnmarshalText([]byte(word)); err != nil || word == "" {
		words := append(facts.SeverityWords(), "never")
		return 0, fmt.Errorf("--%s: there is no severity %q%s; there are %s", flag, word, nearest.Hint(word, words), strings.Join(words, ", "))
	}
	return severity, nil
}

// comparedOptions are the options of a look, with the earlier snapshot that it is compared with.
func (p *program) comparedOptions() (options audit.Options, err error) {
	options = p.options()
	if p.previous != "" {
		if options.Previous, err = readSnapshot(p.previous); err != nil {
			return options, fmt.Errorf("--previous: %w", err)
		}
	}
	return options, nil
}
