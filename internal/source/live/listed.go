package live

import (
	"context"
	"fmt"
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
var listTitle = regexp.MustCompile(`(?i)^(?:index of|directory listing (?:for|of)|listing of|contents of) (/.*)$`)

// listed asks for the folders in which lies what pages name, and tells in which of them the files are listed. It is asked of one's own sites alone.
func (v *visit) listed(ctx context.Context) {
	if !v.Own {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "lists of files", Kind: facts.Unmapped, Because: "folders are asked for on a site of one's own alone (live: own: true)", Names: []string{facts.LiveListed.Name}})
		return
	}
	folders, barred := v.folders()
	if barred > 0 {
		v.seen.AddGap(gap(fmt.Sprintf("%d folders", barred), errBarred, facts.LiveListed.Name))
	}
	found := []string{}
	for _, at := range folders {
		list, err := v.isListed(ctx, at)
		if err != nil {
			v.seen.AddGap(gap(at.String(), err, facts.LiveListed.Name))
			return
		}
		if list != "" {
			found = append(found, list)
		}
	}
	switch {
	case len(found) > 0 || len(folders) > 0 && barred == 0:
		say(v, facts.LiveListed, found, v.home.String())
	case barred == 0:
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "lists of files", Kind: facts.Unmapped, Because: "nothing that pages name lies in a folder", Names: []string{facts.LiveListed.Name}})
	}
}

// isListed is the path of a list of files that an address leads to; "" where it does not. That a folder is refused is what one hopes for.
func (v *visit) isListed(ctx context.Context, at *url.URL) (string, error) {
	if v.refusal.is() {
		return "", errRefuses
	}
	ch, err := v.client.follow(ctx, at, v.sameSite)
	if err != nil || ch.last == nil {
		return "", err
	}
	defer ch.last.release()
	if ch.last.status == http.StatusTooManyRequests {
		return "", errRefuses
	}
	if ch.last.status != http.StatusOK || !isHTML(ch.last.header) {
		return "", nil
	}
	d := analyse(at, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
	v.note(at.String(), d.failure)
	if isList(d, ch.final.Path) {
		return ch.final.Path, nil
	}
	return "", nil
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
// further up first. Barred is from how many more robots.txt keeps robots.
func (v *visit) folders() (all []*url.URL, barred int) {
	met, beside := map[string]bool{}, map[string]int{}
	add := func(address string) {
		u, err := url.Parse(address)
		if err != nil || !v.inside(u) {
			return
		}
		for dir := path.Dir(u.Path); dir != "/" && dir != "." && !met[dir]; dir = path.Dir(dir) {
			met[dir] = true
			at := *v.home
			at.Path, at.RawPath, at.RawQuery = dir+"/", "", ""
			above := path.Dir(dir)
			switch _, page := v.pages[at.String()]; {
			case page, above != "/" && beside[above] == mostBeside:
			case !v.mayFetch(&at):
				barred++
			default:
				all = append(all, &at)
				beside[above]++
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
	return all[:min(len(all), mostFolders)], barred
}
