// Package canned keeps what a site answered, for tests: it stands between the live source and the network, notes what comes, and
// gives it again. It is written down as an HTTP archive (HAR 1.2, http://www.softwareishard.com/blog/har-12-spec/), with what that has
// no word for under names that begin with an underscore.
//
// It imports nothing of this program.
package canned

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptrace"
	"os"
	"regexp"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

type archive struct {
	Log struct {
		Version string `json:"version"`
		Creator struct {
			Name    string `json:"name"`
			Version string `json:"version"`
		} `json:"creator"`
		Entries []*entry `json:"entries"`
	} `json:"log"`
}

type entry struct {
	Started time.Time `json:"startedDateTime"`
	Time    float64   `json:"time"` // milliseconds
	Request struct {
		Method  string  `json:"method"`
		URL     string  `json:"url"`
		Version string  `json:"httpVersion"`
		Headers []field `json:"headers"`
	} `json:"request"`
	Response struct {
		Status  int     `json:"status"` // 0 where none came
		Version string  `json:"httpVersion"`
		Headers []field `json:"headers"`
		Content struct {
			Size     int    `json:"size"`
			Text     []byte `json:"text"`
			Encoding string `json:"encoding"`
		} `json:"content"`
		Length int64  `json:"_length"` // as the answer says, -1 where it does not
		Closes bool   `json:"_closes"`
		Fails  string `json:"_fails,omitempty"` // why no answer came, or not all of it
	} `json:"response"`
	Timings struct {
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	} `json:"timings"`
	TLS          uint16   `json:"_tls,omitempty"` // the version that was agreed on
	Certificates [][]byte `json:"_certificates,omitempty"`
}

type field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

func fields(h http.Header) (all []field) {
	for _, name := range slices.Sorted(maps.Keys(h)) {
		for _, value := range h[name] {
			all = append(all, field{name, value})
		}
	}
	return all
}

// madeUp is what is another in each address that is made up so that it cannot be there.
var madeUp = regexp.MustCompile(`weltaxis([-=])[0-9a-f]{12,16}`)

// key is what tells one request from another.
func (e *entry) key() string {
	return madeUp.ReplaceAllString(fmt.Sprint(e.Request.Method, " ", e.Request.URL, " ", e.Request.Headers), "weltaxis$1")
}

// A Recorder notes what comes.
type Recorder struct {
	mu      sync.Mutex
	archive archive
}

// Over stands before a transport.
func (r *Recorder) Over(next http.RoundTripper) http.RoundTripper {
	return roundTrip(func(request *http.Request) (*http.Response, error) {
		e := &entry{Started: time.Now().UTC()}
		e.Request.Method, e.Request.URL, e.Request.Version, e.Request.Headers = request.Method, request.URL.String(), "HTTP/1.1", fields(request.Header)
		defer func() {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.archive.Log.Entries = append(r.archive.Log.Entries, e)
		}()
		answer, err := next.RoundTrip(request)
		e.Timings.Wait = milliseconds(time.Since(e.Started))
		if err != nil {
			e.Response.Fails = err.Error()
			return nil, err
		}
		body, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		e.Time = milliseconds(time.Since(e.Started))
		e.Timings.Receive = e.Time - e.Timings.Wait
		e.Response.Status, e.Response.Version, e.Response.Headers = answer.StatusCode, answer.Proto, fields(answer.Header)
		e.Response.Content.Size, e.Response.Content.Text, e.Response.Content.Encoding = len(body), body, "base64"
		e.Response.Length, e.Response.Closes = answer.ContentLength, answer.Close
		if err != nil {
			e.Response.Fails = err.Error()
		}
		if answer.TLS != nil {
			e.TLS = answer.TLS.Version
			for _, c := range answer.TLS.PeerCertificates {
				e.Certificates = append(e.Certificates, c.Raw)
			}
		}
		answer.Body = &rest{bytes.NewReader(body), err}
		return answer, nil
	})
}

func milliseconds(d time.Duration) float64 {
	return float64(d.Round(100*time.Microsecond)) / float64(time.Millisecond)
}

// Save writes down what was noted, packed with gzip. The error is one of the file.
func (r *Recorder) Save(file string) error {
	r.archive.Log.Version, r.archive.Log.Creator.Name, r.archive.Log.Creator.Version = "1.2", "weltaxis", "test"
	slices.SortStableFunc(r.archive.Log.Entries, func(a, b *entry) int { return a.Started.Compare(b.Started) })
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	if err := errors.Join(json.NewEncoder(w).Encode(r.archive), w.Close()); err != nil {
		return err
	}
	return os.WriteFile(file, packed.Bytes(), 0o644)
}

// Answers are those of a file, in place of a network. Each time that the same is asked it is given what came that time, and at
// last what came last; it takes as long as it took. What nobody asked then fails.
type Answers struct {
	by   map[string][]*entry
	mu   sync.Mutex
	gave map[string]int
}

// Open reads what Save wrote.
func Open(file string) (*Answers, error) {
	packed, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	unpacked, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	var all archive
	if err := json.NewDecoder(unpacked).Decode(&all); err != nil {
		return nil, err
	}
	a := &Answers{by: map[string][]*entry{}, gave: map[string]int{}}
	for _, e := range all.Log.Entries {
		a.by[e.key()] = append(a.by[e.key()], e)
	}
	return a, nil
}

// Again begins anew.
func (a *Answers) Again() { clear(a.gave) }

// Over stands in the place of a transport.
func (a *Answers) Over(http.RoundTripper) http.RoundTripper {
	return roundTrip(func(request *http.Request) (*http.Response, error) {
		asked := &entry{}
		asked.Request.Method, asked.Request.URL, asked.Request.Headers = request.Method, request.URL.String(), fields(request.Header)
		key := asked.key()
		a.mu.Lock()
		known := a.by[key]
		at := min(a.gave[key], len(known)-1)
		a.gave[key]++
		a.mu.Unlock()
		if len(known) == 0 {
			return nil, fmt.Errorf("nobody has asked for %s before", request.URL)
		}
		return known[at].answer(request)
	})
}

// answer gives it again.
func (e *entry) answer(request *http.Request) (*http.Response, error) {
	trace := httptrace.ContextClientTrace(request.Context())
	if trace != nil && trace.GotConn != nil {
		trace.GotConn(httptrace.GotConnInfo{Reused: true})
	}
	time.Sleep(time.Duration(e.Timings.Wait * float64(time.Millisecond)))
	r := &e.Response
	if r.Status == 0 {
		return nil, errors.New(r.Fails)
	}
	if trace != nil && trace.GotFirstResponseByte != nil {
		trace.GotFirstResponseByte()
	}
	header := http.Header{}
	for _, f := range r.Headers {
		header.Add(f.Name, f.Value)
	}
	var err error
	if r.Fails != "" {
		err = errors.New(r.Fails)
	}
	major, minor, _ := http.ParseHTTPVersion(r.Version)
	answer := &http.Response{Status: fmt.Sprint(r.Status, " ", http.StatusText(r.Status)), StatusCode: r.Status, Proto: r.Version, ProtoMajor: major, ProtoMinor: minor, Header: header,
		Body: &rest{bytes.NewReader(r.Content.Text), err}, ContentLength: r.Length, Close: r.Closes, Request: request}
	if e.TLS != 0 {
		answer.TLS = &tls.ConnectionState{Version: e.TLS, HandshakeComplete: true, ServerName: request.URL.Hostname()}
		for _, raw := range e.Certificates {
			c, err := x509.ParseCertificate(raw)
			if err != nil {
				return nil, err
			}
			answer.TLS.PeerCertificates = append(answer.TLS.PeerCertificates, c)
		}
	}
	return answer, nil
}

// rest is a body, and how it ends.
type rest struct {
	io.Reader
	err error
}

func (r *rest) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if errors.Is(err, io.EOF) {
		err = cmp.Or(r.err, err)
	}
	return n, err
}

func (r *rest) Close() error { return nil }

type roundTrip func(*http.Request) (*http.Response, error)

func (f roundTrip) RoundTrip(request *http.Request) (*http.Response, error) { return f(request) }

// ErrNowhere is the error of a dialer that reaches nothing, for what does not go by a transport.
var ErrNowhere = errors.New("there is no network here")

// Missing are the addresses that somebody asked for and nobody had asked for before.
func (a *Answers) Missing() (addresses []string) {
	for key := range a.gave {
		if len(a.by[key]) == 0 {
			addresses = append(addresses, key)
		}
	}
	slices.Sort(addresses)
	return addresses
}

// Bubble runs a test by a clock of its own, which begins now and runs only while all wait (testing/synctest).
func Bubble(t *testing.T, test func(t *testing.T)) {
	now := time.Now()
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(now)) // what libraries keep of the time outside is none that is to come
		test(t)
		time.Sleep(time.Hour) // what goes on for a while comes to its end
	})
}
