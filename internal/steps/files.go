package steps

import (
	"cmp"
	"context"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/site"
	"weltaxis/internal/source/files"
	"weltaxis/internal/tree"
)

// A Folder is what is known of the folder that the web server serves.
type Folder struct {
	Server string   // as the web server's configuration has it; "" when nobody says
	Own    bool     // that configuration is the machine's own, and no copy beside the site file
	Paths  []string // at which the web server has files, by which it may be found
	Below  string   // below the root of the files, "." for all of it; "" when nothing tells
}

// Public finds the folder that is served.
var Public = &gather.Step[Folder]{
	Name: "served folder", Source: facts.Files, Uses: []gather.Any{Server, Live},
	Asked: func(gather.Request) bool { return true },
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (at Folder, _ facts.Seen, _ error) {
		if servers, _ := Server.Of(of); servers != nil {
			at.Server, at.Own = servers.Serving(), servers.Elsewhere()
		}
		found, _ := Live.Of(of)
		at.Paths = found.Served
		switch {
		case ask.Site.Sources.Files != nil:
			at.Below = Tree(ask.Site, ask.Dialect, at).Serves()
		case ask.Dialect != nil && ask.Dialect.Public != "":
			at.Below = path.Clean(ask.Dialect.Public)
		}
		return at, facts.Seen{}, nil
	},
}

// Files counts the tree.
var Files = &gather.Step[nothing]{
	Name: "files", Source: facts.Files, Uses: []gather.Any{Public},
	Asked: asksFiles,
	Where: func(ask gather.Request, _ nothing) string { return ask.Site.Sources.Files.Root },
	Gather: func(ctx context.Context, ask gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		at, _ := Public.Of(of)
		source := Tree(ask.Site, ask.Dialect, at)
		source.Room = ask.Room
		seen, err := source.Gather(ctx)
		if err == nil && seen.Classes == nil {
			err = gather.ErrUnseen
		}
		return nothing{}, seen, err
	},
}

func asksFiles(ask gather.Request) bool { return ask.Site.Sources.Files != nil }

// Tree is the source of a site's files. Which folder the web server serves is what the site file says, or else what the
// server's configuration does, or else what the paths tell at which it has files.
func Tree(s *site.Site, d *dialect.Dialect, at Folder) *files.Source {
	f := s.Sources.Files
	source := &files.Source{Root: s.Resolve(f.Root), Dialect: d, Public: f.Public, Served: at.Paths, WebUser: s.Said("web_user"), Shared: s.Said("hosting") == "shared"}
	below := publicBelow(source.Root, at.Server)
	if source.InPlace = at.Own && below != ""; source.Public == "" {
		source.Public = below
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

// Served works out what the web server makes of the files: it takes the folder that is served from the one source, and the
// answers from the other. Of what nobody outside should get, and of programs, all addresses are worked out by which they could be had.
var Served = &gather.Step[nothing]{
	Name: "served files", Source: facts.Files, Requires: []gather.Any{Files, Server}, Completes: true,
	Without: facts.Gap{What: "what the web server makes of the files", Names: []string{facts.ListClasses + ".answer", facts.ListClasses + ".address"}},
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		servers, _ := Server.Of(of)
		_, lie := Files.Of(of)
		root, hosts := ask.Site.Resolve(ask.Site.Sources.Files.Root), ask.Site.SaidList("aliases")
		seen := facts.Seen{Classes: slices.Clone(lie.Classes)}
		reached, more := 0, []facts.Class(nil)
		for i := range seen.Classes[:min(len(seen.Classes), maxServed)] {
			class := &seen.Classes[i]
			if class.Kind != tree.File {
				continue
			}
			worse := worseOf(class)
			for n, name := range class.Paths {
				name = filepath.Join(root, filepath.FromSlash(name))
				if class.Public { // all that are named must be alike
					what, at := servers.Served(name)
					if n > 0 && what != class.Answer {
						what, at = "", facts.Origin{}
					}
					class.Answer, class.AnswerAt = what, at
					if class.Answer == "" {
						break
					}
				}
			}
			if class.Answer == "run" && class.Within == dialect.Uploads && class.Single && slices.Contains([]string{"page", "picture", "data", "dormant"}, class.Content) { // whatever it is called
				class.Content = "program"
				worse = worseOf(class)
			}
			class.Reached = worse != nil && class.Tries.All
			var out []facts.Class // those of it that come out, each by itself
			for _, name := range class.Tries.Paths {
				if worse == nil {
					break
				}
				if reached++; reached > maxReached {
					class.Reached = false
					break
				}
				r, tried := servers.Reached(filepath.Join(root, filepath.FromSlash(name)), hosts, worse...)
				if class.Reached = class.Reached && tried; r.Address == "" {
					continue
				}
				one := class
				switch {
				case class.Count > 1 && files.Secret(class.Role):
					out = append(out, alone(class, name))
					one = &out[len(out)-1]
				case class.Count > 1: // the others of its folder come out as well
					shown := tree.Printable(name)
					class.Paths = slices.Insert(slices.DeleteFunc(slices.Clone(class.Paths), func(p string) bool { return p == shown }), 0, shown)
				}
				one.Answer, one.AnswerAt, one.Address, one.Reached = r.What, r.At, r.Address, true
				if refusedBySystem(one); one == class {
					break
				}
			}
			if refusedBySystem(class); len(out) > 0 {
				leave(class, out)
				more = append(more, out...)
			}
		}
		seen.Classes = append(slices.DeleteFunc(seen.Classes, func(c facts.Class) bool { return c.Count == 0 }), more...)
		return nothing{}, seen, nil
	},
}

// alone is one entry of a class, as a class of its own.
func alone(class *facts.Class, name string) facts.Class {
	one := *class
	one.Paths, one.Count, one.Single, one.Under, one.Tries = []string{tree.Printable(name)}, 1, true, tree.Printable(path.Dir(name)), facts.Tries{}
	return one
}

// leave takes entries out of a class that are classes of their own. None is left where those were all.
func leave(class *facts.Class, out []facts.Class) {
	gone := func(shown string) bool {
		return slices.ContainsFunc(out, func(one facts.Class) bool { return one.Paths[0] == shown })
	}
	class.Count -= len(out)
	class.Paths = slices.DeleteFunc(slices.Clone(class.Paths), gone)
	for _, name := range class.Tries.Paths { // of the first few some may be gone
		if shown := tree.Printable(name); len(class.Paths) < 3 && !gone(shown) && !slices.Contains(class.Paths, shown) {
			class.Paths = append(class.Paths, shown)
		}
	}
}

// refusedBySystem is that a web server does not give out what it may not read itself.
func refusedBySystem(class *facts.Class) {
	if class.Answer == "served" && class.Web != "" && !strings.Contains(class.Web, "r") {
		class.Answer, class.AnswerAt, class.Address = "refused", class.Origin(), ""
	}
}

// worseOf is what is not to become of the files of a class, the worst last; nil where anything may: who wants to hide nothing, and
// runs what is to be run.
func worseOf(class *facts.Class) []string {
	program := slices.Contains([]string{"program", "command", "disguised"}, class.Content)
	switch {
	case cmp.Or(class.Within, class.Role) == dialect.Uploads && program:
		return []string{"served", "run"}
	case files.Secret(class.Role), program:
		return []string{"served"}
	}
	return nil
}

// The bounds of what is held against the web server's configuration: classes, and files of which all addresses are worked out.
const (
	maxServed  = 3000
	maxReached = 500
)
