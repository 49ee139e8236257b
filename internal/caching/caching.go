// Package caching holds what HTTP says of caches: what a cache may keep, for how long it is fresh, when it has to ask again,
// and how caches tell that they answered. It works on header fields alone and asks nobody.
//
// Sections are those of RFC 9111 where no other is named; RFC 5861 has the two extensions for stale answers, and RFC 9211
// the field Cache-Status. It may import no other package of this program.
package caching

import (
	"net/http"
	"slices"
	"strings"
	"time"
)

// A Kind is whose a cache is: a shared one stands between a site and many visitors, a private one is a browser's.
type Kind bool

// The kinds.
const (
	Private Kind = false
	Shared  Kind = true
)

// A Request is what somebody asks a cache for.
type Request struct {
	Method string // GET when empty
	Header http.Header
}

func (r Request) method() string {
	if r.Method == "" {
		return http.MethodGet
	}
	return r.Method
}

// A Response is what a site has answered, and to what.
type Response struct {
	Status   int
	Header   http.Header
	To       Request   // what it was asked
	Asked    time.Time // when
	Answered time.Time // when it came
}

// A Reason says why, and the section that has it so.
type Reason struct {
	Because string
	Section string
}

func because(section, text string) Reason { return Reason{text, section} }

// understood are the statuses whose caching a cache of this package knows about (RFC 9110 §15).
var understood = []int{200, 203, 204, 300, 301, 302, 303, 307, 308, 404, 405, 410, 414, 451, 500, 501, 502, 503, 504}

// heuristic are the statuses that may be kept though nothing says for how long (RFC 9110 §15.1).
var heuristic = []int{200, 203, 204, 206, 300, 301, 308, 404, 405, 410, 414, 501}

// Stores tells whether a cache may keep an answer (§3), and why. Without are the header fields that it must leave out.
func (k Kind) Stores(r Response) (may bool, without []string, why Reason) {
	says, asked := ParseControl(r.Header), ParseControl(r.To.Header)
	known := slices.Contains(understood, r.Status)
	switch {
	case r.To.method() != http.MethodGet && r.To.method() != http.MethodHead:
		return false, nil, because("3", "only answers to GET and HEAD are kept")
	case r.Status < 200:
		return false, nil, because("3", "it is no final answer")
	case r.Status == http.StatusPartialContent || r.Status == http.StatusNotModified:
		return false, nil, because("3", "a part of an answer is none")
	case says.Has("must-understand") && !known:
		return false, nil, because("5.2.2.3", "must-understand, and what the status means is not known")
	case says.Has("no-store") && !(says.Has("must-understand") && known):
		return false, nil, because("5.2.2.5", "no-store")
	case asked.Has("no-store"):
		return false, nil, because("5.2.1.5", "whoever asked said no-store")
	}
	if k == Shared {
		if says.Has("private") {
			fields := says.Fields("private")
			if len(fields) == 0 {
				return false, nil, because("5.2.2.7", "private: for one visitor only")
			}
			without = append(without, fields...)
		}
		if r.To.Header.Get("Authorization") != "" && !says.Has("must-revalidate") && !says.Has("public") && !says.Has("s-maxage") {
			return false, nil, because("3.5", "it was asked with Authorization, and nothing says that others may have it")
		}
	}
	if says.Has("no-cache") {
		without = append(without, says.Fields("no-cache")...)
	}
	switch {
	case says.Has("public"), k == Private && says.Has("private"), says.Has("max-age"), k == Shared && says.Has("s-maxage"), len(r.Header["Expires"]) > 0:
		return true, without, because("3", "it says that it may be kept, or until when it is fresh")
	case slices.Contains(heuristic, r.Status):
		return true, without, because("3", "a status that may be kept though nothing says so")
	}
	return false, nil, because("3", "neither the status nor the answer says that it may be kept")
}

// maxLifetime is the longest that a number of seconds may say (§1.2.2).
const maxLifetime = (1 << 31) * time.Second

// A Freshness is how long an answer is fresh from when it was made.
type Freshness struct {
	Lifetime time.Duration
	Stated   bool // the answer says so; else a cache may reckon it, and others may reckon otherwise
	Reason
}

// Fresh is how long an answer is fresh (§4.2.1), and for what reason.
func (k Kind) Fresh(r Response) Freshness {
	says := ParseControl(r.Header)
	stated := func(lifetime time.Duration, section, text string) Freshness {
		return Freshness{lifetime, true, because(section, text)}
	}
	for _, name := range []struct {
		name, section string
		counts        bool
	}{{"s-maxage", "5.2.2.10", k == Shared}, {"max-age", "5.2.2.1", true}} {
		if !name.counts || !says.Has(name.name) {
			continue
		}
		lifetime, valid := says.Seconds(name.name)
		if !valid {
			return stated(0, "4.2.1", name.name+" is no number of seconds, and what is said wrongly is stale")
		}
		return stated(lifetime, name.section, name.name)
	}
	date := r.date()
	if values := r.Header["Expires"]; len(values) > 0 {
		until, err := http.ParseTime(values[0])
		if err != nil {
			return stated(0, "5.3", "Expires is no date, which means long ago")
		}
		return stated(max(until.Sub(date), 0), "5.3", "Expires")
	}
	if !slices.Contains(heuristic, r.Status) && !says.Has("public") {
		return Freshness{0, false, because("4.2.2", "nothing says how long, and the status is none of which that may be reckoned")}
	}
	changed, err := http.ParseTime(r.Header.Get("Last-Modified"))
	if err != nil || !changed.Before(date) {
		return Freshness{0, false, because("4.2.2", "nothing says how long, and there is nothing to reckon it from")}
	}
	return Freshness{date.Sub(changed) / 10, false, because("4.2.2", "reckoned: a tenth of the time since it was changed")}
}

// date is when an answer was made: what Date says, or else when it came (RFC 9110 §6.6.1).
func (r Response) date() time.Time {
	if at, err := http.ParseTime(r.Header.Get("Date")); err == nil {
		return at
	}
	return r.Answered
}

// Age is how old an answer is at a moment (§4.2.3).
func (r Response) Age(now time.Time) time.Duration {
	apparent := max(r.Answered.Sub(r.date()), 0)
	corrected := r.stated("Age") + r.Answered.Sub(r.Asked)
	return max(apparent, corrected) + max(now.Sub(r.Answered), 0)
}

// stated is a header field that is a number of seconds, 0 where it is none (§5.1).
func (r Response) stated(name string) time.Duration {
	values := r.Header[name]
	if len(values) == 0 {
		return 0
	}
	first, _, _ := strings.Cut(values[0], ",")
	lifetime, _ := seconds(first)
	return lifetime
}

// A Use is what a cache does with an answer that it has kept, when it is asked again.
type Use uint8

// The uses.
const (
	Hit        Use = iota + 1 // it answers by itself
	Stale                     // it answers by itself, with what is older than it was to be
	Meanwhile                 // it answers with what is too old, and asks the site meanwhile
	Validate                  // it asks the site whether the answer is still good
	Forward                   // it passes the request on: what it has is not for it
	OnlyCached                // it has nothing to answer with, and was told not to ask: 504
)

var useWords = []string{"", "hit", "stale", "stale meanwhile", "validate", "forward", "only cached"}

func (u Use) String() string { return useWords[u] }

// Uses is what a cache does with an answer that it has kept, when it is asked at a moment (§4). Down says that the site cannot
// be reached, or answers with an error.
func (k Kind) Uses(r Response, ask Request, now time.Time, down bool) (Use, Reason) {
	use, why := k.uses(r, ask, now, down)
	if (use == Validate || use == Forward) && ParseControl(ask.Header).Has("only-if-cached") {
		return OnlyCached, because("5.2.1.7", "only-if-cached, and what is kept does not do")
	}
	return use, why
}

func (k Kind) uses(r Response, ask Request, now time.Time, down bool) (Use, Reason) {
	says, wants := ParseControl(r.Header), ParseControl(ask.Header)
	switch {
	case ask.method() != http.MethodGet && ask.method() != http.MethodHead:
		return Forward, because("4", "what changes something is passed on")
	case ask.method() != r.To.method() && r.To.method() == http.MethodHead:
		return Forward, because("4", "the answer to HEAD has no body")
	}
	if name := differs(r, ask); name != "" {
		return Forward, because("4.1", "Vary: "+name+", and the request has another")
	}
	if wants.Has("no-cache") || len(ask.Header["Cache-Control"]) == 0 && strings.Contains(strings.ToLower(ask.Header.Get("Pragma")), "no-cache") {
		return Validate, because("5.2.1.4", "whoever asks wants it looked at again")
	}
	if says.Has("no-cache") && len(says.Fields("no-cache")) == 0 {
		return Validate, because("5.2.2.4", "no-cache: never without asking again")
	}
	fresh, age := k.Fresh(r), r.Age(now)
	left := fresh.Lifetime - age
	if most, said := wants.Seconds("max-age"); said && age > most {
		return Validate, because("5.2.1.1", "whoever asks wants nothing that old")
	}
	if least, said := wants.Seconds("min-fresh"); said && left < least {
		return Validate, because("5.2.1.3", "whoever asks wants it fresh for longer")
	}
	if left > 0 {
		return Hit, fresh.Reason
	}
	return k.stale(r, wants, -left, down)
}

// stale is what is done with what is older than it was to be, by so much (§4.2.4).
func (k Kind) stale(r Response, wants Control, by time.Duration, down bool) (Use, Reason) {
	says := ParseControl(r.Header)
	for _, no := range []struct {
		name, section string
		counts        bool
	}{{"must-revalidate", "5.2.2.2", true}, {"proxy-revalidate", "5.2.2.8", k == Shared}, {"s-maxage", "5.2.2.10", k == Shared}} {
		if no.counts && says.Has(no.name) {
			return Validate, because(no.section, no.name+": not without asking, once it is stale")
		}
	}
	if wants.Has("max-stale") {
		most, limited := wants.Seconds("max-stale")
		if !limited || by <= most {
			return Stale, because("5.2.1.2", "whoever asks takes what is stale")
		}
	}
	if most, said := says.Seconds("stale-while-revalidate"); said && by < most {
		return Meanwhile, because("RFC 5861 §3", "stale-while-revalidate")
	}
	for _, from := range []Control{says, wants} {
		if most, said := from.Seconds("stale-if-error"); said && down && by < most {
			return Stale, because("RFC 5861 §4", "stale-if-error, and the site does not answer")
		}
	}
	if down && len(says) == 0 && k == Private {
		return Stale, because("4.2.4", "the site cannot be reached, and nothing forbids it")
	}
	return Validate, because("4.2.4", "it is stale")
}

// differs is the field of the request that Vary names and that is another one than when the answer was made (§4.1).
func differs(r Response, ask Request) string {
	for _, name := range Vary(r.Header) {
		if name == "*" || normalised(r.To.Header, name) != normalised(ask.Header, name) {
			return name
		}
	}
	return ""
}

// Vary are the names in the field Vary (RFC 9110 §12.5.5), as http.Header has them.
func Vary(header http.Header) (names []string) {
	for name := range strings.SplitSeq(strings.Join(header["Vary"], ","), ",") {
		if name = strings.TrimSpace(name); name != "" {
			names = append(names, http.CanonicalHeaderKey(name))
		}
	}
	return names
}

// normalised is a field with its lines as one, and white space where it means nothing left out.
func normalised(header http.Header, name string) string {
	var parts []string
	for part := range strings.SplitSeq(strings.Join(header[name], ","), ",") {
		if part = strings.TrimSpace(part); part != "" {
			parts = append(parts, part)
		}
	}
	return strings.Join(parts, ",")
}

// Asks are the fields by which a cache asks whether an answer is still good (§4.3.1); none when it cannot.
func Asks(kept http.Header) http.Header {
	ask := http.Header{}
	if tag := kept.Get("Etag"); tag != "" {
		ask.Set("If-None-Match", tag)
	}
	if changed := kept.Get("Last-Modified"); changed != "" {
		ask.Set("If-Modified-Since", changed)
	}
	return ask
}

// Ends tells whether an answer to a request that changes something ends what is kept of its address (§4.4).
func Ends(method string, status int) bool {
	safe := slices.Contains([]string{http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace}, method)
	return !safe && status >= 200 && status < 400
}
