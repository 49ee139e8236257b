package audit

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/private"
	"weltaxis/internal/source/upkeep"
	"weltaxis/internal/tree"
)

// Until when lists count: an older one knows of what is out of date, and nothing of what came since.
const (
	versionsCount   = 45 * 24 * time.Hour
	advisoriesCount = 60 * 24 * time.Hour
)

// maxParts is how many installed parts are looked up.
const maxParts = 5000

// whereUpkeep is where it is looked up what others know.
func whereUpkeep(ask *Request) (string, bool) {
	u := ask.Site.Upkeep
	if u == nil {
		return "", false
	}
	places := slices.DeleteFunc([]string{u.Versions, u.Advisories, u.Checksums}, func(place string) bool { return place == "" })
	in := path.Dir(filepath.ToSlash(places[0]))
	if len(places) > 1 && !slices.ContainsFunc(places, func(place string) bool { return path.Dir(filepath.ToSlash(place)) != in || upkeep.IsAddress(place) }) {
		return in, true
	}
	return strings.Join(places, ", "), true
}

// A looking is one look at what others know of what is installed.
type looking struct {
	*Request
	seen   facts.Seen
	fetch  *private.Folder // for what is fetched, nil while nothing was
	parts  []facts.Part
	now    time.Time
	system facts.Part // its version is "" when nobody could tell
}

// upkeep looks up what others know of what is installed.
func (ask *Request) upkeep(ctx context.Context) (facts.Seen, error) {
	l := &looking{Request: ask, now: ask.Now}
	defer func() { l.fetch.Remove() }()
	parts, passed := ask.installed()
	l.parts = parts
	if passed > 0 {
		l.lack(facts.Failed, fmt.Sprintf("%d more of what is installed", passed), fmt.Sprintf("%d are looked up at most", maxParts), facts.ListInstalled, facts.ListFlaws)
	}
	for _, part := range l.parts {
		if part.Kind == "system" {
			l.system = part
		}
	}
	l.versions(ctx)
	l.advisories(ctx)
	l.checksums(ctx)
	return l.seen, ctx.Err()
}

func (l *looking) lack(kind facts.GapKind, what, because string, names ...string) {
	l.seen.AddGap(facts.Gap{Source: facts.Upkeep, What: what, Kind: kind, Because: because, Names: names})
}

// installed are the parts that are told of, each once: what the content system says of itself counts before what signs tell.
func (ask *Request) installed() (parts []facts.Part, passed int) {
	said := func(kinds ...string) bool {
		return slices.ContainsFunc(ask.Parts, func(p facts.Part) bool {
			return p.From == facts.Settings && slices.Contains(kinds, p.Kind) && (p.Kind != "system" || p.Version != "")
		})
	}
	system, others := said("system"), said("extension", "theme")
	had := map[string]bool{}
	for _, p := range slices.Concat(ask.Parts, ask.libraries()) {
		if p.From == facts.Live && (p.Kind == "system" && system || p.Kind != "system" && others) || p.From == facts.Settings && p.Kind == "system" && p.Version == "" && ask.signed() {
			continue
		}
		if key := p.Kind + "\n" + strings.ToLower(p.Name) + "\n" + p.Version; !had[key] && len(parts) < maxParts {
			had[key] = true
			parts = append(parts, p)
		} else if !had[key] {
			passed++
		}
	}
	return parts, passed
}

// signed tells whether a sign gives away the system's version.
func (ask *Request) signed() bool {
	return slices.ContainsFunc(ask.Parts, func(p facts.Part) bool { return p.From == facts.Live && p.Kind == "system" })
}

// manifests are the files in which package managers write down what they have installed, with the ecosystem and how the file is read.
var manifests = []struct {
	file, ecosystem string
	read            func(data []byte) (map[string]string, error)
}{
	{"vendor/composer/installed.json", "Packagist", func(data []byte) (map[string]string, error) {
		type entry struct{ Name, Version string }
		var list struct{ Packages []entry }
		if err := json.Unmarshal(data, &list); err != nil {
			if err := json.Unmarshal(data, &list.Packages); err != nil { // as it was written before 2020
				return nil, err
			}
		}
		found := map[string]string{}
		for _, p := range list.Packages {
			found[p.Name] = p.Version
		}
		return found, nil
	}},
	{"node_modules/.package-lock.json", "npm", func(data []byte) (map[string]string, error) {
		var lock struct {
			Packages map[string]struct {
				Version string
				Dev     bool
			}
		}
		err := json.Unmarshal(data, &lock)
		found := map[string]string{}
		for place, p := range lock.Packages {
			if at := strings.LastIndex("/"+place, "/node_modules/"); at >= 0 && !p.Dev {
				found[place[at+len("node_modules/"):]] = p.Version
			}
		}
		return found, err
	}},
}

const maxManifest = 32 << 20

// libraries are what package managers have put below the root, and wrote down.
func (ask *Request) libraries() (parts []facts.Part) {
	in, err := tree.Open(ask.root())
	if err != nil {
		return nil
	}
	defer in.Close()
	for _, folder := range []string{".", ask.public()} {
		for _, m := range manifests {
			name := path.Join(folder, m.file)
			data, err := tree.Read(in, name, maxManifest)
			if err != nil {
				continue
			}
			found, err := m.read(data)
			if err != nil {
				slog.Warn("what a package manager has written down could not be read", "file", name, "error", err)
				continue
			}
			for library, version := range found {
				parts = append(parts, facts.Part{Kind: "library", Name: library, Version: strings.TrimPrefix(version, "v"), Ecosystem: m.ecosystem, Active: true, Known: true, From: facts.Files, Origin: facts.Origin{Path: name}})
			}
		}
	}
	slices.SortFunc(parts, func(a, b facts.Part) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Version, b.Version))
	})
	return parts
}

// known is how advisories know a part: the ecosystem, and the name in it.
func (l *looking) known(p facts.Part) (ecosystem, name string) {
	if p.Ecosystem != "" {
		return p.Ecosystem, p.Name
	}
	if l.Dialect == nil {
		return "", ""
	}
	return l.Dialect.Parts.Ecosystem, l.Dialect.Package(p.Kind, p.Name)
}

// place brings a list here when it is at an address. It is "" when there is none, or it could not be brought, which is then a gap of
// these names.
func (l *looking) place(ctx context.Context, what, said string, names ...string) string {
	switch {
	case said == "":
		l.lack(facts.Unmapped, what, "the site file names none; write upkeep: {"+strings.Fields(what)[len(strings.Fields(what))-1]+": FILE}", names...)
		return ""
	case !upkeep.IsAddress(said):
		return l.Site.Resolve(said)
	case l.Offline:
		l.lack(facts.Failed, what, "it is fetched from "+said+", and --offline keeps every request here", names...)
		return ""
	}
	var err error
	if l.fetch == nil {
		l.fetch, err = private.New("")
	}
	file := ""
	if err == nil {
		file, err = upkeep.Fetch(ctx, said, l.fetch.Dir)
	}
	if err != nil {
		l.lack(facts.Failed, what, err.Error(), names...)
		return ""
	}
	return file
}

// versions holds what is installed against the list of newest versions.
func (l *looking) versions(ctx context.Context) {
	l.seen.Records = map[string][]facts.Record{facts.ListInstalled: {}}
	what := "the list of versions"
	var list *upkeep.Versions
	missing := "the site file names no list of versions; write upkeep: {versions: FILE}"
	if l.Site.Upkeep.Versions != "" {
		missing = "the list of versions could not be read"
		if place := l.place(ctx, what, l.Site.Upkeep.Versions, facts.UpkeepVersionsOf.Name); place != "" {
			var err error
			if list, err = upkeep.ReadVersions(place); err != nil {
				l.lack(facts.Failed, what, err.Error(), facts.UpkeepVersionsOf.Name)
			} else {
				l.seen.Add(facts.UpkeepVersionsOf.Reading(list.Of.Unix(), facts.Origin{File: l.Site.Upkeep.Versions}))
			}
		}
	}
	for _, p := range l.parts {
		l.seen.Records[facts.ListInstalled] = append(l.seen.Records[facts.ListInstalled], l.record(p, list, missing))
	}
}

// judgedFields are those that only a list of versions tells.
var judgedFields = []string{"behind", "newest", "behind_since", "supported", "supported_until", "last_release", "withdrawn"}

func (l *looking) record(p facts.Part, list *upkeep.Versions, missing string) facts.Record {
	date := func(t time.Time) facts.Value { return facts.NumberOf(facts.Date, t.Unix()) }
	r := facts.Record{List: facts.ListInstalled, ID: p.Kind + " " + p.Name, From: p.Origin, Unknown: map[string]string{}, Values: map[string]facts.Value{
		"name": facts.TextOf(facts.String, p.Name), "kind": facts.TextOf(facts.Words, p.Kind)}}
	if p.Kind == "library" { // of which several versions may be there
		r.ID += " " + p.Version
	}
	if p.Known {
		r.Values["active"] = facts.BoolOf(p.Active)
	}
	if p.Version != "" {
		r.Values["version"] = facts.TextOf(facts.Version, p.Version)
	} else {
		r.Unknown["version"] = "nobody could tell which version of it is installed"
	}
	because := func(why string, fields ...string) {
		for _, field := range fields {
			if _, known := r.Values[field]; !known && r.Unknown[field] == "" {
				r.Unknown[field] = why
			}
		}
	}
	if list == nil {
		because(missing, judgedFields...)
		return r
	}
	ecosystem, name := l.known(p)
	s := list.StateOf([]string{p.Name, name}, p.Version, ecosystem, l.now)
	if !s.Listed {
		because("the list of versions does not have it", judgedFields...)
		return r
	}
	r.Places = map[string]facts.Origin{}
	for _, field := range judgedFields {
		r.Places[field] = l.near(s.Origin)
	}
	r.Values["withdrawn"] = facts.TextOf(facts.String, "")
	if !s.Withdrawn.IsZero() {
		said := "since " + s.Withdrawn.Format("2 January 2006")
		if s.Because != "" {
			said += ": " + s.Because
		}
		r.Values["withdrawn"] = facts.TextOf(facts.String, said)
	}
	if !s.LastRelease.IsZero() {
		r.Values["last_release"] = date(s.LastRelease)
	}
	if s.Told {
		r.Values["behind"], r.Values["supported"] = facts.BoolOf(s.Behind), facts.BoolOf(s.Supported)
		r.Values["newest"] = facts.TextOf(facts.Version, cmp.Or(s.Newest, p.Version))
		if s.Behind {
			r.Values["behind_since"] = date(s.BehindSince)
		}
		if !s.Until.IsZero() {
			r.Values["supported_until"] = date(s.Until)
		}
	}
	if l.now.Sub(s.Of) > versionsCount { // what came since it does not know
		why := "the list of versions is of " + s.Of.Format("2 January 2006") + ", and knows nothing of what came since"
		if s.Told && !s.Behind {
			delete(r.Values, "behind")
		}
		if s.Supported {
			delete(r.Values, "supported")
		}
		if s.Withdrawn.IsZero() {
			delete(r.Values, "withdrawn")
		}
		because(why, "behind", "supported", "withdrawn")
	}
	switch {
	case p.Version == "":
		because("nobody could tell which version of it is installed", judgedFields...)
	case !s.Ordered:
		because("nobody says in which order its versions are; write order: in the list of versions, one of "+strings.Join(upkeep.Ecosystems(), ", "), judgedFields...)
	case !s.Told:
		because("the list of versions does not tell how "+p.Version+" stands to what it names", judgedFields...)
	}
	because("the list of versions does not say", judgedFields...)
	return r
}

// advisories looks for known flaws of what is installed.
func (l *looking) advisories(ctx context.Context) {
	what, names := "the advisories", []string{facts.ListFlaws, facts.UpkeepAdvisories.Name, facts.UpkeepAdvisoriesOf.Name, facts.UpkeepUnjudged.Name}
	place := l.place(ctx, what, l.Site.Upkeep.Advisories, names...)
	if place == "" {
		return
	}
	var packages []upkeep.Package
	parts := map[upkeep.Package]facts.Part{}
	var unnamed, unversioned []string
	for _, p := range l.parts {
		ecosystem, name := l.known(p)
		switch {
		case name == "":
			unnamed = append(unnamed, p.Name)
			continue
		case p.Version == "":
			unversioned = append(unversioned, p.Name)
		}
		of := upkeep.Package{Ecosystem: ecosystem, Name: name, Version: p.Version}
		packages, parts[of] = append(packages, of), p
	}
	found, err := upkeep.Advise(ctx, place, packages)
	if err != nil {
		if ctx.Err() == nil {
			l.lack(facts.Failed, what, err.Error(), names...)
		}
		return
	}
	at := facts.Origin{File: l.Site.Upkeep.Advisories}
	l.seen.Add(facts.UpkeepAdvisories.Reading(found.Looked, at), facts.UpkeepUnjudged.Reading(append([]string{}, found.Unjudged...), at))
	if !found.Newest.IsZero() {
		l.seen.Add(facts.UpkeepAdvisoriesOf.Reading(found.Newest.Unix(), at))
	}
	l.seen.Records[facts.ListFlaws] = []facts.Record{}
	for _, f := range found.Flaws {
		part := parts[f.Package]
		l.seen.Records[facts.ListFlaws] = append(l.seen.Records[facts.ListFlaws], facts.Record{List: facts.ListFlaws, ID: "flaw " + f.ID + " of " + part.Name, From: l.near(f.At), Places: map[string]facts.Origin{"name": part.Origin, "version": part.Origin}, Values: map[string]facts.Value{
			"name": facts.TextOf(facts.String, part.Name), "version": facts.TextOf(facts.Version, part.Version), "id": facts.TextOf(facts.String, f.ID),
			"severity": facts.TextOf(facts.Words, cmp.Or(f.Severity, "unscored")), "fixed": facts.TextOf(facts.String, f.Fixed), "about": facts.TextOf(facts.String, f.About)}})
	}
	few := func(names []string) string { return strings.Join(firstOf(names), ", ") }
	if len(unnamed) > 0 {
		l.lack(facts.Unmapped, fmt.Sprintf("flaws of %d of what is installed", len(unnamed)), "nobody says under which name advisories know "+few(unnamed)+"; a dialect says it with parts: {ecosystem: ..., packages: ...}", facts.ListFlaws)
	}
	if len(unversioned) > 0 {
		l.lack(facts.Unmapped, "flaws of "+few(unversioned), "nobody could tell which version is installed", facts.ListFlaws)
	}
	if n := len(found.Unjudged); n > 0 {
		l.lack(facts.Unmapped, fmt.Sprintf("%d of the advisories", n), "it cannot be told whether they are about what is installed: "+few(found.Unjudged), facts.ListFlaws)
	}
	if len(found.Unread) > 0 {
		l.lack(facts.Failed, "some of the advisories", few(found.Unread), facts.ListFlaws)
	}
	if l.now.Sub(found.Newest) > advisoriesCount {
		of := "of no day that they say"
		if !found.Newest.IsZero() {
			of = "of " + found.Newest.Format("2 January 2006")
		}
		l.lack(facts.Unmapped, "flaws that became known since", "the newest of the advisories is "+of, facts.ListFlaws)
	}
}

// near names a list as the site file does: relative to itself, or by the address that it was fetched from.
func (l *looking) near(at facts.Origin) facts.Origin {
	u := l.Site.Upkeep
	for _, said := range []string{u.Versions, u.Advisories, u.Checksums} {
		if l.fetch != nil && upkeep.IsAddress(said) && strings.HasPrefix(at.File, l.fetch.Dir) && strings.HasPrefix(filepath.Base(at.File), path.Base(said)) {
			at.File = said
			return at
		}
	}
	if below, err := filepath.Rel(l.Site.Dir, at.File); err == nil && filepath.IsLocal(below) {
		at.File = filepath.ToSlash(below)
	}
	return at
}

// firstOf are the first few of names, and how many more there are.
func firstOf(names []string) []string {
	const few = 3
	if len(names) <= few {
		return names
	}
	return append(slices.Clone(names[:few]), fmt.Sprintf("and %d more", len(names)-few))
}

var (
	// plainFiles are those that nobody misses: what is read by people, and what the program was set up with.
	plainFiles = regexp.MustCompile(`(?i)(^|/)(read[-_ ]?me|licen[cs]e|copying|notice|authors|contributors|contributing|security|change(s|[-_ ]?log)|news|history|install|upgrad(e|ing)|todo|credits)([-_.][^/]*)?$|(^|/)(install(er)?|setup)(/|\.php$)|(^|/)(tests?|docs?|examples?)/`)
	// programEndings are what servers run, or programs read in.
	programEndings = regexp.MustCompile(`(?i)\.(ph(p\d*|tml|ps|ar|t)|inc|module|cgi|p[ly]|rb|sh|m?js)$`)
	programHeads   = regexp.MustCompile(`^(#!|<\?(php|=)|\x7fELF)`)
)

// checksums holds the files of the system, and of what else there are lists for, against them.
func (l *looking) checksums(ctx context.Context) {
	what, names := "the checksums", []string{facts.ListAltered, facts.UpkeepChecked.Name}
	place := l.place(ctx, what, l.Site.Upkeep.Checksums, names...)
	if place == "" {
		return
	}
	root := l.root()
	if root == "" {
		l.lack(facts.Unmapped, what, "the site file does not say where the installation lies; write files: {root: FOLDER}", names...)
		return
	}
	l.same = map[string]bool{}
	altered, checked, held := []facts.Record{}, 0, false
	stat, err := os.Stat(place)
	folder := err == nil && stat.IsDir()
	for _, p := range l.parts {
		base := "."
		switch {
		case p.Kind == "system":
		case !folder || l.Dialect == nil || l.Dialect.PartFolder(p.Kind, p.Name) == "":
			continue
		default:
			base = l.Dialect.PartFolder(p.Kind, p.Name)
		}
		list, err := upkeep.ReadSums(place, p.Name, p.Version)
		if p.Kind != "system" && errors.Is(err, upkeep.ErrNone) {
			continue // whoever supplies lists of extensions supplies those that there are
		}
		if err != nil {
			kind := facts.Failed
			if errors.Is(err, upkeep.ErrNone) {
				kind = facts.Unmapped
			}
			l.lack(kind, what+" of "+strings.TrimSpace(p.Name+" "+p.Version), err.Error(), names...)
			continue
		}
		if of, is := mismatch(list.Of, p); is {
			l.lack(facts.Unmapped, what+" of "+p.Name, fmt.Sprintf("the list is of %s, and %s is installed", of, cmp.Or(p.Version, "a version that nobody could tell")), names...)
			continue
		}
		if list.Skipped > 0 {
			l.lack(facts.Unmapped, fmt.Sprintf("%d lines of the checksums of %s", list.Skipped, p.Name), "they are no checksums with a path", facts.ListAltered)
		}
		found, err := l.hold(ctx, root, base, list)
		if err != nil {
			if ctx.Err() == nil {
				l.lack(facts.Failed, what+" of "+p.Name, facts.Plainly(err).Error(), names...)
			}
			continue
		}
		if n := len(found.Altered) + found.More; len(found.Same) < n/4 && n > 20 {
			l.lack(facts.Unmapped, what+" of "+p.Name, fmt.Sprintf("of %d files only %d are as the list has them: it seems to be of another version", n+len(found.Same), len(found.Same)), names...)
			continue
		}
		held = held || p.Kind == "system"
		checked += list.Count()
		for _, a := range found.Altered {
			altered = append(altered, facts.Record{List: facts.ListAltered, ID: path.Join(base, a.Path), From: l.near(a.At), Values: map[string]facts.Value{
				"path": facts.TextOf(facts.String, path.Join(base, a.Path)), "state": facts.TextOf(facts.Words, a.State)}})
		}
		for _, name := range found.Same {
			l.same[path.Join(base, name)] = true
		}
		if found.More > 0 {
			l.lack(facts.Failed, fmt.Sprintf("%d more files that are not as their list has them", found.More), "so many are told of at most", facts.ListAltered)
		}
		if len(found.Unread) > 0 {
			l.lack(facts.Failed, fmt.Sprintf("%d files of %s", len(found.Unread), p.Name), strings.Join(firstOf(found.Unread), "; "), facts.ListAltered)
		}
	}
	if held || checked > 0 {
		l.seen.Records[facts.ListAltered] = altered
		l.seen.Add(facts.UpkeepChecked.Reading(checked, facts.Origin{File: l.Site.Upkeep.Checksums}))
	}
}

// mismatch tells whether a list says that it is of something else than a part.
func mismatch(of string, p facts.Part) (string, bool) {
	name, version, said := strings.Cut(of, " ")
	version = strings.TrimPrefix(version, "v")
	return of, said && (!strings.EqualFold(name, p.Name) || p.Version == "" || version != strings.TrimPrefix(p.Version, "v"))
}

// hold holds the files below a folder of the root against a list.
func (l *looking) hold(ctx context.Context, root, base string, list *upkeep.Sums) (*upkeep.Held, error) {
	in, err := tree.Open(root)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if err := tree.IsFolder(in, base); err != nil {
		return nil, err
	}
	matcher := dialect.NewMatcher(l.Dialect)
	passed := func(name string) bool {
		name = path.Join(base, name)
		folder := matcher.Folder(path.Dir(name))
		return slices.Contains([]string{dialect.Config, dialect.Override, dialect.Uploads, dialect.Cache, dialect.Temporary}, matcher.Role(name, folder)) ||
			slices.Contains([]string{dialect.Uploads, dialect.Cache, dialect.Temporary}, folder)
	}
	gone := func(name string) bool { return plainFiles.MatchString(name) || l.removed(in, path.Join(base, name)) }
	suspect := func(name string) bool {
		if programEndings.MatchString(name) {
			return true
		}
		head, _ := tree.Head(in, path.Join(base, name), 64)
		return programHeads.Match(head)
	}
	return list.Hold(ctx, in, base, base != ".", passed, gone, suspect)
}

// removed tells whether a file is missing because all of the extension or theme is that it belonged to, or because it is of what the
// system is set up with.
func (l *looking) removed(files tree.Files, name string) bool {
	if l.Dialect == nil {
		return false
	}
	for _, installer := range l.Dialect.Installers {
		for _, public := range []string{l.public(), "."} {
			if place := path.Join(public, strings.TrimPrefix(installer, "/")); name == place || strings.HasPrefix(name, place+"/") {
				return true
			}
		}
	}
	for _, pattern := range l.Dialect.Parts.Folders {
		before, _, _ := strings.Cut(path.Clean(pattern), "{name}")
		rest, is := strings.CutPrefix(name, before)
		of, _, below := strings.Cut(rest, "/")
		if !is || !below {
			continue
		}
		if _, err := files.Lstat(before + of); errors.Is(err, fs.ErrNotExist) {
			return true
		}
	}
	return false
}

// stray finds folders of extensions and themes that the content system does not know of.
func (ask *Request) stray(seen *facts.Seen) {
	records, read := seen.Records[facts.ListExtensions]
	root := ask.root()
	if !read || root == "" || ask.Site.Sources.Files == nil || len(ask.Dialect.Parts.Folders) == 0 {
		if ask.Site.Sources.Files != nil {
			seen.AddGap(facts.Gap{Source: facts.Files, Kind: facts.Unmapped, What: "folders of extensions that are none", Names: []string{facts.FilesStray.Name}, Because: "no list of extensions was read, or the dialect does not say where they lie"})
		}
		return
	}
	known := map[string]bool{}
	for _, r := range records {
		for kind := range ask.Dialect.Parts.Folders {
			known[ask.Dialect.PartFolder(kind, r.Subject())] = true
		}
	}
	files, err := tree.Open(root)
	if err != nil {
		seen.AddGap(facts.GapOf(facts.Files, "the folder "+root, err, facts.FilesStray.Name))
		return
	}
	defer files.Close()
	stray := []string{}
	for _, pattern := range ask.Dialect.Parts.Folders {
		in, _, _ := strings.Cut(path.Clean(pattern), "{name}")
		entries, err := files.ReadDir(in)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			seen.AddGap(facts.GapOf(facts.Files, "the folder "+in, err, facts.FilesStray.Name))
			return
		}
		for _, entry := range entries {
			if name := entry.Path; entry.Kind == tree.Folder && !known[name] && holdsProgram(files, name) {
				stray = append(stray, name)
			}
		}
	}
	slices.Sort(stray)
	at := facts.Origin{Path: "."}
	if len(stray) > 0 {
		at = facts.Origin{Path: stray[0], Mode: lies(files, stray[0], tree.Folder)}
	}
	seen.Add(facts.FilesStray.Reading(slices.Compact(stray), at))
}

// holdsProgram tells whether a program or a style lies in a folder, not far below: an empty one is nothing that could be run.
func holdsProgram(files tree.Files, folder string) (holds bool) {
	_ = tree.Visit(files, folder, func(e tree.Entry, err error) error {
		switch deep := strings.Count(e.Path, "/") - strings.Count(folder, "/"); {
		case err != nil, e.Path == folder:
		case programEndings.MatchString(e.Path) || strings.HasSuffix(e.Path, ".css"):
			holds = true
			return fs.SkipAll
		case e.Kind == tree.Folder && deep >= 3:
			return fs.SkipDir
		}
		return nil
	})
	return holds
}

// strangeStays is for how long a program file that nothing explains is told of.
const strangeStays = 30 * 24 * time.Hour

// strange finds program files that came or changed since the last look though nothing explains it: no version is another, the checksums
// do not know them, and it was not this program that changed them. What an earlier look found stays for a month, while the file does.
func (ask *Request) strange(seen *facts.Seen) {
	before := ask.Before
	if before == nil || before.Programs == nil || seen.Programs == nil {
		if ask.Site.Sources.Files != nil {
			seen.AddGap(facts.Gap{Source: facts.Files, Kind: facts.Unmapped, What: "program files that changed", Names: []string{facts.ListStrange}, Because: "there is no earlier look to compare with"})
		}
		return
	}
	was, whole := map[string]facts.Program{}, !before.InPart(facts.ListPrograms)
	for _, p := range before.Programs {
		was[p.Path] = p
	}
	updated := ask.updated(before, seen)
	resaid := resaid(before, seen)
	since := before.Taken.Unix()
	strange := []facts.Record{}
	told := map[string]facts.Record{}
	for _, r := range before.Records[facts.ListStrange] {
		told[r.Subject()] = r
	}
	date := func(seconds int64) facts.Value { return facts.NumberOf(facts.Date, seconds) }
	for _, p := range seen.Programs {
		if ask.same[p.Path] || slices.Contains(ask.Ours, p.Path) || updated(p.Path) || resaid[p.Path] {
			continue
		}
		old, known := was[p.Path]
		what := ""
		switch {
		case !known && (whole || max(p.Changed, p.Touched) > since):
			what = "came"
		case known && (old.Size != p.Size || old.Changed != p.Changed):
			what = "changed"
		}
		if what != "" {
			strange = append(strange, facts.Record{List: facts.ListStrange, ID: p.Path, From: facts.Origin{Path: p.Path}, Values: map[string]facts.Value{
				"path": facts.TextOf(facts.String, p.Path), "what": facts.TextOf(facts.Words, what), "changed": date(p.Changed), "since": date(since)}})
			continue
		}
		if r, there := told[p.Path]; there && ask.Now.Sub(time.Unix(r.Values["since"].Number(), 0)) < strangeStays {
			strange = append(strange, r)
		}
	}
	if seen.Records == nil {
		seen.Records = map[string][]facts.Record{}
	}
	seen.Records[facts.ListStrange] = strange
}

// resaid are the files in which a setting says something else than before: somebody has told the content system so, and that is told as what
// it is.
func resaid(before *facts.Snapshot, seen *facts.Seen) map[string]bool {
	said := func(s *facts.Seen) map[string]string {
		all := map[string]string{}
		for _, r := range s.Readings {
			if r.Source == facts.Settings && r.Origin.File != "" {
				all[r.Origin.File+"\n"+r.Name] = r.Value.String()
			}
		}
		return all
	}
	was, is := said(&before.Seen), said(seen)
	files := map[string]bool{}
	for _, both := range [][2]map[string]string{{was, is}, {is, was}} {
		for place, value := range both[0] {
			if other, there := both[1][place]; !there || other != value {
				file, _, _ := strings.Cut(place, "\n")
				files[file] = true
			}
		}
	}
	return files
}

// updated tells of a file whether it belongs to something of which another version is installed than before. What the dialect does not
// say where it lies may be of anything.
func (ask *Request) updated(before *facts.Snapshot, seen *facts.Seen) func(name string) bool {
	versions := func(s *facts.Seen) map[string]string {
		of := map[string]string{}
		for _, r := range s.Records[facts.ListExtensions] {
			kind := r.Values["kind"].Text()
			of[kind+"\n"+r.Subject()] = r.Values["version"].Text()
		}
		return of
	}
	was, is := versions(&before.Seen), versions(seen)
	var folders []string
	anywhere := false
	for part, version := range is {
		if old, known := was[part]; known && old == version {
			continue
		}
		kind, name, _ := strings.Cut(part, "\n")
		folder := ""
		if ask.Dialect != nil {
			folder = ask.Dialect.PartFolder(kind, name)
		}
		if folder == "" {
			anywhere = true
		}
		folders = append(folders, folder)
	}
	earlier, _ := before.Is(facts.SystemVersion.Term)
	now, _ := seen.Is(facts.SystemVersion.Term)
	system := earlier.Text() != now.Text()
	return func(name string) bool {
		for _, folder := range folders {
			if folder != "" && strings.HasPrefix(name, folder+"/") {
				return true
			}
		}
		return anywhere || system && !ask.ofPart(name)
	}
}

// ofPart tells whether a file lies where extensions and themes do.
func (ask *Request) ofPart(name string) bool {
	if ask.Dialect == nil {
		return false
	}
	for _, pattern := range ask.Dialect.Parts.Folders {
		before, _, _ := strings.Cut(path.Clean(pattern), "{name}")
		if rest, is := strings.CutPrefix(name, before); is && strings.Contains(rest, "/") {
			return true
		}
	}
	return false
}
