package ground

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// A Shelf is what a cache has kept. Asked one request after the other, it tells what becomes of each.
type Shelf struct {
	kept  map[string]slot
	asked map[string]int
}

type slot struct {
	until  time.Time
	vary   []string // names of the request's fields that the answer depends on
	values []string
}

// Ask is what becomes of a request at a moment: a hit, a miss, a bypass, or untold where it does not go through the cache at
// all. P is what the program would answer. Why says what was made of its answer.
func (s *Shelf) Ask(k *answer.Keeping, a answer.Ask, p *answer.Program, now time.Time) (caching.Outcome, answer.Kept) {
	if s.kept == nil {
		s.kept, s.asked = map[string]slot{}, map[string]int{}
	}
	method := a.Method
	if method == "" {
		method = http.MethodGet
	}
	if !slices.Contains(k.Methods, method) {
		return caching.Untold, answer.Kept{Reason: facts.Reason{Because: method + " does not go through the cache", Origin: k.Origin}}
	}
	outcome, place := caching.Passed, k.Key.S
	if !answer.On(k.Bypass) {
		outcome, place = caching.Missed, s.place(k.Key.S, a)
		if found, there := s.kept[place]; there && now.Before(found.until) {
			return caching.Answered, answer.Kept{Lifetime: found.until.Sub(now), Reason: facts.Reason{Because: "it is kept", Origin: k.Origin}}
		}
	}
	kept := k.Keeps(p, now)
	_, before := s.kept[place]
	if kept.Lifetime > 0 && outcome == caching.Missed && !before && s.asked[place] < k.Uses {
		kept = answer.Kept{Reason: facts.Reason{Because: "it is kept once it was asked for " + strconv.Itoa(k.Uses) + " times", Origin: k.Origin}}
	}
	if kept.Lifetime > 0 {
		s.put(place, k, a, p, now.Add(kept.Lifetime))
	}
	return outcome, kept
}

// place is where the answer to a request would lie: at the key, or where that holds one that depends on fields of the request
// which are others now, at a place for these. Each place that is looked at counts as asked.
func (s *Shelf) place(key string, a answer.Ask) string {
	s.asked[key]++
	first, there := s.kept[key]
	if !there || slices.Equal(first.values, valuesOf(first.vary, a)) {
		return key
	}
	other := variant(key, first.vary, a)
	s.asked[other]++
	return other
}

func (s *Shelf) put(place string, k *answer.Keeping, a answer.Ask, p *answer.Program, until time.Time) {
	now := slot{until: until}
	if !slices.Contains(k.Ignored, "vary") {
		now.vary = varied(p.Header["vary"])
		now.values = valuesOf(now.vary, a)
	}
	s.kept[place] = now
}

func variant(key string, vary []string, a answer.Ask) string {
	return key + "\x00" + strings.Join(valuesOf(vary, a), "\x00")
}

func valuesOf(vary []string, a answer.Ask) (values []string) {
	for _, name := range vary {
		values = append(values, strings.ReplaceAll(a.Header[strings.ToLower(name)], " ", ""))
	}
	return values
}

// varied are the names in the field Vary (RFC 9110 §12.5.5), as http.Header has them.
func varied(field string) (names []string) {
	for name := range strings.SplitSeq(field, ",") {
		if name = strings.TrimSpace(name); name != "" {
			names = append(names, http.CanonicalHeaderKey(name))
		}
	}
	return names
}
