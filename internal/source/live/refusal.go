package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"sync"

	"weltaxis/internal/facts"
)

// refusals is how many addresses in a row may be refused before that is taken for a refusal of us.
const refusals = 8

// A refusal is how a site that answered begins to turn us away: with 429 (RFC 6585 §4), with 403 for all, or by closing
// connections. Then nothing more is asked.
type refusal struct {
	mu      sync.Mutex
	inARow  int
	refuses bool
}

// errRefuses is why what nobody links to, and the rest of a crawl, is not looked at.
var errRefuses = errors.New("it refuses us now, so nothing more was asked; look again later, or from an address that it lets in")

// refused tells whether an answer turns us away.
func refused(ch chain, err error) bool {
	if err != nil {
		return errors.Is(err, errClosed)
	}
	return ch.last != nil && (ch.last.status == http.StatusTooManyRequests || ch.last.status == http.StatusForbidden)
}

// note takes an answer of the crawl, and tells whether the site refuses us now.
func (r *refusal) note(ch chain, err error) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if refused(ch, err) {
		r.inARow++
	} else {
		r.inARow = 0
	}
	r.refuses = r.refuses || r.inARow >= refusals
	return r.refuses
}

func (r *refusal) is() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.refuses
}

// unlinked asks for an address that nobody links to. One that is refused is what one hopes for; when the home page is
// refused after it as well, it is us. What names the address in a gap, with what it leaves unknown.
func (v *visit) unlinked(ctx context.Context, at *url.URL, what string, names ...string) (chain, error) {
	if v.refusal.is() {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: what, Kind: facts.Failed, Names: names, Because: errRefuses.Error()})
		return chain{}, errRefuses
	}
	ch, err := v.client.follow(ctx, at, v.sameSite)
	if refused(ch, err) {
		home, failed := v.client.follow(ctx, v.home, v.sameSite)
		if ch.last != nil && ch.last.status == http.StatusTooManyRequests || refused(home, failed) {
			v.refusal.mu.Lock()
			v.refusal.refuses = true
			v.refusal.mu.Unlock()
			err = errRefuses
		}
		home.last.release()
	}
	if err != nil {
		v.seen.AddGap(gap(what, fmt.Errorf("%w", err), names...))
	}
	return ch, err
}
