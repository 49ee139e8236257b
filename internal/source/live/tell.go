package live

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	_ "image/gif"  // formats that a picture may have
	_ "image/jpeg" //
	_ "image/png"  //
	"maps"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"

	_ "golang.org/x/image/bmp"  // the picture in an icon file may be one
	_ "golang.org/x/image/webp" //

	"weltaxis/internal/facts"
)

// fewKept is how many examples a list of addresses holds.
const fewKept = 10

// few keeps the first of a list.
func few(list []string) []string { return list[:min(len(list), fewKept)] }

// tell adds all that follows from the pages together.
func (v *visit) tell(ctx context.Context) {
	v.compare()
	v.canonicals()
	v.tellLinks()
	v.cards(ctx)
	v.tellHome(ctx)
	v.tellSitemap()
	v.tellFeed(ctx)
	v.barredAssets()
	v.seen.Pages = make([]facts.Page, 0, len(v.order))
	indexable, described, content, cut := 0, 0, 0, 0
	for _, address := range v.order {
		p := v.pages[address]
		if !p.isPage {
			continue
		}
		v.seen.Pages = append(v.seen.Pages, p.page)
		if len(p.page.Cut) > 0 {
			cut++
		}
		if p.page.Kind == "content" {
			content++
		}
		if p.page.Indexable {
			indexable++
			if p.page.Description != "" && p.page.DescShared == 0 {
				described++
			}
		}
	}
	home := v.home.String()
	if cut > 0 {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: home, Kind: facts.Unmapped, Because: fmt.Sprintf("of %d of the pages not all was read, since they hold more than is read of one (cut in the page table says what)", cut)})
	}
	say(v, facts.LiveCountIndexable, indexable, home)
	say(v, facts.LiveCountDescribed, described, home)
	say(v, facts.LiveCountContent, content, home)
	say(v, facts.LiveHosts, slices.Sorted(maps.Keys(v.hosts)), home)
}

// real lists the pages in their order.
func (v *visit) real() []*visited {
	var list []*visited
	for _, address := range v.order {
		if p := v.pages[address]; p.isPage {
			list = append(list, p)
		}
	}
	return list
}

// compare finds what indexable pages share: titles, descriptions, and their whole text.
func (v *visit) compare() {
	titles, descriptions, texts := map[string]int{}, map[string]int{}, map[uint64]*visited{}
	all := v.real()
	for _, p := range all {
		if p.page.Indexable {
			titles[p.page.Title]++
			descriptions[p.page.Description]++
		}
	}
	for _, p := range all {
		if p.page.Indexable && p.page.Title != "" {
			p.page.TitleShared = titles[p.page.Title] - 1
		}
		if p.page.Indexable && p.page.Description != "" {
			p.page.DescShared = descriptions[p.page.Description] - 1
		}
		if p.page.Words < 20 || !ownCanonical(p.page) {
			continue
		}
		first := texts[p.digest]
		if first == nil {
			texts[p.digest] = p
			continue
		}
		p.page.Twin, first.page.Twin = first.page.Address, p.page.Address
	}
}

// ownCanonical tells whether a page stands for itself: it names no canonical address, or its own.
func ownCanonical(page facts.Page) bool {
	return page.Canonical == "" || facts.SameAddress(page.Canonical, page.Address)
}

// canonicals sees what stands at the canonical address of every page.
func (v *visit) canonicals() {
	for _, p := range v.real() {
		if p.page.Canonical == "" {
			continue
		}
		u, err := url.Parse(p.page.Canonical)
		if err != nil || u.Host == "" {
			p.page.CanonicalWorks = "not absolute"
			continue
		}
		u = normal(u)
		switch at := v.pages[u.String()]; {
		case !v.inside(u):
			p.page.CanonicalWorks = "another host"
		case facts.SameAddress(u.String(), p.page.Address):
			p.page.CanonicalWorks = "answers"
		case at == nil || at.chain.final == nil:
			p.page.CanonicalWorks = "not looked at"
		case at.chain.steps > 0:
			p.page.CanonicalWorks = "redirects"
		case at.page.Status != http.StatusOK:
			p.page.CanonicalWorks = fmt.Sprintf("answers %d", at.page.Status)
		case at.page.NoIndex:
			p.page.CanonicalWorks = "noindex"
		default:
			p.page.CanonicalWorks = "answers"
		}
	}
}

// tellLinks lists the internal links that do not lead straight to what they name.
func (v *visit) tellLinks() {
	v.seen.Links = []facts.Link{}
	for _, address := range v.order {
		p := v.pages[address]
		if p.chain.final == nil || !p.page.Linked {
			continue
		}
		if p.chain.steps > 0 || p.chain.loop || p.page.Status >= 400 {
			v.seen.Links = append(v.seen.Links, facts.Link{Address: address, From: p.from, Status: p.page.Status,
				Steps: p.chain.steps, Final: p.chain.final.String(), Loop: p.chain.loop})
		}
	}
}

// maxCards is how many different pictures for sharing are fetched.
const maxCards = 50

// cards measures the pictures that pages are shared with.
func (v *visit) cards(ctx context.Context) {
	sizes := map[string]image.Config{}
	for _, p := range v.real() {
		at := p.page.CardImage
		if at == "" {
			continue
		}
		size, known := sizes[at]
		if !known && len(sizes) < maxCards {
			size, _, _ = v.picture(ctx, at)
			sizes[at] = size
		}
		p.page.CardWidth, p.page.CardHeight = size.Width, size.Height
	}
}

// picture fetches a picture of the site and measures it. Kind is what its bytes are.
func (v *visit) picture(ctx context.Context, address string) (size image.Config, kind string, err error) {
	u, err := v.home.Parse(address)
	if err != nil {
		return size, "", err
	}
	ch, err := v.client.follow(ctx, u, v.sameSite)
	switch {
	case err != nil:
		return size, "", err
	case ch.last == nil:
		return size, "", errors.New("it lies on another host")
	case ch.last.status != http.StatusOK:
		return size, "", fmt.Errorf("it answers %d", ch.last.status)
	}
	kind = pictureKind(ch.last.body)
	if kind != "svg" && kind != "ico" {
		size, _, err = image.DecodeConfig(bytes.NewReader(ch.last.body))
	}
	return size, kind, err
}

// pictureKind tells what a picture's bytes are (WHATWG MIME Sniffing §6.1, and SVG by its element).
func pictureKind(data []byte) string {
	switch kind := http.DetectContentType(data); {
	case bytes.HasPrefix(data, []byte{0, 0, 1, 0}):
		return "ico"
	case strings.HasPrefix(kind, "image/"):
		return strings.TrimPrefix(kind, "image/")
	case bytes.Contains(data[:min(len(data), 1024)], []byte("<svg")):
		return "svg"
	}
	return "no picture"
}

// tellHome adds the readings of the home page.
func (v *visit) tellHome(ctx context.Context) {
	at := v.home.String()
	p := v.pages[at]
	if p == nil || !p.isPage {
		v.seen.AddGap(gap(at, errors.New("the home page is no page of markup"), "live.home."))
		return
	}
	page := &p.page
	for _, r := range page.HomeReadings() {
		if r.FullName() != facts.HomeStatus.Name { // said before the page was read
			v.seen.Add(r)
		}
	}
	var linked []string
	for _, q := range v.real() {
		if q.from == at {
			linked = append(linked, q.page.Title)
		}
	}
	say(v, facts.HomeLinkedTitles, linked, at)
	v.tellIcon(ctx, page)
	if p.logo != "" {
		if size, _, err := v.picture(ctx, p.logo); err == nil {
			say(v, facts.LiveLogoWidth, size.Width, p.logo)
			say(v, facts.LiveLogoHeight, size.Height, p.logo)
		} else {
			v.seen.AddGap(gap(p.logo, err, "live.logo."))
		}
	}
}

// tellIcon looks at the icon that is linked, or at the address browsers try without one.
func (v *visit) tellIcon(ctx context.Context, page *facts.Page) {
	address := firstOf(page.Icons)
	if address == "" {
		address = "/favicon.ico"
	}
	u, err := v.home.Parse(address)
	if err != nil {
		return
	}
	_, kind, err := v.picture(ctx, address)
	say(v, facts.LiveIconAnswers, err == nil || kind != "", u.String())
	say(v, facts.LiveIconIs, kind, u.String())
	claims := strings.ToLower(strings.TrimPrefix(path.Ext(u.Path), "."))
	if claims == "jpg" {
		claims = "jpeg"
	}
	say(v, facts.LiveIconClaims, claims, u.String())
}

// barredAssets lists styles and scripts of the site that robots.txt keeps engines from. Where robots.txt could not
// be read there is a gap already, and nothing to tell.
func (v *visit) barredAssets() {
	if _, read := v.seen.Is(facts.LiveRobotsStatus.Term); !read {
		return
	}
	barred := map[string]bool{}
	for _, p := range v.real() {
		for _, asset := range p.assets {
			u, err := url.Parse(asset)
			if err != nil || !v.inside(u) {
				continue
			}
			if may, keeps := v.engineMay(u); !may {
				barred[u.RequestURI()+" ("+strings.Trim(strings.TrimPrefix(keeps, "robots.txt"), ", ")+")"] = true
			}
		}
	}
	at, _ := v.home.Parse("/robots.txt")
	say(v, facts.LiveRobotsAssetsBarred, few(slices.Sorted(maps.Keys(barred))), at.String())
}

// tellFeed reads the feed that the home page announces.
func (v *visit) tellFeed(ctx context.Context) {
	home := v.pages[v.home.String()]
	if home == nil || len(home.page.Feeds) == 0 {
		return
	}
	at := home.page.Feeds[0]
	u, err := url.Parse(at)
	if err != nil {
		return
	}
	ch, err := v.client.follow(ctx, u, v.sameSite)
	if err != nil || ch.last == nil {
		v.seen.AddGap(gap(at, errors.Join(err, errors.New("the feed could not be fetched")), "live.feed."))
		return
	}
	f, err := parseFeed(ch.last.body)
	say(v, facts.LiveFeedValid, err == nil && ch.last.status == http.StatusOK, at)
	if err == nil {
		say(v, facts.LiveFeedItems, f.items, at)
		say(v, facts.LiveFeedReply, f.reply, at)
	}
}
