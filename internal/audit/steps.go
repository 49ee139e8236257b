package audit

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/baseline"
	"weltaxis/internal/dialect"
	"weltaxis/internal/discover"
	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/nearest"
	"weltaxis/internal/progress"
	"weltaxis/internal/site"
	"weltaxis/internal/source/files"
	"weltaxis/internal/source/live"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

// A Step looks at one side of a site, or at a part of it. It judges nothing and knows no other step.
type Step struct {
	Name         string
	Source       facts.Source
	Needs, Gives []facts.Hint // what other steps tell it, and what it tells them; the order follows from these
	// Where is where it is to look; asked is false when nobody wants it to.
	Where func(ask *Request) (where string, asked bool)
	// Gather looks. What it has seen counts even with an error, which is only that of a context that ended.
	Gather func(ctx context.Context, ask *Request) (facts.Seen, error)
}

// Steps are all there are, in the order in which they are shown.
var Steps = []Step{
	{
		Name: "settings", Source: facts.Settings, Gives: []facts.Hint{facts.LoginPathHint, facts.InstalledHint, facts.NoticeHint, facts.ClosedHint},
		Where: func(ask *Request) (string, bool) {
			set := ask.Site.Sources.Settings
			if set == nil {
				return "", false
			}
			return cmp.Or(set.Root, set.API, "its database"), true
		},
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			return settings.Gather(ctx, ask.Dialect, ask.Stores)
		},
	},
	{
		Name: "recognition", Source: facts.Settings,
		Where: func(ask *Request) (string, bool) {
			return "", ask.Site.Sources.Settings == nil && ask.Site.Sources.Files != nil
		},
		Gather: recognise,
	},
	{
		Name: "server", Source: facts.Server, Gives: []facts.Hint{facts.PublicHint},
		Where: whereServer,
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			servers, gaps := Servers(ask.Site)
			ask.servers = servers
			seen, err := servers.Layout(ctx, gaps)
			if outside := ServedOutside(ask.Site, servers); outside != "" {
				seen.AddGap(facts.Gap{Source: facts.Server, What: "which folder is served", Kind: facts.Failed, Because: outside})
			}
			return seen, err
		},
	},
	{
		Name: "live", Source: facts.Live, Needs: []facts.Hint{facts.LoginPathHint, facts.NoticeHint, facts.ClosedHint}, Gives: []facts.Hint{facts.ServedPathHint, facts.InnerPathHint, facts.SpellingHint, facts.CookieHint, facts.InstalledHint},
		Where: func(ask *Request) (string, bool) {
			return ask.Live.Address, ask.Site.Sources.Live != nil && !ask.Offline
		},
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			return live.Gather(ctx, ask.look())
		},
	},
	{
		Name: "answers", Source: facts.Server, Needs: []facts.Hint{facts.LoginPathHint, facts.ServedPathHint, facts.InnerPathHint, facts.SpellingHint, facts.CookieHint, facts.PublicHint}, Gives: []facts.Hint{facts.ProgramHint},
		Where: func(ask *Request) (string, bool) { return "", ask.Site.Sources.Server != nil },
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			return ask.servers.Answers(ctx, ask.probes())
		},
	},
	{
		Name: "runtime", Source: facts.Runtime, Needs: []facts.Hint{facts.PublicHint, facts.ProgramHint},
		Where: whereRuntime,
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			source, gaps := Runtime(ask.Site, ask.servers)
			if source == nil {
				return facts.Seen{Gaps: gaps}, nil
			}
			ask.runtime = source
			seen, err := source.Gather(ctx)
			ask.lacking(&seen)
			return seen, err
		},
	},
	{
		Name: "files", Source: facts.Files, Needs: []facts.Hint{facts.ServedPathHint, facts.PublicHint}, Gives: []facts.Hint{facts.ExposedHint},
		Where: func(ask *Request) (string, bool) {
			f := ask.Site.Sources.Files
			if f == nil {
				return "", false
			}
			return f.Root, true
		},
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			source := Tree(ask.Site, ask.Dialect, ask.Hints)
			source.Room = ask.Room
			return source.Gather(ctx)
		},
	},
	{
		Name: "upkeep", Source: facts.Upkeep, Needs: []facts.Hint{facts.InstalledHint},
		Where:  whereUpkeep,
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) { return ask.upkeep(ctx) },
	},
	{
		Name: "leaks", Source: facts.Live, Needs: []facts.Hint{facts.ServedPathHint, facts.ExposedHint},
		Where: func(ask *Request) (string, bool) {
			return "", ask.Site.Sources.Live != nil && !ask.Offline && ask.wants("hardening")
		},
		Gather: func(ctx context.Context, ask *Request) (facts.Seen, error) {
			lying, configs := ask.lying()
			return live.Leaks(ctx, ask.Live, lying, configs)
		},
	},
}

// wants tells whether something of an area may be judged: it is named, or what is named is no area at all, as a severity and a rule of
// one's own.
func (ask *Request) wants(area string) bool {
	return len(ask.Only) == 0 || slices.ContainsFunc(ask.Only, func(name string) bool {
		of, _, _ := strings.Cut(name, ".")
		return of == area || !slices.Contains(baseline.Areas, of)
	})
}

// secretWords are what files are that nobody outside should see, by their role; one that only its content tells is private.
var secretWords = map[string]string{dialect.Backup: "a copy or a dump", dialect.Config: "the configuration"}

// lying are the files that lie where the web server serves and that nobody outside should see, as addresses and with how they
// begin; and the names of configuration files, of which copies may lie there.
func (ask *Request) lying() (lying []live.Leaky, configs []string) {
	matcher := dialect.NewMatcher(ask.Dialect)
	if ask.Dialect != nil {
		configs = matcher.Exact(dialect.Config)
	}
	if ask.Site.Sources.Files == nil {
		return nil, configs
	}
	in, err := tree.Open(ask.Site.Resolve(ask.Site.Sources.Files.Root))
	if err != nil {
		return nil, configs
	}
	defer in.Close()
	public := ask.public()
	for _, file := range ask.Hints[facts.ExposedHint] {
		below, served := strings.CutPrefix(file, public+"/")
		if public == "." {
			below, served = file, true
		}
		if !served {
			continue
		}
		if head, err := tree.Head(in, file, live.HeadBytes); err == nil {
			lying = append(lying, live.Leaky{Path: "/" + below, File: file, Kind: cmp.Or(secretWords[matcher.Role(file, matcher.Folder(path.Dir(file)))], "a database, key, log or the like"), Head: head})
		}
	}
	return lying, configs
}

// public is the folder below the root that is served, "." for all of it; "" when nobody says and nothing tells.
func (ask *Request) public() string {
	switch {
	case ask.Site.Sources.Files != nil:
		return Tree(ask.Site, ask.Dialect, ask.Hints).Serves()
	case ask.Dialect != nil && ask.Dialect.Public != "":
		return path.Clean(ask.Dialect.Public)
	}
	return ""
}

// look is how the site is looked at from outside, with what the steps before have told.
func (ask *Request) look() live.Options {
	look := ask.Live
	look.LoginPath, look.Notice = ask.Hints.First(facts.LoginPathHint), ask.Hints.First(facts.NoticeHint)
	look.Closed = ask.Doors || len(ask.Hints[facts.ClosedHint]) > 0 || ask.stage() == "building" || slices.ContainsFunc(ask.intent(), func(r facts.Reading) bool {
		return r.FullName() == facts.IntentMaintenanceUntil.Name && r.Value.Number() > 0
	})
	for _, earlier := range []*facts.Snapshot{ask.Previous, ask.Before, ask.Options.Seen} {
		if earlier != nil {
			look.Known = append(look.Known, live.KnownFrom(earlier)...)
		}
	}
	return look
}

// intent is what the site file says the site is meant to be, and until when it is closed where this program closed it.
func (ask *Request) intent() []facts.Reading {
	said := slices.Clone(ask.Site.Intent)
	for i, r := range said {
		if r.FullName() == facts.IntentLocked.Name && !r.Value.Bool() && ask.Locked {
			said[i] = facts.IntentLocked.Reading(true, facts.Origin{File: "as done by weltaxis lock on"})
		}
		if r.FullName() == facts.IntentMaintenanceUntil.Name && r.Value.Number() == 0 && !ask.Announced.IsZero() {
			said[i] = facts.IntentMaintenanceUntil.Reading(ask.Announced.Unix(), facts.Origin{File: "as said to weltaxis maintenance on"})
		}
	}
	return said
}

// stage is the stage that is judged by.
func (ask *Request) stage() string { return cmp.Or(ask.Options.Stage, ask.Site.Said("stage")) }

// Tree is the source of a site's files. Which folder the web server serves is what the site file says, or else what the
// server's configuration does, or else what the paths tell at which it has files.
func Tree(s *site.Site, d *dialect.Dialect, hints facts.Hints) *files.Source {
	f := s.Sources.Files
	source := &files.Source{Root: s.Resolve(f.Root), Dialect: d, Public: f.Public, Served: hints[facts.ServedPathHint], WebUser: s.Said("web_user"), Shared: s.Said("hosting") == "shared"}
	if source.Public == "" {
		source.Public = publicBelow(source.Root, hints.First(facts.PublicHint))
	}
	return source
}

// publicBelow is the folder below a root that is served, "." for all of it; "" when the served one is not below it.
func publicBelow(root, served string) string {
	if served == "" {
		return ""
	}
	in, err := tree.Open(root)
	if err != nil {
		return ""
	}
	defer in.Close()
	below, err := tree.Within(in, served)
	if err != nil {
		return ""
	}
	return below
}

// whereServer is where the configuration of the web server is looked for.
func whereServer(ask *Request) (string, bool) {
	set := ask.Site.Sources.Server
	if set == nil {
		return "", false
	}
	var files []string
	for _, part := range set.Chain {
		files = append(files, part.Nginx+part.Apache)
	}
	if ask.servers != nil && len(files) == 0 {
		for _, found := range ask.servers.Servers {
			files = append(files, found.File)
		}
	}
	return cmp.Or(strings.Join(files, ", "), "where systems put it"), true
}

// ServedOutside says that what the servers serve of a site lies outside of the folders that the site file names; "" where it does not, or nobody can tell.
func ServedOutside(s *site.Site, servers *server.Source) string {
	served := servers.Serving()
	roots := s.Roots()
	if served == "" || len(roots) == 0 {
		return ""
	}
	for _, root := range roots {
		in, err := tree.Open(root)
		if err != nil {
			return "" // looking at it says what is wrong
		}
		_, err = tree.Within(in, served)
		in.Close()
		if err == nil {
			return ""
		}
	}
	return fmt.Sprintf("the web server serves the site from %s, which does not lie below %s; where this is a copy, its configuration names the original. What the server is told is not changed", served, roots[0])
}

// Servers are the web servers of a site, and what of their configuration could not be read.
func Servers(s *site.Site) (*server.Source, []facts.Gap) { return ServersWith(nil, s) }

// ServersWith are those with some files as they might be.
func ServersWith(files server.Overlay, s *site.Site) (*server.Source, []facts.Gap) {
	var configs []server.Config
	for _, part := range s.Sources.Server.Chain {
		if part.Nginx != "" {
			configs = append(configs, server.Config{Kind: server.Nginx, File: s.Resolve(part.Nginx)})
		} else {
			configs = append(configs, server.Config{Kind: server.Apache, File: s.Resolve(part.Apache)})
		}
	}
	var address *url.URL
	connect := map[string]string(nil)
	if u, err := url.Parse(s.Address()); err == nil && u.Host != "" {
		address = u
	}
	if s.Sources.Live != nil {
		connect = s.Sources.Live.Connect
	}
	servers, gaps := server.Open(files, configs, address, connect)
	servers.Dir = s.Dir
	servers.Lies(s.Roots())
	if address == nil {
		gaps = append(gaps, facts.Gap{Source: facts.Server, What: "what the web server answers", Kind: facts.Failed, Because: "the site file does not say the site's address; say intent.address", Names: []string{facts.ListAnswers, facts.ListShadowed}})
	}
	return servers, gaps
}

// probes are the addresses that the server's configuration is asked about: those that others have told, and those that the
// dialect's roles make worth asking.
func (ask *Request) probes() server.Probes {
	p := server.Probes{Login: ask.Hints.First(facts.LoginPathHint), Inner: ask.Hints[facts.InnerPathHint], Served: ask.Hints[facts.ServedPathHint], Spellings: ask.Hints[facts.SpellingHint], Cookies: ask.Hints[facts.CookieHint]}
	matcher := dialect.NewMatcher(ask.Dialect)
	if root := ask.root(); root != "" {
		for _, folder := range matcher.Folders(dialect.Uploads) {
			p.Uploads = append(p.Uploads, filepath.Join(root, folder))
		}
		for _, file := range matcher.Exact(dialect.Config) {
			p.Config = append(p.Config, filepath.Join(root, file))
		}
	}
	p.UsualUploads = matcher.Usual(dialect.Uploads)
	if u, err := url.Parse(ask.Site.Said("address")); err == nil && u.Host != "" {
		p.Hosts = []string{u.Host, otherHost(u.Host)}
	}
	return p
}

// Probes are the addresses that the configuration of a site's servers is asked about, as hints have told.
func Probes(s *site.Site, d *dialect.Dialect, hints facts.Hints) server.Probes {
	return (&Request{Site: s, Dialect: d, Hints: hints}).probes()
}

// otherHost is a host with www in front, or without it.
func otherHost(host string) string {
	if bare, is := strings.CutPrefix(host, "www."); is {
		return bare
	}
	return "www." + host
}

// root is the folder of the installation, "" when the site file names none.
func (ask *Request) root() string {
	switch src := ask.Site.Sources; {
	case src.Settings != nil && src.Settings.Root != "":
		return ask.Site.Resolve(src.Settings.Root)
	case src.Files != nil:
		return ask.Site.Resolve(src.Files.Root)
	}
	return ""
}

// A Request is what the steps are asked: the site, how to look, and what the steps before have told.
type Request struct {
	Options
	Site    *site.Site
	Now     time.Time        // by which everything is judged
	Dialect *dialect.Dialect // nil when the site file names none
	Stores  store.Options
	Live    live.Options
	Hints   facts.Hints
	Parts   []facts.Part    // what steps have said is installed
	same    map[string]bool // files below the root that are as their checksums say
	servers *server.Source  // read by the step that looks at their layout
	runtime *runtime.Source // read by its own step
}

// newRequest makes the site file's wishes into what steps are asked. The errors are mistakes in the site file.
func newRequest(s *site.Site, now time.Time, options Options) (*Request, error) {
	ask := &Request{Options: options, Site: s, Now: now, Hints: facts.Hints{}}
	var err error
	if ask.Dialect, ask.Stores, err = Stores(s, options); err != nil {
		return nil, err
	}
	if r := s.Sources.Runtime; r != nil && r.From != "" && !slices.Contains(runtime.Sources(), r.From) {
		return nil, s.ErrorAt(r.Pos, "runtime: from: %q is none of %s%s", r.From, strings.Join(runtime.Sources(), ", "), nearest.Hint(r.From, runtime.Sources()))
	}
	if l := s.Sources.Live; l != nil {
		if ask.Live, err = liveOptions(s, l, options); err != nil {
			return nil, s.ErrorAt(l.Pos, "live: %w", err)
		}
		ask.Live.Now = now
		ask.signs()
		if ask.Dialect != nil {
			for _, a := range ask.Dialect.Assets {
				ask.Live.Owners = append(ask.Live.Owners, live.Owned{Path: a.Path, Of: a.Of, Used: a.Used})
			}
		}
	}
	return ask, nil
}

// signs has the look from outside go by the signs of the site's own dialect, or of all that ship where the site file names none.
func (ask *Request) signs() {
	spoken := []*dialect.Dialect{ask.Dialect}
	if ask.Dialect == nil {
		spoken = nil
		for _, name := range dialect.Shipped() {
			if d, err := dialect.Load(name, ""); err == nil {
				spoken = append(spoken, d)
			}
		}
	}
	for _, d := range spoken {
		for _, s := range d.Signs {
			ask.Live.Signs = append(ask.Live.Signs, live.Sign{In: s.In, Match: s.Expression, Gives: s.Gives, Name: s.Name, Sure: s.Sure})
		}
		ask.Live.Installers = append(ask.Live.Installers, d.Installers...)
	}
}

// gather has every step look that was asked for: as soon as it has been told what it needs, side by side with those
// that have been told as well.
func gather(ctx context.Context, ask *Request) (facts.Seen, error) {
	parts, whole := make([]facts.Seen, len(Steps)), make([]bool, len(Steps))
	waves, err := order(Steps, func(step Step) bool { _, asked := step.Where(ask); return asked })
	if err != nil {
		return facts.Seen{}, err
	}
	ask.alongside()
	ask.Live.Until = time.Now().Add(ask.Live.MaxTime) // for all steps together
	var interrupted error
	for _, wave := range waves {
		group, ctx := errgroup.WithContext(ctx)
		for _, i := range wave {
			progress.Tell(ctx, doing(wave), 0, 0)
			group.Go(func() error {
				start := time.Now()
				var err error
				parts[i], err = Steps[i].Gather(ctx, ask)
				whole[i] = err == nil
				slog.Debug("looked", "step", Steps[i].Name, "took", time.Since(start), "readings", len(parts[i].Readings), "gaps", len(parts[i].Gaps))
				return err
			})
		}
		if err := group.Wait(); err != nil {
			interrupted = err
		}
		for _, i := range wave {
			for hint, told := range parts[i].Hints {
				ask.Hints[hint] = append(ask.Hints[hint], told...)
			}
			ask.Parts = append(ask.Parts, parts[i].Parts...)
		}
	}
	var seen facts.Seen
	for i, part := range parts {
		seen.Merge(part)
		if whole[i] || interrupted == nil {
			continue
		}
		if _, asked := Steps[i].Where(ask); asked {
			source := Steps[i].Source
			seen.AddGap(facts.Gap{Source: source, What: "the rest", Kind: facts.Failed, Because: "interrupted before all was seen", Names: []string{source.All()}})
		}
	}
	for _, gap := range seen.Gaps {
		level := slog.LevelInfo
		if gap.Kind == facts.Unmapped {
			level = slog.LevelDebug // known beforehand
		}
		slog.Log(ctx, level, "gap", "source", gap.Source, "what", gap.What, "because", gap.Because)
	}
	join(&seen)
	sessions(&seen)
	ask.serve(&seen)
	ask.traces(&seen)
	ask.relied(&seen)
	ask.backups(&seen)
	ask.stray(&seen)
	ask.strange(&seen)
	return seen, interrupted
}

// doing says which sources are being looked at.
func doing(wave []int) string {
	var names []string
	for _, i := range wave {
		names = append(names, Steps[i].Name)
	}
	return "looking at " + strings.Join(names, ", ")
}

// order puts the steps that are wanted into waves: a step comes after all that tell it something.
func order(steps []Step, wanted func(Step) bool) (waves [][]int, err error) {
	var left []int
	for i, step := range steps {
		if wanted(step) {
			left = append(left, i)
		}
	}
	for len(left) > 0 {
		var wave, later []int
		for _, i := range left {
			waits := slices.ContainsFunc(left, func(other int) bool {
				return other != i && slices.ContainsFunc(steps[i].Needs, func(h facts.Hint) bool { return slices.Contains(steps[other].Gives, h) })
			})
			if waits {
				later = append(later, i)
			} else {
				wave = append(wave, i)
			}
		}
		if len(wave) == 0 {
			return nil, fmt.Errorf("the steps wait for one another: %s", steps[left[0]].Name)
		}
		waves, left = append(waves, wave), later
	}
	return waves, nil
}

// join works out what two sources tell together: which of the content system's own pages an address shows.
func join(seen *facts.Seen) {
	byPath := map[string]*facts.Record{}
	records := seen.Records[facts.ListRecords]
	for i := range records {
		path := records[i].Values["path"].Text()
		if _, twice := byPath[path]; twice {
			byPath[path] = nil // nothing tells them apart
			continue
		}
		byPath[path] = &records[i]
	}
	for i := range seen.Pages {
		page := &seen.Pages[i]
		if record := byPath[facts.LastSegment(page.Path)]; record != nil && page.Kind == "content" {
			page.Own = cmp.Or(record.From.Row, record.Subject())
		}
	}
}

// sessions takes for one a cookie that is called as the runtime calls the session's.
func sessions(seen *facts.Seen) {
	var sets *facts.Cookie
	name, known := seen.Effective(facts.Runtime.Name("session_name"))
	for i := range seen.Cookies {
		if known && seen.Cookies[i].Name == name.Value.Text() {
			seen.Cookies[i].Session = true
			sets = &seen.Cookies[i]
		}
	}
	if known && seen.Cookies != nil {
		at := name.Origin
		if sets != nil {
			at = sets.Origin()
		}
		seen.Add(facts.LiveSessionCookie.Reading(sets != nil, at))
	}
}

// maxServed is how many classes of files are held against the web server's configuration.
const maxServed = 3000

// serve works out what the web server makes of the files: it takes the folder that is served from the one source, and the
// answers from the other. Of a class all that are named must be alike.
func (ask *Request) serve(seen *facts.Seen) {
	if ask.servers == nil || ask.Site.Sources.Files == nil {
		return
	}
	root := ask.Site.Resolve(ask.Site.Sources.Files.Root)
	for i := range seen.Classes[:min(len(seen.Classes), maxServed)] {
		class := &seen.Classes[i]
		if !class.Public || class.Kind != "file" {
			continue
		}
		for n, path := range class.Paths {
			what, at := ask.servers.Served(filepath.Join(root, filepath.FromSlash(path)))
			if n > 0 && what != class.Answer {
				class.Answer, class.AnswerAt = "", facts.Origin{}
				break
			}
			class.Answer, class.AnswerAt = what, at
		}
	}
}

// readAs are the users that a site is read as, where it is root who looks.
func readAs() string {
	if identity.Caller() != 0 {
		return ""
	}
	return cmp.Or(strings.Join(identity.Readers(), " and "), "root")
}

// alongside has what the owner of the tree may not open be opened as whom its web server runs as.
func (ask *Request) alongside() {
	var source *files.Source
	switch root := ask.root(); {
	case ask.Site.Sources.Files != nil:
		source = Tree(ask.Site, ask.Dialect, nil)
	case root != "":
		source = &files.Source{Root: root, Dialect: ask.Dialect, WebUser: ask.Site.Said("web_user")}
	default:
		return
	}
	source.Alongside()
}

// snapshot is what was seen, with what is needed to judge it again.
func (ask *Request) snapshot(seen facts.Seen, rules *baseline.Baseline) *facts.Snapshot {
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Tool: ask.Tool, As: readAs(), Site: ask.Site.Name, Taken: ask.Now.UTC().Truncate(time.Second),
		Accept: ask.Site.Accepted(), FollowUps: slices.Concat(ask.Site.Stated(), ask.Comebacks), Limits: map[string]facts.Value{}}
	s.Gaps = []facts.Gap{}
	s.Add(ask.intent()...)
	s.Merge(seen)
	for name := range ask.Site.Limits {
		s.Limits[name] = rules.Limits[name].Value
	}
	for _, step := range Steps {
		if where, asked := step.Where(ask); asked && where != "" {
			s.Sources = append(s.Sources, facts.Asked{Source: step.Source, Where: where})
		}
	}
	return s
}

// recognise says, of a folder whose settings nobody has said how to read, which dialect it looks like, or what
// discovery would give.
func recognise(ctx context.Context, ask *Request) (facts.Seen, error) {
	root := ask.Site.Resolve(ask.Site.Sources.Files.Root)
	because := ""
	if known := discover.Recognise(dialect.Shipped(), "", discover.TracesIn(root)); len(known) > 0 && known[0].Sure > 0.5 {
		because = fmt.Sprintf("the site file names no dialect, and the folder looks like %s (sure: %.2f); write under sources: settings: {dialect: %s, root: ...}", known[0].Dialect, known[0].Sure, known[0].Dialect)
	} else {
		draft, err := discover.Discover(ctx, discover.Options{Name: "found", Root: root, Stores: store.Options{Root: root, Offline: ask.Offline}})
		if ctx.Err() != nil {
			return facts.Seen{}, ctx.Err()
		}
		if err != nil || len(draft.Findings) == 0 {
			return facts.Seen{}, nil // nothing there that looks like settings
		}
		because = fmt.Sprintf("the site file names no dialect; weltaxis dialect discover --root FOLDER would write %d of them as sure and suggest %d more", draft.Certain(), len(draft.Findings)-draft.Certain())
	}
	return facts.Seen{Gaps: []facts.Gap{{Source: facts.Settings, What: "the settings", Kind: facts.Unmapped, Because: because, Names: []string{facts.Settings.All()}}}}, nil
}
