package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"weltaxis/internal/pace"
	"weltaxis/internal/progress"
)

// errElse is that an address leads to another site.
var errElse = errors.New("it is no address of the site")

// Pace asks for pages of a site again and again, plainly and around the cache in turn, after one request that warms it up. It
// makes no more requests than Most of package pace says. The error is that the site cannot be reached, or a context that ended.
func Pace(ctx context.Context, o Options, paths []string, run *pace.Run) error {
	v, err := newVisit(o)
	if err != nil {
		return err
	}
	defer v.client.close()
	first, err := v.reach(ctx)
	if err != nil {
		return err
	}
	first.last.release()
	v.readRobots(ctx)
	run.Requests = 2
	for i, path := range paths {
		progress.Tell(ctx, "asking for "+path, i+1, len(paths))
		p := pace.Page{Path: path, Laps: []pace.Lap{}}
		err := v.pacePage(ctx, &p, run)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			p.Failed = err.Error()
		}
		run.Pages = append(run.Pages, p)
	}
	return nil
}

func (v *visit) pacePage(ctx context.Context, p *pace.Page, run *pace.Run) error {
	at, err := v.home.Parse(p.Path)
	if err != nil || !v.inside(at) {
		return errElse
	}
	at = normal(at)
	p.Address, p.Path = at.String(), at.RequestURI()
	if !v.mayFetch(at) {
		return errBarred
	}
	r := &runner{v: v, at: at, asked: &run.Requests}
	warm, err := r.lap(ctx, false, nil)
	switch {
	case err != nil:
		return err
	case warm.Status >= http.StatusMultipleChoices && warm.Status < http.StatusBadRequest:
		return fmt.Errorf("it redirects to %s; name that instead", leadsTo(r.last))
	case warm.Status != http.StatusOK:
		return fmt.Errorf("it answers %d", warm.Status)
	}
	laps, err := r.run(ctx, run.Times, run.Times)
	p.Way = r.around
	for _, l := range laps {
		p.Laps = append(p.Laps, pace.Lap{Around: l.Around, Outcome: string(l.Outcome), Status: l.Status, Connect: ms(l.Connect), First: ms(l.First), Whole: ms(l.Whole), Bytes: l.Sent})
	}
	return err
}

// leadsTo is where a redirect leads, as it is written.
func leadsTo(r *response) string {
	to, err := url.Parse(r.header.Get("Location"))
	if err != nil {
		return "nowhere"
	}
	return r.url.ResolveReference(to).String()
}
