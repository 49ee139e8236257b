package answer

import (
	"fmt"
	"time"

	"github.com/dlclark/regexp2/v2"
)

// A Pattern is a regular expression in a server's configuration, which both servers hand to PCRE. It is read when it is
// first asked for.
type Pattern struct {
	expression string
	anyCase    bool
	of         *Patterns
	re         *regexp2.Regexp
	wrong      string
}

// Patterns are the expressions of one configuration. What somebody wrote may take as long as it likes, and there may be
// many: those that take too long are counted, and only so many are kept. Not for more than one goroutine at a time.
type Patterns struct {
	known map[spelling]*Pattern
	kept  int
	slow  int
	again int
}

type spelling struct {
	expression string
	anyCase    bool
}

const (
	matchTime = 50 * time.Millisecond  // for a match
	againTime = 500 * time.Millisecond // for one that took that: on a busy machine the quickest may have been kept waiting
	maxAgain  = 4                      // matches that may take that as well; after that none is tried again
	maxSlow   = 40                     // matches that may take too long; after that no expression is tried
	maxKept   = 5000                   // expressions that are read once; others each time
)

func init() { regexp2.SetTimeoutCheckPeriod(matchTime / 5) } // else 100 ms, and what takes too long takes twice as long

// Compile takes an expression. One that is not understood matches nothing, and says so.
func (p *Patterns) Compile(expression string, anyCase bool) *Pattern {
	key := spelling{expression, anyCase}
	if known, there := p.known[key]; there {
		return known
	}
	if p.known == nil || len(p.known) >= maxKept {
		p.known = map[spelling]*Pattern{}
	}
	p.known[key] = &Pattern{expression: expression, anyCase: anyCase, of: p}
	return p.known[key]
}

// read is the expression in the form in which it is looked for; nil when it is not understood.
func (p *Pattern) read() *regexp2.Regexp {
	if p.re != nil || p.wrong != "" {
		return p.re
	}
	options := regexp2.None
	if p.anyCase {
		options = regexp2.IgnoreCase
	}
	re, err := regexp2.Compile(latin(p.expression), options, regexp2.OptionMaintainCaptureOrder())
	if err != nil {
		p.wrong = "the expression " + p.expression + " is not understood here"
		return nil
	}
	re.MatchTimeout = matchTime
	if p.of.kept < maxKept {
		p.of.kept++
		p.re = re
	}
	return re
}

// A Match is what an expression found.
type Match struct {
	Groups []string          // the whole, then what stood in parentheses
	Named  map[string]string // what stood in those with names
	Start  int               // in bytes
	End    int
}

// Find looks for an expression in a text. Wrong says why that cannot be told; nil without it means that there is none.
func (p *Pattern) Find(text string) (found *Match, wrong string) {
	if p.of.slow >= maxSlow {
		return nil, fmt.Sprintf("the expression %s is not tried, since %d took too long before it", p.expression, maxSlow)
	}
	re := p.read()
	if re == nil {
		return nil, p.wrong
	}
	m, err := p.of.match(re, latin(text))
	if err != nil {
		p.of.slow++
		return nil, "the expression " + p.expression + " takes too long"
	}
	if m == nil {
		return nil, ""
	}
	found = &Match{Named: map[string]string{}}
	for i, group := range m.Groups() {
		value := bytesOf(group.String())
		found.Groups = append(found.Groups, value)
		if name := group.Name; name != "" && (name[0] < '0' || name[0] > '9') {
			found.Named[name] = value
		}
		if i == 0 {
			found.Start, found.End = group.RuneIndex, group.RuneIndex+group.RuneLength
		}
	}
	return found, ""
}

// match looks for an expression; an error means that it takes too long. The time is the clock's, so what is late is tried again.
func (p *Patterns) match(re *regexp2.Regexp, text string) (*regexp2.Match, error) {
	m, err := re.FindStringMatch(text)
	if err == nil || p.again >= maxAgain {
		return m, err
	}
	usual := re.MatchTimeout
	re.MatchTimeout = againTime
	defer func() { re.MatchTimeout = usual }()
	m, err = re.FindStringMatch(text)
	if err != nil {
		p.again++
	}
	return m, err
}

// latin makes each byte a rune, since PCRE is asked for bytes; bytesOf is the way back.
func latin(s string) string {
	ascii := true
	for i := 0; i < len(s); i++ {
		ascii = ascii && s[i] < 0x80
	}
	if ascii {
		return s
	}
	runes := make([]rune, len(s))
	for i := 0; i < len(s); i++ {
		runes[i] = rune(s[i])
	}
	return string(runes)
}

func bytesOf(s string) string {
	out := make([]byte, 0, len(s))
	for _, r := range s {
		out = append(out, byte(r))
	}
	return string(out)
}
