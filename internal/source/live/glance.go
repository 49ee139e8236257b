package live

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
)

// The bounds of a short look.
const (
	GlanceRequests = 15
	GlanceTime     = 10 * time.Second

	glancePatience = 5 * time.Second // for one request
	glanceLookup   = 3 * time.Second // for finding the name's addresses
	glanceInner    = 2               // pages besides the home page
)

// A Glance is what a short look at a site shows. What could not be looked at is among Missed.
type Glance struct {
	Address   string   `json:"address"`
	Host      string   `json:"host"`
	Mapped    bool     `json:"mapped"`    // the site file says where to connect, so the name was not looked up
	Addresses []string `json:"addresses"` // that the name leads to
	NoName    string   `json:"no_name"`   // why none was found, "" when some were
	NameGone  bool     `json:"name_gone"` // the resolver says that there is no such name (RFC 8499, NXDOMAIN)
	Offline   bool     `json:"offline"`   // nothing at all leads out of this machine

	Answered bool     `json:"answered"`
	Why      string   `json:"why"`    // why it did not
	Status   int      `json:"status"` // of the home page, in the end
	Steps    []string `json:"steps"`  // addresses that it led through
	Loop     bool     `json:"loop"`
	Outside  string   `json:"outside"` // the other site that it leads to, "" when to none
	Final    string   `json:"final"`

	Distrust string `json:"distrust"`          // why its certificate is not to be trusted, "" when it is or there is none
	Until    int64  `json:"certificate_until"` // when it ends, in seconds since 1970; 0 without one
	Issuer   string `json:"certificate_issuer"`

	Title      string `json:"title"`
	Blank      bool   `json:"blank"`    // the page has nothing on it
	Stranger   string `json:"stranger"` // what answers in the site's place, by its title: a server's own page, a list of files, a host's; "" when the site does
	Failure    string `json:"failure"`  // of a program, that the page shows
	Bare       bool   `json:"bare"`     // nothing answers with encryption, and without it something does
	Notice     string `json:"notice"`   // the title of a notice in the place of the page
	RetryAfter string `json:"retry_after"`
	System     string `json:"system"`    // what it says for certain that it runs on
	Turned     string `json:"turned"`    // how it turns us away, "" when it does not
	HiddenBy   string `json:"hidden_by"` // what keeps search engines from the home page, as of a page
	Robots     string `json:"robots"`    // in words

	Connect    float64   `json:"connect"`     // milliseconds until there was a connection, the name's addresses and encryption among it
	FirstBytes []float64 `json:"first_bytes"` // milliseconds from then to the first byte of the home page, of each plain ask

	Outcome  string `json:"outcome"` // what became of the first ask at a cache, as headers say
	Says     string `json:"says"`    // the header that says so
	Age      int64  `json:"age"`     // of the copy, in seconds (RFC 9111 §5.1); -1 when it does not say
	Fresh    int64  `json:"fresh"`   // for how long it may be kept, as it says itself; -1 when it does not
	Way      string `json:"way"`     // the way around the cache, "" when none was found
	Behind   string `json:"behind"`  // in what the page around the cache differs, "" when in nothing
	Unsteady bool   `json:"unsteady"`
	Search   string `json:"search"` // in what it differs for somebody who comes from a search result

	Inner []Inner `json:"inner"`

	Requests int               `json:"requests"`
	Took     float64           `json:"took"`   // milliseconds
	Missed   map[string]string `json:"unseen"` // by what it was, with why
	missing  sync.Mutex
}

// miss notes what could not be looked at.
func (g *Glance) miss(what string, err error) {
	g.missing.Lock()
	defer g.missing.Unlock()
	g.Missed[what] = err.Error()
}

// An Inner is a page besides the home page.
type Inner struct {
	Path   string `json:"path"`
	Status int    `json:"status"` // 0 when it did not answer
	Why    string `json:"why"`
}

// Look takes a short look: at most fifteen requests and ten seconds, and no address that a page does not link to but robots.txt.
func Look(ctx context.Context, o Options) *Glance {
	began := time.Now()
	g := &Glance{Address: o.Address, Age: -1, Fresh: -1, Missed: map[string]string{}}
	o.patience = glancePatience
	v, err := newVisit(o)
	if err != nil {
		g.Why = err.Error()
		return g
	}
	defer v.client.close()
	budget := &atomic.Int64{}
	budget.Store(GlanceRequests)
	v.client.budget = budget
	ctx, cancel := context.WithTimeout(ctx, GlanceTime)
	defer cancel()
	g.Host = v.home.Hostname()
	if g.resolve(ctx, v) {
		g.home(ctx, v)
	}
	g.Requests = GlanceRequests - int(max(budget.Load(), 0))
	g.Took = ms(time.Since(began))
	return g
}

// resolve finds the addresses of the name, and tells whether it is worth going on.
func (g *Glance) resolve(ctx context.Context, v *visit) bool {
	if _, err := net.ResolveIPAddr("ip", g.Host); err == nil && net.ParseIP(g.Host) != nil {
		g.Addresses = []string{g.Host}
		return true
	}
	if len(v.Connect) > 0 {
		g.Mapped = true
		return true
	}
	ctx, cancel := context.WithTimeout(ctx, glanceLookup)
	defer cancel()
	found, err := v.client.lookup(ctx, "ip", g.Host)
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns) && dns.IsNotFound:
		g.NameGone, g.NoName = true, "there is no such name"
	case err != nil:
		g.NoName, g.Offline = plainError(err).Error(), nothingLeadsOut(err)
		if dns != nil {
			g.NoName = dns.Err
			g.Offline = g.Offline || dns.IsTemporary || dns.IsTimeout
		}
	}
	for _, ip := range found {
		g.Addresses = append(g.Addresses, ip.Unmap().String())
	}
	slices.Sort(g.Addresses)
	return err == nil
}

// nothingLeadsOut tells whether an error says that this machine has no way out.
func nothingLeadsOut(err error) bool {
	return errors.Is(err, syscall.ENETUNREACH) || errors.Is(err, syscall.ENETDOWN) || errors.Is(err, syscall.EADDRNOTAVAIL)
}

// home asks for the home page, and then for all that is told by it.
func (g *Glance) home(ctx context.Context, v *visit) {
	ch, err := v.client.follow(ctx, v.home, g.within(v))
	if isDistrusted(err) {
		g.Distrust = distrusted(err)
		v.client.distrust()
		g.Steps = nil
		ch, err = v.client.follow(ctx, v.home, g.within(v))
	}
	if plainly := g.unencrypted(v, err); plainly != nil {
		if other, failed := v.client.follow(ctx, plainly, g.within(v)); failed == nil && other.last != nil {
			ch, err, g.Bare = other, nil, true
		}
	}
	g.Final, g.Loop = ch.final.String(), ch.loop
	if ch.outside {
		g.Outside = ch.final.String()
	}
	if ch.last == nil || err != nil && ch.last.status == 0 {
		if err != nil {
			g.Why, g.Offline = err.Error(), nothingLeadsOut(err)
		}
		return
	}
	defer ch.last.release()
	g.answered(v, ch)
	if err != nil {
		g.Why = err.Error()
	}
	if ch.loop || ch.outside {
		return
	}
	if g.Turned = turnedAway(ch.last); g.Turned != "" {
		return
	}
	v.home = ch.final
	v.client.home, v.client.origin = v.home.Hostname(), originOf(v.home)
	var d *document
	if err == nil && isHTML(ch.last.header) {
		d = analyse(ch.final, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
		g.reads(d, ch.last.body)
		if v.saysNotice(ch.last, d) {
			g.Notice = cmp.Or(g.Title, facts.Shorten(d.heading, 120), "a notice")
		}
		v.signsOf(v.home.String(), ch.last.header, ch.last.body)
		if d.generator != "" {
			v.noteSigns("tag", d.generator, v.home.String())
		}
		for _, t := range v.signs {
			if t.Gives == "system" && t.Sure == "certain" {
				g.System = strings.TrimSpace(t.Name + " " + t.Version)
			}
		}
	}
	if d == nil && err == nil && ch.last.status == http.StatusOK {
		g.Blank = len(bytes.TrimSpace(ch.last.body)) == 0
		if bytes.Contains(ch.last.body[:min(len(ch.last.body), 2000)], []byte("<?php")) {
			g.Failure = "the text of a program, which the server does not run"
		}
	}
	if ch.last.status == http.StatusServiceUnavailable {
		g.Notice = cmp.Or(g.Notice, g.Title, "an answer 503")
	}
	g.more(ctx, v, ch, d)
}

// unencrypted is the address without encryption, where with it nothing listened; nil when that is not worth asking.
func (g *Glance) unencrypted(v *visit, err error) *url.URL {
	if err == nil || v.home.Scheme != "https" || g.Distrust != "" || !errors.Is(err, syscall.ECONNREFUSED) && !errors.Is(err, errClosed) && !errors.As(err, new(tls.RecordHeaderError)) {
		return nil
	}
	if to, mapped := v.Connect[net.JoinHostPort(g.Host, "80")]; len(v.Connect) > 0 && (!mapped || to == "") {
		return nil
	}
	return &url.URL{Scheme: "http", Host: g.Host, Path: cmp.Or(v.home.Path, "/")}
}

// strangers are titles of what stands where a site ought to: the own pages of servers, lists of files, and what hosts show of sites that they have
// shut, or that were never there.
var strangers = regexp.MustCompile(`(?i)^\W*(welcome to (nginx|apache|caddy|lighttpd|openresty)|(apache2?|nginx|test)\b.*\b(default|test) page|test page for|it works\W*$|index of /|iis windows|(this |your )?(account|site|website|domain)( name)?( has been| is|:)? *(suspended|disabled|expired|parked|for sale)|(domain|website) (parking|default page)|default (web )?(site|page)\b|site not found|no site (configured|here)|database error|error establishing)`)

// reads notes what is on the page.
func (g *Glance) reads(d *document, body []byte) {
	g.Title = facts.Shorten(firstOf(d.titles), 120)
	g.Failure = facts.Shorten(d.failure, 160)
	g.Blank = d.words == 0 && len(d.pulls) == 0 && d.images == 0 && d.forms == 0
	if heading := facts.Shorten(d.heading, 120); strangers.MatchString(cmp.Or(g.Title, heading)) || strangers.MatchString(heading) {
		g.Stranger = cmp.Or(g.Title, heading)
	}
	if g.Failure == "" && bytes.Contains(body[:min(len(body), 2000)], []byte("<?php")) {
		g.Failure = "the text of a program, which the server does not run"
	}
}

// within follows where the site leads, and notes it.
func (g *Glance) within(v *visit) func(*url.URL) bool {
	return func(u *url.URL) bool {
		if u != v.home && len(g.Steps) <= maxSteps {
			g.Steps = append(g.Steps, u.String())
		}
		return v.sameSite(u)
	}
}

func (g *Glance) answered(v *visit, ch chain) {
	answer := ch.last
	g.Answered, g.Status, g.RetryAfter = true, answer.status, facts.Shorten(answer.header.Get("Retry-After"), 60)
	g.Connect, g.FirstBytes = ms(answer.took.connect), []float64{ms(answer.took.first)}
	if answer.tls != nil && len(answer.tls.PeerCertificates) > 0 {
		leaf := answer.tls.PeerCertificates[0]
		g.Until, g.Issuer = leaf.NotAfter.Unix(), facts.Shorten(cmp.Or(firstOf(leaf.Issuer.Organization), leaf.Issuer.CommonName), 80)
	}
	told := caching.Told(answer.header)
	g.Outcome, g.Says = string(told.Outcome), facts.Shorten(told.Header, maxSaysHeader)
	if age, err := strconv.ParseInt(strings.TrimSpace(answer.header.Get("Age")), 10, 64); err == nil && age >= 0 {
		g.Age = age
	}
	g.Fresh = freshFor(caching.Shared, answer)
}

// turnedAway tells how an answer turns us away.
func turnedAway(r *response) string {
	switch r.status {
	case http.StatusForbidden, http.StatusTooManyRequests, http.StatusNotAcceptable:
		return fmt.Sprintf("it answers %d %s", r.status, http.StatusText(r.status))
	case http.StatusUnauthorized, http.StatusProxyAuthRequired:
		return fmt.Sprintf("it asks for a name and a password (%d)", r.status)
	}
	return ""
}

// more asks for the rest at once: the page again and around the cache, as from a search result, robots.txt and two inner pages.
func (g *Glance) more(ctx context.Context, v *visit, ch chain, d *document) {
	first := v.arrived(ch)
	links := v.innerLinks(d)
	var group errgroup.Group
	group.Go(func() error {
		v.readRobots(ctx)
		return nil
	})
	if ch.last.status == http.StatusOK {
		group.Go(func() error { g.again(ctx, v, first); return nil })
		group.Go(func() error { g.search(ctx, v, first); return nil })
	}
	g.Inner = make([]Inner, len(links))
	for i, link := range links {
		group.Go(func() error {
			g.Inner[i] = Inner{Path: link.RequestURI()}
			inner, err := v.client.briefly().follow(ctx, link, v.sameSite)
			if err != nil {
				g.Inner[i].Why = err.Error()
			}
			if inner.last != nil {
				g.Inner[i].Status = inner.last.status
				inner.last.release()
			}
			return nil
		})
	}
	_ = group.Wait()
	if v.robots == nil {
		for _, gap := range v.seen.Gaps {
			g.miss("robots.txt", errors.New(gap.Because))
		}
	}
	if d == nil {
		return
	}
	page := &facts.Page{Canonical: firstOf(canonicalLinks(d.canonicals, ch.last.header, v.home))}
	v.decide(page, v.home, d.robots, d.robotsNamed, ch.last.header.Values("X-Robots-Tag"))
	g.HiddenBy, g.Robots = page.HiddenBy, page.Robots
}

// innerLinks are a few pages of the site that the home page links to.
func (v *visit) innerLinks(d *document) (links []*url.URL) {
	if d == nil {
		return nil
	}
	for _, link := range d.links {
		u, err := url.Parse(link)
		if err != nil || !v.inside(u) || u.RawQuery != "" || strings.Trim(u.Path, "/") == strings.Trim(v.home.Path, "/") || strings.Contains(u.Path[strings.LastIndexByte(u.Path, '/')+1:], ".") {
			continue
		}
		u.Fragment = ""
		if !slices.ContainsFunc(links, func(o *url.URL) bool { return o.Path == u.Path }) {
			if links = append(links, u); len(links) == glanceInner {
				break
			}
		}
	}
	return links
}

// again asks once more for the home page, and around the cache.
func (g *Glance) again(ctx context.Context, v *visit, first arrived) {
	r := &runner{v: v, at: v.home}
	laps, err := r.run(ctx, 1, 2)
	if err != nil {
		g.miss("the page around the cache", err)
	}
	g.Way = r.around
	kept, behind := []Lap{}, []Lap{}
	for _, lap := range laps {
		if lap.Around {
			behind = append(behind, lap)
			continue
		}
		kept = append(kept, lap)
		g.FirstBytes = append(g.FirstBytes, ms(lap.First))
	}
	if len(kept) == 0 || len(behind) < 2 {
		return
	}
	if kept[0].digest != first.digest || behind[0].digest != behind[1].digest {
		g.Unsteady = true // its text is another for everybody each time
		other := kept[0]
		other.lasting++
		kept = append(kept, other)
	}
	g.Behind = oldIn(kept, behind, r)
}

// search asks for the home page as somebody does who comes from a search result, and once more without where it differs.
func (g *Glance) search(ctx context.Context, v *visit, first arrived) {
	found, err := v.come(ctx, v.home, v.Referrer)
	if err != nil {
		g.miss("the page for somebody from a search result", err)
		return
	}
	if found == first {
		return
	}
	plain, err := v.come(ctx, v.home, "")
	switch {
	case err != nil:
		g.miss("the page for somebody from a search result", err)
	case found.final != first.final && found.final != plain.final:
		g.Search = "it leads to " + found.final
	case found.status != first.status && found.status != plain.status:
		g.Search = fmt.Sprintf("it answers %d, and %d without", found.status, plain.status)
	case plain.same(first) && !found.same(plain):
		g.Search = found.against(plain)
	}
}
