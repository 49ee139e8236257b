package live

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
	"weltaxis/internal/pace"
)

// How often addresses are asked for again. The home page is, as often as a median takes that is to be told beside another; of
// others only what a cache makes of the second visitor is looked at.
const (
	homeAsks    = 6
	guestAsks   = 3 // of the home page, where we are guests
	otherAsks   = 2
	maxRepeated = 4       // pages for everybody, besides the home page
	maxPersonal = 10      // pages that are somebody's own, or set a session
	maxAgain    = 1 << 20 // bytes of a page that is asked for again
)

// A Lap is one request of several for the same address.
type Lap struct {
	Around  bool // the cache
	Outcome caching.Outcome
	Says    string // the header that says so
	Status  int
	Connect time.Duration // 0 on a connection that was open
	First   time.Duration // to the first byte, from when there was a connection
	Whole   time.Duration
	Sent    int // bytes of the body; -1 when not all came
	title   string
	face    face
	digest  uint64
	lasting uint64 // of what does not tell the hour
	words   int
}

// A runner asks for one address again and again.
type runner struct {
	v      *visit
	at     *url.URL
	around string      // the way around the cache that was found, in words
	query  bool        // it is a query of its own
	fields http.Header // or these fields
	last   *response   // headers of the last plain answer
	asked  *int        // counts the requests; nil when nobody does
}

// ms is a time in milliseconds.
func ms(t time.Duration) float64 { return float64(t.Microseconds()) / 1000 }

// lap asks once.
func (r *runner) lap(ctx context.Context, around bool, fields http.Header) (Lap, error) {
	at := r.at
	if around && r.query {
		at = withToken(at)
	}
	if around && r.fields != nil {
		fields = r.fields
	}
	if fields.Get("Cookie") != "" && originOf(at) != r.v.client.origin {
		return Lap{}, errElsewhere
	}
	if r.asked != nil {
		*r.asked++
	}
	answer, err := r.v.client.with(fields).get(ctx, at)
	if answer == nil {
		return Lap{}, err
	}
	defer answer.release()
	if answer.status == http.StatusTooManyRequests { // RFC 6585 §4: then it is enough
		r.v.refusal.mu.Lock()
		r.v.refusal.refuses = true
		r.v.refusal.mu.Unlock()
		return Lap{}, errRefuses
	}
	told := caching.Told(answer.header)
	l := Lap{Around: around, Outcome: told.Outcome, Says: told.Header, Status: answer.status, Connect: answer.took.connect, First: answer.took.first, Whole: answer.took.whole, Sent: answer.sent}
	if err == nil && isHTML(answer.header) {
		if answer.status == http.StatusOK { // what a server says of a failure no program made
			r.v.firewallIn(answer.header, answer.body)
		}
		d := analyse(at, answer.body, answer.header.Get("Content-Type"), sought{lasting: true})
		l.title, l.digest, l.lasting, l.words, l.face = firstOf(d.titles), d.digest, d.lasting, d.words, faceOf(d, answer.header)
	}
	if !around && fields == nil {
		r.last = &response{url: at, status: answer.status, header: answer.header, at: answer.at}
	}
	return l, err
}

// withToken is an address with a query that nobody else has, which nearly every cache keeps apart.
func withToken(at *url.URL) *url.URL {
	random := make([]byte, 6)
	_, _ = rand.Read(random)
	other := *at
	if other.RawQuery != "" {
		other.RawQuery += "&"
	}
	other.RawQuery += "weltaxis=" + hex.EncodeToString(random)
	return &other
}

// findWay looks for a way around the cache that answers with the page: a query of its own, a request that asks for what is new,
// and last somebody's session. It gives the lap by which it was found.
func (r *runner) findWay(ctx context.Context) (Lap, bool) {
	ways := []struct {
		says   string
		query  bool
		fields http.Header
	}{{"a query of its own", true, nil}, {"Cache-Control: no-cache", false, http.Header{"Cache-Control": {"no-cache"}}}}
	if cookie := r.v.anySession(); cookie != "" {
		ways = append(ways, struct {
			says   string
			query  bool
			fields http.Header
		}{"the cookie of a session", false, http.Header{"Cookie": {cookie}}})
	}
	for _, way := range ways {
		r.query, r.fields = way.query, way.fields
		lap, err := r.lap(ctx, true, nil)
		if err == nil && lap.Status == r.last.status && !lap.Outcome.FromCache() {
			r.around = way.says
			return lap, true
		}
	}
	r.query, r.fields = false, nil
	return Lap{}, false
}

// anySession is a cookie that carries a session: the site file's, or one that the site set.
func (v *visit) anySession() string {
	if v.Session != "" {
		return v.Session
	}
	return v.session
}

// run asks plainly and around the cache in turn, so many times each, after what has been asked before. It ends with the first
// error.
func (r *runner) run(ctx context.Context, plain, around int) (laps []Lap, err error) {
	for i := range max(plain, around) {
		if r.v.refusal.is() {
			return laps, errRefuses
		}
		if i < plain {
			lap, err := r.lap(ctx, false, nil)
			if err != nil {
				return laps, err
			}
			laps = append(laps, lap)
		}
		switch {
		case i >= around || r.around == "" && i > 0:
			continue
		case r.around == "":
			if lap, found := r.findWay(ctx); found {
				laps = append(laps, lap)
			}
			continue
		}
		lap, err := r.lap(ctx, true, nil)
		if err != nil {
			return laps, err
		}
		laps = append(laps, lap)
	}
	return laps, nil
}

// repeat asks for pages again: the home page, some that are everybody's, and those that are somebody's own.
func (v *visit) repeat(ctx context.Context) {
	v.seen.Repeats = []facts.Repeat{}
	everybodys, own := 0, 0
	for _, p := range v.real() {
		page := &p.page
		if page.Unread != "" || len(page.Cut) > 0 || v.refusal.is() || ctx.Err() != nil {
			continue
		}
		if page.Size > maxAgain {
			v.seen.AddGap(facts.Gap{Source: facts.Live, What: page.Address, Kind: facts.Unmapped, Because: fmt.Sprintf("it has more than %d MiB, so it was not asked for again to see what caches make of it", maxAgain>>20)})
			continue
		}
		plain, around := otherAsks, 0
		switch {
		case page.Kind == "home" && v.Own:
			plain, around = homeAsks, homeAsks
		case page.Kind == "home":
			plain = guestAsks
		case page.Personal != "" || page.SetsSession || page.Password && page.Kind == "sign-in":
			if own++; own > maxPersonal {
				continue
			}
		case v.Own && everybodys < maxRepeated && (page.Kind == "content" || page.Kind == "listing"):
			everybodys++
			around = 1
		default:
			continue
		}
		v.repeatPage(ctx, p, plain, around)
	}
	if v.missing != nil && v.Own && !v.refusal.is() {
		v.repeatOther(ctx, v.missing, "missing")
	}
	if !v.Own {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "how fast the home page comes", Kind: facts.Unmapped, Names: []string{facts.LiveFirstByte.Name},
			Because: "a median takes six requests, and a guest makes three; live: {own: true} does not stand in the site file"})
	}
	v.tellPace()
}

// repeatPage asks for a page of the crawl again.
func (v *visit) repeatPage(ctx context.Context, p *visited, plain, around int) {
	at, err := url.Parse(p.page.Address)
	if err != nil {
		return
	}
	fact := facts.Repeat{Address: p.page.Address, Path: p.page.Path, Kind: p.page.Kind, First: p.page.Outcome, Personal: p.page.Personal, SetsSession: p.page.SetsSession, SignIn: p.page.Password && p.page.Kind == "sign-in" && !v.homeSignsIn()}
	v.repeatAs(ctx, at, &fact, plain, around, p.digest)
}

// repeatOther asks twice for an address that is no page of the crawl.
func (v *visit) repeatOther(ctx context.Context, at *url.URL, kind string) {
	fact := facts.Repeat{Address: at.String(), Path: at.RequestURI(), Kind: kind}
	if kind == "missing" { // its name is another each time
		fact.Path = "(an address that cannot exist)"
	}
	v.repeatAs(ctx, at, &fact, otherAsks, 0, 0)
}

// repeatSignIn asks for the page to sign in on twice more, after it was met.
func (v *visit) repeatSignIn(ctx context.Context, at *url.URL, ch chain) {
	if ch.last.status != http.StatusOK || ch.outside || v.seen.Repeats == nil {
		return
	}
	fact := facts.Repeat{Address: at.String(), Path: at.RequestURI(), Kind: "sign-in", SignIn: true, First: string(caching.Told(ch.last.header).Outcome), SetsSession: v.setsSession(ch.last.header)}
	v.repeatAs(ctx, ch.final, &fact, otherAsks, 0, 0)
}

func (v *visit) repeatAs(ctx context.Context, at *url.URL, fact *facts.Repeat, plain, around int, before uint64) {
	r := &runner{v: v, at: at}
	laps, err := r.run(ctx, plain, around)
	if err != nil {
		v.seen.AddGap(gap(at.String()+", asked for again", err))
	}
	if r.last == nil || len(laps) == 0 {
		return
	}
	fact.Status, fact.Fresh = r.last.status, freshFor(caching.Shared, r.last)
	fact.CacheControl, fact.Vary = facts.Shorten(r.last.header.Get("Cache-Control"), maxText), facts.Shorten(r.last.header.Get("Vary"), maxText)
	fact.Validator, fact.Private, fact.Around = hasValidator(r.last.header), keptPrivate(r.last.header), r.around
	fact.SetsSession = fact.SetsSession || v.setsSession(r.last.header)
	countLaps(fact, laps, before)
	v.compareLaps(ctx, r, fact, laps)
	if fact.Validator && fact.Kind == "home" {
		if lap, err := r.lap(ctx, false, caching.Asks(r.last.header)); err == nil {
			fact.NotModified = yesNo(lap.Status == http.StatusNotModified)
		}
	}
	if around > 0 {
		v.withSession(ctx, r, fact, laps)
	}
	v.seen.Repeats = append(v.seen.Repeats, *fact)
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// countLaps fills in what became of the plain asks. Before is the digest of the text as the crawl met it, 0 for none.
func countLaps(fact *facts.Repeat, laps []Lap, before uint64) {
	fact.Same = true
	for _, lap := range laps {
		first := ms(lap.First)
		if lap.Around {
			fact.AroundBytes = append(fact.AroundBytes, first)
			continue
		}
		fact.Asks++
		fact.FirstBytes = append(fact.FirstBytes, first)
		if lap.Outcome.FromCache() {
			fact.Hits++
		}
		if fact.First == "" {
			fact.First = string(lap.Outcome)
		}
		fact.Then, fact.Says = string(lap.Outcome), facts.Shorten(lap.Says, maxSaysHeader)
		fact.Same = fact.Same && (before == 0 || lap.digest == before)
		before = lap.digest
	}
}

// compareLaps says whether the cache makes the page faster, and whether it holds an older one than what is behind it.
func (v *visit) compareLaps(ctx context.Context, r *runner, fact *facts.Repeat, laps []Lap) {
	var hits, around []float64
	var kept, behind []Lap
	for _, lap := range laps {
		first := ms(lap.First)
		switch {
		case lap.Around && !lap.Outcome.FromCache():
			around = append(around, first)
			behind = append(behind, lap)
		case !lap.Around && lap.Outcome.FromCache():
			hits = append(hits, first)
			kept = append(kept, lap)
		}
	}
	switch {
	case len(hits) == 0:
		fact.GainWhy = "no cache said that it answered, so there is nothing to compare"
	case r.around == "":
		fact.GainWhy = "no way around the cache was found"
	case len(hits) >= 2:
		judged := pace.Judge(hits, around)
		fact.GainWhy = judged.Says("the cache", "around it")
		if words := map[pace.Verdict]string{pace.Faster: "faster", pace.Slower: "slower"}; judged.Verdict != pace.Untold {
			fact.Gain = words[judged.Verdict]
		} else if judged.Needed == 0 {
			fact.Gain = "the same"
		}
	default:
		fact.GainWhy = "it was not asked for often enough"
	}
	if len(kept) == 0 || len(behind) == 0 || behind[0].Status != kept[len(kept)-1].Status || oldIn(kept, append(behind, behind[0]), r) == "" {
		return
	}
	for len(behind) < enoughBehind { // a page that is another each time is no old one
		lap, err := r.lap(ctx, true, nil)
		if err != nil {
			return
		}
		behind = append(behind, lap)
	}
	fact.Old = facts.Shorten(oldIn(kept, behind, r), 300)
}

// enoughBehind is how often a page is asked for around the cache before a copy of it is called an old one.
const enoughBehind = 3

// withSession asks once with a session. With one that the site file gives it also sees whether somebody without is then given
// what was made for somebody with it, at an address that nobody has asked for before.
func (v *visit) withSession(ctx context.Context, r *runner, fact *facts.Repeat, laps []Lap) {
	cookie := v.anySession()
	if cookie == "" {
		return
	}
	fields := http.Header{"Cookie": {cookie}}
	with, err := r.lap(ctx, false, fields)
	if err != nil {
		return
	}
	var plain Lap
	for _, lap := range laps {
		if !lap.Around {
			plain = lap
		}
	}
	fact.Session, fact.SessionSame = string(with.Outcome), with.digest == plain.digest
	if v.Session == "" || fact.Kind != "home" || r.around == "" {
		return
	}
	fresh := &runner{v: v, at: withToken(r.at)}
	first, err := fresh.lap(ctx, false, fields)
	if err != nil || first.Status != http.StatusOK || first.Outcome.FromCache() {
		return
	}
	second, err := fresh.lap(ctx, false, nil)
	switch {
	case err == nil && second.Outcome.FromCache() && second.digest == first.digest && second.digest != plain.digest:
		fact.Leaks = fmt.Sprintf("somebody without a session is given the page of somebody with one, of %d words and not %d", second.words, plain.words)
	case with.Outcome.FromCache() && with.digest == plain.digest && first.digest != plain.digest:
		fact.Leaks = fmt.Sprintf("somebody who is signed in is given the page of somebody who is not, of %d words and not %d", with.words, first.words)
	}
}

// tellPace tells of the home page what was seen of it again and again.
func (v *visit) tellPace() {
	for i := range v.seen.Repeats {
		r := &v.seen.Repeats[i]
		if r.Kind != "home" {
			continue
		}
		say(v, facts.LiveAsks, r.Asks, r.Address)
		say(v, facts.LiveHits, r.Hits, r.Address)
		caches := fmt.Sprintf("%d of %d answered by a cache", r.Hits, r.Asks)
		if r.Hits == 0 && r.Then == string(caching.Untold) {
			caches = "no header tells of a cache"
		}
		say(v, facts.LiveCaches, caches, r.Address)
		if len(r.FirstBytes) >= homeAsks {
			say(v, facts.LiveFirstByte, int(facts.Median(r.FirstBytes)+0.5), r.Address)
		}
	}
}
