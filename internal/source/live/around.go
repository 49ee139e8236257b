package live

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
)

// sitemapFound is what the sitemaps together say.
type sitemapFound struct {
	at        string
	answers   bool
	problem   error
	addresses []string
}

// readSitemaps reads the sitemaps that robots.txt names, or else the usual address, and returns the addresses of
// this host they hold.
func (v *visit) readSitemaps(ctx context.Context) []string {
	named := []string{}
	if v.robots != nil {
		named = slices.Clone(v.robots.sitemaps)
	}
	if len(named) == 0 {
		at, _ := v.home.Parse("/sitemap.xml")
		named = append(named, at.String())
	}
	v.sitemap = &sitemapFound{at: named[0]}
	for n := 0; n < len(named) && n < maxSitemapFiles && ctx.Err() == nil; n++ {
		named = append(named, v.readSitemap(ctx, named[n], n == 0)...)
	}
	var inside []string
	for _, address := range v.sitemap.addresses {
		if u, err := url.Parse(address); err == nil && v.inside(u) {
			inside = append(inside, normal(u).String())
		}
	}
	return inside
}

// readSitemap reads one file, and returns those that it names if it is an index.
func (v *visit) readSitemap(ctx context.Context, address string, first bool) []string {
	u, err := v.home.Parse(address)
	if err != nil {
		return nil
	}
	ch, err := v.client.follow(ctx, u, v.sameSite)
	if err != nil {
		v.seen.AddGap(gap(address, err))
		return nil
	}
	if ch.last == nil || ch.last.status != http.StatusOK {
		return nil
	}
	v.sitemap.answers = true
	s, err := parseSitemap(ch.last.body)
	if err != nil && v.sitemap.problem == nil {
		v.sitemap.problem = fmt.Errorf("%s: %w", address, err)
	}
	if s.index && first {
		return s.addresses[:min(len(s.addresses), maxSitemapFiles)]
	}
	if room := maxSitemapAddresses - len(v.sitemap.addresses); len(s.addresses) > room {
		s.addresses = s.addresses[:max(room, 0)]
	}
	v.sitemap.addresses = append(v.sitemap.addresses, s.addresses...)
	return nil
}

// tellSitemap compares the sitemap with the pages that were seen.
func (v *visit) tellSitemap() {
	s := v.sitemap
	say(v, facts.LiveSitemapAnswers, s.answers, s.at)
	if !s.answers {
		return
	}
	problem := ""
	switch {
	case s.problem != nil:
		problem = s.problem.Error()
	case len(s.addresses) == 0:
		problem = "it names nothing"
	}
	say(v, facts.LiveSitemapValid, problem == "", s.at)
	say(v, facts.LiveSitemapProblem, problem, s.at)
	say(v, facts.LiveSitemapAddresses, len(s.addresses), s.at)
	var wrong, orphans []string
	listed := map[string]bool{}
	for _, address := range s.addresses {
		u, err := url.Parse(address)
		if err != nil {
			wrong = append(wrong, address+" (no address)")
			continue
		}
		u = normal(u)
		listed[u.String()] = true
		if why := v.wrongInSitemap(u); why != "" {
			wrong = append(wrong, address+" ("+why+")")
		}
		if p := v.pages[u.String()]; p != nil && p.isPage && !p.page.Linked {
			orphans = append(orphans, u.RequestURI())
		}
	}
	var missing []string
	for _, p := range v.real() {
		belongs := p.page.Kind == "home" || p.page.Kind == "content" || p.page.Kind == "listing"
		if p.page.Meant && belongs && !listed[p.page.Address] {
			missing = append(missing, p.page.Path)
		}
	}
	say(v, facts.LiveSitemapWrong, few(wrong), s.at)
	if !v.partly {
		say(v, facts.LiveSitemapMissing, few(missing), s.at)
		say(v, facts.LiveSitemapOrphans, few(orphans), s.at)
	}
}

// wrongInSitemap says why an address does not belong into a sitemap; "" when it does, or was not looked at.
func (v *visit) wrongInSitemap(u *url.URL) string {
	if !v.inside(u) {
		return "another host or scheme"
	}
	p := v.pages[u.String()]
	switch {
	case p == nil || p.chain.final == nil:
		return ""
	case p.chain.steps > 0:
		return "redirects"
	case p.page.Status != http.StatusOK:
		return fmt.Sprintf("answers %d", p.page.Status)
	case p.isPage && p.page.WithSite:
		return "" // that the whole site is hidden is said once
	case p.isPage && p.page.NoIndex:
		return "noindex"
	case p.isPage && p.page.Disallowed:
		return fmt.Sprintf("kept out by robots.txt, line %d", p.page.RobotsLine)
	case p.isPage && p.page.Elsewhere && p.page.CanonicalWorks == "answers": // one that does not stand is told of the page
		return "its canonical link names " + p.page.Canonical
	}
	return ""
}

// spellings follows every other way to write the address. Where nobody is, is no spelling.
func (v *visit) spellings(ctx context.Context) {
	if v.refusal.is() {
		v.seen.AddGap(gap("the site's other addresses", errRefuses, facts.ListSpellings, facts.ListNames, facts.LiveEncrypts.Name))
		return
	}
	v.seen.Spellings = []facts.Spelling{}
	preferred := v.home
	if p, err := url.Parse(v.Preferred); err == nil && p.Host != "" {
		preferred = normal(p)
	}
	var plain struct {
		stays, leads []string // addresses without encryption that stay so, and those that lead to it, or at which nobody is
		unseen       []facts.Gap
	}
	hosts := v.hostNames(ctx, preferred)
	allowed := func(u *url.URL) bool {
		return v.sameSite(u) || (u.Scheme == "https" || u.Scheme == "http") && slices.ContainsFunc(hosts, func(h hostName) bool { return u.Host == h.host })
	}
	for _, s := range v.variants(preferred, hosts) {
		ch, err := v.client.follow(ctx, s.u, allowed)
		if isDistrusted(err) { // which is told of the name
			ch, err = v.client.unchecked().follow(ctx, s.u, allowed)
		}
		nobody := nobodyThere(err)
		if s.kind == "scheme" && s.u.Scheme == "http" {
			switch {
			case err != nil && !nobody:
				plain.unseen = append(plain.unseen, gap(s.u.String(), err, facts.LiveEncrypts.Name))
			case err == nil && ch.final.Scheme != "https":
				plain.stays = append(plain.stays, s.u.String())
			default:
				plain.leads = append(plain.leads, s.u.String())
			}
		}
		var unread *unreadError
		if errors.As(err, &unread) && ch.last != nil { // it is there, and what it holds does not matter
			err = nil
		}
		if err != nil {
			if !nobody {
				v.seen.AddGap(gap(s.u.String(), err, facts.ListSpellings))
			}
			continue
		}
		v.found.Spellings = append(v.found.Spellings, s.u.String())
		v.seen.Spellings = append(v.seen.Spellings, facts.Spelling{Address: s.u.String(), Status: ch.first, Final: ch.final.String(), Steps: ch.steps,
			Permanent: ch.permanent && ch.steps > 0, Preferred: facts.SameAddress(ch.final.String(), s.want.String()), Kind: s.kind})
	}
	switch {
	case len(plain.stays) > 0: // one is enough
		say(v, facts.LiveEncrypts, false, plain.stays[0])
	case len(plain.unseen) > 0:
		v.seen.AddGap(plain.unseen...)
	case len(plain.leads) > 0:
		say(v, facts.LiveEncrypts, true, plain.leads[0])
	}
}

type variant struct {
	u, want *url.URL
	kind    string
}

// variants are the spellings of the home page at all host names, and those of one inner page: at all other hosts, and with Own all others too.
func (v *visit) variants(preferred *url.URL, hosts []hostName) (list []variant) {
	add := func(u url.URL, scheme, host string, want *url.URL) {
		if u.Scheme, u.Host = scheme, host; u != *want {
			list = append(list, variant{&u, want, map[bool]string{true: "scheme", false: "host"}[host == want.Host]})
		}
	}
	inner := v.innerPage()
	for _, scheme := range []string{"https", "http"} {
		for _, h := range hosts {
			if preferred.Port() != "" {
				continue
			}
			add(*preferred, scheme, h.host, preferred)
			// What leads on at the front door may not further in, or lead home from there.
			if inner != nil && inner.Host == preferred.Host && (h.host != preferred.Host || v.Own && scheme == "http") {
				add(*inner, scheme, h.host, inner)
			}
		}
	}
	if !v.Own || inner == nil {
		return list
	}
	other := *inner
	if strings.HasSuffix(inner.Path, "/") {
		other.Path = strings.TrimSuffix(inner.Path, "/")
	} else {
		other.Path += "/"
	}
	return append(list, variant{&other, inner, "slash"})
}

// innerPage is the address of one inner page; nil when there is none.
func (v *visit) innerPage() *url.URL {
	for _, p := range v.real() {
		if u, err := url.Parse(p.page.Address); err == nil && p.page.Kind == "content" && u.RawQuery == "" && u.Path != "/" {
			return u
		}
	}
	return nil
}

// notFound asks for an address that cannot exist: one, of any site, to know its errors from its pages.
func (v *visit) notFound(ctx context.Context) {
	random := make([]byte, 8)
	_, _ = rand.Read(random)
	at, _ := v.home.Parse("/weltaxis-" + hex.EncodeToString(random))
	if !v.mayFetch(at) {
		v.seen.AddGap(gap("an address that cannot exist", errBarred, "live.not_found."))
		return
	}
	ch, err := v.unlinked(ctx, at, "an address that cannot exist", "live.not_found.")
	if err == nil && ch.last == nil {
		v.seen.AddGap(gap("an address that cannot exist", errors.New("it leads to another site"), "live.not_found."))
	}
	if err != nil || ch.last == nil {
		return
	}
	status := ch.last.status
	if ch.steps > 0 {
		status = ch.first
	}
	v.missing = at
	say(v, facts.LiveMissingFresh, int(freshFor(caching.Shared, ch.last)), at.String())
	shown := v.home.String() + "… (an address that cannot exist)"
	say(v, facts.LiveNotFoundStatus, status, shown)
	d := analyse(at, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
	v.note(shown, failureIn(ch.last.body))
	v.noteSigns("error page", string(ch.last.body[:min(len(ch.last.body), maxSignMarkup)]), at.String())
	linksHome := slices.ContainsFunc(d.links, func(link string) bool { return facts.SameAddress(link, v.home.String()) })
	say(v, facts.LiveNotFoundOwn, len(d.titles) > 0 && linksHome, shown)
	if ch.last.status == http.StatusOK && ch.steps == 0 && isHTML(ch.last.header) {
		v.nowhere = d.digest
	}
}
