package answer

import (
	"time"

	"github.com/dlclark/regexp2/v2"
)

// A Pattern is a regular expression in a server's configuration, which both servers hand to PCRE.
type Pattern struct {
	re    *regexp2.Regexp
	wrong string
}

// matchTime bounds a match; expressions that somebody wrote may take as long as they like.
const matchTime = 50 * time.Millisecond

// Compile reads an expression. One that is not understood matches nothing, and says so.
func Compile(expression string, anyCase bool) *Pattern {
	options := regexp2.None
	if anyCase {
		options = regexp2.IgnoreCase
	}
	re, err := regexp2.Compile(latin(expression), options, regexp2.OptionMaintainCaptureOrder())
	if err != nil {
		return &Pattern{wrong: "the expression " + expression + " is not understood here"}
	}
	re.MatchTimeout = matchTime
	return &Pattern{re: re}
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
	if p.re == nil {
		return nil, p.wrong
	}
	m, err := p.re.FindStringMatch(latin(text))
	if err != nil {
		return nil, "the expression " + p.re.String() + " takes too long"
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
