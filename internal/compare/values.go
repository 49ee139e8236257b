package compare

import (
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// alike tells whether two values of a name say the same: lists whatever their order, but for those of a person's wishes, and headers
// whatever is another in each answer.
func alike(name string, was, is facts.Value) bool {
	if was.Equal(is) {
		return true
	}
	if was.Type() != facts.List || is.Type() != facts.List || strings.HasPrefix(name, "intent.") {
		return false
	}
	return slices.Equal(sorted(name, was), sorted(name, is))
}

func sorted(name string, v facts.Value) []string {
	var items []string
	for _, item := range v.List() {
		if name == facts.HomeHeaders.Name {
			if item = steady(item); item == "" {
				continue
			}
		}
		items = append(items, item)
	}
	slices.Sort(items)
	return slices.Compact(items)
}

// passing are headers whose value is another from answer to answer, or which a cache alone adds, in lower case.
var passing = strings.Fields("date age expires last-modified etag content-length server-timing via connection keep-alive cache-status warning set-cookie x-request-id x-runtime x-served-by x-timer traceparent alt-svc transfer-encoding")

var (
	oneTime = regexp.MustCompile(`'nonce-[^']*'|[0-9a-fA-F-]{16,}|\b[A-Za-z0-9+/_-]*[0-9][A-Za-z0-9+/_-]{20,}={0,2}`)
	sign    = regexp.MustCompile(`(?i)^x-[a-z0-9-]*cache[a-z0-9-]*$`)
)

// steady is a header without what is another from answer to answer, "" when all of it is.
func steady(header string) string {
	name, value, _ := strings.Cut(header, ":")
	name = strings.ToLower(strings.TrimSpace(name))
	if slices.Contains(passing, name) || sign.MatchString(name) {
		return ""
	}
	return name + ": " + oneTime.ReplaceAllString(strings.TrimSpace(value), "…")
}

// differing are two readings in words: of lists only what one has and the other has not.
func differing(name string, was, is facts.Reading) (from, to string) {
	if !bothLists(name, was, is) {
		return said(was.Value, was.Absent), said(is.Value, is.Absent)
	}
	return lists(name, was.Value, is.Value)
}

// bothLists tells whether what one list has and the other has not says all.
func bothLists(name string, was, is facts.Reading) bool {
	return !was.Absent && !is.Absent && was.Value.Type() == facts.List && is.Value.Type() == facts.List && !strings.HasPrefix(name, "intent.")
}

func lists(name string, was, is facts.Value) (from, to string) {
	before, after := sorted(name, was), sorted(name, is)
	lacks := func(other []string) func(string) bool {
		return func(item string) bool { return slices.Contains(other, item) }
	}
	return strings.Join(slices.DeleteFunc(slices.Clone(before), lacks(after)), ", "), strings.Join(slices.DeleteFunc(slices.Clone(after), lacks(before)), ", ")
}

func said(v facts.Value, absent bool) string {
	if absent {
		return ""
	}
	return v.String()
}
