package report

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"

	"weltaxis/internal/facts"
	"weltaxis/internal/pace"
)

// A PageTimes is how fast a page came while it was looked at, plainly and around the cache, in milliseconds to the first byte.
type PageTimes struct {
	Name, Address string
	Plain, Around []float64 // one for each time that it was asked for; connecting left out
	Sum, Beside   pace.Summary
	Kept          string // what caches made of it
	Says          string // whether that makes it faster
}

// timedPages is how many pages a document shows the times of.
const timedPages = 6

// timesOf are the pages that were asked for again and again, in the order in which they were.
func timesOf(s *facts.Snapshot, n names) (list []PageTimes) {
	for i := range s.Repeats {
		r := &s.Repeats[i]
		if r.Kind == "missing" || len(r.FirstBytes) < 3 || len(list) == timedPages {
			continue
		}
		judged := pace.Judge(r.FirstBytes, r.AroundBytes)
		t := PageTimes{Name: n.of(r.Path, r.Address), Address: r.Address, Plain: r.FirstBytes, Around: r.AroundBytes, Sum: judged.First, Beside: judged.Second, Kept: "no header tells of a cache"}
		if r.Then != "untold" || r.Hits > 0 {
			t.Kept = fmt.Sprintf("%d of %d answered by a cache", r.Hits, r.Asks)
		}
		if r.GainWhy != "" {
			t.Says = Capital(r.GainWhy) + "."
		}
		list = append(list, t)
	}
	return list
}

// A Weighed is what a page weighs, in KiB.
type Weighed struct {
	*facts.Page
	Name         string
	Markup, Rest int // what is sent for the page itself, and for what it loads of the site's own
}

// heaviest is how many pages a document shows the weights of.
const heaviest = 12

// weightsOf are the heaviest pages; none when it was not seen what they load.
func weightsOf(pages []*facts.Page, n names) (list []Weighed) {
	for _, page := range pages {
		if _, known := page.Field("weight"); !known || page.Status != http.StatusOK || page.Weight == 0 {
			continue
		}
		markup := min((max(page.Sent, 0)+1023)/1024, page.Weight)
		list = append(list, Weighed{page, n.of(page.Path, page.Address), markup, page.Weight - markup})
	}
	slices.SortStableFunc(list, func(a, b Weighed) int { return cmp.Compare(b.Weight, a.Weight) })
	return list[:min(len(list), heaviest)]
}
