package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"weltaxis/internal/pace"
)

// A Pace is how fast pages came, beside how fast they came before.
type Pace struct {
	Site     string     `json:"site"`
	Taken    time.Time  `json:"taken"`
	Times    int        `json:"times"`
	Requests int        `json:"requests"`
	Pages    []PacePage `json:"pages"`
}

// A PacePage is one page of it.
type PacePage struct {
	pace.Page
	First  Ways     `json:"first_byte_ms"`
	Whole  Ways     `json:"whole_ms"`
	Says   []string `json:"says"`   // what became of the requests, and what the cache makes of the page
	Before *Earlier `json:"before"` // nil when it was not asked for before
}

// Ways are the times of a page in both ways, and what can be said of them.
type Ways struct {
	Plain  pace.Summary `json:"plain"`
	Around pace.Summary `json:"around"`
	Chance float64      `json:"chance"` // of a difference as large between times that do not differ
	Needed int          `json:"needed"` // requests in each way that would tell, 0 when they do
}

// An Earlier is the same page as it was asked for before.
type Earlier struct {
	Taken time.Time    `json:"taken"`
	Plain pace.Summary `json:"plain"`
	Says  string       `json:"says"`
}

// PaceOf puts a run into words, with the last one before it; changes are how many were made to the site in between.
func PaceOf(run pace.Run, before *pace.Run, changes int) *Pace {
	r := &Pace{Site: run.Site, Taken: run.Taken, Times: run.Times, Requests: run.Requests, Pages: []PacePage{}}
	for i := range run.Pages {
		p := &run.Pages[i]
		plain, around, outcomes := p.Ways()
		page := PacePage{Page: *p, Says: []string{}}
		if len(plain) == 0 {
			page.Says = append(page.Says, "It could not be asked for: "+p.Failed+".")
			r.Pages = append(r.Pages, page)
			continue
		}
		judged := pace.Judge(plain, around)
		page.First = waysOf(judged)
		page.Whole = waysOf(pace.Judge(p.Wholes(false), p.Wholes(true)))
		page.Says = append(page.Says, outcomesInWords(outcomes, len(plain)), comparedInWords(p, plain, around, outcomes))
		if p.Failed != "" {
			page.Says = append(page.Says, "It was not asked for to the end: "+p.Failed+".")
		}
		if before != nil {
			page.Before = earlier(before, p.Path, plain, changes)
		}
		r.Pages = append(r.Pages, page)
	}
	return r
}

func waysOf(j pace.Judgement) Ways { return Ways{j.First, j.Second, j.Chance, j.Needed} }

// outcomesInWords says what caches made of the plain requests.
func outcomesInWords(outcomes map[string]int, all int) string {
	words := map[string]string{"hit": "answered by a cache", "stale": "answered by a cache with an old page", "bypass": "sent around the cache", "miss": "made anew, since the cache did not have it", "untold": "answered without a word about caches"}
	var parts []string
	for _, outcome := range slices.SortedFunc(maps.Keys(outcomes), func(a, b string) int { return outcomes[b] - outcomes[a] }) {
		parts = append(parts, fmt.Sprintf("%d %s", outcomes[outcome], words[outcome]))
	}
	return fmt.Sprintf("Of %d requests after a warm-up: %s.", all, strings.Join(parts, ", "))
}

// comparedInWords says what the cache makes of the page.
func comparedInWords(p *pace.Page, plain, around []float64, outcomes map[string]int) string {
	kept := p.Kept()
	switch {
	case len(around) == 0:
		return "No way around a cache was found, so there is nothing to compare with."
	case len(kept) > 0:
		return Capital(pace.Judge(kept, around).Says("the cache", "what is around it")) + "."
	case outcomes["untold"] == len(plain):
		return "No header says whether a cache answers. " + Capital(pace.Judge(plain, around).Says("the page as visitors get it", "the page around any cache")) + "."
	}
	return "No cache answered, so there is nothing to compare: both ways took " + pace.Milliseconds(pace.Judge(plain, around).First.Median) + " or so."
}

// earlier sets a page beside the last time that it was asked for.
func earlier(before *pace.Run, path string, now []float64, changes int) *Earlier {
	p := before.Before(path)
	if p == nil {
		return nil
	}
	then, _, _ := p.Ways()
	if len(then) == 0 {
		return nil
	}
	judged := pace.Judge(now, then)
	says := Capital(judged.Says("it", "before")) + "."
	if changes > 0 {
		says += " In between weltaxis fix made " + map[bool]string{true: "one change", false: fmt.Sprint(changes) + " changes"}[changes == 1] + "."
	}
	return &Earlier{before.Taken, judged.Second, says}
}
