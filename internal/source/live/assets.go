package live

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"maps"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
)

// maxAssets is how many different assets are fetched, once each.
const maxAssets = 300

// looked are the kinds of what pages name that are looked at: what is posted to is not, and frames are pages of their own.
var looked = []string{styleKind, scriptKind, fontKind, pictureKind, mediaKind, otherKind, cardKind, saidKind}

// assets fetches what the pages name beside other pages, as far as it is the site's own, and what its styles name.
func (v *visit) assets(ctx context.Context) {
	v.seen.Assets, v.validators = []facts.Asset{}, map[string]http.Header{}
	var wanted []*facts.Asset
	known := map[string]*facts.Asset{}
	beyond := 0
	enter := func(p pull, from, on string) {
		if !slices.Contains(looked, p.kind) || strings.Contains(p.address, "%7B") || strings.ContainsAny(p.address, "{}") { // a template is no address
			return
		}
		u, err := url.Parse(p.address)
		if err != nil || !v.sameSite(u) || v.pages[p.address] != nil {
			return // what is a page is looked at as one
		}
		if a := known[p.address]; a != nil {
			a.Pages++
			if len(a.On) < maxInsecure && on != "" && !slices.Contains(a.On, on) {
				a.On = append(a.On, on)
			}
			if a.Kind == saidKind {
				a.Kind = p.kind
			}
			return
		}
		if len(known) >= maxAssets || !v.mayFetch(u) {
			beyond++
			return
		}
		known[p.address] = &facts.Asset{Address: p.address, Kind: p.kind, From: from, Pages: 1, On: []string{}}
		if on != "" {
			known[p.address].On = append(known[p.address].On, on)
		}
		wanted = append(wanted, known[p.address])
	}
	for _, p := range v.real() {
		var once []pull
		for _, pulled := range p.pulls {
			if !slices.Contains(once, pulled) {
				once = append(once, pulled)
				enter(pulled, p.page.Address, p.page.Path)
			}
		}
	}
	for depth := 0; len(wanted) > 0 && depth < 3; depth++ { // a style may import one, which names a picture
		batch := wanted
		wanted = nil
		for i, styles := range v.fetchAssets(ctx, batch) {
			for _, p := range styles {
				enter(p, batch[i].Address, "")
			}
		}
	}
	for _, a := range known {
		if a.Status != 0 {
			v.seen.Assets = append(v.seen.Assets, *a)
		}
	}
	slices.SortFunc(v.seen.Assets, func(a, b facts.Asset) int { return strings.Compare(a.Address, b.Address) })
	for _, a := range v.seen.Assets {
		if u, err := url.Parse(a.Address); err == nil && a.Status == http.StatusOK && u.RawQuery == "" && a.Final == a.Address && v.inside(u) {
			v.found.Served = append(v.found.Served, u.Path)
		}
	}
	v.conditionally(ctx)
	v.weigh()
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
			if shown, seen := v.pictures[a.Address]; seen && shown.last != nil {
				mu.Lock()
				defer mu.Unlock()
				v.describeAsset(a, shown.chain)
				a.Format, a.Width, a.Height = shown.kind, shown.size.Width, shown.size.Height
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
				v.namesVersions(ch.last)
				v.describeAsset(a, ch)
				if ch.last.status == http.StatusOK && err == nil {
					v.measureAsset(a, ch.last)
				}
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

// describeAsset notes how an asset answers, and what it says to caches.
func (v *visit) describeAsset(a *facts.Asset, ch chain) {
	answer := ch.last
	a.Status, a.Final, a.Owner = answer.status, ch.final.String(), ownerOf(ch.final.Path, v.Owners)
	a.Named = namedByContent(ch.final.Path, ch.final.RawQuery)
	a.CacheControl, a.Vary, a.Type = joined(answer.header, "Cache-Control"), joined(answer.header, "Vary"), facts.Shorten(answer.header.Get("Content-Type"), 100)
	a.Fresh, a.Validator, a.Compressed = freshFor(caching.Private, answer), hasValidator(answer.header), coding(answer)
	a.Sent, a.Size, a.Saves = answer.sent, answer.size, -1
	if a.Validator {
		v.validators[a.Address] = caching.Asks(answer.header)
	}
}

// measureAsset looks into what came of an asset.
func (v *visit) measureAsset(a *facts.Asset, answer *response) {
	switch a.Kind {
	case styleKind, scriptKind:
		a.Saves = saves(a.Kind, answer.body)
	case pictureKind, cardKind, saidKind:
		a.Format = pictureFormat(answer.body)
		if size, _, err := image.DecodeConfig(bytes.NewReader(answer.body)); err == nil {
			a.Width, a.Height = size.Width, size.Height
		}
	}
}

// maxConditional is how many assets are asked for once more, on condition that they have changed.
const maxConditional = 10

// conditionally asks for some assets as a browser does that has them: styles and scripts first.
func (v *visit) conditionally(ctx context.Context) {
	asked := 0
	for _, kinds := range [][]string{{styleKind, scriptKind}, {pictureKind, fontKind}} {
		for i := range v.seen.Assets {
			a := &v.seen.Assets[i]
			if !slices.Contains(kinds, a.Kind) || a.Status != http.StatusOK || !a.Validator || a.Final != a.Address || asked >= maxConditional || v.refusal.is() || ctx.Err() != nil {
				continue
			}
			u, err := url.Parse(a.Address)
			if err != nil {
				continue
			}
			asked++
			answer, err := v.client.briefly().with(v.validators[a.Address]).get(ctx, u)
			if err == nil {
				a.NotModified = yesNo(answer.status == http.StatusNotModified)
			}
			answer.release()
		}
	}
}

// weigh sums up what pages load: KiB that are sent for a page and for what it names of the site's own, styles' pictures among them.
func (v *visit) weigh() {
	known := map[string]*facts.Asset{}
	below := map[string][]*facts.Asset{} // by the style that names them
	for i := range v.seen.Assets {
		a := &v.seen.Assets[i]
		known[a.Address] = a
		below[a.From] = append(below[a.From], a)
	}
	hosts := map[string]bool{}
	for _, p := range v.real() {
		counted, fonts := map[string]bool{}, map[string]bool{}
		bytes := max(p.page.Sent, 0)
		var add func(address string)
		add = func(address string) {
			a := known[address]
			if a == nil || counted[address] {
				return
			}
			counted[address] = true
			if stem := strings.TrimSuffix(a.Address, path.Ext(a.Address)); a.Kind == fontKind { // of one font in several formats a browser loads one
				if fonts[stem] {
					return
				}
				fonts[stem] = true
			}
			bytes += max(a.Sent, 0)
			if a.Kind == styleKind {
				for _, more := range below[address] {
					add(more.Address)
				}
			}
		}
		for _, pulled := range p.pulls {
			if isLoaded(pulled.kind) && pulled.kind != formKind && pulled.kind != frameKind {
				if !pulled.either {
					add(pulled.address)
				}
				if u, err := url.Parse(pulled.address); err == nil && len(hosts) < maxHosts {
					hosts[strings.ToLower(u.Hostname())] = true
				}
			}
		}
		p.page.Weight = (bytes + 1023) / 1024
	}
	if !v.partly {
		say(v, facts.LiveAssetHosts, slices.Sorted(maps.Keys(hosts)), v.home.String())
	}
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
			list = append(list, pull{kind: p.kind, address: normal(u).String()})
		}
	}
	return list
}
