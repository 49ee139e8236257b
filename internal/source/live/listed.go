package live

import (
	"context"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// mostFolders is how many folders are asked for, and mostBeside how many of one folder: what lies beside each other is of a kind.
const mostFolders, mostBeside = 24, 2

// listTitle is how lists of files call themselves that servers make, with the folder.
var listTitle = regexp.MustCompile(`(?i)^(?:index of|directory listing (?:for|of)|listing of|contents of) (/\S*)$`)

// listed asks for the folders in which lies what pages name, and tells in which of them the files are listed. It is asked of one's own sites alone.
func (v *visit) listed(ctx context.Context) {
	if !v.Own {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "lists of files", Kind: facts.Unmapped, Because: "folders are asked for on a site of one's own alone (live: own: true)", Names: []string{facts.LiveListed.Name}})
		return
	}
	found := []string{}
	for _, at := range v.folders() {
		if ctx.Err() != nil {
			return
		}
		ch, err := v.unlinked(ctx, at, at.String(), facts.LiveListed.Name)
		if err != nil && ch.last == nil {
			return // it is a gap
		}
		if ch.last == nil {
			continue
		}
		if ch.last.status == http.StatusOK && isHTML(ch.last.header) {
			d := analyse(at, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
			v.note(at.String(), d.failure)
			if isList(d, ch.final.Path) {
				found = append(found, ch.final.Path)
			}
		}
		ch.last.release()
	}
	say(v, facts.LiveListed, found, v.home.String())
}

// isList tells whether a page is a list of the files of a folder: it is called so, with that folder's name.
func isList(d *document, folder string) bool {
	for _, title := range append(slices.Clone(d.titles), d.heading) {
		if is := listTitle.FindStringSubmatch(strings.Join(strings.Fields(title), " ")); is != nil && strings.TrimSuffix(is[1], "/") == strings.TrimSuffix(folder, "/") {
			return true
		}
	}
	return false
}

// folders are those in which lies what pages name, and those above them, without those that are pages themselves: of each kind of place the first, those
// further up first.
func (v *visit) folders() (all []*url.URL) {
	add := func(address string) {
		u, err := url.Parse(address)
		if err != nil || !v.inside(u) {
			return
		}
		for dir := path.Dir(u.Path); dir != "/" && dir != "."; dir = path.Dir(dir) {
			at := *v.home
			at.Path, at.RawPath, at.RawQuery = dir+"/", "", ""
			_, page := v.pages[at.String()]
			beside := 0
			for _, o := range all {
				if path.Dir(path.Clean(o.Path)) == path.Dir(dir) {
					beside++
				}
			}
			if !page && (beside < mostBeside || path.Dir(dir) == "/") && v.mayFetch(&at) && !slices.ContainsFunc(all, func(o *url.URL) bool { return o.Path == at.Path }) {
				all = append(all, &at)
			}
		}
	}
	for _, a := range v.seen.Assets {
		add(a.Address)
	}
	for _, p := range v.seen.Pages {
		add(p.Address)
	}
	slices.SortStableFunc(all, func(a, b *url.URL) int { return strings.Count(a.Path, "/") - strings.Count(b.Path, "/") })
	return all[:min(len(all), mostFolders)]
}
