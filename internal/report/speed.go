package report

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/pace"
)

// A PageTimes is how fast a page came, plainly and around the cache, in milliseconds to the first byte.
type PageTimes struct {
	Name, Address string
	At            time.Time // when it was measured by itself; zero when it was while the site was looked at
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
		t := PageTimes{Name: n.of(r.Path, r.Address), Address: r.Address, Plain: r.FirstBytes, Around: r.AroundBytes, Sum: judged.First, Beside: judged.Second, Kept: keptInWords(r.Hits, r.Asks, r.Then == "untold" && r.Hits == 0)}
		if r.GainWhy != "" {
			t.Says = Capital(r.GainWhy) + "."
		}
		list = append(list, t)
	}
	return list
}

// pacedOf are the pages of a run of pace that a look did not ask for often enough, with what that found.
func pacedOf(run *pace.Run, s *facts.Snapshot, timed []PageTimes, n names) (list []PageTimes) {
	if run == nil {
		return nil
	}
	for i := range run.Pages {
		p := &run.Pages[i]
		at := slices.IndexFunc(s.Pages, func(page facts.Page) bool { return page.Address == p.Address })
		if at < 0 {
			at = slices.IndexFunc(s.Pages, func(page facts.Page) bool { return page.Path == p.Path })
		}
		plain, around, outcomes := p.Ways()
		if at < 0 || len(plain) < 3 || len(timed)+len(list) == timedPages || slices.ContainsFunc(timed, func(t PageTimes) bool { return t.Address == s.Pages[at].Address }) {
			continue
		}
		judged := pace.Judge(plain, around)
		list = append(list, PageTimes{Name: n.of(p.Path, s.Pages[at].Address), Address: s.Pages[at].Address, At: run.Taken, Plain: plain, Around: around, Sum: judged.First, Beside: judged.Second,
			Kept: keptInWords(outcomes["hit"]+outcomes["stale"], len(plain), outcomes["untold"] == len(plain)), Says: comparedInWords(p, plain, around, outcomes)})
	}
	return list
}

// keptInWords says how many of so many answers came out of a cache.
func keptInWords(hits, all int, untold bool) string {
	if untold {
		return "no header tells of a cache"
	}
	return fmt.Sprintf("%d of %d answered by a cache", hits, all)
}

// A Weighed is what a page weighs, in KiB.
type Weighed struct {
	*facts.Page
	Name         string
	Markup, Rest int // what is sent for the page itself, and for what it loads of the site's own
}

// weight is what a page weighs, in KiB; "" when that was not seen.
func weight(page *facts.Page) string {
	if v, known := page.Field("weight"); known && page.Status == http.StatusOK {
		return v.String()
	}
	return ""
}

// heaviest is how many pages a document shows the weights of.
const heaviest = 12

// weightsOf are the heaviest pages; none when it was not seen what they load.
func weightsOf(pages []*facts.Page, n names) (list []Weighed) {
	for _, page := range pages {
		if weight(page) == "" || page.Weight == 0 {
			continue
		}
		markup := min((max(page.Sent, 0)+1023)/1024, page.Weight)
		list = append(list, Weighed{page, n.of(page.Path, page.Address), markup, page.Weight - markup})
	}
	slices.SortStableFunc(list, func(a, b Weighed) int { return cmp.Compare(b.Weight, a.Weight) })
	return list[:min(len(list), heaviest)]
}
