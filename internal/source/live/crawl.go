package live

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"golang.org/x/net/html/charset"
	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
	"weltaxis/internal/policy"
	"weltaxis/internal/progress"
)

// A visited is one address that was fetched, with what the crawl must remember of it.
type visited struct {
	page      facts.Page
	chain     chain // without its body
	failed    error
	digest    uint64
	logo      string
	from      string // the first page that links to it
	isPage    bool   // it is a page of this site, at this address, with status 200
	pulls     []pull
	heading   string
	linkTexts []string // of the home page
	seed      bool     // a sitemap names it
	failure   string   // of a program, that it shows
	registers bool     // one may make an account on it
	given     []hidden // of its forms that are sent, what nobody fills in
	shows     string   // the site, or a notice; "" where that was not looked at
}

// maxGapsOfPages is how many pages that could not be fetched are told one by one.
const maxGapsOfPages = 10

// crawl takes the home page as it was read, and fetches its links and theirs, breadth first, and the addresses of the sitemaps.
func (v *visit) crawl(ctx context.Context, first chain, failed error, read *document) {
	v.pages, v.hosts = map[string]*visited{}, map[string]bool{}
	home := v.home.String()
	v.pages[home] = &visited{}
	v.order = []string{home}
	first.steps = 0 // wherever it led from, it is told under the address that it led to
	links := v.keep(home, 0, first, failed, read)
	v.pages[home].shows = facts.ShowsSite
	v.pages[home].page.Linked = true
	for _, wanted := range v.List {
		if u, err := v.home.Parse(wanted); err == nil && v.inside(u) {
			if p, fresh := v.enter(normal(u).String(), ""); p != nil {
				p.seed = p.seed || fresh
			}
		}
	}
	seeds := v.readSitemaps(ctx)
	for _, seed := range seeds {
		if p, fresh := v.enter(seed, ""); p != nil {
			p.seed = p.seed || fresh
			p.page.InSitemap = true
		}
	}
	next := v.enterAll(links, home)
	for depth := 1; len(next) > 0 && depth <= v.MaxDepth && ctx.Err() == nil; depth++ {
		next = v.level(ctx, next, depth)
	}
	var left []string
	for _, address := range v.order {
		if p := v.pages[address]; p.chain.final == nil && p.failed == nil && p.seed {
			left = append(left, address)
		}
	}
	for try := 0; len(left) > 0 && try <= v.MaxDepth && ctx.Err() == nil; try++ { // no click from home leads here
		left = v.level(ctx, left, -1)
	}
	v.level(ctx, v.canonicalTargets(), -1)
	v.tellUnfetched(ctx)
}

// canonicalTargets are the addresses that pages name as canonical, or as themselves in another language, and nothing else has
// led to.
func (v *visit) canonicalTargets() []string {
	var targets []string
	for _, p := range v.real() {
		named := []string{p.page.Canonical}
		for _, alternate := range p.page.Alternates {
			_, address, _ := strings.Cut(alternate, " ")
			named = append(named, address)
		}
		for _, address := range named {
			u, err := url.Parse(address)
			if err != nil || !v.inside(u) {
				continue
			}
			u = normal(u)
			if _, fresh := v.enter(u.String(), p.page.Address); fresh {
				targets = append(targets, u.String())
			}
		}
	}
	return targets
}

// enter notes an address to be fetched, and tells whether it is new; nil when there are enough.
func (v *visit) enter(address, from string) (p *visited, fresh bool) {
	if p := v.pages[address]; p != nil {
		return p, false
	}
	if len(v.order) >= 2*v.MaxPages {
		v.beyond++
		return nil, false
	}
	p = &visited{from: from}
	v.pages[address] = p
	v.order = append(v.order, address)
	return p, true
}

func (v *visit) enterAll(links []string, from string) []string {
	var fresh []string
	for _, link := range links {
		u, err := url.Parse(link)
		if err != nil || !v.inside(u) {
			continue
		}
		p, isNew := v.enter(link, from)
		if p == nil {
			continue
		}
		p.page.Linked = true
		if isNew || p.seed && p.chain.final == nil && !slices.Contains(fresh, link) {
			if p.from == "" {
				p.from = from
			}
			fresh = append(fresh, link)
		}
	}
	return fresh
}

// level fetches addresses side by side and returns the new ones they link to, in their order.
func (v *visit) level(ctx context.Context, addresses []string, depth int) []string {
	if over := v.fetched() + len(addresses) - v.MaxPages; over > 0 {
		addresses = addresses[:max(len(addresses)-over, 0)]
	}
	found := make([][]string, len(addresses))
	var group errgroup.Group
	group.SetLimit(v.Concurrency)
	var mu sync.Mutex
	for i, address := range addresses {
		group.Go(func() error {
			if ctx.Err() != nil || v.refusal.is() {
				return nil
			}
			u, err := url.Parse(address)
			if err != nil || !v.mayFetch(u) {
				mu.Lock()
				v.pages[address].failed = errBarred
				mu.Unlock()
				return nil
			}
			ch, err := v.client.follow(ctx, u, v.sameSite)
			if err == nil && ch.last != nil && ch.last.status >= 500 {
				ch, err = v.client.follow(ctx, u, v.sameSite) // a passing trouble is none
			}
			v.refusal.note(ch, err)
			found[i] = v.takeSafely(&mu, address, depth, ch, err)
			progress.Tell(ctx, "looking at pages", int(v.taken.Add(1)), 0)
			return nil
		})
	}
	_ = group.Wait()
	var next []string
	for i, links := range found {
		next = append(next, v.enterAll(links, addresses[i])...)
	}
	return next
}

var errBarred = errors.New("robots.txt asks robots to stay away; --ignore-robots looks all the same")

func (v *visit) fetched() int {
	n := 0
	for _, p := range v.pages {
		if p.chain.final != nil {
			n++
		}
	}
	return n
}

// takeSafely analyses outside the lock and keeps the result inside it.
func (v *visit) takeSafely(mu *sync.Mutex, address string, depth int, ch chain, err error) []string {
	var analysed *document
	if err == nil {
		analysed = v.analyse(ch)
	}
	shows := ""
	if ch.last != nil && (ch.last.status == http.StatusServiceUnavailable || analysed != nil && v.saysNotice(ch.last, analysed)) {
		shows = facts.ShowsNotice
	}
	ch.last.release()
	mu.Lock()
	defer mu.Unlock()
	v.pages[address].shows = shows
	return v.keep(address, depth, ch, err, analysed)
}

// analyse reads the page at the end of a chain; nil when there is none that is the site's own and can be read.
func (v *visit) analyse(ch chain) *document {
	if ch.last == nil || ch.last.status != http.StatusOK || !isHTML(ch.last.header) || unknownCharset(ch.last.header) != "" {
		return nil
	}
	v.signsOf(ch.final.String(), ch.last.header, ch.last.body)
	return analyse(ch.final, ch.last.body, ch.last.header.Get("Content-Type"), sought{owners: v.Owners, analytics: v.Analytics, strangers: v.Strangers, linkTexts: ch.final.String() == v.home.String()})
}

// unknownCharset is the name of a character encoding in a Content-Type header that nobody knows (Encoding Standard §4.2).
func unknownCharset(header http.Header) string {
	_, params, err := mime.ParseMediaType(header.Get("Content-Type"))
	if err != nil {
		return ""
	}
	name := params["charset"]
	if known, _ := charset.Lookup(name); known == nil && name != "" {
		return name
	}
	return ""
}

// unreadAs is why the page that an answer holds cannot be read as it was meant, "" when it can.
func unreadAs(answer *response, err error) string {
	var not *unreadError
	switch {
	case answer == nil || answer.status != http.StatusOK || !isHTML(answer.header):
		return ""
	case errors.As(err, &not):
		return not.says
	case unknownCharset(answer.header) != "":
		return "Content-Type: charset=" + shown(unknownCharset(answer.header)) + ", an encoding that nobody knows"
	}
	return ""
}

func isHTML(header http.Header) bool {
	kind := strings.ToLower(header.Get("Content-Type"))
	return strings.HasPrefix(kind, "text/html") || strings.HasPrefix(kind, "application/xhtml+xml")
}

// namesVersions notes the versions that an answer's headers name, each with the first path that does.
func (v *visit) namesVersions(answer *response) {
	v.signMu.Lock()
	defer v.signMu.Unlock()
	for _, line := range policy.Versions(answer.header) {
		line = facts.Shorten(line, maxVersion)
		if at, known := v.elsewhere[line]; !known && len(v.elsewhere) < fewKept || known && answer.url.Path < at {
			if v.elsewhere == nil {
				v.elsewhere = map[string]string{}
			}
			v.elsewhere[line] = answer.url.Path
		}
	}
}

// keep remembers what came of one address and returns the links of its page.
func (v *visit) keep(address string, depth int, ch chain, err error, d *document) []string {
	p := v.pages[address]
	p.chain, p.failed = ch, err
	answer := ch.last
	p.chain.last = nil // its body is not needed any more
	if answer == nil {
		return nil
	}
	p.page.Status = answer.status
	if address == v.home.String() {
		say(v, facts.HomeHeaders, headerLines(answer.header), address)
		v.versions = nil
		for _, line := range policy.Versions(answer.header) {
			v.versions = append(v.versions, facts.Shorten(line, maxVersion))
		}
		say(v, facts.LiveProtocol, answer.protocol, address)
		say(v, facts.LiveKeptOpen, !answer.closes, address)
	}
	v.namesVersions(answer)
	v.tellCookies(address, answer.header)
	if answer.cut {
		v.seen.AddGap(gap(address, errTooLong))
	}
	if unread := unreadAs(answer, err); unread != "" && ch.steps == 0 {
		p.isPage, p.failed = true, nil
		may, _, _ := v.engineMay(answer.url)
		p.page = facts.Page{Address: address, Path: answer.url.RequestURI(), Status: answer.status, Depth: depth, Linked: p.page.Linked, InSitemap: p.page.InSitemap,
			RobotsHeader: facts.Shorten(strings.ToLower(strings.Join(answer.header.Values("X-Robots-Tag"), "; ")), maxText), Disallowed: !may, Unread: unread}
		v.cached(&p.page, answer)
		v.unread++
		return nil
	}
	if d == nil || err != nil || ch.steps > 0 {
		// A page reached by a redirect is told under its own address.
		if d != nil && v.inside(ch.final) {
			if p.page.Linked || p.seed {
				return []string{ch.final.String()}
			}
		}
		return nil
	}
	p.isPage, p.linkTexts = true, d.linkTexts
	v.describe(p, address, depth, answer, d)
	if address == v.home.String() {
		for _, says := range d.versions {
			v.versions = append(v.versions, "a comment: "+says)
		}
	}
	for _, ref := range slices.Concat(d.links, d.canonicals) {
		v.names(ref)
	}
	for _, p := range d.pulls {
		v.names(p.address)
	}
	return d.links
}

// names keeps the host that an address names.
func (v *visit) names(address string) {
	if u, err := url.Parse(address); err == nil && u.Host != "" && len(v.hosts) < maxHosts {
		v.hosts[strings.ToLower(u.Hostname())] = true
	}
}

// tellUnfetched says which addresses were not looked at, and why. What was not looked at because the site turned us away,
// because robots.txt bars the whole site or because time was over is not known to be in order: no rule holds of all pages then.
func (v *visit) tellUnfetched(ctx context.Context) {
	told, beyond, barred := 0, v.beyond, 0
	for _, address := range v.order {
		p := v.pages[address]
		switch {
		case errors.Is(p.failed, errBarred):
			barred++
		case p.failed != nil && told < maxGapsOfPages:
			told++
			v.seen.AddGap(gap(address, p.failed))
		case p.chain.final == nil && p.failed == nil:
			beyond++
		}
	}
	home := v.home.String()
	if v.unread > 0 {
		v.seen.AddGap(gap(v.unreadPages(), errors.New("what came could not be read as the headers say")))
	}
	barsAll := barred > 0 && !v.mayFetch(v.home)
	v.partly = v.refusal.is() || ctx.Err() != nil || barsAll
	switch {
	case v.refusal.is():
		v.seen.AddGap(gap(home, fmt.Errorf("%w; %d addresses were not looked at", errRefuses, beyond), wholeSite...))
	case ctx.Err() != nil:
		v.seen.AddGap(gap(home, fmt.Errorf("the time for it (%s) was over; %d addresses were not looked at", v.MaxTime, beyond), wholeSite...))
	case barsAll:
		v.seen.AddGap(gap(home, fmt.Errorf("robots.txt asks robots to stay away from the whole site, so %d addresses were not looked at; --ignore-robots looks all the same", barred), wholeSite...))
	case beyond > 0:
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: home, Kind: facts.Unmapped,
			Because: fmt.Sprintf("%d more addresses were not looked at, since the bound is %d pages and %d clicks", beyond, v.MaxPages, v.MaxDepth)})
	}
}

// unreadPages names the first few pages that could not be read as their headers say, with the header.
func (v *visit) unreadPages() string {
	var named []string
	for _, p := range v.real() {
		if p.page.Unread != "" && len(named) < 3 {
			named = append(named, p.page.Address+" ("+p.page.Unread+")")
		}
	}
	text := strings.Join(named, ", ")
	if more := v.unread - len(named); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// wholeSite is what is not known while only a part of the site was looked at: the lists as wholes, and what is made of all
// pages together.
var wholeSite = []string{facts.ListPages, facts.ListLinks, facts.ListAssets, "live.count.", "live.hosts", "live.sitemap.missing", "live.sitemap.orphans", "live.robots.assets_barred", "live.home.linked_titles"}

// maxHosts is how many hosts that pages name are kept.
const maxHosts = 1000

// maxCookies is how many cookies are kept.
const maxCookies = 10

// maxHeaderLines is how many headers are kept.
const maxHeaderLines = 60

// sessionName is how cookies are called that carry somebody's session, and otherName how those are that do not, whatever they hold.
var (
	sessionName = regexp.MustCompile(`(?i)(^|[^a-z])sess|session|sessid|sid$|^sid([^a-z]|$)|auth([^o]|$)|authori[sz]|token|login|logged|jwt|identity|remember`)
	otherName   = regexp.MustCompile(`(?i)csrf|xsrf|consent|cookie|lang|locale|theme|pref|notice|seen|test`)
	random      = regexp.MustCompile(`^[A-Za-z0-9_%.,~=+/-]{24,}$`)
)

// tellCookies keeps what the cookies are like that the site sets, and tells other steps their names. What a page of it sets for a part of
// the site alone is another one; of those alike the first counts.
func (v *visit) tellCookies(at string, header http.Header) {
	for _, line := range header["Set-Cookie"] {
		cookie, err := http.ParseSetCookie(line)
		if err != nil || cookie.MaxAge < 0 || len(v.seen.Cookies) >= maxCookies {
			continue // not a cookie, or one that is taken away
		}
		now := facts.Cookie{Name: facts.Shorten(cookie.Name, 100), From: at, Encrypted: strings.HasPrefix(at, "https:"), Secure: cookie.Secure, HTTPOnly: cookie.HttpOnly, SameSite: sameSite(cookie.SameSite),
			Session: carriesSession(cookie), Refused: whyRefused(cookie)}
		switch {
		case cookie.MaxAge > 0:
			now.Life = int64(cookie.MaxAge)
		case !cookie.Expires.IsZero():
			now.Life = max(int64(cookie.Expires.Sub(v.Now).Seconds()), 0)
		}
		if cookie.MaxAge == 0 && !cookie.Expires.IsZero() && now.Life == 0 {
			continue
		}
		alike := slices.ContainsFunc(v.seen.Cookies, func(c facts.Cookie) bool {
			return c.Name == now.Name && c.Secure == now.Secure && c.HTTPOnly == now.HTTPOnly && c.SameSite == now.SameSite
		})
		if !slices.ContainsFunc(v.seen.Cookies, func(c facts.Cookie) bool { return c.Name == now.Name }) {
			v.found.Cookies = append(v.found.Cookies, now.Name)
		}
		if !alike {
			v.seen.Cookies = append(v.seen.Cookies, now)
		}
	}
}

// whyRefused is why browsers do not keep a cookie that is set at an address: its name promises what it does not say, or it says what
// only counts together with Secure (RFC 6265bis §4.1.3, §5.6). That Secure comes without encryption is told by the encryption that is missing.
func whyRefused(cookie *http.Cookie) string {
	name := strings.ToLower(cookie.Name)
	switch {
	case strings.HasPrefix(name, "__secure-") && !cookie.Secure:
		return "its name begins with __Secure-, and it does not say Secure"
	case strings.HasPrefix(name, "__host-") && (!cookie.Secure || cookie.Path != "/" || cookie.Domain != ""):
		return "its name begins with __Host-, and that asks for Secure, Path=/ and no Domain"
	case cookie.SameSite == http.SameSiteNoneMode && !cookie.Secure:
		return "it says SameSite=None, and that counts with Secure alone"
	}
	return ""
}

// carriesSession tells whether a cookie seems to carry somebody's session, by its name, or by what it holds and for how long.
func carriesSession(cookie *http.Cookie) bool {
	return !otherName.MatchString(cookie.Name) && (sessionName.MatchString(cookie.Name) || cookie.MaxAge == 0 && cookie.Expires.IsZero() && random.MatchString(cookie.Value))
}

func sameSite(mode http.SameSite) string {
	return map[http.SameSite]string{http.SameSiteLaxMode: "lax", http.SameSiteStrictMode: "strict", http.SameSiteNoneMode: "none"}[mode]
}

// headerLines are headers as text, sorted. What a cookie holds may be somebody's session, so only names are kept.
func headerLines(header http.Header) []string {
	var lines []string
	for _, name := range slices.Sorted(maps.Keys(header)) {
		for _, value := range header[name] {
			if name == "Set-Cookie" {
				value, _, _ = strings.Cut(value, "=")
			}
			if len(lines) < maxHeaderLines {
				lines = append(lines, facts.Shorten(name+": "+value, 300))
			}
		}
	}
	return lines
}
