package runtime

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/tree"
)

// A pool is a group of workers of PHP-FPM.
type pool struct {
	name   string
	listen string
	user   string
	run    facts.Origin
	chroot bool // its workers see another root than this machine's
	at     facts.Origin
	limit  *[]string // endings of files that are run (security.limit_extensions); nil for those that come with PHP-FPM
	limits facts.Origin
	lines  []poolLine
}

// A poolLine is a value that a pool sets for the runtime.
type poolLine struct {
	placed
	admin bool
}

// maxIncludes is how many files of pools are read.
const maxIncludes = 1000

// pools reads PHP-FPM's own files, which are read line by line.
func (c *Config) pools(file string, depth int) {
	data, err := c.bytes(file)
	if err != nil {
		c.poolUnread = c.gap(file, err)
		return
	}
	if c.included++; c.included > maxIncludes || depth > 8 {
		c.poolUnread = c.lack("%s: more than %d files are included", file, maxIncludes)
		return
	}
	for n, line := range bytes.Split(data, []byte("\n")) {
		f := readINI(file, line, c.earlier, nil)
		if f.broken > 0 {
			c.poolUnread = c.lack("%s, line %d: %s; PHP-FPM does not start with it", file, n+1, f.wrong)
			continue
		}
		if text := strings.TrimSpace(string(line)); strings.HasPrefix(text, "[") && len(f.entries) == 0 {
			if end := strings.IndexByte(text, ']'); end > 0 {
				c.section = text[1:end]
			}
			continue
		}
		for _, e := range f.entries {
			e.line, e.text = n+1, oneLine(line)
			c.poolEntry(file, e, depth)
		}
	}
}

func (c *Config) poolEntry(file string, e entry, depth int) {
	if e.name == "include" && !e.indexed {
		pattern := e.value
		if !filepath.IsAbs(pattern) {
			pattern = filepath.Join(filepath.Dir(file), pattern)
		}
		names, _ := filepath.Glob(pattern)
		for _, name := range names {
			if !strings.HasPrefix(filepath.Base(name), ".") || strings.HasPrefix(filepath.Base(pattern), ".") {
				c.pools(name, depth+1)
			}
		}
		return
	}
	if c.section == "" || strings.EqualFold(c.section, "global") {
		return
	}
	i := slices.IndexFunc(c.poolList, func(p *pool) bool { return p.name == c.section })
	if i < 0 {
		c.poolList = append(c.poolList, &pool{name: c.section})
		i = len(c.poolList) - 1
	}
	p := c.poolList[i]
	switch kind := strings.TrimPrefix(e.name, "php_"); {
	case e.name == "listen":
		p.listen, p.at = strings.ReplaceAll(e.value, "$pool", p.name), facts.Origin{File: file, Line: e.line}
	case e.name == "user":
		p.user, p.run = e.value, facts.Origin{File: file, Line: e.line}
	case e.name == "security.limit_extensions":
		endings := strings.Fields(e.value)
		p.limit, p.limits = &endings, facts.Origin{File: file, Line: e.line}
	case e.name == "chroot":
		p.chroot = e.value != ""
	case e.indexed && slices.Contains([]string{"value", "flag", "admin_value", "admin_flag"}, kind) && kind != e.name:
		admin := strings.HasPrefix(kind, "admin_")
		line := poolLine{placed{file, entry{name: e.offset, value: strings.ReplaceAll(e.value, "$pool", p.name), unknown: e.unknown, line: e.line, text: e.text}}, admin}
		p.lines = append(p.lines, line)
	}
}

// A PoolUser is as whom the workers of a pool of PHP-FPM run.
type PoolUser struct {
	Pool, Name string
	Origin     facts.Origin
}

// Users are those of all pools; a pool that says nothing runs as whoever started it.
func (c *Config) Users() (all []PoolUser) {
	for _, p := range c.poolList {
		if p.user != "" {
			all = append(all, PoolUser{p.name, p.user, p.run})
		}
	}
	return all
}

// poolOf is the pool that listens where the web server asks; nil when there is none, or several take turns.
func (c *Config) poolOf(listen []string) (found *pool) {
	for _, asked := range listen {
		i := slices.IndexFunc(c.poolList, func(p *pool) bool { return sameAddress(p.listen, asked) })
		if i < 0 || found != nil && found != c.poolList[i] {
			return nil
		}
		found = c.poolList[i]
	}
	return found
}

// A Limit is which files a pool runs, whatever the web server hands it.
type Limit struct {
	Endings []string // the only ones that are run; none where all are
	At      facts.Origin
	// Literal tells that a path is that of a file as it stands: otherwise, what follows a file in it is information for that one (cgi.fix_pathinfo). Unsure is why that cannot be told.
	Literal bool
	Unsure  string
}

// Limit is that of the pool which listens somewhere. Known is false where it cannot be told which pool that is, or not all of its files could be read.
// Source: PHP manual, FastCGI Process Manager, security.limit_extensions, and cgi.fix_pathinfo.
func (c *Config) Limit(listen []string) (l Limit, known bool) {
	p := c.poolOf(listen)
	if p == nil || c.poolUnread != nil {
		return l, false
	}
	if l = (Limit{Endings: []string{".php", ".phar"}, At: p.at}); p.limit != nil {
		l.Endings, l.At = *p.limit, p.limits
	}
	fixes := c.Values(Place{Listen: listen, Script: "/"}, nil)["cgi.fix_pathinfo"]
	l.Literal, l.Unsure = !yes(fixes.Value), fixes.Unknown
	return l, true
}

// sameAddress tells whether a pool that listens in one place is asked in another.
func sameAddress(listens, asked string) bool {
	asked = strings.TrimPrefix(asked, "unix:")
	if strings.HasPrefix(listens, "/") || strings.HasPrefix(asked, "/") {
		return listens == asked || resolved(listens) == resolved(asked)
	}
	host, port := hostPort(listens)
	askedHost, askedPort := hostPort(asked)
	if port != askedPort {
		return false
	}
	any := host == "" || host == "*" || host == "0.0.0.0" || host == "::"
	return any || host == askedHost
}

func hostPort(address string) (host, port string) {
	i := strings.LastIndexByte(address, ':')
	host, port = address[:max(i, 0)], address[i+1:]
	host = strings.Trim(host, "[]")
	if host == "localhost" {
		host = "127.0.0.1"
	}
	return host, port
}

// resolved is a path whose folder has been followed through its links.
func resolved(path string) string {
	if dir, err := tree.Machine().Real(tree.Full(filepath.Dir(path))); err == nil {
		return filepath.Join("/", dir, filepath.Base(path))
	}
	return path
}

// whichPool says why no pool was found.
func (c *Config) whichPool(listen []string) string {
	var names []string
	for _, p := range c.poolList {
		names = append(names, fmt.Sprintf("%s (%s)", p.name, p.listen))
	}
	if len(names) == 0 {
		return "no pool of PHP-FPM was found in " + c.Folder
	}
	return fmt.Sprintf("the web server asks %s, and the pools of %s are %s", strings.Join(listen, " or "), c.Folder, strings.Join(names, ", "))
}
