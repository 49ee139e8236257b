// Package amend works out how web servers and the language runtime are to be told something else: at the level that answered, with
// every other byte of their files as it was, and with all addresses worked out again before anything is written. What would change an
// answer that nobody asked about is not proposed. It writes nothing and starts no program.
//
// It may import directives, facts, source/server and what lies below it, and source/runtime.
package amend

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/orders"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/tree"
)

// A World gives what servers make of addresses, with some files as they might be.
type World struct {
	Open   func(server.Overlay) (*server.Source, []facts.Gap)
	Probes server.Probes
	// Runtime gives what the runtime has been told, likewise.
	Runtime func(server.Overlay) (*runtime.Source, []facts.Gap)
	// Foreign says why a file, or all that servers are told, is none of the site's, and is not changed; "" where it is. Nil asks nothing.
	Foreign func(file string) string
	// Own tells whether a host of the servers is the site's, by its name. Nil asks nothing of other hosts.
	Own func(name string) bool
}

// A File is a file that changes.
type File struct {
	Path          string // absolute, links followed
	Before, After []byte // nil for one that is not there
}

// An Amendment is what puts something right.
type Amendment struct {
	Files []File
	Says  string   // what is written, and where
	From  string   // what stands there now
	To    string   // what will
	Parts []string // each of these, with what it takes the place of
	Also  []string // what changes besides, at addresses that were not asked about
	Hosts []string // other sites' hosts that are told it as well
	Notes []string // what else has to be known of it
	// Trial tells that it is a redirect that browsers do not keep: a wrong one that they did would stay in them, whatever is taken back.
	Trial bool
	// Override tells that an override file changes, which takes the folder down if the server refuses a line of it.
	Override bool
}

// A Refusal says why nothing is proposed.
type Refusal struct {
	Says  string
	cause error
}

// Unwrap is what it was made of.
func (r *Refusal) Unwrap() error { return r.cause }

func (r *Refusal) Error() string { return r.Says }

func refuse(format string, args ...any) error {
	cause := fmt.Errorf(format, args...)
	return &Refusal{cause.Error(), cause}
}

// A wish is one thing that answers are to be, and how one sees that they are.
type wish struct {
	says string
	// met tells whether an answer is as wished.
	met func(a *answer.Answer) bool
	// related tells whether a field of an answer may change: how it was and is.
	related func(f answer.Field, was, is server.Worked) bool
	// ways are the changes that may bring it about at an address, the best first.
	ways func(s *server.Source, a *answer.Answer, address *url.URL) []way
	// lacks says what the server has not that every way needs, "" for nothing; nil where there is no such thing.
	lacks func(s *server.Source) string
	// assume takes what is asked for to be there: the question is what would happen.
	assume bool
}

// work works out what is answered at an address.
func (w wish) work(s *server.Source, u *url.URL) *answer.Answer {
	if w.assume {
		return s.Work(u, u.Path)
	}
	return s.Work(u)
}

// A way is one change of one file.
type way struct {
	file     string
	data     []byte
	beside   map[string][]byte // files that it needs and that are its own
	says     string
	from, to string
	override bool
	notes    []string
}

// For works out what brings a wish about at addresses of the site.
func For(ctx context.Context, w World, of facts.Wish, addresses []url.URL) (*Amendment, error) {
	overlay, am := server.Overlay{}, &Amendment{}
	s, gaps := w.Open(overlay)
	if err := readable(s, gaps); err != nil {
		return nil, err
	}
	forGood := led(s, of, addresses)
	am.Trial = (of.Encrypt || of.Unify || of.Lead) && !forGood
	wishes := wishesOf(of, s.Address, forGood)
	if len(wishes) == 0 {
		return nil, refuse("nobody knows how the server is told that")
	}
	for _, one := range wishes {
		s, _ := w.Open(overlay)
		if err := bring(ctx, w, overlay, am, one, addresses, s.WorkAll(ctx, w.Probes)); err != nil {
			return nil, err
		}
	}
	if err := am.changed(w, overlay); err != nil {
		return nil, err
	}
	if len(am.Files) > 0 {
		am.Hosts = w.othersTold(overlay)
	}
	return am, ctx.Err()
}

// changed are the files that an overlay makes others. It is an error if one of them is none of the site's.
func (am *Amendment) changed(w World, overlay server.Overlay) error {
	for _, path := range slices.Sorted(maps.Keys(overlay)) {
		was, err := server.Overlay(nil).Bytes(path)
		if err != nil {
			was = nil
		}
		if !bytes.Equal(was, overlay[path]) {
			real := Real(path)
			if err := orders.Led(path, real); err != nil {
				return refuse("%w", err)
			}
			if w.Foreign != nil {
				if why := w.Foreign(real); why != "" {
					return refuse("%s", why)
				}
			}
			am.Files = append(am.Files, File{real, was, overlay[path]})
		}
	}
	return nil
}

// takes notes a way that is gone.
func (am *Amendment) takes(w way, also []string) {
	am.Says = strings.TrimPrefix(am.Says+"; "+w.says, "; ")
	am.From, am.To = strings.TrimPrefix(am.From+"; "+w.from, "; "), strings.TrimPrefix(am.To+"; "+w.to, "; ")
	am.Override, am.Parts = am.Override || w.override, append(am.Parts, w.from+" becomes "+w.to)
	for _, note := range w.notes {
		if !slices.Contains(am.Notes, note) {
			am.Notes = append(am.Notes, note)
		}
	}
	for _, address := range also {
		if !slices.Contains(am.Also, address) {
			am.Also = append(am.Also, address)
		}
	}
}

// readable refuses where the configuration was not read whole: what stands in the way may be what is to be changed.
func readable(s *server.Source, gaps []facts.Gap) error {
	if len(gaps) > 0 {
		return refuse("not all of the configuration could be read: %s: %s", gaps[0].What, gaps[0].Because)
	}
	if len(s.Servers) == 0 || s.Address == nil {
		return refuse("no configuration of a server was found")
	}
	return nil
}

// Real is the name of a file in full, with its links followed.
func Real(path string) string {
	if real, err := tree.Machine().Real(tree.Full(path)); err == nil {
		return filepath.Join("/", filepath.FromSlash(real))
	}
	return path
}

// most is how many addresses one after the other are put right; more of one kind have a cause of their own.
const most = 40

// bring puts addresses right, one after the other, as long as one is not.
func bring(ctx context.Context, w World, overlay server.Overlay, am *Amendment, one wish, addresses []url.URL, before []server.Worked) error {
	for range most {
		s, _ := w.Open(overlay)
		at := slices.IndexFunc(addresses, func(u url.URL) bool { return !one.met(one.work(s, &u)) })
		if at < 0 {
			return nil
		}
		u := addresses[at]
		a := one.work(s, &u)
		var why []string
		done := false
		for _, way := range one.ways(s, a, &u) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			trial := maps.Clone(overlay)
			trial[way.file] = way.data
			maps.Copy(trial, way.beside)
			also, err := w.holds(ctx, trial, one, &u, addresses, before)
			if err != nil {
				why = noted(why, err)
				continue
			}
			overlay[way.file] = way.data
			maps.Copy(overlay, way.beside)
			am.takes(way, also)
			done = true
			break
		}
		switch {
		case done:
		case why != nil:
			return refuse("%s", strings.Join(why, "; "))
		case one.lacks != nil && one.lacks(s) != "":
			return refuse("%s", one.lacks(s))
		default:
			return refuse("where the server is told that for %s is not known", u.String())
		}
	}
	return refuse("more than %d places would have to be changed", most)
}

// noted adds a reason, each once.
func noted(why []string, err error) []string {
	if slices.Contains(why, err.Error()) {
		return why
	}
	return append(why, err.Error())
}

// holds tells whether a change does what is wished at an address, and nothing that nobody asked for; also is what it does besides.
func (w World) holds(ctx context.Context, trial server.Overlay, one wish, u *url.URL, addresses []url.URL, before []server.Worked) (also []string, err error) {
	s, gaps := w.Open(trial)
	if err := readable(s, gaps); err != nil {
		return nil, err
	}
	if a := one.work(s, u); !one.met(a) {
		if unknown := a.Get(answer.Status).Unknown; unknown != nil {
			return nil, refuse("whether %s would say it by that cannot be told: %s", u.String(), unknown.Because)
		}
		return nil, refuse("%s would not say it by that", u.String())
	}
	after := map[string]server.Worked{}
	for _, worked := range s.WorkAll(ctx, w.Probes) {
		after[key(worked)] = worked
	}
	asked := map[string]bool{}
	for _, address := range addresses {
		asked[address.String()] = true
	}
	for _, was := range before {
		is, there := after[key(was)]
		if !there {
			continue
		}
		fields := map[answer.Field]bool{}
		for f := range was.Fields {
			fields[f] = true
		}
		for f := range is.Fields {
			fields[f] = true
		}
		for f := range fields {
			told, now := was.Get(f), is.Get(f)
			switch {
			case told.Known() && now.Known() && told.Text() == now.Text(), !told.Known() && !now.Known():
			case !told.Known() && now.Text() == "": // of nothing that anybody could tell nothing has become
			case f == answer.Place || f == answer.Server: // which section decides
			case refuses(was.Answer) && refuses(is.Answer) && (f == answer.File || f == answer.Denied || f == "header content-type"): // by whom, and with which page
			case !now.Known():
				return nil, refuse("the %s of %s could not be told any more: %s", fieldName(f), was.Address.String(), now.Unknown.Because)
			case one.related(f, was, is):
				if !asked[was.Address.String()] && !slices.Contains(also, was.Address.String()) {
					also = append(also, was.Address.String())
				}
			default:
				return nil, refuse("the %s of %s would change from %s to %s", fieldName(f), was.Address.String(), shown(told), shown(now))
			}
		}
	}
	return also, nil
}

// refuses tells whether an answer is that somebody may not have what is there (RFC 9110 §15.5.4).
func refuses(a *answer.Answer) bool { return a.Text(answer.Status) == "403" }

func key(w server.Worked) string { return w.Kind + " " + w.Address.String() }

func fieldName(f answer.Field) string {
	if name, is := f.IsHeader(); is {
		return "header " + name
	}
	return string(f)
}

func shown(t answer.Told) string {
	if text := t.Text(); text != "" {
		return text
	}
	return "nothing"
}
