package steps

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/source/files"
	"weltaxis/internal/source/live"
	"weltaxis/internal/tree"
)

// Live looks at what a visitor gets.
var Live = &gather.Step[live.Found]{
	Name: "live", Source: facts.Live, Uses: []gather.Any{Settings, Server},
	Asked: asksLive,
	Where: func(ask gather.Request, _ live.Found) string { return ask.Live.Address },
	Gather: func(ctx context.Context, ask gather.Request, of gather.Results) (live.Found, facts.Seen, error) {
		told, _ := Settings.Of(of)
		servers, _ := Server.Of(of)
		look := ask.Live
		if servers != nil {
			look.Configured, look.Perhaps = servers.Names()
		}
		look.LoginPath, look.Notice, look.Closed = told.LoginPath, told.Notice, look.Closed || len(told.Closed) > 0
		found, seen, err := live.Gather(ctx, look)
		if err == nil && seen.Pages == nil {
			err = gather.ErrUnseen
		}
		return found, seen, err
	},
}

func asksLive(ask gather.Request) bool { return ask.Site.Sources.Live != nil && !ask.Offline }

// Leaks asks for what nobody outside should get.
var Leaks = &gather.Step[nothing]{
	Name: "leaks", Source: facts.Live, Uses: []gather.Any{Live, Files, Public},
	Asked: func(ask gather.Request) bool { return asksLive(ask) && slices.Contains(ask.Areas, "hardening") },
	Gather: func(ctx context.Context, ask gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		at, _ := Public.Of(of)
		_, lie := Files.Of(of)
		lying, configs := lying(ask, at.Below, files.Exposed(lie.Classes))
		seen, err := live.Leaks(ctx, ask.Live, lying, configs)
		return nothing{}, seen, err
	},
}

// secretWords are what files are that nobody outside should see, by their role; one that only its content tells is private.
var secretWords = map[string]string{dialect.Backup: "a copy or a dump", dialect.Config: "the configuration"}

// lying are the files that lie where the web server serves and that nobody outside should see, as addresses and with how they
// begin; and the names of configuration files, of which copies may lie there.
func lying(ask gather.Request, public string, exposed []string) (lying []live.Leaky, configs []string) {
	matcher := dialect.NewMatcher(ask.Dialect)
	if ask.Dialect != nil {
		configs = matcher.Exact(dialect.Config)
	}
	if ask.Site.Sources.Files == nil {
		return nil, configs
	}
	in, err := tree.Open(ask.Site.Resolve(ask.Site.Sources.Files.Root))
	if err != nil {
		return nil, configs
	}
	defer in.Close()
	for _, file := range exposed {
		below, served := strings.CutPrefix(file, public+"/")
		if public == "." {
			below, served = file, true
		}
		if !served {
			continue
		}
		if head, err := tree.Head(in, file, live.HeadBytes); err == nil {
			lying = append(lying, live.Leaky{Path: "/" + below, File: file, Kind: cmp.Or(secretWords[matcher.Role(file, matcher.Folder(path.Dir(file)))], "a database, key, log or the like"), Head: head})
		}
	}
	return lying, configs
}

// Own tells which of the content system's own pages an address shows.
var Own = &gather.Step[nothing]{
	Name: "own pages", Source: facts.Live, Requires: []gather.Any{Live, Settings}, Completes: true,
	Without: facts.Gap{What: "which of the content system's own pages an address shows", Names: []string{facts.ListPages + ".own"}},
	Gather: func(_ context.Context, _ gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		_, told := Settings.Of(of)
		_, shows := Live.Of(of)
		return nothing{}, facts.Seen{Pages: own(shows.Pages, told.Records[facts.ListRecords])}, nil
	},
}

// own are pages, each with what the content system knows it by.
func own(pages []facts.Page, records []facts.Record) []facts.Page {
	byPath := map[string]*facts.Record{}
	for i := range records {
		path := records[i].Values["path"].Text()
		if _, twice := byPath[path]; twice {
			byPath[path] = nil // nothing tells them apart
			continue
		}
		byPath[path] = &records[i]
	}
	pages = slices.Clone(pages)
	for i := range pages {
		page := &pages[i]
		if record := byPath[facts.LastSegment(page.Path)]; record != nil && page.Kind == "content" {
			page.Own = cmp.Or(record.From.Row, record.Subject())
		}
	}
	return pages
}

// Session takes for one a cookie that is called as the runtime calls the session's.
var Session = &gather.Step[nothing]{
	Name: "session", Source: facts.Live, Requires: []gather.Any{Live, Runtime}, Completes: true,
	Without: facts.Gap{What: "which cookie carries a session", Names: []string{facts.LiveSessionCookie.Name}},
	Gather: func(_ context.Context, _ gather.Request, of gather.Results) (_ nothing, seen facts.Seen, _ error) {
		_, sets := Live.Of(of)
		_, calls := Runtime.Of(of)
		name, known := calls.Effective(facts.Runtime.Name("session_name"))
		if !known || sets.Cookies == nil {
			return nothing{}, seen, nil
		}
		at, carries := name.Origin, false
		seen.Cookies = slices.Clone(sets.Cookies)
		for i := range seen.Cookies {
			if c := &seen.Cookies[i]; c.Name == name.Value.Text() {
				c.Session, carries, at = true, true, c.Origin()
			}
		}
		seen.Add(facts.LiveSessionCookie.Reading(carries, at))
		return nothing{}, seen, nil
	},
}
