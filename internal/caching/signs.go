package caching

import (
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/dunglas/httpsfv"
)

// An Outcome is what became of a request at a cache, as its answer tells.
type Outcome string

// The outcomes. Untold is that no header says anything of a cache.
const (
	Answered Outcome = "hit"
	Old      Outcome = "stale"  // answered by a cache with what is older than it was to be
	Passed   Outcome = "bypass" // the cache was not to be asked
	Missed   Outcome = "miss"
	Untold   Outcome = "untold"
)

// FromCache tells whether a cache answered.
func (o Outcome) FromCache() bool { return o == Answered || o == Old }

// A Sign is what one header says of one cache.
type Sign struct {
	Outcome Outcome
	By      string // what the cache is called, "" when it does not say
	Stored  bool   // it has kept the answer now, as it says
	Header  string // the header that says so, with its value
}

// Signs are what the headers of an answer say of the caches on its way, the one nearest to the visitor first: the field
// Cache-Status (RFC 9211), where the last member is the nearest, then the spellings that servers and networks use, and then Age.
func Signs(header http.Header) (signs []Sign) {
	signs = append(signs, standard(header)...)
	var names []string
	for name := range header {
		if spoken.MatchString(name) && !unspoken.MatchString(name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		values := strings.Join(header[name], ", ")
		members := slices.Collect(strings.SplitSeq(values, ","))
		slices.Reverse(members) // who adds to a list adds at its end
		for _, member := range members {
			if outcome := outcomeIn(member); outcome != "" {
				signs = append(signs, Sign{Outcome: outcome, Header: name + ": " + values})
			}
		}
	}
	for _, warning := range header["Warning"] { // RFC 7234 §5.5, which RFC 9111 has given up
		if strings.HasPrefix(warning, "110 ") || strings.HasPrefix(warning, "111 ") {
			signs = append(signs, Sign{Outcome: Old, Header: "Warning: " + warning})
		}
	}
	for _, member := range strings.Split(strings.Join(header["Server-Timing"], ","), ",") { // W3C, Server Timing
		if name, _, _ := strings.Cut(member, ";"); strings.Contains(strings.ToLower(name), "cache") {
			if outcome := outcomeIn(member); outcome != "" {
				signs = append(signs, Sign{Outcome: outcome, Header: "Server-Timing: " + strings.TrimSpace(member)})
			}
		}
	}
	if age, err := strconv.Atoi(strings.TrimSpace(header.Get("Age"))); err == nil && age > 0 && !slices.ContainsFunc(signs, func(s Sign) bool { return s.Outcome.FromCache() }) {
		signs = append(signs, Sign{Outcome: Answered, Header: "Age: " + header.Get("Age")})
	}
	return signs
}

// Told is what the headers of an answer say together: what the first cache says that answered, or else the nearest one.
func Told(header http.Header) Sign {
	signs := Signs(header)
	for _, s := range signs {
		if s.Outcome.FromCache() {
			return s
		}
	}
	if len(signs) > 0 {
		return signs[0]
	}
	return Sign{Outcome: Untold}
}

// standard reads Cache-Status; what does not parse says nothing (RFC 9651 §4.2).
func standard(header http.Header) (signs []Sign) {
	list, err := httpsfv.UnmarshalList(header["Cache-Status"])
	if err != nil {
		return nil
	}
	for _, member := range list {
		item, is := member.(httpsfv.Item)
		if !is {
			continue
		}
		sign := Sign{Outcome: Missed, By: named(item.Value), Header: "Cache-Status: " + strings.Join(header["Cache-Status"], ", ")}
		flag := func(name string) bool {
			value, there := item.Params.Get(name)
			yes, is := value.(bool)
			return there && (!is || yes)
		}
		forwarded, _ := item.Params.Get("fwd")
		sign.Stored = flag("stored")
		left, _ := item.Params.Get("ttl")
		seconds, counted := left.(int64)
		switch {
		case flag("hit") && counted && seconds < 0:
			sign.Outcome = Old
		case flag("hit"):
			sign.Outcome = Answered
		case named(forwarded) == "bypass" || named(forwarded) == "method" || named(forwarded) == "request":
			sign.Outcome = Passed
		}
		signs = append(signs, sign)
	}
	slices.Reverse(signs) // the first is the nearest to the site
	return signs
}

// named is a token or a string.
func named(value any) string {
	switch v := value.(type) {
	case httpsfv.Token:
		return string(v)
	case string:
		return v
	}
	return ""
}

var (
	// spoken are names of headers by which servers and networks tell of their caches, and unspoken those that tell them what to do.
	spoken   = regexp.MustCompile(`(?i)cache|^x-(?:served|proxy|accel)`)
	unspoken = regexp.MustCompile(`(?i)^(?:cache-control|cache-status|cdn-cache-control|surrogate-control|x-accel-expires|x-served-by)$|-control$|tags?$|keys?$|ttl$|-age$|-hits$|lifetime$|expires$`)
	// outcomes are the words in them, the strongest first.
	outcomes = []struct {
		says    *regexp.Regexp
		outcome Outcome
	}{
		{regexp.MustCompile(`(?i)\b(?:no[ _-]?hit|not[ _-]cached|uncached)\b`), Missed},
		{regexp.MustCompile(`(?i)\b(?:stale|updating)\b|stale_|_stale`), Old},
		{regexp.MustCompile(`(?i)\b(?:hit|hits|cached|revalidated)\b|_hit\b|\bhit_|memhit`), Answered},
		{regexp.MustCompile(`(?i)\b(?:bypass|bypassed|pass|skip|skipped|dynamic|private|no-cache|disabled|off)\b`), Passed},
		{regexp.MustCompile(`(?i)\b(?:miss|expired|refresh|fetch)\b|_miss\b|\bmiss_`), Missed},
	}
)

func outcomeIn(value string) Outcome {
	for _, o := range outcomes {
		if o.says.MatchString(value) {
			return o.outcome
		}
	}
	return ""
}
