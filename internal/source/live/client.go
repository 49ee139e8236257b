package live

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"weltaxis/internal/facts"

	"golang.org/x/time/rate"
)

// Bounds of every request, whatever the other side does.
const (
	maxBody     = 4 << 20          // bytes of a body that are read, after decompression
	briefBody   = 64 << 10         // bytes of a body of which only the start is kept
	maxHeaders  = 256 << 10        // bytes of headers
	maxSteps    = 10               // redirects that are followed
	requestTime = 20 * time.Second // for one request with its body
	connectTime = 5 * time.Second
)

// UserAgent is how the program names itself to servers, and the token that robots.txt may address it by.
const (
	UserAgent    = "Weltaxis/0.1 (audit asked for by the keeper of this site)"
	productToken = "weltaxis"
)

// A client fetches addresses within the bounds. One dialer serves everything: it maps names where the site file
// says so, and goes to no private address from a public site.
type client struct {
	http      *http.Client
	transport *http.Transport
	between   func(http.RoundTripper) http.RoundTripper
	connect   map[string]string
	home      string   // host of the address that is looked at
	own       []string // further hosts that the intent names
	beside    []string // addresses at which the site itself is
	origin    string   // its scheme, host and port
	limiter   *rate.Limiter
	user      string        // user:password for a locked site; only ever sent to its own origin (RFC 6454 §4)
	patience  time.Duration // for one request with its body
	referrer  string        // where it says to come from, "" for nowhere
	brief     bool          // of bodies only the start is kept, and no more read than it takes to know how long they are
	budget    *atomic.Int64 // how many more requests may be made; nil for any number
	now       time.Time     // by which answers are judged
	lookup    Lookup
	dialer    Dialer
	fields    http.Header // further fields of its requests; those with a cookie only go to its own origin
}

// briefly is the same client, which keeps the start of a body, and hangs up where the rest would tell nothing.
func (c *client) briefly() *client {
	other := *c
	other.brief = true
	return &other
}

// with is the same client, which sends further fields along.
func (c *client) with(fields http.Header) *client {
	other := *c
	other.fields = fields
	return &other
}

// from is the same client, which says to come from somewhere.
func (c *client) from(referrer string) *client {
	other := *c
	other.referrer = referrer
	return &other
}

var (
	errUnmapped = facts.Refusal("the site file maps names to addresses, and not this one; it is not looked up")
	errPrivate  = facts.Refusal("it leads to a private address, which a public site has no business with")
	errSlow     = errors.New("it took too long")
	errEnough   = errors.New("no more requests are made for a short look")
	errClosed   = errors.New("the connection was closed before the answer was whole")
	errEarly    = errors.New("it answered before it was asked, so that no answer can be told from another")
	errTooLong  = fmt.Errorf("the answer is longer than %d MiB; only its start was read", maxBody>>20)
)

func newClient(o Options, home *url.URL) (*client, error) {
	c := &client{connect: o.Connect, home: home.Hostname(), origin: originOf(home), limiter: rate.NewLimiter(rate.Inf, 1), user: o.User, patience: requestTime, now: o.Now, lookup: o.Lookup, dialer: o.Dial}
	if c.lookup == nil {
		c.lookup = net.DefaultResolver.LookupNetIP
	}
	if c.dialer == nil {
		c.dialer = (&net.Dialer{Timeout: connectTime}).DialContext
	}
	if o.patience > 0 {
		c.patience = o.patience
	}
	if o.Rate > 0 {
		c.limiter = rate.NewLimiter(rate.Limit(o.Rate), 1)
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if o.Trust != nil && !roots.AppendCertsFromPEM(o.Trust) {
		return nil, errors.New("trust: there is no certificate in it")
	}
	transport := &http.Transport{
		DialContext:            c.dial,
		TLSClientConfig:        &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS10}, // old ones are a finding, not a stop
		MaxResponseHeaderBytes: maxHeaders,
		ResponseHeaderTimeout:  requestTime,
		TLSHandshakeTimeout:    connectTime,
		MaxIdleConnsPerHost:    8,
		DisableCompression:     true, // the reader bounds what a compressed answer unfolds to
		ForceAttemptHTTP2:      true,
	}
	if !c.now.IsZero() { // what is judged is judged by one time, certificates as well
		transport.TLSClientConfig.Time = func() time.Time { return c.now }
	}
	c.transport, c.between = transport, o.Transport
	c.http = &http.Client{Transport: c.through(transport), CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return c, nil
}

// originOf is the scheme, host and port of an address.
func originOf(u *url.URL) string {
	u = normal(u)
	return u.Scheme + "://" + u.Host
}

// HTTPClient makes a client that reaches what the live source reaches, and nothing else: for a content system that
// offers its settings over HTTP. It follows no redirect.
func HTTPClient(o Options, home *url.URL) (*http.Client, error) {
	c, err := newClient(o, home)
	if err != nil {
		return nil, err
	}
	return c.http, nil
}

// through is a transport with what stands between.
func (c *client) through(transport http.RoundTripper) http.RoundTripper {
	if c.between == nil {
		return transport
	}
	return c.between(transport)
}

func (c *client) close() { c.transport.CloseIdleConnections() }

func (c *client) dial(ctx context.Context, network, address string) (net.Conn, error) {
	if to, mapped := c.connect[address]; mapped {
		var connection net.Conn
		err := error(errUnmapped)
		for _, one := range facts.Mapped(to) {
			if connection, err = c.dialer(ctx, network, one); err == nil {
				return connection, nil
			}
		}
		return nil, err
	}
	if len(c.connect) > 0 {
		return nil, errUnmapped
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	found, err := c.lookup(ctx, "ip", host)
	if err != nil {
		return nil, err
	}
	for _, ip := range found {
		if c.barred(host, ip) {
			err = errPrivate
			continue
		}
		var connection net.Conn
		if connection, err = c.dialer(ctx, network, net.JoinHostPort(ip.Unmap().String(), port)); err == nil {
			return connection, nil
		}
	}
	return nil, err
}

func isPrivate(ip netip.Addr) bool {
	return ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsUnspecified() || ip.IsMulticast()
}

// A response is one answer, read within the bounds.
type response struct {
	url        *url.URL
	status     int
	header     http.Header
	body       []byte
	buffer     *bytes.Buffer // that body lies in
	cut        bool          // there was more than maxBody
	compressed string
	tls        *tls.ConnectionState
	protocol   string // HTTP/1.1 and the like
	closes     bool   // the connection is not kept open
	sent       int    // bytes of the body as they came; -1 when not all did
	size       int    // and unpacked
	took       clock
	at         time.Time // when it came
}

// A clock says how long a request took.
type clock struct {
	connect time.Duration // 0 on a connection that was open
	first   time.Duration // from then to the first byte of the answer
	whole   time.Duration // to its end
}

// timed notes in the clock what a request waits for.
func (c *clock) timed(ctx context.Context) context.Context {
	start := time.Now()
	connected := start
	return httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{
		GotConn: func(info httptrace.GotConnInfo) {
			if connected = time.Now(); !info.Reused {
				c.connect = connected.Sub(start)
			}
		},
		GotFirstResponseByte: func() { c.first = time.Since(connected) },
	})
}

// A counted reader counts what is read of another.
type counted struct {
	io.Reader
	n int
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += n
	return n, err
}

// get fetches one address without following redirects.
func (c *client) get(ctx context.Context, at *url.URL) (*response, error) {
	if c.budget != nil && c.budget.Add(-1) < 0 {
		return nil, errEnough
	}
	if err := c.limiter.Wait(ctx); err != nil {
		return nil, errSlow
	}
	ctx, cancel := context.WithTimeout(ctx, c.patience)
	defer cancel()
	var took clock
	request, err := http.NewRequestWithContext(took.timed(ctx), http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("User-Agent", UserAgent)
	request.Header.Set("Accept", "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8")
	request.Header.Set("Accept-Encoding", "gzip")
	if c.referrer != "" {
		request.Header.Set("Referer", c.referrer)
	}
	if originOf(at) == c.origin || c.fields.Get("Cookie") == "" {
		maps.Copy(request.Header, c.fields)
	}
	if originOf(at) == c.origin {
		if name, password, ok := strings.Cut(c.user, ":"); ok {
			request.SetBasicAuth(name, password)
		}
	}
	start := time.Now()
	answer, err := c.http.Do(request)
	if err != nil {
		slog.Debug("asked", "address", at.String(), "took", time.Since(start), "failed", plainError(err))
		return nil, plainError(err)
	}
	slog.Debug("asked", "address", at.String(), "status", answer.StatusCode, "took", time.Since(start))
	defer answer.Body.Close()
	r := &response{url: at, status: answer.StatusCode, header: answer.Header, tls: answer.TLS, compressed: answer.Header.Get("Content-Encoding"), protocol: answer.Proto, closes: answer.Close, took: took, at: c.now, sent: -1, size: -1}
	body := &counted{Reader: answer.Body}
	if c.brief {
		err = r.begin(body, answer.ContentLength)
	} else if err = r.read(body); err == nil && !r.cut {
		r.sent, r.size = body.n, len(r.body)
	}
	r.took.whole = time.Since(start)
	return r, err
}

// begin reads the start of a body, which is kept as it comes, and counts the rest where its length is not said.
func (r *response) begin(body *counted, length int64) error {
	r.buffer = bodies.Get().(*bytes.Buffer)
	r.buffer.Reset()
	_, err := io.CopyN(r.buffer, body, briefBody)
	r.body = r.buffer.Bytes()
	if err == nil && length < 0 {
		_, err = io.CopyN(io.Discard, body, maxBody)
	}
	switch {
	case length >= 0:
		r.sent = int(length)
	case errors.Is(err, io.EOF):
		r.sent = body.n
	}
	if r.compressed == "" {
		r.size = r.sent
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return plainError(err)
	}
	return nil
}

func (r *response) read(body io.Reader) error {
	limited, err := decoded(body, r.header)
	if err != nil {
		return err
	}
	r.buffer = bodies.Get().(*bytes.Buffer)
	r.buffer.Reset()
	_, err = r.buffer.ReadFrom(io.LimitReader(limited, maxBody+1))
	r.body = r.buffer.Bytes()
	if len(r.body) > maxBody {
		r.body, r.cut = r.body[:maxBody], true
	}
	if err != nil {
		return r.unfinished(err)
	}
	if bytes.HasPrefix(r.body, gzipMagic) && isText(r.header) {
		return unread("Content-Encoding: %s, and what comes out is compressed once more", cmp.Or(shown(r.compressed), "none"))
	}
	return nil
}

// unfinished says what it means that a body could not be read to its end.
func (r *response) unfinished(err error) error {
	plain := plainError(err)
	switch {
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, gzip.ErrChecksum), isCorrupt(err):
		return unread("Content-Encoding: %s, and the body is not compressed that way", shown(r.compressed))
	case errors.Is(plain, errClosed) && r.header.Get("Content-Length") != "":
		return unread("Content-Length: %s, and the body ended before", r.header.Get("Content-Length"))
	case errors.Is(plain, errClosed) && r.status == http.StatusOK && len(r.body) > 0:
		return unread("the body ended before its end")
	}
	return plain
}

func isCorrupt(err error) bool {
	var corrupt flate.CorruptInputError
	return errors.As(err, &corrupt)
}

// An unreadError is an answer that cannot be read as its headers say.
type unreadError struct{ says string }

func (e *unreadError) Error() string { return "it could not be read as its headers say: " + e.says }

func unread(format string, args ...any) error { return &unreadError{fmt.Sprintf(format, args...)} }

var gzipMagic = []byte{0x1f, 0x8b, 0x08}

// shown is a header's value, short enough to be said.
func shown(value string) string { return facts.Shorten(value, 60) }

func isText(header http.Header) bool {
	kind := strings.ToLower(header.Get("Content-Type"))
	return strings.HasPrefix(kind, "text/") || isHTML(header)
}

// maxCodings is how many codings of one body are undone.
const maxCodings = 3

// decoded undoes the content codings of a body, the last first (RFC 9110 §8.4): gzip under both its names, and deflate. What
// has another was not asked for, and is not guessed at.
func decoded(body io.Reader, header http.Header) (io.Reader, error) {
	var codings []string
	for coding := range strings.SplitSeq(strings.Join(header.Values("Content-Encoding"), ","), ",") {
		if coding = strings.ToLower(strings.TrimSpace(coding)); coding != "" && coding != "identity" {
			codings = append(codings, coding)
		}
	}
	if len(codings) > maxCodings {
		return nil, unread("Content-Encoding: %s", shown(strings.Join(codings, ", ")))
	}
	for i := len(codings) - 1; i >= 0; i-- {
		switch codings[i] {
		case "gzip", "x-gzip":
			unzipped, err := gzip.NewReader(body)
			if err != nil {
				return nil, unread("Content-Encoding: %s, and the body is not compressed that way", shown(codings[i]))
			}
			body = unzipped
		case "deflate":
			buffered := bufio.NewReader(body)
			if start, _ := buffered.Peek(2); len(start) == 2 && start[0]&0x0f == 8 && (int(start[0])<<8|int(start[1]))%31 == 0 { // RFC 1950 §2.2
				unzipped, err := zlib.NewReader(buffered)
				if err != nil {
					return nil, unread("Content-Encoding: deflate, and the body is not compressed that way")
				}
				body = unzipped
			} else {
				body = flate.NewReader(buffered)
			}
		default:
			return nil, unread("Content-Encoding: %s, which was not asked for", shown(codings[i]))
		}
	}
	return body, nil
}

// bodies are buffers to be used again, since a crawl reads thousands of pages of much the same size.
var bodies = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// release gives the body back; nothing of it may be kept.
func (r *response) release() {
	if r != nil && r.buffer != nil {
		bodies.Put(r.buffer)
		r.buffer, r.body = nil, nil
	}
}

// plainError takes what names the address out of an error, since whoever reports it names that already.
func plainError(err error) error {
	var asURL *url.Error
	if errors.As(err, &asURL) {
		err = asURL.Err
	}
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return errSlow
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return errClosed
	}
	if errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) {
		return errClosed
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return op.Err
	}
	if err != nil && strings.HasPrefix(err.Error(), "readLoopPeekFailLocked: ") { // net/http has no other name for it
		return errEarly
	}
	return err
}

// A chain is an address with the redirects it leads through.
type chain struct {
	last      *response // nil when the end could not be fetched
	final     *url.URL
	first     int // status of the first answer
	steps     int
	permanent bool // every step is 301 or 308 (RFC 9110 §15.4)
	loop      bool
	outside   bool // it leads to a host that is not the site's; not fetched
}

// follow fetches an address and what it redirects to, as long as that is allowed.
func (c *client) follow(ctx context.Context, at *url.URL, allowed func(*url.URL) bool) (chain, error) {
	ch := chain{final: at, permanent: true}
	seen := map[string]bool{}
	for {
		if seen[ch.final.String()] || ch.steps > maxSteps {
			ch.loop = true
			return ch, nil
		}
		seen[ch.final.String()] = true
		if !allowed(ch.final) {
			ch.outside, ch.last = true, nil
			return ch, nil
		}
		answer, err := c.get(ctx, ch.final)
		if answer != nil && ch.steps == 0 {
			ch.first = answer.status
		}
		ch.last = answer
		if err != nil {
			return ch, err
		}
		next, redirects := redirectOf(answer)
		if !redirects {
			return ch, nil
		}
		ch.permanent = ch.permanent && (answer.status == http.StatusMovedPermanently || answer.status == http.StatusPermanentRedirect)
		ch.final = next
		ch.steps++
	}
}

func redirectOf(r *response) (*url.URL, bool) {
	switch r.status {
	case http.StatusMovedPermanently, http.StatusFound, http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
		if next, err := r.url.Parse(r.header.Get("Location")); err == nil && r.header.Get("Location") != "" {
			return normal(next), true
		}
	}
	return nil, false
}

// distrust goes on without checking certificates, once one has been found wanting and said to be.
func (c *client) distrust() {
	c.close()
	c.transport = c.transport.Clone()
	c.transport.TLSClientConfig.InsecureSkipVerify = true
	c.http.Transport = c.through(c.transport)
	c.user = "" // nothing secret is sent to whoever that may be
}
