// Package announce tells search engines of new and changed addresses by the open IndexNow protocol (indexnow.org/documentation): what is to be
// told, in which batches, by which key, and what each answer means. It keeps what has been told, so that nothing is told twice without
// need.
//
// It writes nothing to a site, asks nothing of one, and speaks to no other address than the endpoint that it is given. It may import facts and
// ordinary.
package announce

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/facts"
	"weltaxis/internal/ordinary"
)

// The bounds of the protocol.
const (
	MostAtOnce = 10000 // addresses in one batch
	fewestKey  = 8     // characters of a key
	mostKey    = 128
)

var keyShape = regexp.MustCompile(`^[A-Za-z0-9-]+$`)

// CheckKey says what is wrong with a key, nil when nothing is: 8 to 128 letters, digits and hyphens.
func CheckKey(key string) error {
	if len(key) < fewestKey || len(key) > mostKey || !keyShape.MatchString(key) {
		return fmt.Errorf("a key has %d to %d letters, digits and hyphens", fewestKey, mostKey)
	}
	return nil
}

// NewKey makes a key.
func NewKey() string {
	random := make([]byte, 16)
	_, _ = rand.Read(random) // it never fails
	return hex.EncodeToString(random)
}

// KeyFile is the path at which a site shows a key.
func KeyFile(key string) string { return "/" + key + ".txt" }

// CheckEndpoint says what is wrong with an endpoint, nil when nothing is: an address with https, or on this machine.
func CheckEndpoint(endpoint string) error {
	u, err := url.Parse(endpoint)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("%q is no web address; write it as https://HOST/indexnow", endpoint)
	case u.User != nil:
		return errors.New("an endpoint has no name and password in it")
	case u.Scheme == "http" && !thisMachine(u.Hostname()):
		return fmt.Errorf("%s is not encrypted; only one on this machine may be", endpoint)
	}
	return nil
}

func thisMachine(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}

// A Told is one address that an engine has been told of.
type Told struct {
	Look
	At time.Time `json:"at"`
}

// A Look is what of a page was seen: a mark, which is another when what search engines would see is, and the number of its words. The zero value is
// a page that is gone.
type Look struct {
	Mark  string `json:"mark"`
	Words int    `json:"words"`
}

// A Record is what has been told of one site, to one endpoint.
type Record struct {
	Format   int             `json:"format"`
	Key      string          `json:"key"`
	Endpoint string          `json:"endpoint"`
	Told     map[string]Told `json:"told"` // by address
}

// FileName is how a record is called, in the folder of what is kept of a site.
const FileName = "announced.json"

// maxRecord is the largest record that is read, in bytes.
const maxRecord = 64 << 20

// Load reads what has been told; nothing, when there is no such file.
func Load(file string) (*Record, error) {
	empty := &Record{Format: 1, Told: map[string]Told{}}
	data, err := ordinary.Read(file, maxRecord)
	if errors.Is(err, fs.ErrNotExist) {
		return empty, nil
	}
	if err != nil {
		return nil, err
	}
	r := &Record{}
	if err := json.Unmarshal(data, r); err != nil {
		return nil, fmt.Errorf("%s: it is no record of what has been told: %w; move it away to begin anew", file, err)
	}
	if r.Format != 1 {
		return nil, fmt.Errorf("%s: it has format %d, and this program knows 1", file, r.Format)
	}
	if r.Told == nil {
		r.Told = map[string]Told{}
	}
	return r, nil
}

// For is the record for an endpoint: another one has been told nothing yet.
func (r *Record) For(endpoint string) *Record {
	if r.Endpoint == endpoint {
		return r
	}
	return &Record{Format: 1, Key: r.Key, Endpoint: endpoint, Told: map[string]Told{}}
}

// Looks are the addresses that search engines may list, each with what of the page was seen: title, description, headings, words, pictures,
// structured data and language. A change that leaves all of these as they are is not noticed.
func Looks(pages []facts.Page) map[string]Look {
	looks := map[string]Look{}
	for i := range pages {
		p := &pages[i]
		if !p.Indexable || p.Elsewhere || p.Status != http.StatusOK || p.Unread != "" {
			continue
		}
		sum := sha256.New()
		fmt.Fprintf(sum, "%q %q %d %d %q %q %q", p.Title, p.Description, p.Headings, p.Images, p.Structured, p.Language, p.CardImage)
		looks[p.Address] = Look{hex.EncodeToString(sum.Sum(nil)[:12]), p.Words}
	}
	return looks
}

// News are the addresses to be told of: new ones, changed ones, and those that were told of and are gone. All of them are sorted.
type News struct {
	New     []string `json:"new"`
	Changed []string `json:"changed"`
	Gone    []string `json:"gone"`
}

// Since compares what is there with what has been told. Gone tells which of the addresses that were told of, and were not met now, are gone: they
// may have been left out for another reason.
func (r *Record) Since(looks map[string]Look, gone func(missing []string) []string) News {
	n := News{New: []string{}, Changed: []string{}, Gone: []string{}}
	common := r.common(looks)
	for address, look := range looks {
		switch told, known := r.Told[address]; {
		case !known || told.Mark == "":
			n.New = append(n.New, address)
		case told.Mark != look.Mark || look.Words-told.Words != common && look.Words != told.Words:
			n.Changed = append(n.Changed, address)
		}
	}
	missing := []string{}
	for address, told := range r.Told {
		if _, there := looks[address]; !there && told.Mark != "" {
			missing = append(missing, address)
		}
	}
	if slices.Sort(missing); len(missing) > 0 {
		n.Gone = append(n.Gone, gone(missing)...)
	}
	for _, list := range [][]string{n.New, n.Changed, n.Gone} {
		slices.Sort(list)
	}
	return n
}

// common is by how many words most pages differ from what was told, where that is the same for all of them: what all have in common has changed, as
// a menu, and that is no news of any of them. 0 when there is no such thing.
func (r *Record) common(looks map[string]Look) int {
	by, all := map[int]int{}, 0
	for address, look := range looks {
		if told, known := r.Told[address]; known && told.Mark != "" {
			by[look.Words-told.Words]++
			all++
		}
	}
	for difference, count := range by {
		if count >= fewestCommon && 2*count > all {
			return difference
		}
	}
	return 0
}

// fewestCommon is of how many pages at least something is to be common.
const fewestCommon = 4

// All are all of them.
func (n News) All() []string { return slices.Concat(n.New, n.Changed, n.Gone) }

// Note keeps that addresses have been told of.
func (r *Record) Note(addresses []string, looks map[string]Look, at time.Time) {
	for _, address := range addresses {
		r.Told[address] = Told{looks[address], at.UTC().Truncate(time.Second)}
	}
}

// Encode is the record as it is kept.
func (r *Record) Encode() ([]byte, error) { return json.MarshalIndent(r, "", " ") }

// A Message is one batch, as it is sent.
type Message struct {
	Host        string   `json:"host"`
	Key         string   `json:"key"`
	KeyLocation string   `json:"keyLocation"`
	URLList     []string `json:"urlList"`
}

// Messages divides addresses into batches, none of them larger than the protocol allows. All are of the site's own host, since an engine
// refuses a batch with another in it.
func Messages(home *url.URL, key string, addresses []string) (batches []Message) {
	location := home.Scheme + "://" + home.Host + KeyFile(key)
	own := slices.DeleteFunc(slices.Clone(addresses), func(address string) bool {
		u, err := url.Parse(address)
		return err != nil || !strings.EqualFold(u.Host, home.Host)
	})
	for part := range slices.Chunk(own, MostAtOnce) {
		batches = append(batches, Message{home.Host, key, location, part})
	}
	return batches
}

// An Answer is what the endpoint made of one batch.
type Answer struct {
	Status int    `json:"status"` // 0 when nothing answered
	Took   bool   `json:"took"`   // the engine has them
	Says   string `json:"says"`   // what that means, and what to do
	Count  int    `json:"count"`  // addresses in it
	// Stop says that nothing more is to be sent now.
	Stop bool `json:"-"`
}

// meanings are the answers of the protocol.
var meanings = map[int]Answer{
	http.StatusOK:                  {Took: true, Says: "taken"},
	http.StatusAccepted:            {Took: true, Says: "taken; the engine has yet to look at the key"},
	http.StatusBadRequest:          {Stop: true, Says: "the engine does not understand the message (400)"},
	http.StatusForbidden:           {Stop: true, Says: "the engine does not take the key (403): look from another network whether the key's file can be had, without a redirect and as plain text"},
	http.StatusUnprocessableEntity: {Stop: true, Says: "the engine says that the addresses are not of this host, or the key not of its scheme (422): look whether the site file's address is the one that pages are at"},
	http.StatusTooManyRequests:     {Stop: true, Says: "the engine has had enough for now (429)"},
}

// sendTime is how long one batch may take.
const sendTime = 30 * time.Second

// maxAnswer is how much of an answer is read.
const maxAnswer = 64 << 10

// Client speaks to an endpoint itself, through no proxy, and follows no redirect.
func Client() *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.Proxy, transport.DialContext = nil, (&net.Dialer{Timeout: 10 * time.Second}).DialContext
	transport.MaxResponseHeaderBytes = maxAnswer
	return &http.Client{Transport: transport, Timeout: sendTime, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// Send sends one batch, and says what came of it.
func Send(ctx context.Context, client *http.Client, endpoint, agent string, m Message) Answer {
	failed := func(err error) Answer {
		var at *url.Error
		if errors.As(err, &at) {
			err = at.Err
		}
		return Answer{Says: "the endpoint could not be asked: " + err.Error(), Count: len(m.URLList), Stop: true}
	}
	body, err := json.Marshal(m)
	if err != nil {
		return failed(err)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, endpoint, bytes.NewReader(body))
	if err != nil {
		return failed(err)
	}
	request.Header.Set("Content-Type", "application/json; charset=utf-8")
	request.Header.Set("User-Agent", agent)
	response, err := client.Do(request)
	if err != nil {
		return failed(err)
	}
	defer response.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	a, known := meanings[response.StatusCode]
	switch {
	case known:
	case response.StatusCode >= 300 && response.StatusCode < 400:
		a = Answer{Stop: true, Says: fmt.Sprintf("the endpoint leads elsewhere (%d), to %s; if that is right, say it in the site file", response.StatusCode, facts.Shorten(response.Header.Get("Location"), 200))}
	case response.StatusCode >= 500:
		a = Answer{Stop: true, Says: fmt.Sprintf("the engine has trouble of its own (%d); try again later", response.StatusCode)}
	default:
		a = Answer{Stop: true, Says: fmt.Sprintf("the endpoint answers %d, which the protocol does not know", response.StatusCode)}
	}
	if response.StatusCode == http.StatusTooManyRequests {
		a.Says += "; " + later(response.Header.Get("Retry-After"))
	}
	if text := facts.Shorten(strings.Join(strings.Fields(string(said)), " "), 200); text != "" && !a.Took {
		a.Says += "; it says: " + text
	}
	a.Status, a.Count = response.StatusCode, len(m.URLList)
	return a
}

// later says when to try again (RFC 9110 §10.2.3).
func later(retry string) string {
	if seconds, err := strconv.Atoi(retry); err == nil && seconds > 0 {
		return "try again in " + (time.Duration(seconds) * time.Second).String()
	}
	if at, err := http.ParseTime(retry); err == nil {
		return "try again after " + at.UTC().Format("2 January 2006, 15:04 MST")
	}
	return "try again tomorrow"
}
