package upkeep

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
	"weltaxis/internal/tree"
)

// Until when lists count: an older one knows of what is out of date, and nothing of what came since.
const (
	versionsCount   = 45 * 24 * time.Hour
	advisoriesCount = 60 * 24 * time.Hour
)

// maxParts is how many installed parts are looked up.
const maxParts = 5000

// An Ask is what of a site is held against what others know.
type Ask struct {
	Now                             time.Time
	Versions, Advisories, Checksums string                    // where the lists are, as the site file says: a file, a folder or an address; "" for none
	Resolve                         func(place string) string // where a place of the site file is
	Dir                             string                    // what is below it is named from it
	Offline                         bool                      // nothing is fetched
	Dialect                         *dialect.Dialect          // nil when nobody says
	Root                            string                    // of the installation, "" when nobody says
	Public                          string                    // the folder below it that is served, "." for all, "" when nobody can tell
	Parts                           []facts.Part              // what the content system says is installed, and what signs tell
}

// A looking is one look at what others know of what is installed.
type looking struct {
	Ask
	seen   facts.Seen
	fetch  *private.Folder // for what is fetched, nil while nothing was
	parts  []facts.Part
	system facts.Part      // its version is "" when nobody could tell
	same   map[string]bool // files that are as their checksums say
}

// Look looks up what others know of what is installed. Besides what it has seen, it gives the files below the root that are as their checksums say. The
// error is only that of a context that ended.
func Look(ctx context.Context, ask Ask) (same map[string]bool, seen facts.Seen, err error) {
	l := &looking{Ask: ask}
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
	return l.same, l.seen, ctx.Err()
}

func (l *looking) lack(kind facts.GapKind, what, because string, names ...string) {
	l.seen.AddGap(facts.Gap{Source: facts.Upkeep, What: what, Kind: kind, Because: because, Names: names})
}

// installed are the parts that are told of, each once: what the content system says of itself counts before what signs tell.
func (ask Ask) installed() (parts []facts.Part, passed int) {
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
func (ask Ask) signed() bool {
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
func (ask Ask) libraries() (parts []facts.Part) {
	in, err := tree.Open(ask.Root)
	if err != nil {
		return nil
	}
	defer in.Close()
	for _, folder := range []string{".", ask.Public} {
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
	case !IsAddress(said):
		return l.Resolve(said)
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
		file, err = Fetch(ctx, said, l.fetch.Dir)
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
	var list *Versions
	missing := "the site file names no list of versions; write upkeep: {versions: FILE}"
	if l.Versions != "" {
		missing = "the list of versions could not be read"
		if place := l.place(ctx, what, l.Versions, facts.UpkeepVersionsOf.Name); place != "" {
			var err error
			if list, err = ReadVersions(place); err != nil {
				l.lack(facts.Failed, what, err.Error(), facts.UpkeepVersionsOf.Name)
			} else {
				l.seen.Add(facts.UpkeepVersionsOf.Reading(list.Of.Unix(), facts.Origin{File: l.Versions}))
			}
		}
	}
	for _, p := range l.parts {
		l.seen.Records[facts.ListInstalled] = append(l.seen.Records[facts.ListInstalled], l.record(p, list, missing))
	}
}

// judgedFields are those that only a list of versions tells.
var judgedFields = []string{"behind", "newest", "behind_since", "supported", "supported_until", "last_release", "withdrawn"}

func (l *looking) record(p facts.Part, list *Versions, missing string) facts.Record {
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
	s := list.StateOf([]string{p.Name, name}, p.Version, ecosystem, l.Now)
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
	if l.Now.Sub(s.Of) > versionsCount { // what came since it does not know
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
		because("nobody says in which order its versions are; write order: in the list of versions, one of "+strings.Join(Ecosystems(), ", "), judgedFields...)
	case !s.Told:
		because("the list of versions does not tell how "+p.Version+" stands to what it names", judgedFields...)
	}
	because("the list of versions does not say", judgedFields...)
	return r
}

// advisories looks for known flaws of what is installed.
func (l *looking) advisories(ctx context.Context) {
	what, names := "the advisories", []string{facts.ListFlaws, facts.UpkeepAdvisories.Name, facts.UpkeepAdvisoriesOf.Name, facts.UpkeepUnjudged.Name}
	place := l.place(ctx, what, l.Advisories, names...)
	if place == "" {
		return
	}
	var packages []Package
	parts := map[Package]facts.Part{}
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
		of := Package{Ecosystem: ecosystem, Name: name, Version: p.Version}
		packages, parts[of] = append(packages, of), p
	}
	found, err := Advise(ctx, place, packages)
	if err != nil {
		if ctx.Err() == nil {
			l.lack(facts.Failed, what, err.Error(), names...)
		}
		return
	}
	at := facts.Origin{File: l.Advisories}
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
	if l.Now.Sub(found.Newest) > advisoriesCount {
		of := "of no day that they say"
		if !found.Newest.IsZero() {
			of = "of " + found.Newest.Format("2 January 2006")
		}
		l.lack(facts.Unmapped, "flaws that became known since", "the newest of the advisories is "+of, facts.ListFlaws)
	}
}

// near names a list as the site file does: relative to itself, or by the address that it was fetched from.
func (l *looking) near(at facts.Origin) facts.Origin {
	for _, said := range []string{l.Versions, l.Advisories, l.Checksums} {
		if l.fetch != nil && IsAddress(said) && strings.HasPrefix(at.File, l.fetch.Dir) && strings.HasPrefix(filepath.Base(at.File), path.Base(said)) {
			at.File = said
			return at
		}
	}
	if below, err := filepath.Rel(l.Dir, at.File); err == nil && filepath.IsLocal(below) {
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

// IsProgram tells whether a file is called as what servers run, or programs read in.
func IsProgram(name string) bool { return programEndings.MatchString(name) }

// checksums holds the files of the system, and of what else there are lists for, against them.
func (l *looking) checksums(ctx context.Context) {
	what, names := "the checksums", []string{facts.ListAltered, facts.UpkeepChecked.Name}
	place := l.place(ctx, what, l.Checksums, names...)
	if place == "" {
		return
	}
	root := l.Root
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
		list, err := ReadSums(place, p.Name, p.Version)
		if p.Kind != "system" && errors.Is(err, ErrNone) {
			continue // whoever supplies lists of extensions supplies those that there are
		}
		if err != nil {
			kind := facts.Failed
			if errors.Is(err, ErrNone) {
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
		l.seen.Add(facts.UpkeepChecked.Reading(checked, facts.Origin{File: l.Checksums}))
	}
}

// mismatch tells whether a list says that it is of something else than a part.
func mismatch(of string, p facts.Part) (string, bool) {
	name, version, said := strings.Cut(of, " ")
	version = strings.TrimPrefix(version, "v")
	return of, said && (!strings.EqualFold(name, p.Name) || p.Version == "" || version != strings.TrimPrefix(p.Version, "v"))
}

// hold holds the files below a folder of the root against a list.
func (l *looking) hold(ctx context.Context, root, base string, list *Sums) (*Held, error) {
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
		if IsProgram(name) {
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
		for _, public := range []string{l.Public, "."} {
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
