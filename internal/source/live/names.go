package live

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"syscall"

	"weltaxis/internal/facts"
)

const (
	mostNames     = 20 // host names of a site
	mostAddresses = 4  // of a name, of either family
	maxDistrust   = 200
)

// A hostName is a host name of the site, and how it is one.
type hostName struct{ host, kind string }

// hostsOf are the host names of the site, its own first. A number is none; one that stands behind a port of its own, has no others.
func (v *visit) hostsOf(preferred *url.URL) (hosts []hostName) {
	add := func(host, kind string) {
		host = strings.ToLower(strings.TrimSuffix(host, "."))
		if host != "" && !slices.ContainsFunc(hosts, func(n hostName) bool { return n.host == host }) {
			hosts = append(hosts, hostName{host, kind})
		}
	}
	if net.ParseIP(preferred.Hostname()) != nil {
		return nil
	}
	add(preferred.Hostname(), facts.OwnName)
	if preferred.Port() != "" {
		return hosts
	}
	if bare, is := strings.CutPrefix(preferred.Hostname(), "www."); is {
		add(bare, facts.TwinName)
	} else if strings.Count(preferred.Hostname(), ".") == 1 {
		add("www."+preferred.Hostname(), facts.TwinName)
	}
	for _, host := range v.Aliases {
		add(host, facts.AliasName)
	}
	for _, host := range slices.Concat(v.Configured, v.Perhaps) {
		add(host, facts.ConfiguredName)
	}
	return hosts
}

// hostNames sees by which host names the site is to be had: whether anybody is there, by what certificate, and whether all addresses of a name lead to the
// same. It gives those at which the site is to be looked for, page by page.
func (v *visit) hostNames(ctx context.Context, preferred *url.URL) (there []hostName) {
	v.seen.Names = []facts.Name{}
	hosts := v.hostsOf(preferred)
	if len(hosts) == 0 { // a number is no name, and has no other
		return []hostName{{preferred.Hostname(), facts.OwnName}}
	}
	if len(hosts) > mostNames {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: fmt.Sprintf("%d more host names", len(hosts)-mostNames), Kind: facts.Failed, Because: fmt.Sprintf("only %d are asked", mostNames), Names: []string{facts.ListNames, facts.ListSpellings}})
		hosts = hosts[:mostNames]
	}
	for _, h := range hosts {
		if h.kind == facts.AliasName {
			v.client.own = append(v.client.own, facts.AsSent(h.host))
		}
	}
	if own, err := v.client.lead(ctx, v.home.Hostname(), portOf(v.home)); err == nil {
		v.client.beside = own
	}
	for _, h := range hosts {
		n, shows, err := v.nameOf(ctx, preferred, h)
		if err != nil {
			without := []string{facts.ListNames, facts.ListSpellings}
			if h.kind == facts.OwnName {
				without = append(without, facts.LiveEncrypts.Name)
			}
			v.seen.AddGap(gap(h.host, err, without...))
			continue
		}
		ours, whole := v.isOurs(preferred, h, shows)
		if !ours {
			continue
		}
		if n.Found && whole && (n.Answers || h.kind != facts.ConfiguredName) {
			there = append(there, h)
		}
		v.seen.Names = append(v.seen.Names, n)
	}
	return there
}

// isOurs tells whether a name that the web server has, perhaps for the site, is one of the site: it leads to it, or shows the same front. One installation
// may show several sites. Whole is that it stands for the site, and not for one page of it.
func (v *visit) isOurs(preferred *url.URL, h hostName, shows met) (ours, whole bool) {
	switch {
	case h.kind != facts.ConfiguredName || slices.Contains(v.Configured, h.host):
		return true, true
	case shows.leads != nil:
		return strings.EqualFold(shows.leads.Hostname(), preferred.Hostname()), strings.TrimSuffix(shows.leads.Path, "/") == strings.TrimSuffix(preferred.Path, "/")
	}
	home := v.pages[v.home.String()]
	is := shows.answers && home != nil && shows.title != "" && shows.title == home.page.Title
	return is, is
}

// nameOf asks every address of a name, and gives what is at the first. The error is why nobody can tell what is there.
func (v *visit) nameOf(ctx context.Context, preferred *url.URL, h hostName) (n facts.Name, shows met, err error) {
	n = facts.Name{Name: h.host, Kind: h.kind, Leads: []string{}}
	leads, err := v.client.lead(ctx, h.host, portOf(preferred))
	if isNoName(err) {
		return n, shows, nil
	}
	if err != nil {
		return n, shows, err
	}
	n.Found = true
	some := someOf(leads)
	if len(some) < len(leads) {
		n.Unasked = fmt.Sprintf("it has %d addresses, of which %d were asked", len(leads), len(some))
	}
	var all []met
	for _, to := range some {
		n.Leads = append(n.Leads, bareAddress(to))
		m := v.meet(ctx, h.host, preferred, to)
		if m.unseen != nil {
			n.Unasked = cmp.Or(n.Unasked, fmt.Sprintf("%s could not be asked: %s", bareAddress(to), m.unseen))
			continue
		}
		all = append(all, m)
	}
	if len(all) == 0 {
		return n, shows, errors.New(n.Unasked)
	}
	shows = all[0]
	for _, m := range all {
		n.Encrypted, n.Answers = n.Encrypted || m.leaf != nil, n.Answers || m.answers
		if m.leaf != nil && (n.Until == 0 || m.distrust != "" && n.Distrust == "" || m.distrust == n.Distrust && m.leaf.NotAfter.Unix() < n.Until) { // the worst
			n.Distrust, n.Since, n.Until = m.distrust, m.leaf.NotBefore.Unix(), m.leaf.NotAfter.Unix()
		}
	}
	if n.Answers = n.Answers || n.Encrypted; !n.Answers && preferred.Scheme == "https" {
		if n.Answers, err = v.plainly(ctx, h.host); err != nil {
			return n, shows, err
		}
	}
	for _, m := range all[1:] {
		if n.Apart, err = v.apart(ctx, preferred, h.host, all[0], m); err != nil {
			n.Unasked = cmp.Or(n.Unasked, err.Error())
		}
		if n.Apart != "" {
			break
		}
	}
	return n, shows, nil
}

// apart says in what two addresses of a name differ, at this visit and at two more, in turn. What varies at one of them by itself is no difference.
func (v *visit) apart(ctx context.Context, preferred *url.URL, host string, one, other met) (string, error) {
	for range 2 {
		if one.unlike(other) == "" {
			return "", nil
		}
		for _, m := range []*met{&one, &other} {
			again := v.meet(ctx, host, preferred, m.to)
			switch {
			case again.unseen != nil:
				return "", again.unseen
			case again.word() != m.word() || again.says != m.says:
				return "", fmt.Errorf("what %s answers varies by itself", m.at)
			case again.title != m.title:
				one.title, other.title = "", "" // of no meaning from now on
			}
		}
	}
	return one.unlike(other), nil
}

// A met is what is at one address of a name.
type met struct {
	to, at   string            // with its port, and as it is shown
	leaf     *x509.Certificate // nil where nobody encrypts
	distrust string            // "" for a certificate that is trusted
	says     string            // how the home page answers
	leads    *url.URL          // where it leads, nil for nowhere
	title    string            // of what it shows
	answers  bool              // somebody does
	unseen   error             // why nobody can tell
}

// word is whether it encrypts, and how.
func (m met) word() string {
	switch {
	case m.distrust != "":
		return "encrypts with a certificate that is not trusted"
	case m.leaf != nil:
		return "encrypts"
	}
	return "does not encrypt"
}

// unlike says in what two addresses of a name differ; "" where they do not.
func (m met) unlike(other met) string {
	differ := func(here, there string) string { return fmt.Sprintf("%s %s, and %s %s", m.at, here, other.at, there) }
	switch {
	case m.word() != other.word():
		return differ(m.word(), other.word())
	case m.says != other.says:
		return differ(m.says, other.says)
	case m.title != other.title:
		return differ("shows "+quotedTitle(m.title), "shows "+quotedTitle(other.title))
	}
	return ""
}

func quotedTitle(title string) string {
	if title == "" {
		return "a page without a title"
	}
	return "“" + facts.Shorten(title, 60) + "”"
}

// meet looks at one address of a name.
func (v *visit) meet(ctx context.Context, host string, preferred *url.URL, to string) (m met) {
	m.to, m.at = to, bareAddress(to)
	at := *preferred
	if at.Host = host; preferred.Port() != "" {
		at.Host = preferred.Host
	}
	if at.Scheme == "https" {
		if m.leaf, m.distrust, m.unseen = v.certificateAt(ctx, host, to); m.unseen != nil || m.leaf == nil {
			return m
		}
	}
	m.unseen = m.glimpse(ctx, v.client.at(to), &at)
	m.answers = m.says != nothingThere
	return m
}

// nothingThere is how nobody answers.
const nothingThere = "answers nothing"

// glimpse asks for an address, and follows nothing.
func (m *met) glimpse(ctx context.Context, c *client, at *url.URL) error {
	answer, err := c.get(ctx, at)
	if answer == nil {
		if nobodyThere(err) {
			m.says = nothingThere
			return nil
		}
		return err
	}
	defer answer.release()
	if to, leads := redirectOf(answer); leads {
		m.leads, m.says = to, "leads to "+facts.Shorten(to.String(), 100)
		return nil
	}
	m.says = fmt.Sprintf("answers %d", answer.status)
	if answer.status == http.StatusOK && isHTML(answer.header) {
		if d := analyse(at, answer.body, answer.header.Get("Content-Type"), sought{}); len(d.titles) > 0 {
			m.title = d.titles[0]
		}
	}
	return nil
}

// certificateAt is the certificate that an address shows for a host name; nil where nobody there encrypts. Distrust is why browsers would not take it.
func (v *visit) certificateAt(ctx context.Context, host, to string) (leaf *x509.Certificate, distrust string, err error) {
	if err := v.client.limiter.Wait(ctx); err != nil {
		return nil, "", errSlow
	}
	host = facts.AsSent(host)
	var shown []*x509.Certificate
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS10, CipherSuites: allCiphers(), InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error {
		shown = s.PeerCertificates
		return nil
	}}
	err = v.client.shakeHands(ctx, config, func(ctx context.Context) (net.Conn, error) { return v.client.dialer(ctx, "tcp", to) })
	switch {
	case len(shown) > 0: // whatever came afterwards
	case nobodyThere(err):
		return nil, "", nil
	default:
		return nil, "", err
	}
	options := x509.VerifyOptions{DNSName: host, Roots: v.client.transport.TLSClientConfig.RootCAs, CurrentTime: v.client.now, Intermediates: x509.NewCertPool()}
	for _, between := range shown[1:] {
		options.Intermediates.AddCert(between)
	}
	if _, err := shown[0].Verify(options); err != nil {
		distrust = facts.Shorten(distrusted(err), maxDistrust)
	}
	return shown[0], distrust, nil
}

// distrusted says why a certificate is not trusted.
func distrusted(err error) string {
	return strings.TrimPrefix(strings.TrimPrefix(err.Error(), "tls: failed to verify certificate: "), "x509: ")
}

// plainly tells whether anybody answers at a host without encryption.
func (v *visit) plainly(ctx context.Context, host string) (bool, error) {
	leads, err := v.client.lead(ctx, host, "80")
	if err != nil {
		return false, err
	}
	for _, to := range someOf(leads) {
		connection, dialErr := v.client.dialer(ctx, "tcp", to)
		if dialErr == nil {
			connection.Close()
			return true, nil
		}
		if dialErr = plainError(dialErr); !nobodyThere(dialErr) {
			err = dialErr
		}
	}
	return false, err
}

// portOf is the port of an address.
func portOf(u *url.URL) string {
	return cmp.Or(u.Port(), map[string]string{"https": "443", "http": "80"}[u.Scheme])
}

// lead are the addresses, with the port, that a name leads to: as the site file maps it, or as the name is looked up. What is private is left
// out, but for the site's own, for names that the intent has, and for where the site itself is.
func (c *client) lead(ctx context.Context, host, port string) (leads []string, err error) {
	if len(c.connect) > 0 {
		to, mapped := c.connect[net.JoinHostPort(facts.AsSent(host), port)]
		if !mapped {
			return nil, errUnmapped
		}
		return facts.Mapped(to), nil
	}
	found, err := c.lookup(ctx, "ip", facts.AsSent(host))
	if err != nil {
		return nil, plainError(err)
	}
	for _, ip := range found {
		to := net.JoinHostPort(ip.Unmap().String(), port)
		if c.barred(host, ip) {
			err = errPrivate
			continue
		}
		leads = append(leads, to)
	}
	if len(leads) == 0 {
		if err == nil {
			err = errNoAddress
		}
		return nil, err
	}
	slices.Sort(leads)
	return leads, nil
}

var errNoAddress = errors.New("the name has no address")

// barred tells whether an address is none of those that a host of a public site may lead to.
func (c *client) barred(host string, ip netip.Addr) bool {
	if !isPrivate(ip.Unmap()) || host == c.home || slices.Contains(c.own, facts.AsSent(host)) {
		return false
	}
	return !slices.ContainsFunc(c.beside, func(to string) bool { return bareAddress(to) == ip.Unmap().String() })
}

// at is the same client, which connects to one address whatever the name is, checks no certificate, and sends nothing secret.
func (c *client) at(to string) *client {
	return c.otherwise(func(ctx context.Context, network, _ string) (net.Conn, error) { return c.dialer(ctx, network, to) })
}

// unchecked is the same client, which checks no certificate, and sends nothing secret.
func (c *client) unchecked() *client { return c.otherwise(c.dial) }

func (c *client) otherwise(dial Dialer) *client {
	other := *c
	transport := c.transport.Clone()
	transport.DialContext, transport.DisableKeepAlives = dial, true
	transport.TLSClientConfig.InsecureSkipVerify = true
	other.transport, other.user, other.fields = transport, "", nil
	plain := *c.http
	plain.Transport = c.through(transport)
	other.http = &plain
	return &other
}

// someOf are some addresses of either family.
func someOf(all []string) (some []string) {
	var four, six int
	for _, to := range all {
		ip, err := netip.ParseAddrPort(to)
		count := &four
		if err == nil && ip.Addr().Is6() {
			count = &six
		}
		if *count++; *count <= mostAddresses {
			some = append(some, to)
		}
	}
	return some
}

// bareAddress is an address without its port, where that is the usual one.
func bareAddress(to string) string {
	if host, port, err := net.SplitHostPort(to); err == nil && (port == "443" || port == "80") {
		return host
	}
	return to
}

// isNoName tells whether an error says that there is no such name, or none that leads anywhere.
func isNoName(err error) bool {
	var dns *net.DNSError
	return errors.Is(err, errNoAddress) || errors.As(err, &dns) && dns.IsNotFound
}

// nobodyThere tells whether an error says that nobody who would be understood listens at an address, rather than that nobody could look.
func nobodyThere(err error) bool {
	var refuses *net.OpError // by an alert of TLS (RFC 8446 §6.2)
	var other tls.RecordHeaderError
	return isNoName(err) || errors.Is(err, syscall.ECONNREFUSED) || errors.As(err, &refuses) && refuses.Op == "remote error" ||
		errors.As(err, &other) || errors.Is(err, http.ErrSchemeMismatch)
}
