package trial

import (
	"fmt"
	"maps"
	"net"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/orders"
	"weltaxis/internal/source/server"
)

// A private copy is one file: all that a server has been told, as it was read here, with what is not to be touched replaced. What the server
// would write lies in a folder apart; certificates and keys are a pair that was made for it, since whoever tests it may not read the real
// ones; names of other hosts, which nobody could be asked for, are this machine.

// A setting is where a copy is to be read.
type setting struct {
	dir       string   // that may be written to
	apart     bool     // every address may be listened on
	cert, key string   // a pair that fits
	prefix    string   // what relative names of modules of nginx are relative to
	lacks     []string // temporary folders that this nginx knows nothing of: uwsgi, scgi, ...
}

// A copied is a whole configuration as one file.
type copied struct {
	setting
	text     []byte
	replaced []string // what stands in it in place of what is there, in words
	left     []string // what is not tested
	pairs    []pair   // what the server would load, and here the program looks at itself
	err      error    // why there can be none

	kind  string
	dir   string // of the configuration
	lines []string
	from  []place // of each line
	count int
	hosts []string // names of groups of servers
}

type place struct {
	file string
	line int
}

// at is the file and line that a line of it stands for.
func (c *copied) at(line int) (file string, at int) {
	if line < 1 || line > len(c.from) {
		return "", 0
	}
	return c.from[line-1].file, c.from[line-1].line
}

// line adds lines, which all stand for one of a file.
func (c *copied) line(at place, text string) {
	for one := range strings.SplitSeq(text, "\n") {
		c.lines = append(c.lines, one)
		c.from = append(c.from, at)
	}
}

func (c *copied) replace(what string) {
	if !slices.Contains(c.replaced, what) {
		c.replaced = append(c.replaced, what)
	}
}

func (c *copied) leave(what string) {
	if !slices.Contains(c.left, what) {
		c.left = append(c.left, what)
	}
}

func (c *copied) fail(format string, args ...any) {
	if c.err == nil {
		c.err = fmt.Errorf(format, args...)
	}
}

// What is said of what was replaced.
const (
	ownFiles   = "logs, caches and temporary files (its own)"
	ownPair    = "certificates and keys (a pair made for it; the real ones were looked at here)"
	ownHost    = "names of other hosts (127.0.0.1)"
	ownDoors   = "what it listens on (sockets of its own)"
	ownFolders = "folders that have to be there (its own)"
)

// own is the name of a file that the copy's server may write.
func (c *copied) own() string {
	c.count++
	c.replace(ownFiles)
	return fmt.Sprintf("%s/%d", c.setting.dir, c.count)
}

// module is the name of what is loaded into the server, in full: it is loaded from where root alone may put it, or whoever runs this.
func (c *copied) module(n *directives.Node, name, base string) string {
	if !filepath.IsAbs(name) {
		name = filepath.Join(base, name)
	}
	if _, err := orders.Own().Check(name); err != nil {
		c.fail("%s loads %s, which is not loaded for a test: %w", n.Place(), name, err)
	}
	return name
}

// copyOf makes a private copy. Overrides are override files that change, each read by what the server's configuration defines; of them a
// section of their folder holds what is known here as what may stand in one, and nothing else.
func copyOf(s *server.Server, in setting, overrides map[string]*directives.Tree) (*copied, error) {
	if len(s.Tree.Gaps) > 0 {
		return nil, fmt.Errorf("not all of the configuration could be read: %w", s.Tree.Gaps[0])
	}
	c := &copied{setting: in, kind: s.Kind, dir: filepath.Dir(s.File)}
	if s.Kind == server.Nginx {
		c.nginxWhole(s.Tree)
	} else {
		c.apacheWhole(s.Tree)
		for _, name := range slices.Sorted(maps.Keys(overrides)) {
			c.override(name, overrides[name])
		}
	}
	c.text = []byte(strings.Join(c.lines, "\n") + "\n")
	return c, c.err
}

// here is an address, with this machine in the place of a name; an address in figures stays, and what holds a variable.
func (c *copied) here(address string) string {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		host, port = address, ""
	}
	bare := strings.Trim(host, "[]")
	if host == "" || host == "*" || host == "_default_" || strings.ContainsAny(address, "$") || net.ParseIP(bare) != nil || strings.Trim(host, "0123456789") == "" {
		return address
	}
	c.replace(ownHost)
	if port == "" {
		return "127.0.0.1"
	}
	return net.JoinHostPort("127.0.0.1", port)
}
