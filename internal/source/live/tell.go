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
	"weltaxis/internal/policy"
)

// fewKept is how many examples a list of addresses holds.
const fewKept = 10

// few keeps the first of a list.
func few(list []string) []string { return list[:min(len(list), fewKept)] }

// tell adds all that follows from the pages together.
func (v *visit) tell(ctx context.Context) {
	v.mean()
	v.tellInner()
	v.compare()
	v.canonicals()
	v.alternates()
	v.variantsAnswer(ctx)
	v.tellLinks()
	v.cards(ctx)
	v.tellHome(ctx)
	v.tellSitemap()
	v.tellFeed(ctx)
	v.barredAssets()
	v.byName()
	v.assets(ctx)
	v.tellOnce()
	v.seen.Pages = make([]facts.Page, 0, len(v.order))
	var n struct{ indexable, open, meant, described, content, cut, letters int }
	for _, p := range v.real() {
		v.seen.Pages = append(v.seen.Pages, p.page)
		page := &p.page
		count := func(to *int, is bool) {
			if is {
				*to++
			}
		}
		count(&n.cut, len(page.Cut) > 0)
		count(&n.content, page.Kind == "content")
		count(&n.letters, page.Letters)
		count(&n.indexable, page.Indexable)
		count(&n.open, !page.NoIndex && !page.Disallowed)
		count(&n.meant, page.Meant)
		count(&n.described, page.Meant && page.Description != "" && page.DescShared == 0)
	}
	home := v.home.String()
	if n.cut > 0 {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: home, Kind: facts.Unmapped, Because: fmt.Sprintf("of %d of the pages not all was read, since they hold more than is read of one (cut in the page table says what)", n.cut)})
	}
	if v.partly {
		return
	}
	say(v, facts.LiveCountPages, len(v.seen.Pages), home)
	say(v, facts.LiveCountIndexable, n.indexable, home)
	say(v, facts.LiveCountOpen, n.open, home)
	say(v, facts.LiveCountMeant, n.meant, home)
	say(v, facts.LiveCountDescribed, n.described, home)
	say(v, facts.LiveCountLetters, n.letters, home)
	say(v, facts.LiveCountContent, n.content, home)
	for _, line := range slices.Sorted(maps.Keys(v.elsewhere)) {
		if !slices.Contains(v.versions, line) {
			v.versions = append(v.versions, line+" (at "+v.elsewhere[line]+")")
		}
	}
	say(v, facts.LiveVersions, few(v.versions), home)
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

// maxInner is how many inner pages other steps are told of.
const maxInner = 60

// tellInner tells other steps which inner pages there are.
func (v *visit) tellInner() {
	for _, p := range v.real() {
		if p.page.Kind == "content" && len(v.found.Inner) < maxInner {
			v.found.Inner = append(v.found.Inner, p.page.Path)
		}
	}
}

// compare finds what pages share that are meant to be listed: titles, descriptions, and their whole text.
func (v *visit) compare() {
	titles, descriptions, texts := map[string]int{}, map[string]int{}, map[uint64]*visited{}
	all := v.real()
	for _, p := range all {
		if p.page.Meant && (p.page.Kind != "home" || p == all[0]) { // the home page once, whatever it is written as
			titles[p.page.Title]++
			descriptions[p.page.Description]++
		}
	}
	for _, p := range all {
		if p.page.Meant && p.page.Title != "" && p.page.Kind != "home" {
			p.page.TitleShared = titles[p.page.Title] - 1
		}
		if p.page.Meant && p.page.Description != "" {
			p.page.DescShared = descriptions[p.page.Description] - 1
		}
		if p.page.Words < 20 || !p.page.Meant {
			continue
		}
		first := texts[p.digest]
		if first == nil {
			texts[p.digest] = p
			continue
		}
		p.page.Twin = first.page.Address // the one that was met first is the page, and this another address of it
	}
}

// canonicals sees what stands at the canonical address of every page, and how many pages name the same one.
func (v *visit) canonicals() {
	crowds := map[string]int{}
	for _, p := range v.real() {
		if p.page.Canonical == "" {
			continue
		}
		u, err := url.Parse(p.page.Canonical)
		switch {
		case err == nil && u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https":
			p.page.CanonicalWorks = "no web address"
			continue
		case err != nil || u.Host == "":
			p.page.CanonicalWorks = "not absolute"
			continue
		}
		u = normal(u)
		p.page.CanonicalWorks = v.canonicalWorks(p, u)
		if p.page.Elsewhere {
			crowds[u.String()]++
		}
	}
	for _, p := range v.real() {
		if u, err := url.Parse(p.page.Canonical); err == nil && p.page.Elsewhere {
			p.page.CanonicalCrowd = crowds[normal(u).String()]
		}
	}
}

// canonicalWorks is what stands at a page's canonical address.
func (v *visit) canonicalWorks(p *visited, u *url.URL) string {
	at := v.pages[u.String()]
	switch {
	case !v.inside(u):
		return "another host"
	case at != nil && at.chain.steps > 0:
		return "redirects"
	case facts.SameAddress(u.String(), p.page.Address):
		return "answers"
	case at == nil || at.chain.final == nil:
		return "not looked at"
	case at.page.Status != http.StatusOK:
		return fmt.Sprintf("answers %d", at.page.Status)
	case at.page.NoIndex && !at.page.WithSite:
		return "noindex"
	case at.page.Disallowed && !at.page.WithSite:
		return "is kept out by robots.txt"
	case at.isPage && at.page.Unread == "" && !v.alike(p, at):
		return "is another page"
	}
	return "answers"
}

// alternates finds those that do not answer, or do not name the page back. What was not looked at is not told.
func (v *visit) alternates() {
	for _, p := range v.real() {
		for _, alternate := range p.page.Alternates {
			_, address, _ := strings.Cut(alternate, " ")
			to := v.pages[address]
			if to == nil || to == p || to.chain.final == nil {
				continue
			}
			back := slices.ContainsFunc(to.page.Alternates, func(other string) bool { return strings.HasSuffix(other, " "+p.page.Address) })
			if to.chain.steps > 0 || to.page.Status != http.StatusOK || to.page.Unread == "" && !back {
				p.page.AlternatesBad = append(p.page.AlternatesBad, address)
			}
		}
	}
}

// variantsAnswer asks for one page as a mailing links to it, and for the home page as an index file: where such a spelling
// answers with the page, and does not name the page as canonical, it is a second address of it.
func (v *visit) variantsAnswer(ctx context.Context) {
	home := v.pages[v.home.String()]
	if home == nil || !home.isPage || home.page.Unread != "" || v.refusal.is() {
		return
	}
	page := home
	for _, p := range v.real() {
		if p.page.Kind == "content" && p.page.Meant && !strings.Contains(p.page.Path, "?") {
			page = p
			break
		}
	}
	v.variant(ctx, page, "", "utm_source=weltaxis")
	if v.Own {
		v.variant(ctx, home, "index.html", "")
		v.variant(ctx, home, "index.php", "")
	}
}

// variant asks for a page under another spelling.
func (v *visit) variant(ctx context.Context, p *visited, file, query string) {
	u, err := url.Parse(p.page.Address)
	if err != nil || !p.page.Meant || len(p.page.Cut) > 0 || query != "" && p.page.Canonicals == 0 {
		return // a page without a canonical link is told as that
	}
	other := *u
	other.Path += file
	other.RawQuery = query
	if v.pages[other.String()] != nil || !v.mayFetch(&other) {
		return // it is looked at as a page
	}
	ch, err := v.client.follow(ctx, &other, v.sameSite)
	if err != nil || ch.last == nil || ch.steps > 0 || ch.last.status != http.StatusOK {
		return
	}
	defer ch.last.release()
	d := v.analyse(ch)
	if d == nil || d.digest != p.digest {
		return
	}
	names := canonicalLinks(d.canonicals, ch.last.header, &other)
	if !slices.ContainsFunc(names, func(name string) bool {
		return sameTarget(&other, name, p.page.Address) || p.page.Canonical != "" && sameTarget(&other, name, p.page.Canonical)
	}) && p.page.Twin == "" {
		p.page.Twin = other.String()
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
	sizes := map[string]cardSize{}
	for _, p := range v.real() {
		at := p.page.CardImage
		if at == "" {
			continue
		}
		size, known := sizes[at]
		if !known {
			size = v.cardSize(ctx, at, len(sizes) < maxCards)
			sizes[at] = size
		}
		p.page.CardWidth, p.page.CardHeight, p.page.CardUnseen = size.Width, size.Height, size.unseen
	}
}

// A cardSize is how large a picture is, or why nobody could tell.
type cardSize struct {
	image.Config
	unseen string
}

func (v *visit) cardSize(ctx context.Context, at string, room bool) cardSize {
	if !room {
		return cardSize{unseen: fmt.Sprintf("only the first %d are fetched", maxCards)}
	}
	size, kind, err := v.picture(ctx, at, func(data []byte) { v.keepSmall(at, data) })
	var answers *statusError
	switch {
	case errors.As(err, &answers): // that it does not answer is told of the asset
		return cardSize{unseen: err.Error()}
	case err != nil && kind == "":
		return cardSize{unseen: err.Error()}
	case size.Width == 0 && kind != "no picture":
		return cardSize{unseen: "it is of a kind, " + kind + ", whose size this program does not read"}
	}
	return cardSize{Config: size}
}

// A statusError is that something answers, and not with what was asked for.
type statusError struct{ status int }

func (e *statusError) Error() string { return fmt.Sprintf("it answers %d", e.status) }

// errElsewhere is that something lies on another host, where nobody looks.
var errElsewhere = errors.New("it lies on another host, where nobody looked")

// A pictured is a picture that was measured.
type pictured struct {
	chain
	kind string
	size image.Config
}

// picture fetches a picture of the site and measures it. Kind is what its bytes are. What can be measured is shown to look, unless that is nil.
func (v *visit) picture(ctx context.Context, address string, look func(data []byte)) (size image.Config, kind string, err error) {
	u, err := v.home.Parse(address)
	if err != nil {
		return size, "", err
	}
	ch, err := v.client.follow(ctx, u, v.sameSite)
	if err == nil && ch.last != nil {
		defer func() {
			v.pictures[normal(u).String()] = pictured{ch, kind, size}
			ch.last.release()
		}()
	}
	switch {
	case err != nil:
		return size, "", err
	case ch.last == nil:
		return size, "", errElsewhere
	case ch.last.status != http.StatusOK:
		return size, "", &statusError{ch.last.status}
	}
	kind = pictureFormat(ch.last.body)
	if kind != "svg" && kind != "ico" {
		size, _, err = image.DecodeConfig(bytes.NewReader(ch.last.body))
	}
	if look != nil && size.Width > 0 {
		look(ch.last.body)
	}
	return size, kind, err
}

// pictureFormat tells what a picture's bytes are (WHATWG MIME Sniffing §6.1, and SVG by its element).
func pictureFormat(data []byte) string {
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
	switch {
	case p == nil || !p.isPage:
		v.seen.AddGap(gap(at, errors.New("the home page is no page of markup"), "live.home."))
		return
	case p.page.Unread != "":
		v.seen.AddGap(gap(at, errors.New("the home page could not be read: "+p.page.Unread), "live.home.", "live.icon."))
		return
	}
	page := &p.page
	for _, r := range page.HomeReadings() {
		if r.FullName() != facts.HomeStatus.Name { // said before the page was read
			v.seen.Add(r)
		}
	}
	linked := p.linkTexts
	unread := ""
	for _, q := range v.real() {
		if q.from == at && q.page.Unread != "" {
			unread = q.page.Address
		} else if q.from == at {
			linked = append(linked, q.page.Title)
		}
	}
	switch {
	case unread != "":
		v.seen.AddGap(gap(unread, errors.New("the home page links to it, and it could not be read"), facts.HomeLinkedTitles.Name))
	case !v.partly:
		say(v, facts.HomeLinkedTitles, distinct(linked), at)
	}
	v.tellIcon(ctx, page)
	if p.logo != "" {
		if size, _, err := v.picture(ctx, p.logo, nil); err == nil {
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
	_, kind, err := v.picture(ctx, address, nil)
	if errors.Is(err, errElsewhere) {
		v.seen.AddGap(gap(u.String(), err, "live.icon."))
		return
	}
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
		for _, pulled := range p.pulls {
			u, err := url.Parse(pulled.address)
			if err != nil || !v.inside(u) || pulled.kind != styleKind && pulled.kind != scriptKind {
				continue
			}
			if may, keeps, _ := v.engineMay(u); !may {
				barred[u.RequestURI()+" ("+strings.Trim(strings.TrimPrefix(keeps, "robots.txt"), ", ")+")"] = true
			}
		}
	}
	if v.partly {
		return
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
	v.noteSigns("feed", string(ch.last.body[:min(len(ch.last.body), maxSignMarkup)]), at)
	f, err := parseFeed(ch.last.body)
	say(v, facts.LiveFeedValid, err == nil && ch.last.status == http.StatusOK, at)
	if err == nil {
		say(v, facts.LiveFeedItems, f.items, at)
		say(v, facts.LiveFeedReply, f.reply, at)
		if policy.NamesVersion(f.maker) {
			v.versions = append(v.versions, "the feed: "+facts.Shorten(f.maker, 80))
		}
	}
}
