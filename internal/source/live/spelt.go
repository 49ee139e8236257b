package live

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"weltaxis/internal/facts"
	"weltaxis/internal/spelt"
)

// mostSpelt is how many places are asked for in every spelling.
const mostSpelt = 6

// spelt asks for the places that are closed as a stranger does, written in other ways, and tells which are open by that. It is asked of one's own sites
// alone, and only with GET.
func (v *visit) spelt(ctx context.Context) {
	home := slices.IndexFunc(v.seen.Doors, func(d facts.Door) bool { return d.Kind == facts.HomeDoor })
	if home < 0 || v.seen.Doors[home].Shows != facts.ShowsLock && v.seen.Doors[home].Shows != facts.ShowsNotice {
		return
	}
	if !v.Own {
		v.seen.AddGap(facts.Gap{What: "closed addresses that are written otherwise", Because: "they are asked for on a site of one's own alone (live: own: true)", Names: []string{facts.ListDoors}})
		return
	}
	stranger := v.client.stranger()
	plain := v.openBody(ctx, stranger, "/robots.txt")
	var open []facts.Door
	asked, missed, places := 0, 0, 0
	for _, place := range slices.Clone(v.seen.Doors) {
		u, err := url.Parse(place.Address)
		if err != nil || originOf(u) != v.client.origin || place.Shows != v.seen.Doors[home].Shows || !slices.Contains([]string{facts.HomeDoor, facts.InnerDoor, facts.AssetDoor, facts.PictureDoor, facts.FeedDoor}, place.Kind) || places == mostSpelt {
			continue
		}
		places++
		for _, target := range spelt.Of(u.RequestURI()) {
			at, err := url.Parse(v.client.origin + target) // whose dots stay
			if err != nil {
				continue
			}
			if ctx.Err() != nil || v.refusal.is() || !v.mayFetch(at) {
				missed++
				continue
			}
			ch, err := stranger.follow(ctx, at, v.sameSite)
			if ch.last != nil && ch.last.status == http.StatusTooManyRequests {
				v.refusal.note(ch, err)
			}
			if v.refusal.is() || err != nil && ch.last == nil {
				missed++
				continue
			}
			if asked++; ch.last == nil || ch.loop { // it leads elsewhere, or in a circle
				continue
			}
			d := facts.Door{Kind: facts.SpeltDoor, Address: at.String(), Path: at.RequestURI(), First: ch.first, Status: ch.last.status, Shows: v.showsOf(ch), Fresh: -1}
			if ch.steps > 0 {
				d.Leads = ch.final.String()
			}
			same := plain != nil && bytes.Equal(plain, ch.last.body)
			ch.last.release()
			if d.Shows == facts.ShowsSite && !same {
				open = append(open, d)
			}
		}
	}
	if missed > 0 {
		v.seen.AddGap(facts.Gap{What: fmt.Sprintf("closed addresses in %d more spellings", missed), Because: "they could not be asked for", Names: []string{facts.ListDoors}})
	}
	switch {
	case len(open) > 0:
		v.seen.Doors = append(v.seen.Doors, open[:min(len(open), fewKept)]...)
	case asked > 0:
		d := v.seen.Doors[home]
		v.seen.Doors = append(v.seen.Doors, facts.Door{Kind: facts.SpeltDoor, Address: d.Address, Path: facts.AllSpelt, First: d.First, Status: d.Status, Shows: d.Shows, Retry: d.Retry, Fresh: -1})
	}
}

// openBody is what a stranger gets at an address; nil for nothing.
func (v *visit) openBody(ctx context.Context, c *client, path string) []byte {
	at, err := v.home.Parse(path)
	if err != nil {
		return nil
	}
	ch, err := c.follow(ctx, at, v.sameSite)
	if err != nil || ch.last == nil || ch.last.status != http.StatusOK {
		return nil
	}
	defer ch.last.release()
	return bytes.Clone(ch.last.body)
}
