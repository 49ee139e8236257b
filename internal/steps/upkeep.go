package steps

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/source/upkeep"
	"weltaxis/internal/tree"
)

// Upkeep looks up what others know of what is installed. It finds the files that are as their checksums say.
var Upkeep = &gather.Step[map[string]bool]{
	Name: "upkeep", Source: facts.Upkeep, Uses: []gather.Any{Settings, Live, Public},
	Asked: func(ask gather.Request) bool { return ask.Site.Upkeep != nil },
	Where: whereUpkeep,
	Gather: func(ctx context.Context, ask gather.Request, of gather.Results) (map[string]bool, facts.Seen, error) {
		told, _ := Settings.Of(of)
		found, _ := Live.Of(of)
		at, _ := Public.Of(of)
		s := ask.Site
		return upkeep.Look(ctx, upkeep.Ask{Now: ask.Now, Versions: s.Upkeep.Versions, Advisories: s.Upkeep.Advisories, Checksums: s.Upkeep.Checksums, Resolve: s.Resolve, Dir: s.Dir,
			Offline: ask.Offline, Dialect: ask.Dialect, Root: s.Root(), Public: at.Below, Parts: slices.Concat(told.Parts, found.Parts)})
	},
}

// whereUpkeep is where it is looked up what others know.
func whereUpkeep(ask gather.Request, _ map[string]bool) string {
	u := ask.Site.Upkeep
	places := slices.DeleteFunc([]string{u.Versions, u.Advisories, u.Checksums}, func(place string) bool { return place == "" })
	in := path.Dir(filepath.ToSlash(places[0]))
	if len(places) > 1 && !slices.ContainsFunc(places, func(place string) bool { return path.Dir(filepath.ToSlash(place)) != in || upkeep.IsAddress(place) }) {
		return in
	}
	return strings.Join(places, ", ")
}

// Stray finds folders of extensions and themes that the content system does not know of.
var Stray = &gather.Step[nothing]{
	Name: "stray folders", Source: facts.Files, Requires: []gather.Any{Settings},
	Asked:   asksFiles,
	Without: noStray,
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (_ nothing, seen facts.Seen, _ error) {
		_, told := Settings.Of(of)
		stray(ask, told, &seen)
		return nothing{}, seen, nil
	},
}

var noStray = facts.Gap{Source: facts.Files, Kind: facts.Unmapped, What: "folders of extensions that are none", Names: []string{facts.FilesStray.Name}, Because: "no list of extensions was read, or the dialect does not say where they lie"}

func stray(ask gather.Request, told, seen *facts.Seen) {
	records, read := told.Records[facts.ListExtensions]
	root := ask.Site.Root()
	if !read || root == "" || len(ask.Dialect.Parts.Folders) == 0 {
		seen.AddGap(noStray)
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
		case upkeep.IsProgram(e.Path) || strings.HasSuffix(e.Path, ".css"):
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

// Strange finds program files that came or changed since the last look though nothing explains it: no version is another, the checksums
// do not know them, and it was not this program that changed them. What an earlier look found stays for a month, while the file does.
var Strange = &gather.Step[nothing]{
	Name: "strange programs", Source: facts.Files, Requires: []gather.Any{Files}, Uses: []gather.Any{Settings, Upkeep},
	Without: noStrange,
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (_ nothing, seen facts.Seen, _ error) {
		_, told := Settings.Of(of)
		same, _ := Upkeep.Of(of)
		_, lie := Files.Of(of)
		if ask.Before == nil || ask.Before.Programs == nil || lie.Programs == nil {
			seen.AddGap(noStrange)
		} else {
			seen.Records = map[string][]facts.Record{facts.ListStrange: strange(ask, lie.Programs, told, same)}
		}
		return nothing{}, seen, nil
	},
}

var noStrange = facts.Gap{Source: facts.Files, Kind: facts.Unmapped, What: "program files that changed", Names: []string{facts.ListStrange}, Because: "there is no earlier look to compare with"}

// strange are those of the programs, by what the content system says now and by which of the files are as their checksums say.
func strange(ask gather.Request, programs []facts.Program, told *facts.Seen, same map[string]bool) []facts.Record {
	before := ask.Before
	was, whole := map[string]facts.Program{}, !before.InPart(facts.ListPrograms)
	for _, p := range before.Programs {
		was[p.Path] = p
	}
	updated := updated(ask, before, told)
	resaid := resaid(before, told)
	since := before.Taken.Unix()
	strange := []facts.Record{}
	earlier := map[string]facts.Record{}
	for _, r := range before.Records[facts.ListStrange] {
		earlier[r.Subject()] = r
	}
	date := func(seconds int64) facts.Value { return facts.NumberOf(facts.Date, seconds) }
	for _, p := range programs {
		if same[p.Path] || slices.Contains(ask.Ours, p.Path) || updated(p.Path) || resaid[p.Path] {
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
		if r, there := earlier[p.Path]; there && ask.Now.Sub(time.Unix(r.Values["since"].Number(), 0)) < strangeStays {
			strange = append(strange, r)
		}
	}
	return strange
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
func updated(ask gather.Request, before *facts.Snapshot, seen *facts.Seen) func(name string) bool {
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
		return anywhere || system && !ofPart(ask, name)
	}
}

// ofPart tells whether a file lies where extensions and themes do.
func ofPart(ask gather.Request, name string) bool {
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
