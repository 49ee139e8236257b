package server

import (
	"context"
	"net/url"

	"weltaxis/internal/source/server/answer"
)

// A Worked answer is one with the request that it is to.
type Worked struct {
	Kind    string
	Address url.URL
	*answer.Answer
}

// WorkAll works out all probes, in an order of its own that is the same every time.
func (s *Source) WorkAll(ctx context.Context, ask Probes) (all []Worked) {
	if len(s.Servers) == 0 || s.Address == nil {
		return nil
	}
	for _, p := range s.probes(ask) {
		if ctx.Err() != nil {
			return all
		}
		all = append(all, Worked{p.kind, p.address, s.work(p)})
	}
	return all
}

// Files are the files as they might be.
func (s *Source) Files() Overlay { return s.files }
