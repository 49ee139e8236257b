package live

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"syscall"

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

// spellings follows every other way to write the address. Names that do not resolve are no spellings.
func (v *visit) spellings(ctx context.Context) {
	v.seen.Spellings = []facts.Spelling{}
	preferred := v.home
	if p, err := url.Parse(v.Preferred); err == nil && p.Host != "" {
		preferred = p
		if p.Path == "" {
			p.Path = "/"
		}
	}
	var plain struct {
		stays, leads []string // addresses without encryption that stay so, and those that lead to it, or at which nobody is
		unseen       []facts.Gap
	}
	for _, s := range v.variants(preferred) {
		ch, err := v.client.follow(ctx, s.u, v.sameSite)
		var untrusted *tls.CertificateVerificationError
		if errors.As(err, &untrusted) {
			v.seen.AddGap(gap(s.u.String(), fmt.Errorf("its certificate is not to be trusted, so where it leads was not looked at (%w)", err)))
		}
		if s.kind == "scheme" && s.u.Scheme == "http" && untrusted == nil {
			switch {
			case err != nil && !nobodyThere(err):
				plain.unseen = append(plain.unseen, gap(s.u.String(), err, facts.LiveEncrypts.Name))
			case err == nil && ch.final.Scheme != "https":
				plain.stays = append(plain.stays, s.u.String())
			default:
				plain.leads = append(plain.leads, s.u.String())
			}
		}
		if err != nil {
			continue // nothing answers there: no spelling, and nothing to redirect
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

// nobodyThere tells whether an error says that nobody listens at an address, rather than that nobody could look.
func nobodyThere(err error) bool {
	var name *net.DNSError
	return errors.Is(err, syscall.ECONNREFUSED) || errors.As(err, &name) && name.IsNotFound
}

type variant struct {
	u, want *url.URL
	kind    string
}

// variants are the spellings of the home page; with Own also those of one inner page.
func (v *visit) variants(preferred *url.URL) []variant {
	var list []variant
	hosts := []string{preferred.Hostname()}
	if bare, ok := strings.CutPrefix(preferred.Hostname(), "www."); ok {
		hosts = append(hosts, bare)
	} else if strings.Count(preferred.Hostname(), ".") == 1 {
		hosts = append(hosts, "www."+preferred.Hostname())
	}
	for _, scheme := range []string{"https", "http"} {
		for _, host := range hosts {
			if preferred.Port() != "" || scheme == preferred.Scheme && host == preferred.Hostname() {
				continue
			}
			other := *preferred
			other.Scheme, other.Host = scheme, host
			kind := "host"
			if host == preferred.Hostname() {
				kind = "scheme"
			}
			list = append(list, variant{&other, preferred, kind})
		}
	}
	if !v.Own {
		return list
	}
	for _, p := range v.real() {
		u, err := url.Parse(p.page.Address)
		if err != nil || p.page.Kind != "content" || u.RawQuery != "" || u.Path == "/" {
			continue
		}
		if preferred.Port() == "" && preferred.Scheme == "https" && u.Scheme == "https" { // what leads on at the front door may not further in
			plain := *u
			plain.Scheme = "http"
			list = append(list, variant{&plain, u, "scheme"})
		}
		other := *u
		if strings.HasSuffix(u.Path, "/") {
			other.Path = strings.TrimSuffix(u.Path, "/")
		} else {
			other.Path += "/"
		}
		return append(list, variant{&other, u, "slash"})
	}
	return list
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
