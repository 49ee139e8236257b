package server

import (
	"cmp"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/tree"
)

// A Reach is what comes of a file at the address at which most can be had of it.
type Reach struct {
	Address string // in full; "" where nobody is given the file, nor has it run
	What    string // served, run, refused, elsewhere; "" when nobody can tell
	At      facts.Origin
}

// The bounds of what is tried.
const (
	maxLinks          = 1000   // links below what is served
	maxFoldersOfLinks = 20_000 // folders that are looked into for them
	maxTried          = 20_000 // addresses of all files together
	maxWays           = 60     // names, and addresses, of one file
	maxRewrote        = 2      // rewrites one after the other
)

// A way leads from the name of a file to addresses at which it may be, or from an address to others that may lead to it.
type way func(name string) []string

// ways are those that the servers' configurations open, and a link that lies below what they serve.
type ways struct {
	toAddress []way // from a file
	rewritten []way // from an address
	links     []link
	cut       bool // there are more links, or more folders in which they may lie, than are looked at
}

// A link lies at one path of this machine and leads to another.
type link struct{ at, to string }

// Reached works out all addresses by which a file of this machine may be had: below what is served, by links, by other names of folders, by what is
// rewritten, and at each of the site's hosts. Worse is what is not to become of it, the worst last; an address at which that does is given. False is that
// nobody can tell, or that so many addresses have been tried that no more are.
func (s *Source) Reached(file string, hosts []string, worse ...string) (best Reach, tried bool) {
	if len(s.Servers) == 0 || s.Address == nil {
		return best, false
	}
	s.opening.Do(s.findWays)
	file, err := filepath.Abs(file)
	own := answer.Real(file)
	if err != nil || own == "" {
		return best, false
	}
	tried = !s.ways.cut
	rank := func(what string) int {
		return slices.Index([]string{"", "elsewhere", "refused"}, what) + 10*(1+slices.Index(worse, what))
	}
	for _, address := range s.addressesOf(file, own, slices.Contains(worse, "run")) {
		for _, u := range s.atHosts(address, hosts) {
			if s.tried.Add(1) > maxTried {
				return best, best.Address != ""
			}
			what, at := s.makes(u, own)
			tried = tried && what != "" // what cannot be told of one address may be the worst
			if best.What == "" || rank(what) > rank(best.What) {
				best = Reach{What: what, At: at}
				if slices.Contains(worse, what) {
					best.Address = u.String()
				}
			}
			if len(worse) > 0 && what == worse[len(worse)-1] {
				return best, true
			}
		}
	}
	return best, tried || best.Address != ""
}

// makes is what the servers make of a file at an address; elsewhere where another is found there, or none.
func (s *Source) makes(u *url.URL, own string) (what string, at facts.Origin) {
	a := s.Work(u)
	handler, status, found := a.Get(answer.Handler), a.Get(answer.Status), a.Get(answer.File)
	switch {
	case !handler.Known():
		return "", at
	case a.Text(answer.Denied) != "" || a.Text(answer.Login) != "":
		return "refused", cmp.Or(a.Get(answer.Denied).Origin, a.Get(answer.Login).Origin)
	case handler.Text() == "error":
		return "refused", handler.Origin
	case handler.Text() == "proxy" || !found.Known():
		return "", at
	case answer.Real(found.Text()) != own:
		return "elsewhere", handler.Origin
	case handler.Text() == "static" && !status.Known(), !a.Get(answer.Denied).Known(), !a.Get(answer.Login).Known():
		return "", at
	case handler.Text() == "static" && status.Text() == "200":
		return "served", handler.Origin
	case handler.Text() == "program":
		return "run", handler.Origin
	}
	return "elsewhere", handler.Origin
}

// atHosts is an address at each of the site's hosts, its own first, in each scheme in which the outermost server answers there.
func (s *Source) atHosts(address string, hosts []string) (all []*url.URL) {
	u, err := url.Parse(address)
	if err != nil {
		return nil
	}
	add := func(scheme, host string) {
		at := *u
		at.Scheme, at.Host = scheme, host
		if port := s.Address.Port(); port != "" && at.Port() == "" && scheme == s.Address.Scheme { // where its own name answers the others do
			at.Host += ":" + port
		}
		if !slices.ContainsFunc(all, func(o *url.URL) bool { return o.String() == at.String() }) {
			all = append(all, &at)
		}
	}
	add(s.Address.Scheme, s.Address.Host)
	for _, host := range append([]string{s.Address.Host}, hosts...) {
		name := (&url.URL{Host: host}).Hostname()
		encrypted := s.Servers[0].Encrypts(name)
		if len(encrypted) > 0 {
			add("https", host)
		}
		if slices.ContainsFunc(s.Servers[0].Serves(name), func(port int) bool { return !slices.Contains(encrypted, port) }) {
			add("http", host)
		}
	}
	return all
}

// addressesOf are addresses at which a file may be, escaped. One that is a program may be asked for with more behind its name.
func (s *Source) addressesOf(file, own string, program bool) (all []string) {
	names := []string{file, own}
	for range maxRewrote { // links may lead to links
		for _, name := range slices.Clone(names) {
			for _, l := range s.ways.links {
				if rest, is := strings.CutPrefix(name, l.to); is && (rest == "" || rest[0] == '/') && len(names) < maxWays && !slices.Contains(names, l.at+rest) {
					names = append(names, l.at+rest)
				}
			}
		}
	}
	add := func(address string) {
		if strings.HasPrefix(address, "/") && len(all) < maxWays && !slices.Contains(all, address) {
			all = append(all, address)
		}
	}
	for _, name := range names {
		for _, way := range s.ways.toAddress {
			for _, address := range way(name) {
				add(address)
			}
		}
	}
	for range maxRewrote {
		for _, address := range slices.Clone(all) {
			for _, way := range s.ways.rewritten {
				for _, other := range way(address) {
					add(other)
				}
			}
		}
	}
	for i, address := range all {
		all[i] = escaped(address)
	}
	if program {
		for _, address := range slices.Clone(all) {
			all = append(all, address+"/"+token)
		}
	}
	return all
}

// findWays reads the ways out of the configurations.
func (s *Source) findWays() {
	w := &s.ways
	folders := []string{}
	folder := func(prefix, name string) { // what is below the one is at the other, letter by letter
		if name == "" || strings.Contains(name, "$") || !filepath.IsAbs(name) {
			return
		}
		folders = append(folders, name)
		real := answer.Real(name)
		w.toAddress = append(w.toAddress, func(file string) (addresses []string) {
			for _, spelt := range []string{name, real} {
				if rest, is := strings.CutPrefix(file, spelt); is && spelt != "" {
					addresses = append(addresses, prefix+rest)
				}
				if strings.HasSuffix(name, "/") && spelt != "" && !strings.HasSuffix(spelt, "/") {
					if rest, is := strings.CutPrefix(file, spelt+"/"); is {
						addresses = append(addresses, prefix+rest)
					}
				}
			}
			if strings.HasSuffix(name, "/") && !strings.HasSuffix(prefix, "/") { // prefix../x is x beside the folder
				if rest, is := strings.CutPrefix(file, filepath.Dir(filepath.Clean(name))+"/"); is {
					addresses = append(addresses, prefix+"../"+rest)
				}
			}
			return addresses
		})
	}
	if root, _ := s.root(); root != "" {
		folder("/", root+"/")
	}
	var walk func(nodes []*directives.Node, place *directives.Node)
	walk = func(nodes []*directives.Node, place *directives.Node) {
		for _, n := range nodes {
			switch {
			case n.Is("root", "DocumentRoot"):
				folder("/", strings.TrimSuffix(n.Arg(0), "/")+"/")
			case n.Is("alias") && place != nil:
				s.aliased(n.Arg(0), place, folder)
			case n.Is("Alias", "ScriptAlias") && len(n.Args) > 1:
				folder(n.Arg(0), n.Arg(1))
			case n.Is("AliasMatch", "ScriptAliasMatch") && len(n.Args) > 1:
				w.toAddress = append(w.toAddress, backwards(n.Arg(0), n.Arg(1)))
			case n.Is("rewrite", "RewriteRule") && len(n.Args) > 1:
				s.rewrites(n.Arg(0), n.Arg(1))
			}
			inner := place
			if n.Is("location") {
				inner = n
			}
			walk(n.Body, inner)
		}
	}
	for _, server := range s.Servers {
		walk(server.Tree.Root, nil)
		if root, _ := s.root(); root != "" && server.Kind == Apache {
			if data, err := server.assumed.Read(filepath.Join(root, ".htaccess")); err == nil {
				for _, m := range ruleLine.FindAllStringSubmatch(string(data), maxLinks) {
					s.rewrites(m[1], m[2])
				}
			}
		}
	}
	s.linksIn(folders)
}

// ruleLine is a line of an override file that rewrites.
var ruleLine = regexp.MustCompile(`(?mi)^\s*RewriteRule\s+"?(\S+?)"?\s+"?(\S+?)"?(?:\s|$)`)

// rewrites notes the ways that a rewriting opens: from a file that it names, and from an address.
func (s *Source) rewrites(expression, to string) {
	if strings.HasPrefix(expression, "!") || to == "-" || strings.Contains(to, "://") {
		return
	}
	if !strings.HasPrefix(to, "/") {
		to = "/" + to
	}
	to, _, _ = strings.Cut(to, "?")
	s.ways.toAddress = append(s.ways.toAddress, backwards(expression, to))
	s.ways.rewritten = append(s.ways.rewritten, backwards(expression, to))
}

// aliased notes the ways that a place of nginx opens by alias.
func (s *Source) aliased(name string, place *directives.Node, folder func(prefix, name string)) {
	switch last := place.Arg(len(place.Args) - 1); {
	case strings.HasPrefix(place.Arg(0), "~"):
		s.ways.toAddress = append(s.ways.toAddress, backwards(last, name))
	default:
		folder(last, name)
	}
}

var group = regexp.MustCompile(`\$(\d)`)

// backwards leads from what an expression is replaced with to what it fits.
func backwards(expression, to string) way {
	if strings.Contains(group.ReplaceAllString(to, ""), "$") || strings.Contains(to, "%{") {
		return func(string) []string { return nil } // it depends on something else
	}
	var numbers []string
	pattern := "^"
	rest := to
	for {
		at := group.FindStringSubmatchIndex(rest)
		if at == nil {
			break
		}
		pattern += regexp.QuoteMeta(rest[:at[0]]) + "(.*)"
		numbers, rest = append(numbers, rest[at[2]:at[3]]), rest[at[1]:]
	}
	made, err := regexp.Compile(pattern + regexp.QuoteMeta(rest) + "$")
	if err != nil {
		return func(string) []string { return nil }
	}
	return func(name string) []string {
		m := made.FindStringSubmatch(name)
		if m == nil {
			return nil
		}
		held := map[int]string{}
		for i, number := range numbers {
			held[int(number[0]-'0')] = m[i+1]
		}
		address, fits := sampleWith(expression, held)
		if !fits {
			return nil
		}
		if !strings.HasPrefix(address, "/") {
			address = "/" + address // in an override file addresses have no slash before them
		}
		return []string{address}
	}
}

// linksIn notes the links below folders, and below what these lead to.
func (s *Source) linksIn(folders []string) {
	looked := map[string]bool{}
	for queue := folders; len(queue) > 0; queue = queue[1:] {
		if len(looked) == maxFoldersOfLinks || len(s.ways.links) >= maxLinks {
			s.ways.cut = true
			return
		}
		at := answer.Real(queue[0])
		if at == "" || looked[at] {
			continue
		}
		looked[at] = true
		var entries []tree.Entry
		_ = tree.Near(at, func(files tree.Files, name string) (err error) {
			entries, err = files.ReadDir(name)
			return err
		})
		for _, e := range entries {
			switch name := filepath.Join(at, e.Base()); e.Kind {
			case tree.Folder:
				queue = append(queue, name)
			case tree.Link:
				if to := answer.Real(name); to != "" {
					s.ways.links = append(s.ways.links, link{name, to})
					queue = append(queue, to)
				}
			}
		}
	}
}
