package live

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"weltaxis/internal/facts"
)

// HeadBytes is by how many of its first bytes a file is known again.
const HeadBytes = 256

// A Leaky is a file that should not be had from outside, and its first bytes, by which it is known again.
type Leaky struct {
	Path string // of its address
	File string // below the root of the site
	Kind string // what it is, in words
	Head []byte // HeadBytes of it, or all
}

// A secret kind is told by how a body begins.
type secretKind struct {
	kind string
	sign string
	is   func(body []byte) bool
}

func matches(pattern string) func([]byte) bool {
	expression := regexp.MustCompile(pattern)
	return func(body []byte) bool { return !isMarkup(body) && expression.Match(body) }
}

func begins(signs ...string) func([]byte) bool {
	return func(body []byte) bool {
		return slices.ContainsFunc(signs, func(sign string) bool { return bytes.HasPrefix(body, []byte(sign)) })
	}
}

// isMarkup tells that a body is a page: one that is about such a file is none.
func isMarkup(body []byte) bool {
	start := bytes.ToLower(bytes.TrimSpace(body[:min(len(body), 300)]))
	return bytes.HasPrefix(start, []byte("<!doctype")) || bytes.HasPrefix(start, []byte("<html")) || bytes.HasPrefix(start, []byte("<head"))
}

// The kinds of what leaks, with their signatures.
var (
	gitHead     = secretKind{"version control", "a branch's name or commit", matches(`^(?:ref: refs/|[0-9a-f]{40}\s*$)`)}
	gitConfig   = secretKind{"version control", "its configuration", matches(`(?m)^\s*\[core\]`)}
	gitIndex    = secretKind{"version control", "its index", begins("DIRC")}
	svnEntries  = secretKind{"version control", "its list of entries", matches(`^(?:\d+\s*\n|SQLite format 3\x00)`)}
	hgRequires  = secretKind{"version control", "its list of features", matches(`(?m)^(?:revlogv1|dotencode|generaldelta|fncache)$`)}
	environment = secretKind{"environment", "assignments in capitals", matches(`(?m)^(?:export\s+)?[A-Z][A-Z0-9_]{2,}\s*=.*$`)}
	sqlText     = secretKind{"dump", "statements that make or fill tables", matches(`(?i)(?:^|\n)\s*(?:create table|insert into|drop table|lock tables|copy \S+ \(|-- (?:mysql|mariadb|postgresql database) dump|pg_dump)`)}
	packed      = secretKind{"archive", "how packed files begin", func(body []byte) bool {
		return begins("\x1f\x8b", "PK\x03\x04", "BZh", "\xfd7zXZ\x00", "7z\xbc\xaf\x27\x1c", "Rar!\x1a\x07", "\x28\xb5\x2f\xfd")(body) || len(body) > 262 && bytes.Equal(body[257:262], []byte("ustar"))
	}}
	programText = secretKind{"copy of a program", "the text of a program", func(body []byte) bool {
		return bytes.Contains(body[:min(len(body), 2000)], []byte("<?php")) || bytes.Contains(body[:min(len(body), 500)], []byte("<?=")) || begins("b0VIM ")(body)
	}}
	settingsText = secretKind{"copy of a configuration", "settings with their values", matches(`(?im)^\s*["']?[\w.-]*(?:pass(?:word|wd)?|secret|user|host|database|debug)[\w.-]*["']?\s*(?:=>?|:)\s*\S`)}
	logLines     = secretKind{"log", "lines with times or requests", matches(`(?m)^(?:\[?\d{4}-\d\d-\d\d|\[[A-Z][a-z]{2} [A-Z][a-z]{2} \d|\[\d\d-[A-Z][a-z]{2}-\d{4}|\S+ \S+ \S+ \[\d\d/[A-Z][a-z]{2}/\d{4})|PHP (?:Warning|Fatal|Notice|Parse)`)}
	privateKey   = secretKind{"key", "how private keys begin", matches(`PRIVATE KEY(?: BLOCK)?-----|^PuTTY-User-Key-File`)}
	passwords    = secretKind{"passwords", "names with hashes", matches(`(?m)^[^:\s]{1,64}:(?:\$(?:apr1|2[aby]|5|6)\$|\{SHA\}|[./0-9A-Za-z]{13}$)`)}
	database     = secretKind{"database", "how database files begin", begins("SQLite format 3\x00")}
	finderList   = secretKind{"list of files", "how such lists begin", begins("\x00\x00\x00\x01Bud1")}
	runtimeInfo  = secretKind{"what the runtime says of itself", "its table of settings", func(body []byte) bool {
		return bytes.Contains(body, []byte("phpinfo()</title>")) || bytes.Contains(body, []byte("PHP License")) && bytes.Contains(body, []byte("_SERVER["))
	}}
)

// A probe is an address that is asked for, and what would be a leak there.
type probe struct {
	path  string
	kinds []secretKind
	known *Leaky // a file that lies there
}

// usualProbes are the names under which such things are found, by the trade's guidance on what to look for (OWASP Web Security Testing
// Guide, WSTG-CONF-04 and -05), and those made of the site's own name. Configs are names of configuration files, of which editors and
// people leave copies.
func usualProbes(host string, configs []string) []probe {
	var all []probe
	add := func(kinds []secretKind, paths ...string) {
		for _, p := range paths {
			all = append(all, probe{path: "/" + p, kinds: kinds})
		}
	}
	one := func(kind secretKind) []secretKind { return []secretKind{kind} }
	add(one(gitHead), ".git/HEAD")
	add(one(gitConfig), ".git/config")
	add(one(gitIndex), ".git/index")
	add(one(svnEntries), ".svn/entries", ".svn/wc.db")
	add(one(hgRequires), ".hg/requires")
	add(one(environment), ".env", ".env.local", ".env.production", ".env.bak", ".env.old", ".env~", ".env.save")
	host = strings.TrimPrefix(strings.ToLower(host), "www.")
	label, _, _ := strings.Cut(host, ".")
	dumps := []secretKind{sqlText, packed}
	for _, name := range slices.Compact([]string{"backup", "dump", "database", "db", label, host}) {
		add(dumps, name+".sql", name+".sql.gz")
	}
	for _, name := range slices.Compact([]string{"backup", "site", "www", "public_html", label, host}) {
		add(one(packed), name+".zip", name+".tar.gz")
	}
	add(one(programText), "index.php~", "index.php.bak", "index.php.old", ".index.php.swp")
	for _, name := range configs {
		base := path.Base(name)
		add([]secretKind{programText, settingsText}, base+"~", base+".bak", base+".old", base+".save", base+".orig", "."+base+".swp")
	}
	add(one(logLines), "error.log", "error_log", "debug.log", "access.log", "logs/error.log")
	add(one(privateKey), "id_rsa", ".ssh/id_rsa", "server.key", "privkey.pem")
	add(one(passwords), ".htpasswd")
	add(one(database), "database.sqlite", "db.sqlite3", "data.db")
	add(one(finderList), ".DS_Store")
	add(one(runtimeInfo), "phpinfo.php", "info.php")
	return all
}

// maxLeaky is how many files that are known to lie there are asked for.
const maxLeaky = 60

// leakBytes is how much of a body is asked for, and read, to tell what it is.
const leakBytes = 4096

// Leaks asks, on a site whose keeper allows it, for what nobody outside should get: by the names that such things have, and for files
// that are known to lie where the web server serves. Nothing is tried but to fetch; of what comes no more is read than tells what
// it is, and nothing of it is kept. The error is only that of a context that ended.
func Leaks(ctx context.Context, o Options, lying []Leaky, configs []string) (facts.Seen, error) {
	unseen := func(because string, kind facts.GapKind) facts.Seen {
		return facts.Seen{Gaps: []facts.Gap{{Source: facts.Live, What: "what leaks", Kind: kind, Names: []string{facts.ListLeaks, "live.installer."}, Because: because}}}
	}
	if !o.Own {
		return unseen("live: {own: true} does not stand in the site file", facts.Unmapped), nil
	}
	v, err := newVisit(o)
	if err != nil {
		return unseen(err.Error(), facts.Failed), nil
	}
	defer v.client.close()
	bounded, cancel := o.bounded(ctx, 1)
	defer cancel()
	first, err := v.client.follow(bounded, v.home, v.sameSite)
	if isDistrusted(err) {
		v.client.distrust()
		first, err = v.client.follow(bounded, v.home, v.sameSite)
	}
	if err != nil || first.last == nil {
		if ctx.Err() != nil {
			return facts.Seen{}, ctx.Err()
		}
		return unseen(cmp.Or(failure(err), "it leads to another site"), facts.Failed), nil
	}
	if refused(first, nil) {
		return unseen(errRefuses.Error(), facts.Failed), nil
	}
	v.home = first.final
	v.readRobots(bounded)
	v.seen = facts.Seen{} // the look before told of it
	random := make([]byte, 8)
	_, _ = rand.Read(random)
	nothing := [][]byte{}
	for _, end := range []string{".sql", "/"} { // a file and a page that cannot exist
		body, _, err := v.begin(bounded, "/weltaxis-"+hex.EncodeToString(random)+end)
		if err != nil {
			return unseen("an address that cannot exist: "+err.Error(), facts.Failed), ctx.Err()
		}
		nothing = append(nothing, body)
	}
	probes := usualProbes(v.home.Hostname(), configs)
	for i := range lying[:min(len(lying), maxLeaky)] {
		probes = append(probes, probe{path: lying[i].Path, known: &lying[i]})
	}
	v.leaks(bounded, probes, nothing)
	v.installers(bounded, nothing)
	v.wellKnown(bounded, nothing)
	if ctx.Err() != nil {
		return facts.Seen{}, ctx.Err()
	}
	// Being turned away from all of this is what one hopes for; being turned away from the home page as well is no answer.
	again, err := v.client.follow(bounded, v.home, v.sameSite)
	if refused(again, err) {
		return unseen(errRefuses.Error(), facts.Failed), nil
	}
	return v.seen, nil
}

func failure(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// begin asks for the start of an address, without following where it leads.
func (v *visit) begin(ctx context.Context, at string) (body []byte, status int, err error) {
	u, err := v.home.Parse((&url.URL{Path: at}).EscapedPath())
	if err != nil {
		return nil, 0, err
	}
	r, err := v.client.briefly().with(http.Header{"Range": {"bytes=0-4095"}, "Accept-Encoding": {"identity"}}).get(ctx, u)
	defer r.release()
	if err != nil {
		return nil, 0, err
	}
	return bytes.Clone(r.body[:min(len(r.body), leakBytes)]), r.status, nil
}

// given is what an address gave that answers with something of its own.
type given struct {
	url    string
	body   []byte
	status int
}

// ask asks for paths, some at a time, and gives for each what it got, nil for what is not there, is kept back, or answers as what cannot
// exist does. What robots.txt bars is counted, and the error is that the site turns us away, or that an address could not be asked for.
func (v *visit) ask(ctx context.Context, paths []string, nothing [][]byte) (got []*given, barred int, failed error) {
	var mu sync.Mutex
	got = make([]*given, len(paths))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(v.Concurrency, 1))
	for i, path := range paths {
		at, err := v.home.Parse((&url.URL{Path: path}).EscapedPath())
		if err != nil {
			continue
		}
		if !v.mayFetch(at) {
			barred++
			continue
		}
		group.Go(func() error {
			body, status, err := v.begin(ctx, path)
			switch {
			case v.turnsAway(ctx, status, err):
				return errRefuses
			case errors.Is(err, errClosed): // how some turn such requests away
			case err != nil:
				mu.Lock()
				defer mu.Unlock()
				failed = cmp.Or(failed, err)
			case (status == http.StatusOK || status == http.StatusPartialContent) && len(body) > 0 && !slices.ContainsFunc(nothing, func(b []byte) bool { return bytes.Equal(b, body) }):
				got[i] = &given{at.String(), body, status}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		failed = err
	}
	return got, barred, failed
}

// leaks says which probes gave what leaks.
func (v *visit) leaks(ctx context.Context, probes []probe, nothing [][]byte) {
	paths := make([]string, len(probes))
	for i, p := range probes {
		paths[i] = p.path
	}
	got, barred, failed := v.ask(ctx, paths, nothing)
	v.seen.Leaks = []facts.Leaked{}
	for i, p := range probes {
		if got[i] == nil {
			continue
		}
		if leak, is := p.told(got[i].body); is {
			leak.URL, leak.Status = got[i].url, got[i].status
			v.seen.Leaks = append(v.seen.Leaks, leak)
		}
	}
	slices.SortFunc(v.seen.Leaks, func(a, b facts.Leaked) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(b.File, a.File))
	})
	v.seen.Leaks = slices.CompactFunc(v.seen.Leaks, func(a, b facts.Leaked) bool { return a.Path == b.Path })
	if barred > 0 {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "what leaks", Kind: facts.Unmapped, Because: "robots.txt asks not to fetch some of what was to be asked for (--ignore-robots does)"})
	}
	if failed != nil {
		v.seen.AddGap(gap("what leaks", failed, facts.ListLeaks))
	}
}

// usualInstallers are where content systems are set up, by the names that the trade uses.
var usualInstallers = []string{"/install/", "/install.php", "/installer/", "/installer.php", "/setup/", "/setup.php", "/install/index.php"}

var (
	// form is a form that is sent, field what it asks for in a step of setting up, and mailField what one for letters asks for.
	form      = regexp.MustCompile(`(?is)<form\b[^>]*\bmethod\s*=\s*["']?post.*?(?:</form>|$)`)
	field     = regexp.MustCompile(`(?i)\b(?:database|db)[ _-]?(?:host|name|server|user|prefix|type|connection)|\b(?:admin(?:istrator)?|root)[ _-]?(?:password|pass|account|name|user|e-?mail)`)
	mailField = regexp.MustCompile(`(?i)type\s*=\s*["']?email|name\s*=\s*["']?[\w-]*mail`)
	// setUp is how a page of setting up is called. A guide to it is called so as well, and has no form, or one for letters.
	setUp     = regexp.MustCompile(`(?is)<(?:title|h1)\b[^>]*>[^<]{0,80}\b(?:install(?:ation|er)?|set-?up|database)\b`)
	setUpDone = regexp.MustCompile(`(?i)already (?:been )?(?:installed|set up|configured)|installation is (?:complete|locked)|(?:remove|delete) (?:the|this) (?:install|set-?up)`)
)

// offersSetUp tells whether a page offers a step of setting the site up.
func offersSetUp(body []byte) bool {
	asks := form.Find(body)
	return asks != nil && (field.Match(asks) || setUp.Match(body) && !mailField.Match(asks))
}

// installers looks whether somebody who has not signed in is offered a step of setting the site up. Nothing is sent.
func (v *visit) installers(ctx context.Context, nothing [][]byte) {
	paths := slices.Concat(v.Installers, usualInstallers)
	got, barred, failed := v.ask(ctx, paths, nothing)
	if failed == nil && barred > 0 {
		failed = errBarred
	}
	found, inert := "", false
	for i, at := range paths {
		if got[i] == nil || !isMarkup(got[i].body) {
			continue
		}
		switch done := setUpDone.Match(got[i].body); {
		case !done && offersSetUp(got[i].body):
			say(v, facts.LiveInstaller, at, v.home.String())
			say(v, facts.LiveInstallerInert, false, v.home.String())
			return
		case done && found == "":
			found, inert = at, true
		}
	}
	if failed != nil {
		v.seen.AddGap(gap("where it is set up", failed, "live.installer."))
		return
	}
	say(v, facts.LiveInstaller, found, v.home.String())
	say(v, facts.LiveInstallerInert, inert, v.home.String())
}

// wellKnown are the names of files that come with programs and say whose they are.
var wellKnown = []string{"/readme.txt", "/readme.md", "/README.md", "/README.txt", "/readme.html", "/changelog.txt", "/CHANGELOG.md", "/license.txt", "/LICENSE", "/VERSION"}

// wellKnown looks for signs of what the site runs on in files that come with it.
func (v *visit) wellKnown(ctx context.Context, nothing [][]byte) {
	got, barred, failed := v.ask(ctx, wellKnown, nothing)
	if failed == nil && barred > 0 {
		failed = errBarred
	}
	for _, g := range got {
		if g == nil {
			continue
		}
		text := string(g.body)
		if isMarkup(g.body) {
			text = ""
			if d := analyse(v.home, g.body, "text/html", sought{}); d != nil {
				v.noteSigns("file", d.heading, g.url)
				text = firstOf(d.titles)
			}
		}
		v.noteSigns("file", text, g.url)
	}
	v.seen.Signs = append([]facts.Telling{}, v.signs...)
	if failed != nil {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "well-known files", Kind: facts.Unmapped, Because: failed.Error()})
	}
}

// turnsAway tells whether the site turns us away rather than what we ask for: when several in a row are refused, and the home page too.
func (v *visit) turnsAway(ctx context.Context, status int, err error) bool {
	v.refusal.mu.Lock()
	if status == http.StatusForbidden || status == http.StatusTooManyRequests || errors.Is(err, errClosed) {
		v.refusal.inARow++
	} else {
		v.refusal.inARow = 0
	}
	ask := v.refusal.inARow >= refusals && !v.refusal.refuses
	if ask {
		v.refusal.inARow = 0
	}
	v.refusal.mu.Unlock()
	if !ask {
		return v.refusal.is() || status == http.StatusTooManyRequests
	}
	home, err := v.client.follow(ctx, v.home, v.sameSite)
	home.last.release()
	if !refused(home, err) {
		return false
	}
	v.refusal.mu.Lock()
	v.refusal.refuses = true
	v.refusal.mu.Unlock()
	return true
}

// told tells whether a body is what leaks there.
func (p probe) told(body []byte) (facts.Leaked, bool) {
	if p.known != nil {
		// A short file is the whole of what comes; a line's end alone would begin many pages.
		if head := p.known.Head; len(head) == 0 || !bytes.HasPrefix(body, head) || len(head) < HeadBytes && len(body) != len(head) {
			return facts.Leaked{}, false
		}
		return facts.Leaked{Path: p.path, File: p.known.File, Kind: p.known.Kind}, true
	}
	for _, kind := range p.kinds {
		if kind.is(body) {
			return facts.Leaked{Path: p.path, Kind: kind.kind, Sign: kind.sign}, true
		}
	}
	return facts.Leaked{}, false
}
