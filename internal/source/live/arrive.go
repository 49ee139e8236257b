package live

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"weltaxis/internal/facts"
)

// DefaultReferrer is where somebody says to come from who follows a search result, unless the site file says otherwise. A site
// that was broken into may look for one search engine by name: name the one that the site's visitors use.
const DefaultReferrer = "https://www.search.example/search?q="

// arrive asks for the home page and one more as somebody does who follows a search result (RFC 9110 §10.1.3), and compares
// what comes with what comes without.
func (v *visit) arrive(ctx context.Context) {
	v.seen.Arrivals = []facts.Arrival{}
	asked := 0
	for _, p := range v.real() {
		if p.page.Unread != "" || len(p.page.Cut) > 0 || asked > 0 && p.page.Kind != "content" || v.refusal.is() {
			continue
		}
		if asked++; asked > 2 {
			return
		}
		u, err := url.Parse(p.page.Address)
		if err != nil {
			continue
		}
		differs, err := v.differs(ctx, u, p)
		if err != nil {
			v.seen.AddGap(gap(p.page.Address+", for somebody who comes from a search result", err))
			continue
		}
		v.seen.Arrivals = append(v.seen.Arrivals, facts.Arrival{Address: p.page.Address, Path: p.page.Path, Same: differs == "", Differs: differs})
	}
}

// differs says in what an address differs for somebody who comes from a search result. What is as the crawl met it is the
// same. Otherwise it is asked for twice more without: where it differs from one time to the next for everybody, only where it
// leads and whether it answers are compared.
func (v *visit) differs(ctx context.Context, u *url.URL, p *visited) (string, error) {
	search, err := v.come(ctx, u, v.Referrer)
	met := arrived{final: p.chain.final.String(), status: p.page.Status, title: p.page.Title, words: p.page.Words, digest: p.digest, scripts: scriptsOf(p.pulls)}
	if err != nil || search == met {
		return "", err
	}
	plain, err := v.come(ctx, u, "")
	if err != nil {
		return "", err
	}
	again, err := v.come(ctx, u, "")
	if err != nil {
		return "", err
	}
	switch {
	case search.final != plain.final && search.final != again.final:
		return "it leads to " + search.final, nil
	case search.status != plain.status && search.status != again.status:
		return fmt.Sprintf("it answers %d, and %d without", search.status, plain.status), nil
	case plain.same(again) && !search.same(plain):
		return search.against(plain), nil
	}
	return "", nil
}

// come asks for an address, from somewhere.
func (v *visit) come(ctx context.Context, u *url.URL, referrer string) (arrived, error) {
	ch, err := v.client.from(referrer).follow(ctx, u, v.sameSite)
	if err != nil {
		return arrived{}, err
	}
	defer ch.last.release()
	return v.arrived(ch), nil
}

// scriptsOf are the addresses of scripts and frames, as a text to be compared.
func scriptsOf(pulls []pull) string {
	var b strings.Builder
	for _, p := range pulls {
		if p.kind == scriptKind || p.kind == frameKind {
			b.WriteString(p.address + " ")
		}
	}
	return b.String()
}

// An arrived is what came.
type arrived struct {
	final   string
	status  int
	title   string
	refresh string
	words   int
	digest  uint64
	scripts string
}

func (v *visit) arrived(ch chain) arrived {
	a := arrived{final: ch.final.String()}
	if ch.last == nil {
		return a
	}
	a.status = ch.last.status
	a.refresh = ch.last.header.Get("Refresh")
	if ch.last.status != http.StatusOK || !isHTML(ch.last.header) {
		return a
	}
	d := analyse(ch.final, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
	a.title, a.words, a.digest, a.scripts = firstOf(d.titles), d.words, d.digest, scriptsOf(d.pulls)
	return a
}

func (a arrived) same(b arrived) bool {
	return a.digest == b.digest && a.title == b.title && a.scripts == b.scripts && a.refresh == b.refresh
}

// against says in what it differs.
func (a arrived) against(b arrived) string {
	switch {
	case a.refresh != b.refresh:
		return "it is sent on, with Refresh: " + facts.Shorten(a.refresh, 100)
	case a.title != b.title:
		return fmt.Sprintf("its title is “%s”, and not “%s”", a.title, b.title)
	case a.scripts != b.scripts:
		return "it loads other scripts or frames: " + facts.Shorten(a.scripts, 200)
	}
	return fmt.Sprintf("it has %d words of text, and %d without, or others", a.words, b.words)
}
