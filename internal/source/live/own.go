package live

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"

	"weltaxis/internal/facts"
)

// login looks at the login page, which nobody links to.
func (v *visit) login(ctx context.Context) {
	if !v.Own || v.LoginPath == "" {
		because := "live: {own: true} does not stand in the site file"
		if v.Own {
			because = "nothing that was seen says where the login page is"
		}
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "the login page", Kind: facts.Unmapped, Names: []string{"live.login."}, Because: because})
		return
	}
	at, err := v.home.Parse(v.LoginPath)
	if err != nil {
		return
	}
	ch, err := v.unlinked(ctx, at, "the login page "+at.String(), "live.login.")
	if err != nil {
		return
	}
	if ch.last != nil {
		v.tellCookies(at.String(), ch.last.header)
		v.repeatSignIn(ctx, at, ch)
	}
	say(v, facts.LiveLoginPath, v.LoginPath, at.String())
	say(v, facts.LiveLoginHost, ch.final.Hostname(), at.String())
	form := false
	d := v.analyse(ch)
	switch {
	case ch.last != nil && (ch.last.status == http.StatusUnauthorized || ch.last.status == http.StatusForbidden):
		v.seen.AddGap(gap("the login page "+at.String(), fmt.Errorf("it answers %d, so what is behind that was not seen", ch.last.status), "live.login.password"))
		return
	case d != nil && d.password:
		form = true
		v.beside(ctx, at.Path, d)
	case d != nil && d.scripted():
		v.seen.AddGap(gap("the login page "+at.String(), errors.New("a script makes it, and scripts are not run"), "live.login.password"))
		return
	}
	say(v, facts.LiveLoginPassword, form, at.String())
}

// beside looks at the page to make an account on that the login page links to, if it does.
func (v *visit) beside(ctx context.Context, path string, d *document) {
	if offersAccount(path, d) {
		v.registers = cmp.Or(v.registers, path)
	}
	for _, link := range d.links {
		u, err := url.Parse(link)
		if err != nil || !v.inside(u) || !toRegister.MatchString(u.RequestURI()) || toChange.MatchString(u.RequestURI()) || v.pages[normal(u).String()] != nil || !v.mayFetch(u) {
			continue
		}
		if ch, err := v.unlinked(ctx, u, u.String()); err == nil {
			if there := v.analyse(ch); there != nil && offersAccount(u.Path, there) {
				v.registers = cmp.Or(v.registers, u.RequestURI())
			}
		}
		return
	}
}

// tokenFiles asks for the files by which search engines know whose the site is.
func (v *visit) tokenFiles(ctx context.Context) {
	missing := []string{}
	for _, name := range few(v.TokenFiles) {
		at, err := v.home.Parse("/" + name)
		if err != nil {
			continue
		}
		ch, err := v.unlinked(ctx, at, at.String(), facts.LiveTokensMissing.Name)
		switch {
		case err != nil:
			return
		case ch.last == nil || ch.steps > 0:
			missing = append(missing, fmt.Sprintf("%s (leads to %s)", name, ch.final))
		case ch.last.status != http.StatusOK:
			missing = append(missing, fmt.Sprintf("%s (%d)", name, ch.last.status))
		case len(ch.last.body) == 0 || v.nowhere != 0 && v.saysNotFound(analyse(at, ch.last.body, ch.last.header.Get("Content-Type"), sought{})):
			missing = append(missing, name+" (answers as an address that cannot exist)")
		}
		ch.last.release()
	}
	say(v, facts.LiveTokensMissing, missing, v.home.String())
}

// privateName is what paths are called that nobody outside should see.
var privateName = regexp.MustCompile(`(?i)(back-?up|dump|private|secret|intern|confidential|\.sql|\.git|\.env|\.bak|\.old|config)`)

// maxPrivate is how many such paths are asked for.
const maxPrivate = 20

// private asks for the private paths that robots.txt names for all to read.
func (v *visit) private(ctx context.Context) {
	at, _ := v.home.Parse("/robots.txt")
	var answering []string
	asked := 0
	for _, group := range v.groups() {
		for _, rule := range group.rules {
			u, err := v.home.Parse(strings.TrimSuffix(rule.pattern, "$"))
			if rule.allow || err != nil || !privateName.MatchString(rule.pattern) || strings.Contains(rule.pattern, "*") || asked >= maxPrivate {
				continue
			}
			if !v.Own || !v.mayFetch(u) {
				v.seen.AddGap(facts.Gap{Source: facts.Live, What: u.String(), Kind: facts.Unmapped, Names: []string{"live.robots.private"}, Because: errBarred.Error()})
				return
			}
			asked++
			ch, err := v.unlinked(ctx, u, u.String(), "live.robots.private")
			switch {
			case errors.Is(err, errRefuses):
				return
			case err == nil && ch.steps == 0 && ch.last != nil && ch.last.status == http.StatusOK:
				answering = append(answering, rule.pattern)
			}
		}
	}
	say(v, facts.LiveRobotsPrivate, few(answering), at.String())
}

func (v *visit) groups() []robotsGroup {
	if v.robots == nil {
		return nil
	}
	return v.robots.groups
}

// lost asks for the addresses that answered at an earlier time and were not met this time.
func (v *visit) lost(ctx context.Context) {
	home := v.home.String()
	say(v, facts.LivePrevious, len(v.Previous) > 0, home)
	var lost, lent []string
	for _, address := range v.Previous[:min(len(v.Previous), v.MaxPages)] {
		u, err := url.Parse(address)
		if err != nil || !v.sameSite(u) {
			continue
		}
		if p := v.pages[normal(u).String()]; p != nil && p.chain.final != nil && p.page.Status == http.StatusOK && (p.chain.steps == 0 || p.chain.permanent) {
			continue
		}
		ch, err := v.client.follow(ctx, normal(u), v.sameSite)
		if err != nil && !errors.Is(err, errUnmapped) {
			v.seen.AddGap(gap(address, err))
			continue
		}
		switch {
		case ch.last == nil || ch.last.status != http.StatusOK:
			lost = append(lost, u.RequestURI())
		case ch.steps > 0 && !ch.permanent:
			lent = append(lent, u.RequestURI())
		}
	}
	say(v, facts.LiveLost, few(lost), home)
	say(v, facts.LiveLent, few(lent), home)
}
