package fix

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"weltaxis/internal/facts"
)

// lead makes a change of each address that was lost: it leads to where a person says that its page is now.
func (p *planning) lead(d facts.Deviation, c Change) bool {
	home, err := url.Parse(p.Home)
	if err != nil {
		return false
	}
	made := false
	for _, r := range d.Readings {
		if r.FullName() != facts.LiveLost.Name && r.FullName() != facts.LiveLent.Name {
			continue
		}
		for _, address := range r.Value.List() {
			u, err := home.Parse(address)
			if err != nil || u.Path == "" {
				continue
			}
			one, wish := c, *c.wish
			one.wish, one.Subject, one.addresses = &wish, u.String(), []string{u.String()}
			wish.Posts = p.posted(u.String(), func(to *url.URL) bool { return to.Host == u.Host && to.Path == u.Path })
			one.Key, one.about = "lead."+u.Path, []string{p.about}
			p.plan.Changes = append(p.plan.Changes, one)
			made = true
		}
	}
	return made
}

// posted tells whether a form of the site posts to one of certain addresses, which is turned into GET where they lead on by 301 or 302; yes as well
// where nobody has looked at the pages.
func (p *planning) posted(address string, among func(to *url.URL) bool) bool {
	if len(p.Seen) == 0 {
		return true
	}
	return slices.ContainsFunc(p.Seen, func(page facts.Page) bool {
		_, known := page.Field("posts")
		return !known || slices.ContainsFunc(page.Posts, func(text string) bool {
			to, err := url.Parse(text)
			return err == nil && (text == address || among(to))
		})
	})
}

// postedBelow tells so of all addresses with the scheme and host of one.
func (p *planning) postedBelow(address string) bool {
	u, err := url.Parse(address)
	return err != nil || p.posted(address, func(to *url.URL) bool { return to.Scheme == u.Scheme && to.Host == u.Host })
}

// leadsSomewhere holds where an address is to lead against what is there: a page of the site that answers, and no other way round. Where
// nobody has said it yet, the likeliest are proposed.
func (p *planning) leadsSomewhere(c *Change) error {
	old, err := url.Parse(c.Subject)
	if err != nil {
		return err
	}
	said := c.To.Text()
	if now := p.World.Leads(*old); said == "" && now != "" { // what others have it lead to for a time they may mean so
		c.Needs = "it leads to " + now + " for a time; say " + now + " if that is to be for good, which browsers keep"
		return nil
	}
	if said == "" {
		c.Needs = "where its page is now; nothing there is much like it"
		if likely := p.likely(old.Path); len(likely) > 0 {
			c.Needs = "where its page is now; the likeliest: " + strings.Join(likely, ", ")
		}
		return nil
	}
	c.Needs = ""
	to, err := url.Parse(said)
	switch {
	case err != nil || to.Host != "" && to.Host != old.Host || !strings.HasPrefix(to.Path, "/"):
		return fmt.Errorf("%q is no address of this site", said)
	case to.Path == old.Path:
		return fmt.Errorf("it would lead to itself")
	}
	i := slices.IndexFunc(p.Seen, func(page facts.Page) bool { return page.Path == to.RequestURI() })
	switch {
	case slices.ContainsFunc(p.Seen, func(page facts.Page) bool { return page.Path == old.Path && page.Status == http.StatusOK }):
		return fmt.Errorf("a page answers there, which a redirect would hide")
	case i < 0:
		return fmt.Errorf("no page of the site was seen at %s; say one that answers, at its final address", to.RequestURI())
	case p.Seen[i].Status != http.StatusOK:
		return fmt.Errorf("%s answers %d; say a page that answers, so that nobody is sent on twice", to.RequestURI(), p.Seen[i].Status)
	}
	c.wish.To = to.RequestURI()
	return nil
}

// likely are the pages whose names are most like that of an address: by letters, and by words.
func (p *planning) likely(path string) []string {
	type guess struct {
		path  string
		score float64
	}
	var all []guess
	for _, page := range p.Seen {
		if page.Status != http.StatusOK || page.Path == "/" {
			continue
		}
		if score := alike(path, page.Path, page.Title); score >= 0.5 {
			all = append(all, guess{page.Path, score})
		}
	}
	slices.SortStableFunc(all, func(a, b guess) int { return cmp.Compare(b.score, a.score) })
	var names []string
	for _, g := range all[:min(len(all), 3)] {
		names = append(names, g.path)
	}
	return names
}

// alike is how much the last part of an address is like another's, or like a title; 1 for the same.
func alike(a, b, title string) float64 {
	x, y := words(facts.LastSegment(a)), words(facts.LastSegment(b))
	if len(x) == 0 || len(y) == 0 {
		return 0
	}
	one, other := strings.Join(x, " "), strings.Join(y, " ")
	letters := 1 - float64(levenshtein.ComputeDistance(one, other))/float64(max(len(one), len(other)))
	return max(letters, shared(x, y), 0.9*shared(x, words(title)))
}

// shared is how many of the words of one text another has, of those of the first.
func shared(a, b []string) float64 {
	n := 0
	for _, word := range a {
		if slices.Contains(b, word) {
			n++
		}
	}
	return float64(n) / float64(max(len(a), 1))
}

// words are those of a text that say something, in lower case, without an ending of a file.
func words(text string) (list []string) {
	for _, ending := range []string{".html", ".htm", ".php"} {
		text = strings.TrimSuffix(text, ending)
	}
	for _, word := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127) }) {
		if len(word) > 2 && !slices.Contains([]string{"and", "the", "for", "und", "der", "die", "das", "les"}, word) {
			list = append(list, word)
		}
	}
	return list
}
