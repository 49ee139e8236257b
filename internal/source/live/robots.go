package live

import (
	"bytes"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"weltaxis/internal/facts"
)

// A robotsFile is robots.txt, read as RFC 9309 says, with lines.
type robotsFile struct {
	failed   bool // it answered an error, which keeps everybody out (RFC 9309 §2.3.1.4)
	groups   []robotsGroup
	sitemaps []string
	lines    []string // as they are written
	readable bool     // every line is name: value, a comment or empty, and the file is within its bound
}

type robotsGroup struct {
	agents []string // in lower case
	rules  []robotsRule
}

type robotsRule struct {
	allow   bool
	pattern string
	line    int
}

// maxRobots is how much of robots.txt must be read at least (RFC 9309 §2.5), and is read here.
const maxRobots = 500 << 10

// parseRobots reads robots.txt (RFC 9309 §2.2). Lines that make no sense are passed over, as the RFC asks.
func parseRobots(data []byte) *robotsFile {
	f := &robotsFile{readable: utf8.Valid(data) && len(data) <= maxRobots}
	data = bytes.TrimPrefix(data[:min(len(data), maxRobots)], []byte("\xef\xbb\xbf"))
	inAgents := false
	f.lines = strings.Split(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(string(data)), "\n")
	for n, line := range f.lines {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		key, value, ok := strings.Cut(line, ":")
		if !ok {
			f.readable = false
			continue
		}
		value = strings.TrimSpace(value)
		switch key = strings.ToLower(strings.TrimSpace(key)); key {
		case "user-agent":
			if !inAgents {
				f.groups = append(f.groups, robotsGroup{})
			}
			inAgents = true
			group := &f.groups[len(f.groups)-1]
			group.agents = append(group.agents, strings.ToLower(value))
		case "allow", "disallow":
			inAgents = false
			if len(f.groups) > 0 && value != "" {
				group := &f.groups[len(f.groups)-1]
				group.rules = append(group.rules, robotsRule{key == "allow", normalPath(value), n + 1})
			}
		case "sitemap":
			f.sitemaps = append(f.sitemaps, value)
		}
	}
	return f
}

// lineAt is a line as it is written, by its number from 1.
func (f *robotsFile) lineAt(n int) string {
	if n < 1 || n > len(f.lines) {
		return ""
	}
	return strings.TrimSpace(facts.Shorten(f.lines[n-1], 200))
}

// agents are the robots that groups name, each once, in their order.
func (f *robotsFile) agents() []string {
	var names []string
	for _, group := range f.groups {
		for _, name := range group.agents {
			if !slices.Contains(names, name) && len(names) < maxAgents {
				names = append(names, name)
			}
		}
	}
	return names
}

// maxAgents is how many robots that robots.txt names are looked at.
const maxAgents = 500

// rulesFor merges the groups that name the product token, or those for everybody (RFC 9309 §2.2.1).
func (f *robotsFile) rulesFor(agent string) []robotsRule {
	collect := func(token string) (rules []robotsRule, named bool) {
		for _, group := range f.groups {
			if slices.Contains(group.agents, token) {
				rules, named = append(rules, group.rules...), true
			}
		}
		return rules, named
	}
	if rules, named := collect(strings.ToLower(agent)); named {
		return rules
	}
	rules, _ := collect("*")
	return rules
}

// allowed tells whether a robot may fetch a path with its query: the longest pattern that matches decides, and of
// two as long the one that allows (RFC 9309 §2.2.2). Line is that of the rule that decided, 0 for none.
func (f *robotsFile) allowed(agent, pathAndQuery string) (may bool, line int) {
	if f == nil || pathAndQuery == "/robots.txt" {
		return true, 0
	}
	path := normalPath(pathAndQuery)
	may, longest := true, -1
	for _, rule := range f.rulesFor(agent) {
		if !matchRobots(rule.pattern, path) {
			continue
		}
		if n := len(rule.pattern); n > longest || n == longest && rule.allow {
			may, longest, line = rule.allow, n, rule.line
		}
	}
	return may, line
}

// normalPath writes a path so that equal ones are equal bytes: octets outside ASCII are escaped, and escapes of
// unreserved characters are not (RFC 9309 §2.2.2, RFC 3986 §2.3).
func normalPath(path string) string {
	var b strings.Builder
	for i := 0; i < len(path); i++ {
		c := path[i]
		if c == '%' && i+2 < len(path) {
			if decoded, err := url.PathUnescape(path[i : i+3]); err == nil {
				if isUnreserved(decoded[0]) {
					b.WriteByte(decoded[0])
				} else {
					b.WriteString(strings.ToUpper(path[i : i+3]))
				}
				i += 2
				continue
			}
		}
		if c >= 0x80 || c == ' ' {
			b.WriteString(strings.ToUpper(url.PathEscape(string([]byte{c}))))
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}

func isUnreserved(c byte) bool {
	return c|0x20 >= 'a' && c|0x20 <= 'z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0
}

// matchRobots matches a pattern with * and a $ at its end against the start of a path (RFC 9309 §2.2.3), in time
// that grows with the product of their lengths at most.
func matchRobots(pattern, path string) bool {
	anchored := strings.HasSuffix(pattern, "$")
	pattern = strings.TrimSuffix(pattern, "$")
	parts := strings.Split(pattern, "*")
	if !strings.HasPrefix(path, parts[0]) {
		return false
	}
	rest := path[len(parts[0]):]
	for i, part := range parts[1:] {
		if last := i == len(parts)-2; last && anchored {
			return strings.HasSuffix(rest, part)
		}
		at := strings.Index(rest, part)
		if at < 0 {
			return false
		}
		rest = rest[at+len(part):]
	}
	return !anchored || len(parts) == 1 && rest == "" || len(parts) > 1
}
