package fix

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/html"

	"weltaxis/internal/facts"
	"weltaxis/internal/source/server"
	"weltaxis/internal/store"
	"weltaxis/internal/tree"
)

// What practitioners have seen break after a change that was right stands here, each as a row: when a change may do that, and how it is looked for afterwards. The plan says it
// before (mind), and the risk follows from it; what is found afterwards has the change taken back.
var aftereffects = []aftereffect{
	{"a program that runs as its owner is refused", groupWrites, watched},
	{"a program that the operating system starts is not started any more", stops, watched},
	{"a page that is kept outlives what its form was given for one visit", outlives, sameTwice},
	{"what is kept of one host or scheme is given at another", mixed, nil},
	{"an address stands in values whose length stands before them", counted, nil},
}

type aftereffect struct {
	what string
	// says is what a change may do of it, "" for nothing; risk is at least that of the change then.
	says func(ctx context.Context, p *planning, c *Change) (mind string, risk facts.Risk)
	// look looks before the change, and gives how to look afterwards, which says what broke; nil where looking again at the whole site tells.
	look func(ctx context.Context, e *Env, c Change) func(ctx context.Context) string
}

// foresee notes what a change may break, and the days on which to look again.
func (p *planning) foresee(ctx context.Context, c *Change) {
	if c.done || c.Cannot != "" {
		return
	}
	switch {
	case c.Kind == Modes && len(c.Members) > 0: // which come back with the next deploy, from a panel, or by a umask
		c.again = again{days: 1, what: "Look whether the permissions that were changed are still as they were made (weltaxis audit): a deploy, a panel or a umask may have given the old ones again."}
	case c.Kind == Setting && c.Name == facts.LockOn.Short() && c.To.Bool():
		c.again = again{int(Keep/(24*time.Hour)) - 1, "The site is locked from here. Look whether that is still wanted; weltaxis lock off takes it away.", true}
	}
	for i, effect := range aftereffects {
		mind, risk := effect.says(ctx, p, c)
		if mind == "" {
			continue
		}
		c.Mind = append(c.Mind, mind)
		c.effects = append(c.effects, i)
		if risk > c.Risk {
			c.Risk, c.Because = risk, mind
		}
	}
}

// lookouts look before a change for what it may break, and give how to look afterwards.
func (e *Env) lookouts(ctx context.Context, c Change) (after []func(context.Context) string) {
	for _, i := range c.effects {
		if look := aftereffects[i].look; look != nil {
			if later := look(ctx, e, c); later != nil {
				after = append(after, later)
			}
		}
	}
	return after
}

// groupWrites: a starter that runs programs as their owners refuses those that others may write to, and those in folders that others may write to.
func groupWrites(_ context.Context, p *planning, c *Change) (string, facts.Risk) {
	gains := uint32(c.To.Number()) &^ uint32(c.From.Number()) & 0o022
	if c.Kind != Modes || gains == 0 {
		return "", 0
	}
	for _, m := range c.Members[:min(len(c.Members), maxMembers)] {
		if len(c.watch) < maxWatched {
			c.watch = append(c.watch, p.seenAt(m.Path)...)
		}
	}
	if n := p.perOwner(); n != "" {
		return "programs here run as their owners (" + n + "), and one that others may write to, or that lies where others may, is refused with a 500", facts.Disruptive
	}
	if p.World == nil {
		return "nobody looked how programs are started here (sources: server:); where they run as their owners, one that others may write to is refused with a 500", facts.Visible
	}
	return "", 0
}

// commonGateway are places and names of programs that a web server has the operating system start (RFC 3875).
var commonGateway = regexp.MustCompile(`(?i)(?:^|/)(?:cgi-bin|fcgi-bin|cgi)/|\.(?:cgi|fcgi)$`)

// stops: a program that the web server has the operating system start needs the permission to run.
func stops(_ context.Context, p *planning, c *Change) (string, facts.Risk) {
	if c.Kind != Modes || c.lostBits()&0o111 == 0 {
		return "", 0
	}
	for i, m := range c.Members {
		if m.Kind != tree.File {
			continue
		}
		by, started, at := "", false, ""
		if i < maxMembers {
			started, at = p.startedBy(m.Path)
		}
		if started {
			by = "the web server has it started (" + at + ")"
		} else if at == "" && commonGateway.MatchString(m.Path) {
			by = "it is called, or lies, as what a web server has started"
		}
		if by != "" {
			c.watch = append(c.watch, p.seenAt(m.Path)...)
			return m.Path + " may not be run any more by somebody, and " + by + ": it would answer 500 or 403", facts.Disruptive
		}
	}
	return "", 0
}

// maxMembers is how many entries of a change are held against what the web server makes of their addresses; the rest is told by name.
const maxMembers = 2000

// told is what the servers have been told as things are, read once.
func (p *planning) told() (*server.Source, bool) {
	if p.servers == nil {
		servers, gaps := p.World.Open(nil)
		p.servers, p.unread = servers, len(gaps) > 0
	}
	return p.servers, !p.unread
}

// startedBy tells whether the web server has a file of the site started by the operating system, and by which line; at is "" where that cannot be told.
func (p *planning) startedBy(file string) (started bool, at string) {
	u := p.addressOf(file)
	if u == nil {
		return false, ""
	}
	servers, _ := p.told()
	return servers.Started(u)
}

// maxWatched is how many addresses are asked before and after a change.
const maxWatched = 6

// seenAt are pages that were seen at the address of a file, or below it: others are not asked, since that may start what does something.
func (p *planning) seenAt(file string) (addresses []string) {
	u := p.addressOf(file)
	if u == nil {
		return nil
	}
	for _, page := range p.Seen {
		at, err := url.Parse(page.Address)
		if err != nil || page.Status != http.StatusOK || len(addresses) >= maxWatched {
			continue
		}
		if at.Path == u.Path || strings.HasPrefix(at.Path, strings.TrimSuffix(u.Path, "/")+"/") {
			addresses = append(addresses, page.Address)
		}
	}
	return addresses
}

// addressOf is the address of a file of the site, where the web server serves it; nil where it does not, or that is not known.
func (p *planning) addressOf(file string) *url.URL {
	if p.World == nil {
		return nil
	}
	home, err := url.Parse(p.Home)
	servers, whole := p.told()
	if err != nil || !whole || servers.Address == nil || servers.Root() == "" {
		return nil
	}
	full, err := filepath.Abs(filepath.Join(p.FilesRoot, filepath.FromSlash(file)))
	if err != nil {
		return nil
	}
	below, err := filepath.Rel(servers.Root(), full)
	if err != nil || below == ".." || strings.HasPrefix(below, "../") {
		return nil
	}
	return home.ResolveReference(&url.URL{Path: path.Join("/", filepath.ToSlash(below))})
}

// keepsPages tells whether a change has whole pages kept that were not, or longer than they were.
func (c Change) keepsPages() bool {
	if c.Kind != Setting || c.To.Type() == "" {
		return false
	}
	switch c.Name {
	case facts.CachePage.Short():
		return c.To.Bool()
	case facts.CacheLifetime.Short():
		return c.To.Number() > c.From.Number()
	case facts.CacheExcludes.Short():
		return slices.ContainsFunc(c.From.List(), func(path string) bool { return !slices.Contains(c.To.List(), path) })
	}
	return false
}

// maxNamed is how many pages are named.
const maxNamed = 3

// outlives: what a form is given for one visit is given to everybody, and is refused when it is too old.
func outlives(_ context.Context, p *planning, c *Change) (string, facts.Risk) {
	if !c.keepsPages() {
		return "", 0
	}
	if p.Seen == nil {
		return "nobody looked whether a form holds what is made for one visit, as against forged requests (sources: live:); a page that is kept gives everybody the same", facts.Visible
	}
	leaves := p.Excluded
	if c.Name == facts.CacheExcludes.Short() {
		leaves = c.To.List()
	}
	leftOut := leftOutBy(leaves)
	var says []string
	for _, page := range p.Seen {
		if len(page.Once) > 0 && !leftOut(page.Path) {
			says = append(says, fmt.Sprintf("%s (%s)", page.Path, strings.Join(page.Once, ", ")))
			c.watch = append(c.watch, page.Path)
		}
	}
	if len(says) == 0 {
		return "", 0
	}
	named := strings.Join(says[:min(len(says), maxNamed)], ", ")
	if more := len(says) - maxNamed; more > 0 {
		named += fmt.Sprintf(" and %d more", more)
	}
	return "forms hold what looks as made for one visit: " + named + "; a page that is kept gives it to everybody, and gives it when it is too old. Leave them out first (cache.excludes)", facts.Disruptive
}

// leftOutBy tells of paths whether they are among those that a page cache leaves out, which may have * for anything.
func leftOutBy(patterns []string) func(path string) bool {
	var all []*regexp.Regexp
	for _, pattern := range patterns {
		if re, err := regexp.Compile("^" + strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, ".*") + "$"); err == nil {
			all = append(all, re)
		}
	}
	return func(path string) bool {
		return slices.ContainsFunc(all, func(re *regexp.Regexp) bool { return re.MatchString(path) })
	}
}

// mixed: a cache whose key lacks the host or the scheme gives what it kept at one of them at another.
func mixed(_ context.Context, p *planning, c *Change) (string, facts.Risk) {
	if !c.keepsPages() {
		return "", 0
	}
	var also []string
	for _, s := range p.Spellings {
		if (s.Kind == "host" || s.Kind == "scheme") && s.Status == http.StatusOK && s.Steps == 0 {
			also = append(also, s.Address)
		}
	}
	if len(also) == 0 {
		return "", 0
	}
	return "the site answers at " + strings.Join(also[:min(len(also), maxNamed)], ", ") + " as well, and a cache that tells its pages apart without scheme or host gives those of one at another: have one address lead to the other first (visibility.one-host)", facts.Disruptive
}

// counted: an address that is replaced as text breaks values whose length stands before them. Only the setting itself is changed, by its own format.
func counted(ctx context.Context, p *planning, c *Change) (string, facts.Risk) {
	if c.Kind != Setting || c.Name != facts.SiteAddress.Short() || c.From.Text() == "" || p.site == nil {
		return "", 0
	}
	was, err := url.Parse(c.From.Text())
	if err != nil || was.Host == "" || strings.EqualFold(was.String(), c.To.Text()) {
		return "", 0
	}
	// As an address, in JSON with its slashes escaped as well; a mailbox there and other hosts of that name are none.
	address, err := regexp.Compile(`(?i)/\\?/` + regexp.QuoteMeta(was.Host) + `(?:[^a-z0-9.:-]|$)`)
	if err != nil {
		return "", 0
	}
	rows, packed, where, cut := 0, 0, map[string]bool{}, false
	for _, name := range slices.Sorted(maps.Keys(p.Dialect.Databases)) {
		more, err := p.site.Values(ctx, name, func(table, value string) {
			if !address.MatchString(value) || value == c.From.Text() {
				return
			}
			rows++
			where[table] = true
			if format, is := store.IsDocument(value); is && format == "serialised" {
				packed++
			}
		})
		if err != nil {
			return "whether the address stands in other rows could not be looked at: " + facts.InWords(err), facts.Disruptive
		}
		cut = cut || more
	}
	if rows == 0 {
		return "", 0
	}
	least := ""
	if cut {
		least = "at least "
	}
	says := fmt.Sprintf("%s stands in %s%d values of %s besides, which stay as they are", was.Host, least, rows, strings.Join(slices.Sorted(maps.Keys(where)), ", "))
	if packed > 0 {
		says += fmt.Sprintf("; in %d of them the length of each text stands before it, so that replacing it as text breaks them: change those by their own format (serialised)", packed)
	}
	return says, facts.Disruptive
}

// watched asks addresses before and after a change.
func watched(ctx context.Context, e *Env, c Change) func(context.Context) string {
	if e.Ask == nil || len(c.watch) == 0 {
		return nil
	}
	asked := c.watch[:min(len(c.watch), maxWatched)]
	before := e.Ask(ctx, asked)
	return func(ctx context.Context) string {
		now := e.Ask(ctx, asked)
		for _, address := range asked {
			if answered(before[address], nil) && !answered(now[address], c.meant) {
				return stopped(address, now[address])
			}
		}
		return ""
	}
}

// sameTwice looks whether two visits are given the same that were not before.
func sameTwice(ctx context.Context, e *Env, c Change) func(context.Context) string {
	if e.Text == nil {
		return nil
	}
	apart := map[string][]string{}
	for _, path := range c.watch[:min(len(c.watch), maxNamed)] {
		one, other := hiddenIn(e.Text(ctx, path)), hiddenIn(e.Text(ctx, path))
		for _, name := range slices.Sorted(maps.Keys(one)) {
			if one[name] != other[name] && other[name] != "" {
				apart[path] = append(apart[path], name)
			}
		}
	}
	return func(ctx context.Context) string {
		for _, path := range slices.Sorted(maps.Keys(apart)) {
			one, other := hiddenIn(e.Text(ctx, path)), hiddenIn(e.Text(ctx, path))
			for _, name := range apart[path] {
				if one[name] != "" && one[name] == other[name] {
					return fmt.Sprintf("afterwards two visits to %s were given the same %s, which is made for one", path, name)
				}
			}
		}
		return ""
	}
}

// hiddenIn are the hidden fields of a page's forms, with what they are given.
func hiddenIn(page string) map[string]string {
	fields := map[string]string{}
	for z := html.NewTokenizer(strings.NewReader(page)); ; {
		switch z.Next() {
		case html.ErrorToken:
			return fields
		case html.StartTagToken, html.SelfClosingTagToken:
			token := z.Token()
			if token.Data != "input" {
				continue
			}
			said := map[string]string{}
			for _, a := range token.Attr {
				said[a.Key] = a.Val
			}
			if strings.EqualFold(said["type"], "hidden") {
				fields[said["name"]] = said["value"]
			}
		}
	}
}

// PutRight is when a change that stands had put a deviation right: a look after it did not show it, and a later one did. It is nil where none had.
func PutRight(records []LogLine, d facts.Deviation) *time.Time {
	if d.Since == nil || d.Since.Lacked == nil {
		return nil
	}
	for _, r := range slices.Backward(records) {
		about := r.Subject == "" || r.Subject == d.Subject || r.Kind == File || rows[r.Kind].gathers
		if r.Event == Done && slices.Contains(r.Rules, d.Rule) && about && !r.At.After(*d.Since.Lacked) {
			return &r.At
		}
	}
	return nil
}

// again is that somebody is to look again, so many days after a change.
type again struct {
	days   int
	what   string
	stands bool // as long as the change does, whatever audits see
}

// An Again is what the journal keeps of that.
type Again struct {
	On     facts.Day `json:"on"`
	What   string    `json:"what"`
	Stands bool      `json:"stands,omitempty"` // as long as the change does, whatever audits see
}

// Comebacks are what changes that still stand want somebody to come back to, but for what an audit has looked at since: one on that day or later has seen whether it holds.
func Comebacks(records []LogLine, audited time.Time) (all []facts.FollowUp) {
	locked := !Locked(records).IsZero()
	for _, r := range records {
		if r.Event != Done || r.Again == nil || r.Again.Stands && !locked || !r.Again.Stands && !audited.IsZero() && facts.DayOf(audited) >= r.Again.On {
			continue
		}
		f := facts.StatedFollowUp(r.Again.On, r.Again.What, 0)
		f.UID = facts.Fingerprint("follow-up of a run", r.Run+" "+r.Again.What)
		if !slices.ContainsFunc(all, func(o facts.FollowUp) bool { return o.UID == f.UID }) { // of a run once
			all = append(all, f)
		}
	}
	return all
}
