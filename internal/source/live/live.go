// Package live is the source that looks at what a visitor gets: pages, headers, redirects, robots.txt, sitemaps,
// feeds, icons. It is a guest: bounded in count, depth, time and size, at the site's own host names only, and it tries
// nothing that an ordinary visitor would not.
//
// It may import facts, caching, pace, policy and width, and no other source.
package live

import (
	"bytes"
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"weltaxis/internal/facts"
)

// Options say where to look, how far, and how politely.
type Options struct {
	Address      string            // absolute
	Preferred    string            // the one true address, "" when the intent does not say
	Aliases      []string          // further host names that the intent has
	Configured   []string          // and those that the web server's configuration has for the site,
	Perhaps      []string          // or may have: they are the site's if they show it, or lead to it
	Own          bool              // paths that nobody links to may be probed
	Connect      map[string]string // host:port to address:port
	Trust        []byte            // certificates in PEM to trust besides the system's
	User         string            // name:password for a locked site
	MaxPages     int
	MaxDepth     int
	MaxTime      time.Duration
	Until        time.Time // when everything that asks the site ends, whichever step it is; none is MaxTime after each begins
	Rate         float64   // requests a second; 0 for as many as answers allow
	Concurrency  int
	IgnoreRobots bool // fetch what robots.txt asks robots not to; for one's own site
	Analytics    string
	Referrer     string   // where somebody comes from who follows a search result; DefaultReferrer when ""
	Strangers    []string // hosts that no address on a page should name
	Groups       []string // a path, a space and the type of structured data that pages below it carry
	List         []string // further paths or addresses of the site to look at
	LoginPath    string   // of the content system, "" when nobody says; only looked at with Own
	Previous     []string // addresses that answered at an earlier time
	Signs        []Sign   // by which a stranger tells what a site runs on, besides the general ones
	Firewall     []Sign   // by which the content system's own firewall shows itself in what programs answer
	Installers   []string // paths at which the content system is set up
	Owners       []Owned  // whose assets are whose
	TokenFiles   []string // files at the top of the site by which search engines know whose it is
	Notice       string   // the words of the notice that the content system has been told to show, "" when nobody says
	Closed       bool     // it has been told to close the site, or is being built: every kind of address is asked for as a stranger does
	Small        bool     // keep the pictures that pages are shared with, small
	Known        []Known  // addresses of other kinds that were there at an earlier time
	Session      string   // name=value of a cookie that carries a session; only sent to the site itself

	Now    time.Time // by which what is seen is judged
	Lookup Lookup    // finds the addresses of a name; nil for the system's way
	Dial   Dialer    // connects; nil for the system's way
	// Transport stands between the client and the network, and may answer in its place; nil for nothing.
	Transport func(http.RoundTripper) http.RoundTripper

	patience time.Duration // for one request; requestTime when zero
}

// A Lookup finds the addresses of a name, as net.Resolver.LookupNetIP does.
type Lookup func(ctx context.Context, network, host string) ([]netip.Addr, error)

// A Dialer connects to an address, as net.Dialer.DialContext does.
type Dialer func(ctx context.Context, network, address string) (net.Conn, error)

// Defaults for what Options leaves zero.
const (
	DefaultPages       = 500
	DefaultDepth       = 10
	DefaultTime        = 5 * time.Minute
	DefaultRate        = 10.0
	DefaultConcurrency = 4
)

// Found is what the site shows that others look by.
type Found struct {
	Inner     []string     // paths of inner pages
	Served    []string     // paths at which the web server has a file
	Spellings []string     // other spellings of the site's address that answer, in full
	Cookies   []string     // names of those that the site sets
	Parts     []facts.Part // what signs tell for certain to be installed
}

// Gather looks at the site from outside. The error is only that of a context that ended.
func Gather(ctx context.Context, o Options) (Found, facts.Seen, error) {
	v, err := newVisit(o)
	if err != nil {
		return Found{}, facts.Seen{Gaps: []facts.Gap{gap(o.Address, err, facts.Live.All())}}, nil
	}
	defer v.client.close()
	bounded, cancel := o.bounded(ctx, 7.0/8) // what comes after it asks for less
	defer cancel()
	v.look(bounded)
	return v.found, v.seen, ctx.Err()
}

// bounded is a context that ends when the looking has to, or after a part of the time that is left until then.
func (o Options) bounded(ctx context.Context, part float64) (context.Context, context.CancelFunc) {
	if o.Until.IsZero() {
		return context.WithTimeout(ctx, o.MaxTime)
	}
	return context.WithTimeout(ctx, time.Duration(float64(time.Until(o.Until))*part))
}

// Ask asks addresses of the site and gives the status that each ends in, 0 for none.
func Ask(ctx context.Context, o Options, addresses []string) (map[string]int, error) {
	v, err := newVisit(o)
	if err != nil {
		return nil, err
	}
	defer v.client.close()
	answers := map[string]int{}
	for _, address := range addresses {
		u, err := v.home.Parse(address)
		if err != nil {
			continue
		}
		if ch, err := v.client.follow(ctx, u, v.sameSite); err == nil && ch.last != nil {
			answers[address] = ch.last.status
		}
	}
	return answers, nil
}

// A Glimpse is one answer, redirects not followed.
type Glimpse struct {
	Status int
	Header http.Header
}

// One asks for one address of the site, and does not follow where it leads.
func One(ctx context.Context, o Options, address string) (*Glimpse, error) {
	v, err := newVisit(o)
	if err != nil {
		return nil, err
	}
	defer v.client.close()
	u, err := v.home.Parse(address)
	if err != nil {
		return nil, err
	}
	r, err := v.client.get(ctx, u)
	if r == nil {
		return nil, err
	}
	defer r.release()
	return &Glimpse{r.status, r.header}, nil
}

// Fetch asks for one path of the site, follows nothing, and gives the beginning of what it holds. A redirect is answered with its status.
func Fetch(ctx context.Context, o Options, path string) (status int, body []byte, err error) {
	v, err := newVisit(o)
	if err != nil {
		return 0, nil, err
	}
	defer v.client.close()
	u, err := v.home.Parse(path)
	if err != nil {
		return 0, nil, err
	}
	r, err := v.client.briefly().get(ctx, u)
	if r == nil {
		return 0, nil, err
	}
	defer r.release()
	return r.status, bytes.Clone(r.body), err
}

func newVisit(o Options) (*visit, error) {
	home, err := url.Parse(o.Address)
	if err != nil || home.Host == "" {
		return nil, errors.New("it is no address")
	}
	home = normal(home)
	client, err := newClient(o, home)
	o.Referrer = cmp.Or(o.Referrer, DefaultReferrer)
	o.Strangers = slices.Clone(o.Strangers)
	for i, host := range o.Strangers {
		o.Strangers[i] = strings.ToLower(host)
	}
	return &visit{Options: o, client: client, home: home, pictures: map[string]pictured{}}, err
}

// A visit is one look at a site.
type visit struct {
	Options
	client     *client
	home       *url.URL // where the address leads
	seen       facts.Seen
	found      Found
	versions   []string          // of programs, that the home page's headers and comments and the feed name
	elsewhere  map[string]string // and those that the headers of any answer name, with a path where they do
	robots     *robotsFile
	refusal    refusal
	taken      atomic.Int64        // pages that were fetched
	pages      map[string]*visited // by address
	order      []string
	beyond     int  // addresses past the bound
	unread     int  // pages that could not be read as their headers say
	partly     bool // only a part of the site was looked at
	sitemap    *sitemapFound
	hosts      map[string]bool
	pictures   map[string]pictured    // that were measured
	session    string                 // the cookie of a session that the site began with us: name=value
	validators map[string]http.Header // by which assets are asked for once more
	signs      []facts.Telling        // that were seen
	signMu     sync.Mutex
	signPages  atomic.Int64 // whose markup was looked through for them
	firewall   struct{ shown, lacks atomic.Bool }
	failures   []string // of programs that pages show, each with where
	registers  string   // the path of a page on which one may make an account
	missing    *url.URL // an address that cannot exist
	nowhere    uint64   // digest of what an address answers that cannot exist, when it answers as a page does
}

func gap(what string, err error, names ...string) facts.Gap {
	return facts.GapOf(facts.Live, what, err, names...)
}

// say adds one reading from an address.
func say[V any](v *visit, key facts.Key[V], value V, at string) {
	v.seen.Add(key.Reading(value, facts.Origin{URL: at}))
}

// sameSite tells whether an address is one of the site's own spellings: with another scheme, with or without www. What
// answers on another port is another site.
func (v *visit) sameSite(u *url.URL) bool {
	bare := func(host string) string { return strings.TrimPrefix(strings.ToLower(host), "www.") }
	return (u.Scheme == "http" || u.Scheme == "https") && bare(u.Hostname()) == bare(v.home.Hostname()) && normal(u).Port() == v.home.Port()
}

// inside tells whether an address belongs to the site that is looked at: the same host.
func (v *visit) inside(u *url.URL) bool {
	return strings.EqualFold(u.Host, v.home.Host) && (u.Scheme == "http" || u.Scheme == "https")
}

func (v *visit) look(ctx context.Context) {
	first, err := v.reach(ctx)
	var unread *unreadError
	if err != nil && (!errors.As(err, &unread) || first.last == nil || first.last.status != http.StatusOK || !isHTML(first.last.header)) {
		if ctx.Err() == nil && !errors.Is(err, errUnmapped) && !errors.Is(err, errPrivate) {
			say(v, facts.LiveReached, false, v.Address)
			say(v, facts.LiveUnreached, err.Error(), v.Address)
		}
		v.seen.AddGap(gap(v.Address, err, "live."))
		return
	}
	say(v, facts.LiveReached, true, v.Address)
	say(v, facts.LiveUnreached, "", v.Address)
	say(v, facts.LiveAddress, v.Address, v.Address)
	say(v, facts.LivePreferred, v.Preferred == "" || facts.SameAddress(v.Address, v.Preferred), v.Address)
	say(v, facts.HomeStatus, first.last.status, v.home.String())
	say(v, facts.LiveMoved, "", v.Address)
	say(v, facts.LiveMovedForGood, false, v.Address)
	v.readRobots(ctx)
	if status := first.last.status; status != http.StatusOK {
		shows := v.showsOf(first)
		if shows == facts.ShowsNotice {
			v.notice(first.last, nil)
		}
		v.doors(ctx, shows)
		v.seen.AddGap(gap(v.home.String(), fmt.Errorf("the home page answers %d, so no page was looked at", status), "live."))
		return
	}
	var home *document
	if err == nil {
		home = v.analyse(first)
	}
	if home != nil && v.saysNotice(first.last, home) {
		v.notice(first.last, home)
		v.doors(ctx, facts.ShowsNotice)
		v.seen.AddGap(gap(v.home.String(), errors.New("the home page is a notice, so no page was looked at"), "live."))
		return
	}
	say(v, facts.LiveNotice, "", v.home.String())
	say(v, facts.LiveNoticeText, "", v.home.String())
	v.offered(ctx)
	v.notFound(ctx)
	v.crawl(ctx, first, err, home)
	v.tell(ctx)
	v.lost(ctx)
	v.spellings(ctx)
	v.arrive(ctx)
	v.tokenFiles(ctx)
	v.repeat(ctx)
	// What nobody links to comes last, and only as long as the site does not begin to refuse us.
	v.contact(ctx)
	v.login(ctx)
	v.listed(ctx)
	v.private(ctx)
	v.doors(ctx, facts.ShowsSite)
	v.tellErrors()
	v.tellSigns()
}

// reach fetches the home page and follows it to where it is. A certificate nobody trusts is a finding and a gap,
// and the look goes on without trust.
func (v *visit) reach(ctx context.Context) (chain, error) {
	first, err := v.client.follow(ctx, v.home, v.sameSite)
	trusted := true
	if isDistrusted(err) {
		trusted = false
		v.seen.AddGap(gap(v.Address, fmt.Errorf("its certificate is not to be trusted (%w); it was looked at all the same", err)))
		v.client.distrust()
		first, err = v.client.follow(ctx, v.home, v.sameSite)
	}
	switch {
	case err != nil: // half a page is none
		return first, err
	case first.loop:
		return first, fmt.Errorf("it redirects in a circle, or more than %d times", maxSteps)
	case first.outside:
		say(v, facts.LiveMoved, first.final.String(), v.Address)
		say(v, facts.LiveMovedForGood, first.permanent, v.Address)
		return first, fmt.Errorf("it redirects to %s, another site", first.final)
	}
	if first.final.Scheme == "https" {
		say(v, facts.LiveCertificateTrusted, trusted, first.final.String())
		if first.last != nil && first.last.tls != nil && len(first.last.tls.PeerCertificates) > 0 {
			say(v, facts.LiveCertificateSince, first.last.tls.PeerCertificates[0].NotBefore.Unix(), first.final.String())
			say(v, facts.LiveCertificateUntil, first.last.tls.PeerCertificates[0].NotAfter.Unix(), first.final.String())
		}
	}
	v.home = first.final
	v.client.home = v.home.Hostname()
	if v.seen.Cookies == nil {
		v.seen.Cookies = []facts.Cookie{}
	}
	return first, nil
}

// isDistrusted tells whether it is the certificate that stands in the way.
func isDistrusted(err error) bool {
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	return errors.As(err, &unknown) || errors.As(err, &host) || errors.As(err, &invalid)
}

// readRobots reads robots.txt (RFC 9309 §2.3.1): what is not there allows all, what fails forbids all.
func (v *visit) readRobots(ctx context.Context) {
	at, _ := v.home.Parse("/robots.txt")
	// Its redirects are followed to other hosts too, five of them (RFC 9309 §2.3.1.2).
	answer, err := v.client.follow(ctx, at, func(u *url.URL) bool { return u.Scheme == "http" || u.Scheme == "https" })
	if err == nil && (answer.loop || answer.steps > maxRobotsSteps) {
		err = fmt.Errorf("it redirects more than %d times", maxRobotsSteps)
	}
	if err != nil || answer.last == nil {
		if err == nil {
			err = errors.New("it leads to no web address")
		}
		v.seen.AddGap(gap(at.String(), err, "live.robots."))
		return
	}
	status := answer.last.status
	say(v, facts.LiveRobotsStatus, status, at.String())
	switch {
	case status == http.StatusOK:
		v.robots = parseRobots(answer.last.body)
		if may, _, line := v.engineMay(v.home); !may {
			say(v, facts.LiveRobotsLine, v.robots.lineAt(line), at.String())
		} else {
			say(v, facts.LiveRobotsLine, "", at.String())
		}
		text := strings.HasPrefix(strings.ToLower(answer.last.header.Get("Content-Type")), "text/plain")
		say(v, facts.LiveRobotsReadable, v.robots.readable && text, at.String())
		say(v, facts.LiveRobotsSitemaps, v.robots.sitemaps, at.String())
	case status >= 500:
		v.robots = parseRobots([]byte("User-agent: *\nDisallow: /\n"))
		v.robots.failed = true
		say(v, facts.LiveRobotsReadable, false, at.String())
		say(v, facts.LiveRobotsSitemaps, nil, at.String())
	default:
		say(v, facts.LiveRobotsReadable, true, at.String())
		say(v, facts.LiveRobotsSitemaps, nil, at.String())
	}
}

// maxRobotsSteps is how many redirects of robots.txt are followed.
const maxRobotsSteps = 5

// mayFetch tells whether robots.txt lets this program fetch an address.
func (v *visit) mayFetch(u *url.URL) bool {
	if v.IgnoreRobots || v.robots == nil {
		return true
	}
	may, _ := v.robots.allowed(productToken, u.RequestURI())
	return may
}

// engineMay tells whether robots.txt lets a search engine fetch an address, and which line of it decides, in words too.
func (v *visit) engineMay(u *url.URL) (may bool, keeps string, line int) {
	may, line = v.robots.allowed("*", u.RequestURI())
	if v.robots != nil && v.robots.failed {
		return may, "robots.txt, which fails,", 0
	}
	return may, fmt.Sprintf("robots.txt, line %d,", line), line
}
