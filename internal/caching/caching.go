// Package caching holds what HTTP says of caches: what a cache may keep, for how long it is fresh, when it has to ask again,
// and how caches tell that they answered. It works on header fields alone and asks nobody.
//
// Sections are those of RFC 9111 where no other is named; RFC 5861 has the two extensions for stale answers, and RFC 9211
// the field Cache-Status. It may import no other package of this program.
package caching

import (
	"net/http"
	"slices"
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
