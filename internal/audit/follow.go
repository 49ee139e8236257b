package audit

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/steps"
)

// A Followed is one address followed through the configuration of the web server, and what a visitor gets there.
type Followed struct {
	Address string
	Way     []answer.Stage
	Answer  facts.Answer
	Gaps    []facts.Gap
	Live    *live.Glimpse // nil when nobody looked
	Unseen  string        // why nobody did
}

// Follow follows an address: a path of the site, or in full one of its host.
func Follow(ctx context.Context, s *site.Site, address string, options Options) (*Followed, error) {
	if s.Sources.Server == nil {
		return nil, fmt.Errorf("the site file %s names no web server, so no address can be followed; write under sources: server: {nginx: FILE}, server: {apache: FILE}, or server: {} to have it found", s.Path)
	}
	home, err := url.Parse(s.Address())
	if err != nil || home.Host == "" {
		return nil, fmt.Errorf("the site file %s does not say the site's address; say intent.address", s.Path)
	}
	u, err := home.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no address of the site; write a path, as /about/, or the address in full", address)
	}
	u.Fragment = ""
	if u.Path == "" {
		u.Path = "/"
	}
	servers, gaps := steps.Servers(s)
	f := &Followed{Address: u.String()}
	for _, gap := range gaps {
		f.Gaps = append(f.Gaps, servers.Near(gap))
	}
	if len(servers.Servers) == 0 {
		return f, nil
	}
	a := steps.Work(s, servers, u)
	f.Way, f.Answer = a.Way, servers.Fact("asked", u, a)
	switch l := s.Sources.Live; {
	case l == nil:
		f.Unseen = "the site file names no live source"
	case options.Offline:
		f.Unseen = "--offline keeps it out"
	case !strings.EqualFold(u.Host, home.Host):
		f.Unseen = "it is another host than the one that is looked at"
	case !l.Own:
		f.Unseen = "paths that nobody links to are asked for only with live: {own: true}"
	default:
		look, err := liveOptions(s, l, options)
		if err != nil {
			return nil, s.ErrorAt(l.Pos, "live: %w", err)
		}
		if f.Live, err = live.One(ctx, look, u.String()); err != nil {
			f.Unseen = err.Error()
		}
	}
	return f, nil
}
