package dialect

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

// perUnit is how many seconds or bytes a unit has.
var perUnit = map[string]int64{
	"": 1, "seconds": 1, "minutes": 60, "hours": 3600, "days": 86400,
	"bytes": 1, "KiB": 1 << 10, "MiB": 1 << 20,
}

// Value translates what is stored (nil, bool, int64, float64, string or []any) into the neutral value. The error
// says what was expected, and quotes nothing of a secret.
func (s Setting) Value(stored any) (facts.Value, error) {
	if items, ok := stored.([]any); ok && s.Type == facts.List {
		return facts.ListOf(texts(items)...), nil
	}
	text, ok := Text(stored)
	if !ok {
		return facts.Value{}, fmt.Errorf("what is stored is no single value")
	}
	if neutral, ok := s.Words[text]; ok {
		return s.Type.Parse(neutral)
	}
	switch s.Type {
	case facts.Words:
		if len(s.Words) > 0 {
			return facts.Value{}, fmt.Errorf("%q is a word the dialect does not translate", facts.Shorten(text, 40))
		}
		entry, _ := facts.Lookup(facts.Settings + "." + s.Name)
		if v := facts.TextOf(facts.Words, text); entry.Check(v) {
			return v, nil
		}
		return facts.Value{}, fmt.Errorf("%q is none of %s", facts.Shorten(text, 40), strings.Join(entry.Words, ", "))
	case facts.Duration, facts.Size:
		return s.quantity(text)
	case facts.Bool:
		v, err := s.Type.Parse(text)
		if err == nil && s.Inverted {
			v = facts.BoolOf(!v.Bool())
		}
		return v, err
	case facts.Pattern:
		return facts.TextOf(facts.Pattern, replaceAll(text, s.Placeholders)), nil
	case facts.List:
		return facts.ListOf(splitList(text, s.Split)...), nil
	}
	return s.Type.Parse(text)
}

// quantity reads a number in the dialect's unit, or a text with a unit of its own.
func (s Setting) quantity(text string) (facts.Value, error) {
	n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	if err != nil {
		return s.Type.Parse(text)
	}
	unit := perUnit[s.Unit]
	if n*unit/unit != n {
		return facts.Value{}, fmt.Errorf("%d %s is out of range", n, s.Unit)
	}
	return facts.NumberOf(s.Type, n*unit), nil
}

// IsFactory tells whether what is stored is one of the values the install came with. Letter case and white space
// around it do not matter.
func (s Setting) IsFactory(stored any) bool {
	text, ok := Text(stored)
	return ok && slices.ContainsFunc(s.Factory, func(f string) bool {
		return strings.EqualFold(strings.TrimSpace(f), strings.TrimSpace(text))
	})
}

// Text is a stored value as text; false for a list or a map.
func Text(stored any) (string, bool) {
	switch v := stored.(type) {
	case nil:
		return "", true
	case string:
		return v, true
	case []byte:
		return string(v), true
	case bool:
		return strconv.FormatBool(v), true
	case int64:
		return strconv.FormatInt(v, 10), true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	}
	return "", false
}

func texts(items []any) []string {
	list := []string{}
	for _, item := range items {
		if text, ok := Text(item); ok {
			list = append(list, text)
		}
	}
	return list
}

func splitList(text, separator string) []string {
	if separator == "" {
		separator = ","
	}
	list := []string{}
	for item := range strings.SplitSeq(text, separator) {
		if item = strings.TrimSpace(item); item != "" {
			list = append(list, item)
		}
	}
	return list
}

// replaceAll replaces the longest placeholders first, so that none is taken for the start of another.
func replaceAll(text string, pairs map[string]string) string {
	var olds []string
	for old := range pairs {
		olds = append(olds, old)
	}
	slices.SortFunc(olds, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	var flat []string
	for _, old := range olds {
		flat = append(flat, old, pairs[old])
	}
	return strings.NewReplacer(flat...).Replace(text)
}
