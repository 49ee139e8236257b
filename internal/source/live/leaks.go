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

// A Leaky is a file that should not be had from outside, and its first bytes, by which it is known again.
type Leaky struct {
	Path string // of its address
	File string // below the root of the site
	Kind string // what it is, in words
	Head []byte
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
	bounded, cancel := context.WithTimeout(ctx, o.MaxTime)
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
	nothing, _, err := v.begin(bounded, "/weltaxis-"+hex.EncodeToString(random)+".sql")
	if err != nil {
		return unseen("an address that cannot exist: "+err.Error(), facts.Failed), ctx.Err()
	}
	probes := usualProbes(v.home.Hostname(), configs)
	for i := range lying[:min(len(lying), maxLeaky)] {
		probes = append(probes, probe{path: lying[i].Path, known: &lying[i]})
	}
	leaks, barred, failed := v.probeAll(bounded, probes, nothing)
	v.installers(bounded, nothing)
	if ctx.Err() != nil {
		return facts.Seen{}, ctx.Err()
	}
	// Being turned away from all of this is what one hopes for; being turned away from the home page as well is no answer.
	again, err := v.client.follow(bounded, v.home, v.sameSite)
	if refused(again, err) {
		return unseen(errRefuses.Error(), facts.Failed), nil
	}
	v.seen.Leaks = leaks
	if barred > 0 {
		v.seen.AddGap(facts.Gap{Source: facts.Live, What: "what leaks", Kind: facts.Unmapped, Because: "robots.txt asks not to fetch some of what was to be asked for (--ignore-robots does)"})
	}
	if failed != nil {
		v.seen.AddGap(gap("what leaks", failed, facts.ListLeaks))
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

// probeAll asks for all probes, some at a time.
func (v *visit) probeAll(ctx context.Context, probes []probe, nothing []byte) (leaks []facts.Leaked, barred int, failed error) {
	var mu sync.Mutex
	leaks = []facts.Leaked{}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(v.Concurrency, 1))
	for _, p := range probes {
		at, err := v.home.Parse((&url.URL{Path: p.path}).EscapedPath())
		if err != nil {
			continue
		}
		if !v.mayFetch(at) {
			barred++
			continue
		}
		group.Go(func() error {
			body, status, err := v.begin(ctx, p.path)
			if v.turnsAway(ctx, status, err) {
				return errRefuses
			}
			switch {
			case errors.Is(err, errClosed): // how some turn such requests away
				return nil
			case err != nil:
				mu.Lock()
				defer mu.Unlock()
				failed = cmp.Or(failed, err)
				return nil
			case status != http.StatusOK && status != http.StatusPartialContent, len(body) == 0, bytes.Equal(body, nothing):
				return nil
			}
			if leak, is := p.told(body); is {
				leak.URL, leak.Status = at.String(), status
				mu.Lock()
				defer mu.Unlock()
				leaks = append(leaks, leak)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		failed = err
	}
	slices.SortFunc(leaks, func(a, b facts.Leaked) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(b.File, a.File))
	})
	return slices.CompactFunc(leaks, func(a, b facts.Leaked) bool { return a.Path == b.Path }), barred, failed
}

// usualInstallers are where content systems are set up, by the names that the trade uses.
var usualInstallers = []string{"/install/", "/install.php", "/installer/", "/installer.php", "/setup/", "/setup.php", "/install/index.php"}

var (
	// setUp is what a step of setting up speaks of, and setUpDone what stands there when all is done.
	setUp     = regexp.MustCompile(`(?i)\b(?:database|db)[ _-]?(?:host|name|server|user|prefix|type|connection)|\b(?:admin(?:istrator)?|root)[ _-]?(?:password|account|name|e-?mail)|\b(?:install(?:ation|er)?|set-?up)\b.{0,80}\b(?:step|next|continue|begin|start|welcome|wizard)`)
	setUpDone = regexp.MustCompile(`(?i)already (?:been )?(?:installed|set up|configured)|installation is (?:complete|locked)|(?:remove|delete) (?:the|this) (?:install|set-?up)|is locked`)
	sends     = regexp.MustCompile(`(?i)<form\b[^>]*\bmethod\s*=\s*["']?post`)
)

// installers looks whether somebody who has not signed in is offered a step of setting the site up. Nothing is sent.
func (v *visit) installers(ctx context.Context, nothing []byte) {
	path, inert := "", false
	for _, at := range slices.Concat(v.Installers, usualInstallers) {
		u, err := v.home.Parse((&url.URL{Path: at}).EscapedPath())
		if err != nil || !v.mayFetch(u) {
			continue
		}
		body, status, err := v.begin(ctx, at)
		if v.turnsAway(ctx, status, err) {
			v.seen.AddGap(facts.Gap{Source: facts.Live, What: "where it is set up", Kind: facts.Failed, Names: []string{"live.installer."}, Because: errRefuses.Error()})
			return
		}
		if err != nil || status != http.StatusOK && status != http.StatusPartialContent || !isMarkup(body) || bytes.Equal(body, nothing) {
			continue
		}
		switch {
		case sends.Match(body) && setUp.Match(body) && !setUpDone.Match(body):
			path, inert = at, false
		case path == "" && setUpDone.Match(body):
			path, inert = at, true
		}
		if path != "" && !inert {
			break
		}
	}
	say(v, facts.LiveInstaller, path, v.home.String())
	if path != "" {
		say(v, facts.LiveInstallerInert, inert, v.home.String())
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
		if head := p.known.Head; len(head) == 0 || !bytes.HasPrefix(body, head[:min(len(head), len(body))]) || len(body) < min(len(head), leakBytes) {
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
