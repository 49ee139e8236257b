package steps

import (
	"net/url"
	"path/filepath"

	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	"weltaxis/internal/source/server"
	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/tree"
)

// Work is what the servers of a site make of an address, and what comes of it by whom they run as: what that user may not read is refused.
func Work(s *site.Site, servers *server.Source, u *url.URL) *answer.Answer {
	a := servers.Work(u)
	file := a.Get(answer.File)
	if s.Sources.Files == nil || a.Text(answer.Handler) != "static" || a.Text(answer.Status) != "200" || !file.Known() {
		return a
	}
	web, from := s.Said("web_user"), facts.Origin{File: filepath.Base(s.Path)}
	if web == "" && servers.Elsewhere() { // of a copy it says nothing of the files beside it
		last := servers.Servers[len(servers.Servers)-1]
		web, _ = last.Worker()
		from = facts.Origin{File: last.File}
	}
	in := Tree(s, nil, Folder{Server: servers.Serving(), Own: servers.Elsewhere()})
	if may, known := in.Reads(answer.Real(file.Text()), web); known && !may {
		from.Because = "the server runs as " + tree.Printable(web) + ", who may not read that file"
		a.Refuse(from)
	}
	return a
}
