package facts

import (
	"encoding/json"
	"slices"
	"strings"
)

// isOlder says why something is not known of a snapshot that was taken before anybody looked at it.
const isOlder = "the snapshot is older than this is looked at"

// renewed fills in what an earlier format did not hold and follows from what it did. What does not follow stays unknown.
func (s *Snapshot) renewed(format int) {
	if format >= 3 {
		return
	}
	for _, term := range Of(Intent) {
		if _, said := s.Effective(term.Name); !said && term.Unsaid.Type() != "" {
			s.Add(Reading{Source: Intent, Name: term.Short(), Value: term.Unsaid, Origin: Origin{Default: "the site file"}})
		}
	}
	if len(s.Pages) == 0 {
		return
	}
	crowds := map[string]int{}
	for i := range s.Pages {
		p := &s.Pages[i]
		p.renew(&s.Pages[0])
		if p.Elsewhere {
			crowds[p.Canonical]++
		}
	}
	meant := 0
	for i := range s.Pages {
		p := &s.Pages[i]
		if p.Elsewhere {
			p.CanonicalCrowd = crowds[p.Canonical]
		}
		if p.Meant {
			meant++
		}
	}
	home := s.Pages[0]
	at := home.Origin()
	s.Add(LiveReached.Reading(true, at), LiveUnreached.Reading("", at), LiveCountMeant.Reading(meant, at), LiveCountPages.Reading(len(s.Pages), at))
	for _, r := range home.HomeReadings() {
		if _, said := s.Effective(r.FullName()); !said {
			s.Add(r)
		}
	}
}

// renew fills in what an earlier format did not hold of a page; the first page is the home page.
func (p *Page) renew(home *Page) {
	if slices.ContainsFunc([]string{"indexable", "noindex", "disallowed", "canonical", "robots_tag"}, func(key string) bool { return p.lacks[key] }) {
		return
	}
	tag := slices.ContainsFunc(strings.Split(strings.ToLower(p.RobotsTag), ","), func(says string) bool {
		says = strings.TrimSpace(says) // max-image-preview:none hides nothing
		return says == "noindex" || says == "none"
	})
	switch {
	case p.Disallowed:
		p.HiddenBy = "robots.txt"
	case p.NoIndex && tag:
		p.HiddenBy = "tag"
	case p.NoIndex:
		p.HiddenBy = "header"
	}
	p.Elsewhere = p.Canonical != "" && !SameAddress(p.Canonical, p.Address)
	p.WithSite = p.HiddenBy != "" && p.HiddenBy == home.HiddenBy
	p.Meant = !p.Elsewhere && (p.HiddenBy == "" || p.WithSite && slices.Contains([]string{"home", "content", "listing"}, p.Kind))
	if p.CardWidth == 0 {
		p.CardUnseen = "the snapshot does not say why"
	}
	for _, key := range []string{"hidden_by", "robots_line", "elsewhere", "with_site", "meant", "canonical_crowd", "group", "unread"} {
		delete(p.lacks, key)
	}
}

// UnmarshalJSON notes what the snapshot does not hold of it.
func (p *Page) UnmarshalJSON(raw []byte) (err error) {
	type plain Page
	if err := json.Unmarshal(raw, (*plain)(p)); err != nil {
		return err
	}
	p.lacks, err = pageTable.lacks(raw)
	return err
}
