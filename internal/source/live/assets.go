package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
)

// maxAssets is how many different assets are fetched, once each.
const maxAssets = 300

// looked are the kinds of what pages name that are looked at: what is posted to is not, and frames are pages of their own.
var looked = []string{styleKind, scriptKind, fontKind, pictureKind, mediaKind, otherKind, cardKind, saidKind}

// assets fetches what the pages name beside other pages, as far as it is the site's own, and what its styles name.
func (v *visit) assets(ctx context.Context) {
	v.seen.Assets = []facts.Asset{}
	var wanted []*facts.Asset
	known := map[string]*facts.Asset{}
	beyond := 0
	enter := func(p pull, from string) {
		if !slices.Contains(looked, p.kind) || strings.Contains(p.address, "%7B") || strings.ContainsAny(p.address, "{}") { // a template is no address
			return
		}
		u, err := url.Parse(p.address)
		if err != nil || !v.sameSite(u) || v.pages[p.address] != nil {
			return // what is a page is looked at as one
		}
		if a := known[p.address]; a != nil {
			a.Pages++
			if a.Kind == saidKind {
				a.Kind = p.kind
			}
			return
		}
		if len(known) >= maxAssets || !v.mayFetch(u) {
			beyond++
			return
		}
		known[p.address] = &facts.Asset{Address: p.address, Kind: p.kind, From: from, Pages: 1}
		wanted = append(wanted, known[p.address])
	}
	for _, p := range v.real() {
		var once []pull
		for _, pulled := range p.pulls {
			if !slices.Contains(once, pulled) {
				once = append(once, pulled)
				enter(pulled, p.page.Address)
			}
		}
	}
	for depth := 0; len(wanted) > 0 && depth < 3; depth++ { // a style may import one, which names a picture
		batch := wanted
		wanted = nil
		for i, styles := range v.fetchAssets(ctx, batch) {
			for _, p := range styles {
				enter(p, batch[i].Address)
			}
		}
	}
	for _, a := range known {
		if a.Status != 0 {
			v.seen.Assets = append(v.seen.Assets, *a)
		}
	}
	for _, a := range v.seen.Assets {
		if u, err := url.Parse(a.Address); err == nil && a.Status == http.StatusOK && u.RawQuery == "" && a.Final == a.Address && v.inside(u) {
			v.seen.Tell(facts.ServedPathHint, u.Path)
		}
	}
	slices.SortFunc(v.seen.Assets, func(a, b facts.Asset) int { return strings.Compare(a.Address, b.Address) })
	if beyond > 0 {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: v.home.String(), Kind: facts.Unmapped, Because: fmt.Sprintf("of styles, scripts and pictures only the first %d that robots.txt allows are fetched", maxAssets)})
	}
}

// fetchAssets fetches assets side by side and notes how they answer; it gives what the styles among them name.
func (v *visit) fetchAssets(ctx context.Context, assets []*facts.Asset) [][]pull {
	named := make([][]pull, len(assets))
	var group errgroup.Group
	group.SetLimit(v.Concurrency)
	var mu sync.Mutex
	for i, a := range assets {
		group.Go(func() error {
			if ctx.Err() != nil || v.refusal.is() {
				return nil
			}
			if ch, seen := v.pictures[a.Address]; seen {
				a.Status, a.Final = ch.last.status, ch.final.String()
				return nil
			}
			u, _ := url.Parse(a.Address)
			client := v.client
			if a.Kind != styleKind && a.Kind != scriptKind {
				client = client.briefly()
			}
			ch, err := client.follow(ctx, u, v.sameSite)
			if err == nil && ch.last != nil && ch.last.status >= 500 {
				ch, err = client.follow(ctx, u, v.sameSite)
			}
			mu.Lock()
			defer mu.Unlock()
			if ch.last != nil && ch.last.status == http.StatusTooManyRequests { // a picture that is refused is no refusal of us
				v.refusal.note(ch, err)
			}
			var not *unreadError
			switch {
			case err != nil && !errors.As(err, &not):
				v.seen.AddGap(gap(a.Address, err))
			case ch.outside:
			case ch.last != nil:
				a.Status, a.Final = ch.last.status, ch.final.String()
				if ch.last.status == http.StatusOK && a.Kind == styleKind && err == nil {
					named[i] = absolute(ch.final, styleAddresses(string(ch.last.body)))
					v.inStyle(a.Address, named[i])
				}
				if ch.last.status == http.StatusOK && err == nil && (a.Kind == styleKind || a.Kind == scriptKind) {
					v.strangersIn(a.Address, ch.last.body)
				}
				for _, p := range named[i] {
					v.names(p.address)
				}
			}
			ch.last.release()
			return nil
		})
	}
	_ = group.Wait()
	return named
}

// users are the pages that name an asset themselves.
func (v *visit) users(address string) []*visited {
	return slices.DeleteFunc(v.real(), func(p *visited) bool {
		return !slices.ContainsFunc(p.pulls, func(pulled pull) bool { return pulled.address == address })
	})
}

// inStyle notes on the pages that use a style what it loads without encryption.
func (v *visit) inStyle(address string, named []pull) {
	loads, media := unencrypted(named)
	if len(loads)+len(media) == 0 {
		return
	}
	for _, p := range v.users(address) {
		if strings.HasPrefix(p.page.Address, "https:") {
			p.page.Insecure = addFew(p.page.Insecure, loads)
			p.page.InsecureMedia = addFew(p.page.InsecureMedia, media)
		}
	}
}

// strangersIn notes on the pages that use a style or a script which of the hosts it names that no address should.
func (v *visit) strangersIn(address string, body []byte) {
	for _, host := range v.Strangers {
		if namesHost(body, host) {
			for _, p := range v.users(address) {
				p.page.Strangers = addFew(p.page.Strangers, []string{host})
			}
		}
	}
}

func addFew(list, more []string) []string {
	for _, item := range more {
		if !contains(list, item) && len(list) < maxInsecure {
			list = append(list, item)
		}
	}
	return list
}

// absolute makes the addresses in a style absolute, and leaves out what is no web address.
func absolute(at *url.URL, pulls []pull) []pull {
	var list []pull
	for _, p := range pulls {
		if p.address == "" || strings.HasPrefix(p.address, "#") || strings.HasPrefix(p.address, "data:") {
			continue
		}
		if u, err := at.Parse(p.address); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
			list = append(list, pull{p.kind, normal(u).String()})
		}
	}
	return list
}
