package caching

import (
	"net/http"
	"slices"
	"strings"
	"time"
)

// A Control is the field Cache-Control (§5.2): the directives in their order, names in lower case. Of one that stands twice the
// first counts (§4.2.1).
type Control []Directive

// A Directive is one of them.
type Directive struct {
	Name  string
	Value string // without quotation marks; "" where there is none
}

// maxDirectives is how many of a field are read.
const maxDirectives = 100

// ParseControl reads the field out of a header. What is no directive is passed over.
func ParseControl(header http.Header) (c Control) {
	for rest := strings.Join(header["Cache-Control"], ","); rest != "" && len(c) < maxDirectives; {
		var part string
		part, rest = cutUnquoted(rest)
		name, value, _ := strings.Cut(part, "=")
		name, value = strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(value)
		if unquoted, is := strings.CutPrefix(value, `"`); is {
			value = strings.ReplaceAll(strings.TrimSuffix(unquoted, `"`), `\`, "")
		}
		if name != "" && !c.Has(name) {
			c = append(c, Directive{name, value})
		}
	}
	return c
}

// cutUnquoted cuts at the first comma that stands in no quotation marks.
func cutUnquoted(text string) (part, rest string) {
	quoted := false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quoted:
			i++
		case text[i] == '"':
			quoted = !quoted
		case text[i] == ',' && !quoted:
			return text[:i], text[i+1:]
		}
	}
	return text, ""
}

// Has tells whether a directive is there.
func (c Control) Has(name string) bool {
	return slices.ContainsFunc(c, func(d Directive) bool { return d.Name == name })
}

// Seconds is the value of a directive that is a number of seconds; false when it is not there, or is none.
func (c Control) Seconds(name string) (time.Duration, bool) {
	for _, d := range c {
		if d.Name == name {
			return seconds(d.Value)
		}
	}
	return 0, false
}

// Fields are the header fields that no-cache or private names, as http.Header has them (§5.2.2.4, §5.2.2.7).
func (c Control) Fields(name string) (fields []string) {
	for _, d := range c {
		if d.Name != name {
			continue
		}
		for field := range strings.SplitSeq(d.Value, ",") {
			if field = strings.TrimSpace(field); field != "" {
				fields = append(fields, http.CanonicalHeaderKey(field))
			}
		}
	}
	return fields
}

// seconds reads a number of seconds (§1.2.2): what is more than can be counted is the most.
func seconds(text string) (time.Duration, bool) {
	text = strings.TrimSpace(text)
	if text == "" {
		return 0, false
	}
	var n time.Duration
	for _, digit := range []byte(text) {
		if digit < '0' || digit > '9' {
			return 0, false
		}
		n = min(n*10+time.Duration(digit-'0'), maxLifetime/time.Second)
	}
	return n * time.Second, true
}
