package live

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"weltaxis/internal/caching"
	"weltaxis/internal/facts"
	"weltaxis/internal/secrets"
)

// A Known is an address of a kind that was there at an earlier time, for when the site is closed and nothing leads to it.
type Known struct{ Kind, Address string }

// KnownFrom are those that an earlier look met: an inner page, a style or script, a picture, a feed.
func KnownFrom(s *facts.Snapshot) (known []Known) {
	note := func(kind, address string) {
		if address != "" && !strings.Contains(address, secrets.Hidden) && !slices.ContainsFunc(known, func(k Known) bool { return k.Kind == kind }) {
			known = append(known, Known{kind, address})
		}
	}
	for i := range s.Pages {
		p := &s.Pages[i]
		if p.Kind == "content" && p.Status == http.StatusOK && !strings.Contains(p.Path, "?") {
			note(facts.InnerDoor, p.Address)
		}
		if len(p.Feeds) > 0 {
			note(facts.FeedDoor, p.Feeds[0])
		}
	}
	for _, a := range s.Assets {
		note(doorOfAsset(a.Kind), a.Address)
	}
	return known
}

// doorOfAsset is the kind of door that an asset is, "" for none.
func doorOfAsset(kind string) string {
	switch kind {
	case styleKind, scriptKind:
		return facts.AssetDoor
	case pictureKind:
		return facts.PictureDoor
	}
	return ""
}

// stranger is the same client without a password.
func (c *client) stranger() *client {
	other := *c
	other.user = ""
	return &other
}

// isClosed tells whether every kind of address is to be asked for: something stands in the place of the home page, a password is sent along, or
// the content system has been told to close the site.
func (v *visit) isClosed(home string) bool {
	return v.Closed || v.User != "" || home != facts.ShowsSite
}

// shows is what an answer shows.
func (v *visit) shows(ch chain, d *document) string {
	if ch.last == nil {
		return facts.ShowsElsewhere
	}
	switch status := ch.last.status; {
	case status == http.StatusUnauthorized:
		return facts.ShowsLock
	case status == http.StatusForbidden, status == http.StatusTooManyRequests:
		return facts.ShowsRefusal
	case status == http.StatusServiceUnavailable:
		return facts.ShowsNotice
	case v.saysNotice(ch.last, d):
		return facts.ShowsNotice
	case status == http.StatusNotFound || status == http.StatusGone:
		return facts.ShowsNothing
	case status >= 400:
		return facts.ShowsFailure
	}
	return facts.ShowsSite
}

const (
	fewestNoticeLetters = 12  // of a notice's words, to be known again on a page
	mostNoticeWords     = 300 // of a page that is nothing but a notice
	maxNoticeText       = 2000
)

// saysNotice tells whether an answer is a notice whatever its status: by what it is called, or by the words that the content system has been
// told to say.
func (v *visit) saysNotice(r *response, d *document) bool {
	if d != nil && (isNotice(d) || d.words <= fewSentenceWords && len(d.links) <= 2 && noticeSentence.MatchString(checkBack.ReplaceAllString(textOf(r.body), ""))) {
		return true
	}
	words := plainWords(v.Notice)
	if len(words) < fewestNoticeLetters || d != nil && d.words > mostNoticeWords || !isText(r.header) {
		return false
	}
	return strings.Contains(plainWords(textOf(r.body)), words)
}

// plainWords is a text in lower case with single spaces.
func plainWords(text string) string { return strings.Join(strings.Fields(strings.ToLower(text)), " ") }

// textOf is what a piece of markup says, its title first, without scripts and styles, up to a bound.
func textOf(body []byte) string {
	var b strings.Builder
	hidden := ""
	for z := html.NewTokenizer(bytes.NewReader(body)); b.Len() < 2*maxNoticeText; {
		switch z.Next() {
		case html.ErrorToken:
			return strings.Join(strings.Fields(b.String()), " ")
		case html.StartTagToken:
			if name, _ := z.TagName(); string(name) == "script" || string(name) == "style" {
				hidden = string(name)
			}
		case html.EndTagToken:
			if name, _ := z.TagName(); string(name) == hidden {
				hidden = ""
			}
			b.WriteByte(' ')
		case html.TextToken:
			if hidden == "" {
				b.Write(z.Text())
			}
		}
	}
	return strings.Join(strings.Fields(html.UnescapeString(b.String())), " ")
}

// notice tells of the notice that stands in the place of the home page.
func (v *visit) notice(r *response, d *document) {
	at := v.home.String()
	text := facts.Shorten(html.UnescapeString(textOf(r.body)), maxNoticeText)
	title := ""
	if d == nil && isHTML(r.header) {
		d = analyse(v.home, r.body, r.header.Get("Content-Type"), sought{})
	}
	if d != nil {
		title = cmp.Or(firstOf(d.titles), d.heading)
	}
	say(v, facts.LiveNotice, facts.Shorten(cmp.Or(title, text, "an answer 503"), 120), at)
	say(v, facts.LiveNoticeText, text, at)
}

// doors asks for every kind of address as a stranger does, where the site is closed or is to be, and tells what each shows. Of an open site it
// tells what its pages showed.
func (v *visit) doors(ctx context.Context, home string) {
	if v.refusal.is() {
		v.seen.AddGap(gap("what a stranger gets", errRefuses, facts.ListDoors, facts.LiveHomeShows.Name, facts.LiveNoticed.Name, facts.LiveLocked.Name))
		return
	}
	v.seen.Doors = []facts.Door{}
	defer v.tellDoors()
	if !v.isClosed(home) {
		v.metDoors(ctx)
		return
	}
	asked, barred := map[string]bool{}, 0
	defer func() {
		if barred > 0 {
			v.seen.AddGap(gap(fmt.Sprintf("what a stranger gets at %d more kinds of address", barred), errBarred, facts.ListDoors))
		}
	}()
	for _, door := range v.doorAddresses(ctx) {
		at := normal(door.at)
		if asked[door.kind+at.String()] {
			continue
		}
		if door.kind != facts.RobotsDoor && door.kind != facts.HomeDoor && !v.mayFetch(at) {
			barred++
			continue
		}
		asked[door.kind+at.String()] = true
		told, err := v.door(ctx, door.kind, at)
		if door.kind == facts.MissingDoor || door.kind == facts.ChallengeDoor { // another one each time
			told.Path = madeUp(told.Path)
			told.Address = madeUp(told.Address)
		}
		switch {
		case err == nil:
			v.seen.Doors = append(v.seen.Doors, told)
		case door.kind == facts.UnencryptedDoor || door.kind == facts.OtherNameDoor: // nobody is there: no door
		default:
			v.seen.AddGap(gap(at.String()+", as a stranger gets it", err, facts.ListDoors))
		}
		if v.refusal.is() {
			return
		}
	}
	v.spelt(ctx)
}

// madeUp is an address without what is made up of it.
func madeUp(address string) string { return address[:strings.LastIndexByte(address, '-')+1] + "…" }

// tellDoors sums up what was seen of the doors.
func (v *visit) tellDoors() {
	slices.SortStableFunc(v.seen.Doors, inOrder)
	kinds := map[string][]string{}
	home := v.home.String()
	for _, d := range v.seen.Doors {
		if !slices.Contains(kinds[d.Shows], d.Kind) {
			kinds[d.Shows] = append(kinds[d.Shows], d.Kind)
		}
		if d.Kind != facts.HomeDoor {
			continue
		}
		say(v, facts.LiveHomeShows, d.Shows, d.Address)
		if d.Around != "" && d.Shows == facts.ShowsNotice {
			say(v, facts.LiveNoticeKept, d.Around != facts.ShowsNotice, d.Address)
		}
	}
	say(v, facts.LiveNoticed, kinds[facts.ShowsNotice], home)
	say(v, facts.LiveLocked, kinds[facts.ShowsLock], home)
}

// metDoors are the pages that were met, of which only the home page is told that shows what it should.
func (v *visit) metDoors(ctx context.Context) {
	for _, address := range v.order {
		p := v.pages[address]
		if p.chain.final == nil || p.chain.steps > 0 || p.shows == "" || address != v.home.String() && p.shows != facts.ShowsNotice || len(v.seen.Doors) > fewKept {
			continue
		}
		u, err := url.Parse(address)
		if err != nil {
			continue
		}
		kind := facts.InnerDoor
		if address == v.home.String() {
			kind = facts.HomeDoor
			v.seen.Doors = append(v.seen.Doors, facts.Door{Kind: kind, Address: address, Path: u.RequestURI(), Status: p.page.Status, First: p.page.Status, Shows: p.shows, Hit: p.page.Hit, Fresh: p.page.Fresh})
			continue
		}
		if told, err := v.door(ctx, kind, u); err == nil {
			v.seen.Doors = append(v.seen.Doors, told)
		}
	}
}

// door asks for one address as a stranger, and as somebody who may come in, where the site file says how.
func (v *visit) door(ctx context.Context, kind string, at *url.URL) (facts.Door, error) {
	d := facts.Door{Kind: kind, Address: at.String(), Path: at.RequestURI(), Fresh: -1}
	stranger := v.client.stranger()
	ch, err := stranger.follow(ctx, at, v.sameSite)
	if ch.last != nil {
		defer ch.last.release()
	}
	switch {
	case ch.loop:
		d.First, d.Status, d.Shows, d.Leads = ch.first, ch.first, facts.ShowsFailure, ch.final.String()
		return d, nil
	case err != nil && (ch.last == nil || ch.last.status == http.StatusOK && ch.last.body == nil):
		return d, err
	case ch.last != nil && ch.last.status == http.StatusTooManyRequests:
		v.refusal.mu.Lock()
		v.refusal.refuses = true
		v.refusal.mu.Unlock()
		return d, errRefuses
	}
	d.First, d.Shows = ch.first, v.showsOf(ch)
	if ch.steps > 0 {
		d.Leads = ch.final.String()
		d.Strays = strings.TrimSuffix(ch.final.Path, "/") != strings.TrimSuffix(at.Path, "/")
	}
	if ch.last == nil {
		d.Status = ch.first
		return d, nil
	}
	d.Status, d.Retry = ch.last.status, facts.Shorten(ch.last.header.Get("Retry-After"), 60)
	told := caching.Told(ch.last.header)
	d.Hit, d.Fresh = told.Outcome.FromCache(), freshFor(caching.Shared, ch.last)
	d.Open = d.Shows == facts.ShowsLock && ch.final.Scheme == "http"
	if d.Shows == facts.ShowsNotice && ch.steps == 0 || v.Closed && d.Hit {
		d.Around = v.around(ctx, stranger, at, d.Shows)
	}
	if d.Shows != facts.ShowsSite && kind != facts.UnencryptedDoor && kind != facts.OtherNameDoor {
		d.Staff = v.asStaff(ctx, at)
	}
	return d, nil
}

// showsOf is what the end of a chain shows.
func (v *visit) showsOf(ch chain) string {
	var d *document
	if ch.last != nil && isHTML(ch.last.header) && unknownCharset(ch.last.header) == "" {
		d = analyse(ch.final, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
	}
	return v.shows(ch, d)
}

// around is what is shown around the cache: the first of two ways that shows something else counts, or else the last.
func (v *visit) around(ctx context.Context, c *client, at *url.URL, plain string) (shows string) {
	for _, way := range []struct {
		at     *url.URL
		fields http.Header
	}{{withToken(at), nil}, {at, http.Header{"Cache-Control": {"no-cache"}}}} {
		ch, err := c.with(way.fields).follow(ctx, way.at, v.sameSite)
		if err != nil || ch.last == nil || ch.loop {
			continue
		}
		if now := v.showsOf(ch); !caching.Told(ch.last.header).Outcome.FromCache() && now != facts.ShowsNothing && now != facts.ShowsFailure {
			shows = now
		}
		ch.last.release()
		if shows != "" && shows != plain {
			return shows
		}
	}
	return shows
}

// asStaff is what an address shows to somebody who is signed in or has the password; "" where the site file says neither.
func (v *visit) asStaff(ctx context.Context, at *url.URL) string {
	if v.User == "" && v.Session == "" {
		return ""
	}
	c := v.client
	if v.Session != "" {
		c = c.with(http.Header{"Cookie": {v.Session}})
	}
	ch, err := c.follow(ctx, at, v.sameSite)
	if err != nil || ch.loop {
		return ""
	}
	defer ch.last.release()
	return v.showsOf(ch)
}

// A doorway is an address that is to be tried.
type doorway struct {
	kind string
	at   *url.URL
}

// doorAddresses are one address of every kind: those that were met, those that somebody who may come in finds on the home page, and those
// that an earlier look met.
func (v *visit) doorAddresses(ctx context.Context) (list []doorway) {
	has := map[string]bool{}
	add := func(kind, address string) {
		if u, err := v.home.Parse(address); err == nil && address != "" && kind != "" && !has[kind] && v.sameSite(u) {
			list, has[kind] = append(list, doorway{kind, u}), true
		}
	}
	add(facts.HomeDoor, v.home.String())
	for _, p := range v.real() {
		if p.page.Kind == "content" {
			add(facts.InnerDoor, p.page.Address)
		}
		for _, pulled := range p.pulls {
			add(doorOfAsset(pulled.kind), pulled.address)
		}
		if len(p.page.Feeds) > 0 {
			add(facts.FeedDoor, p.page.Feeds[0])
		}
	}
	if !has[facts.InnerDoor] && (v.User != "" || v.Session != "") {
		v.behind(ctx, add)
	}
	for _, k := range v.Known {
		add(k.Kind, k.Address)
	}
	for _, wanted := range slices.Concat(v.List, v.Previous) {
		if u, err := v.home.Parse(wanted); err == nil && u.Path != "/" && u.Path != "" {
			add(facts.InnerDoor, wanted)
		}
	}
	add(facts.RobotsDoor, "/robots.txt")
	add(facts.SitemapDoor, "/sitemap.xml")
	if v.Own && v.LoginPath != "" {
		add(facts.SignInDoor, v.LoginPath)
	}
	random := make([]byte, 8)
	_, _ = rand.Read(random)
	add(facts.MissingDoor, "/weltaxis-"+hex.EncodeToString(random))
	other := func(scheme, host, path string) string {
		u := *v.home
		u.Scheme, u.Host, u.Path, u.RawQuery = scheme, host, path, ""
		return u.String()
	}
	if v.home.Port() != "" {
		return list
	}
	if v.Own { // whoever gives certificates asks without encryption (RFC 8555 §8.3)
		add(facts.ChallengeDoor, other("http", v.home.Host, "/.well-known/acme-challenge/weltaxis-"+hex.EncodeToString(random)))
	}
	if v.home.Scheme == "https" {
		add(facts.UnencryptedDoor, other("http", v.home.Host, "/"))
		if inner := slices.IndexFunc(list, func(d doorway) bool { return d.kind == facts.InnerDoor }); inner >= 0 && v.Own {
			u := *list[inner].at
			u.Scheme = "http"
			list = append(list, doorway{facts.UnencryptedDoor, &u})
		}
	}
	if bare, is := strings.CutPrefix(v.home.Host, "www."); is {
		add(facts.OtherNameDoor, other(v.home.Scheme, bare, "/"))
	} else if strings.Count(v.home.Host, ".") == 1 {
		add(facts.OtherNameDoor, other(v.home.Scheme, "www."+v.home.Host, "/"))
	}
	return list
}

// inOrder sorts the doors as their kinds are.
func inOrder(a, b facts.Door) int {
	return slices.Index(facts.DoorKinds, a.Kind) - slices.Index(facts.DoorKinds, b.Kind)
}

// behind adds what somebody who may come in finds on the home page.
func (v *visit) behind(ctx context.Context, add func(kind, address string)) {
	c := v.client
	if v.Session != "" {
		c = c.with(http.Header{"Cookie": {v.Session}})
	}
	ch, err := c.follow(ctx, v.home, v.sameSite)
	if err != nil || ch.last == nil || ch.last.status != http.StatusOK || !isHTML(ch.last.header) {
		return
	}
	defer ch.last.release()
	d := analyse(ch.final, ch.last.body, ch.last.header.Get("Content-Type"), sought{})
	for _, link := range v.innerLinks(d) {
		add(facts.InnerDoor, link.String())
	}
	for _, pulled := range absolute(ch.final, d.pulls) {
		add(doorOfAsset(pulled.kind), pulled.address)
	}
	for _, feed := range d.feeds {
		add(facts.FeedDoor, feed)
	}
}
