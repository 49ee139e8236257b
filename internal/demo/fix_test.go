package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
	"weltaxis/internal/source/settings"
)

// A mending is a site with all that fixing it needs.
type mending struct {
	t       *testing.T
	p       *placed
	site    *site.Site
	state   string
	options audit.Options
}

// mend prepares a placed site; served ones are looked at from outside as well.
func mend(t *testing.T, p *placed, isServed bool) *mending {
	t.Helper()
	s, err := site.Load(filepath.Join(p.dir, p.folder))
	require.NoError(t, err)
	m := &mending{t: t, p: p, site: s, state: t.TempDir(), options: audit.Options{Tool: "test"}}
	if !isServed {
		s.Sources.Live = nil
		return m
	}
	server, err := serve(p.dir, []*installation{p.installation}, 0)
	require.NoError(t, err)
	t.Cleanup(server.Close)
	m.options.Connect = server.Connect(p.folder)
	return m
}

func (m *mending) audit() *audit.Result {
	m.t.Helper()
	r, err := audit.Run(m.t.Context(), m.site, time.Now(), m.options)
	require.NoError(m.t, err)
	require.Empty(m.t, r.Snapshot.Faults())
	isJudgedTheSameAgain(m.t, r)
	return r
}

// homeAddress is where the home page was found.
func homeAddress(r *audit.Result) string {
	reading, _ := r.Snapshot.Effective(facts.HomeStatus.Name)
	return reading.Origin.URL
}

func (m *mending) plan(r *audit.Result, values map[string]string) *fix.Plan {
	m.t.Helper()
	wishes, err := fix.WishesFor(m.site, r, m.options, values)
	require.NoError(m.t, err)
	wishes.Dialect, wishes.Pages = m.p.dialect, true
	plan, err := fix.New(m.t.Context(), wishes)
	require.NoError(m.t, err)
	return plan
}

func (m *mending) env() fix.Env {
	m.t.Helper()
	journal, err := fix.OpenJournal(m.state, time.Now)
	require.NoError(m.t, err)
	m.t.Cleanup(journal.Close)
	env, err := fix.For(m.site, nil, m.options, journal)
	require.NoError(m.t, err)
	return env
}

// write makes what may be made up to a risk, and gives what came of it.
func (m *mending) write(plan *fix.Plan, before fix.Seen, risks ...facts.Risk) *fix.Report {
	m.t.Helper()
	env := m.env()
	defer env.Journal.Close()
	changes := slices.DeleteFunc(slices.Clone(plan.Changes), func(c fix.Change) bool { return !c.Makeable() || !slices.Contains(risks, c.Risk) })
	report, err := fix.Write(m.t.Context(), changes, before, env)
	require.NoError(m.t, err)
	return report
}

func (m *mending) undoAll() []fix.Undoing {
	m.t.Helper()
	env := m.env()
	defer env.Journal.Close()
	env.Recheck = nil
	records, err := fix.ReadJournal(m.state)
	require.NoError(m.t, err)
	return fix.Undo(m.t.Context(), fix.Chosen(records, fix.Choice{Since: time.Unix(1, 0)}), env).Changes
}

// withoutCache leaves out what the stand-in keeps by itself.
func withoutCache(sums map[string]string) map[string]string {
	for path := range sums {
		for _, system := range systems {
			if strings.Contains(path, "/"+system.lore().Cache+"/") {
				delete(sums, path)
			}
		}
	}
	return sums
}

var values = map[string]map[string]string{
	"lantern-lane": {"mail.admin": "office@lanternlane.example", "mail.sender_address": "post@lanternlane.example", "front.page": "welcome",
		"meta.description":    "Hand-made puppet shows for families in a converted lamp works: matinees every weekend, workshops in the holidays.",
		"maintenance.message": "Lantern Lane is changing the scenery and will be back within the hour. Questions: post@lanternlane.example",
		"site.tagline":        "Puppet shows for small people and their grown-ups"},
	"saltmarsh": {"site.tagline": "Borrow a seed, bring back two"},
	"copperbeck": {"meta.description": "Maps, ropes, windlasses and mugs from the keepers of the Copperbeck canal. Whatever you buy here goes into a lock gate.",
		"maintenance.message": "Copperbeck Canal Trust is draining the shop and will be back within the hour. Questions: post@copperbeck.example", "maintenance.contact": "post@copperbeck.example"},
}

// TestFixingBringsASiteToRights: after two runs nothing above note deviates but what only a person does; and undo
// brings every byte, mode and row back.
func TestFixingBringsASiteToRights(t *testing.T) {
	t.Parallel()
	test := func(t *testing.T, p *placed) {
		m := mend(t, p, true)
		before := withoutCache(p.sums(t))
		said := values[p.folder]
		for round, risks := range [][]facts.Risk{{facts.Safe, facts.Visible}, {facts.Safe, facts.Visible}, {facts.Safe, facts.Visible, facts.Disruptive}, {facts.Safe, facts.Visible, facts.Disruptive}} {
			r := m.audit()
			report := m.write(m.plan(r, said), fix.SeenIn(r), risks...)
			for _, o := range report.Outcomes {
				assert.Contains(t, []string{fix.Took, fix.Stale, fix.Unread}, o.Result, "round %d, %s: %s", round, o.Name, o.Says)
			}
			if round == 1 {
				for _, d := range m.audit().Deviations {
					assert.True(t, d.Severity == facts.Note || d.Fix.Risk == facts.Disruptive || d.Fix.Kind == facts.KindSteps || d.Fix.Kind == facts.KindServer || d.Rule == "visibility.index-live" || len(d.Fix.Changes) == 0, "%s is left", d.Rule)
				}
			}
		}
		for _, d := range m.audit().Deviations {
			assert.True(t, d.Severity == facts.Note || len(d.Fix.Changes) == 0, "%s is left: %s", d.Rule, d.Says)
		}
		assert.NotEqual(t, before, withoutCache(p.sums(t)))
		for _, u := range m.undoAll() {
			assert.True(t, u.Back, "%s: %s", u.Name, u.Says)
		}
		assert.Equal(t, before, withoutCache(p.sums(t)))
		assert.Empty(t, m.undoAll(), "what is taken back is not taken back again")
	}
	makers := map[string]func() *installation{"brindle": lanternLane, "ostler": saltmarsh, "hobnail": copperbeck}
	for spoken, in := range makers {
		t.Run(spoken, func(t *testing.T) { test(t, place(t, in(), spoken)) })
	}
	t.Run("on servers", func(t *testing.T) {
		for i, server := range servertest.Databases(t) {
			for j, spoken := range []string{"brindle", "hobnail"} {
				if i%2 != j && os.Getenv("WELTAXIS_SOAK") == "" {
					continue // each system on one of them; which server keeps it TestEveryStore tries for both
				}
				t.Run(spoken+" on "+server.Driver, func(t *testing.T) { test(t, onServer(t, server, makers[spoken](), spoken)) })
			}
		}
	})
}

// TestWhatBreaksTheSiteIsTakenBack: the theme of this site cannot be minified, and nobody knew.
func TestWhatBreaksTheSiteIsTakenBack(t *testing.T) {
	in := lanternLaneAligned()
	in.set("minify", "no", "theme_breaks_minified", "yes")
	m := mend(t, place(t, in, "brindle"), true)
	before, r := withoutCache(m.p.sums(t)), m.audit()
	plan := m.plan(r, map[string]string{"delivery.minify": "yes", "site.tagline": "Another line"})
	env := m.env()
	env.Home = homeAddress(r)
	report, err := fix.Write(t.Context(), plan.Changes, fix.SeenIn(r), env)
	require.NoError(t, err)
	env.Journal.Close()
	results := map[string]string{}
	for _, o := range report.Outcomes {
		results[o.Name] = o.Result
	}
	assert.Equal(t, map[string]string{"site.tagline": fix.Took, "delivery.minify": fix.Broke, "foyer/lamplit/": fix.Took}, results)
	m.undoAll()
	assert.Equal(t, before, withoutCache(m.p.sums(t)))
}

// TestALineIsAddedToAFile and taken out again; a file that is not there comes to be, unless the system makes one.
func TestALineIsAddedToAFile(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"there":            {"User-agent: *\nDisallow: /private/", "User-agent: *\nDisallow: /private/\nSitemap: https://www.lanternlane.example/sitemap.xml\n"},
		"not there":        {"", "User-agent: *\nDisallow:\nSitemap: https://www.lanternlane.example/sitemap.xml\n"},
		"made by a system": {"", ""},
	} {
		t.Run(name, func(t *testing.T) {
			in := lanternLaneAligned()
			in.set("robots_sitemap", "no")
			if name == "not there" {
				in.set("robots_status", "404")
			}
			if c.text != "" {
				in.files["foyer/robots.txt"] = file{c.text, 0o644}
			}
			m := mend(t, place(t, in, "brindle"), true)
			before, r := withoutCache(m.p.sums(t)), m.audit()
			require.Equal(t, []string{"visibility.sitemap-listed"}, deviating(r))
			w := fix.Wishes{Deviations: r.Deviations, Dialect: m.p.dialect, Stores: m.p.options}
			if robots, _ := r.Snapshot.Effective("live.robots.status"); robots.Value.Number() == 200 {
				w.Made = []string{"robots.txt"}
			}
			plan, err := fix.New(t.Context(), w)
			require.NoError(t, err)
			require.Len(t, plan.Changes, 1)
			if c.want == "" {
				assert.Contains(t, plan.Changes[0].Cannot, "the content system makes it")
				return
			}
			assert.Equal(t, fix.Took, m.write(plan, fix.SeenIn(r), facts.Safe).Outcomes[0].Result)
			text, err := os.ReadFile(filepath.Join(m.p.root, "foyer", "robots.txt"))
			require.NoError(t, err)
			assert.Equal(t, c.want, string(text))
			assert.True(t, m.undoAll()[0].Back)
			assert.Equal(t, before, withoutCache(m.p.sums(t)))
		})
	}
}

// TestACacheIsEmptiedByCallingIt where the dialect names an address for it.
func TestACacheIsEmptiedByCallingIt(t *testing.T) {
	p := place(t, lanternLaneAligned(), "brindle")
	p.dialect.Caches = []dialect.Kept{{Purge: "/cache/empty"}}
	m := mend(t, p, true)
	m.audit() // fills the cache
	plan := m.plan(m.audit(), map[string]string{"site.tagline": "Another line"})
	env := m.env()
	called := 0
	env.Call = func(ctx context.Context, path string) error {
		called++
		return fix.Call(ctx, m.site, path, m.options)
	}
	report, err := fix.Write(t.Context(), plan.Changes, fix.Seen{}, env)
	require.NoError(t, err)
	require.Len(t, report.Outcomes, 2)
	assert.Equal(t, fix.Took, report.Outcomes[1].Result, report.Outcomes[1].Says)
	assert.Equal(t, 1, called)
	env.Journal.Close()
}

// TestAnOldPageIsPutRightByEmptyingTheCache, which is made for its own sake then, and not only after something else.
func TestAnOldPageIsPutRightByEmptyingTheCache(t *testing.T) {
	p := place(t, lanternLaneAligned(), "brindle")
	m := mend(t, p, true)
	m.audit() // fills the cache
	kept, err := filepath.Glob(filepath.Join(p.root, filepath.FromSlash(p.system.lore().Cache), "*.html"))
	require.NoError(t, err)
	require.NotEmpty(t, kept)
	for _, name := range kept {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, []byte(strings.Replace(string(text), "</body>", "<p>words of last year that nobody wants to read</p></body>", 1)), 0o644))
	}
	r := m.audit()
	require.Contains(t, deviating(r), "caching.fresh")
	plan := m.plan(r, nil)
	require.Empty(t, plan.Named([]string{"caching.fresh"}))
	chosen, rest, err := plan.Gate(fix.Consent{Upto: facts.Visible, Names: []string{"caching.fresh"}})
	require.NoError(t, err)
	require.Len(t, chosen, 1)
	assert.Empty(t, rest)
	report := m.write(&fix.Plan{Changes: chosen}, fix.SeenIn(r), facts.Visible)
	assert.Equal(t, fix.Took, report.Outcomes[0].Result, report.Outcomes[0].Says)
	assert.NotContains(t, deviating(m.audit()), "caching.fresh")
	assert.True(t, m.undoAll()[0].Back)
}

// long is a run of many changes: every setting that can be written takes another value.
func (m *mending) long() []fix.Change {
	m.t.Helper()
	said := map[string]string{}
	options := m.options
	options.Only = []string{"permissions"}
	r, err := audit.Run(m.t.Context(), m.site, time.Now(), options)
	require.NoError(m.t, err)
	for _, name := range m.p.dialect.Names() {
		setting := m.p.dialect.Settings[name]
		now, known := r.Snapshot.Effective("settings." + name)
		if known && setting.Query == "" && setting.Type != facts.Secret && setting.Type != facts.List {
			said[name] = another(setting, now.Value).String()
		}
	}
	return slices.DeleteFunc(m.plan(r, said).Changes, func(c fix.Change) bool { return !c.Makeable() })
}

const killedAt = "WELTAXIS_TEST_KILLED_AT"

// TestAKilledRun is what the next test starts and kills: it kills itself at the point it is told.
func TestAKilledRun(t *testing.T) {
	at, err := strconv.Atoi(os.Getenv(killedAt))
	if err != nil {
		t.Skip("only for the test that kills it")
	}
	m := killed(t, os.Getenv("WELTAXIS_TEST_DIR"), os.Getenv("WELTAXIS_TEST_SYSTEM"))
	m.dying(at, func(env fix.Env) {
		_, err = fix.Write(t.Context(), m.long(), fix.Seen{}, env)
		require.NoError(t, err)
	})
}

// dying does something that ends by SIGKILL at a point, and otherwise writes down how many points there were.
func (m *mending) dying(at int, do func(fix.Env)) {
	m.t.Helper()
	env, points := m.env(), 0
	defer env.Journal.Close()
	env.Recheck = nil
	env.Step = func(string) {
		if points++; points == at {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			time.Sleep(time.Minute)
		}
	}
	env.Stores.Step = env.Step
	do(env)
	require.NoError(m.t, os.WriteFile(filepath.Join(m.state, "points"), []byte(strconv.Itoa(points)), 0o600))
}

// points is how many points a run had that was not killed.
func (m *mending) points() int {
	m.t.Helper()
	count, err := os.ReadFile(filepath.Join(m.state, "points"))
	require.NoError(m.t, err)
	all, err := strconv.Atoi(string(count))
	require.NoError(m.t, err)
	return all
}

// runKilled runs a test of this program in a process of its own, which may kill itself.
func runKilled(t *testing.T, test, at string, dir, spoken string) {
	t.Helper()
	command := exec.Command(os.Args[0], "-test.run=^"+test+"$")
	command.Env = append(os.Environ(), at, "WELTAXIS_TEST_DIR="+dir, "WELTAXIS_TEST_SYSTEM="+spoken, "TMPDIR="+t.TempDir()) // a killed one clears nothing away
	if out, err := command.CombinedOutput(); err != nil && !strings.Contains(err.Error(), "killed") {
		t.Errorf("%v: %s", err, out)
	}
}

const undoKilledAt = "WELTAXIS_TEST_UNDO_KILLED_AT"

// TestAKilledUndo is what the next but one starts: a whole run, and an undo that kills itself at the point it is told.
func TestAKilledUndo(t *testing.T) {
	at, err := strconv.Atoi(os.Getenv(undoKilledAt))
	if err != nil {
		t.Skip("only for the test that kills it")
	}
	m := killed(t, os.Getenv("WELTAXIS_TEST_DIR"), os.Getenv("WELTAXIS_TEST_SYSTEM"))
	m.write(&fix.Plan{Changes: m.long()}, fix.Seen{}, facts.Safe, facts.Visible, facts.Disruptive)
	records, err := fix.ReadJournal(m.state)
	require.NoError(t, err)
	m.dying(at, func(env fix.Env) { fix.Undo(t.Context(), fix.Chosen(records, fix.Choice{}), env) })
}

// TestUndoKilledAtAnyPoint: whatever is left of a killed undo, another one brings the start back.
func TestUndoKilledAtAnyPoint(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes a while")
	}
	for spoken, points := range map[string]int{"brindle": 12, "ostler": 12, "hobnail": 12} {
		t.Run(spoken, func(t *testing.T) {
			t.Parallel()
			if os.Getenv("WELTAXIS_SOAK") != "" {
				points *= 5
			}
			all := 0
			for n := range points + 1 {
				dir := inMemory(t)
				m := killed(t, dir, spoken)
				m.fillCache()
				before, at := m.p.sums(t), 0
				if n > 0 {
					at = 1 + (n-1)*all/points
				}
				runKilled(t, "TestAKilledUndo", undoKilledAt+"="+strconv.Itoa(at), dir, spoken)
				if n == 0 { // the whole of it, to count the points
					all = m.points()
					require.Greater(t, all, 50)
				}
				for _, u := range m.undoAll() {
					assert.True(t, u.Back, "killed at %d, %s: %s", at, u.Name, u.Says)
				}
				require.Equal(t, before, m.p.sums(t), "killed at %d", at)
			}
		})
	}
}

// killed is a site that another process may be changing.
func killed(t *testing.T, dir, spoken string) *mending {
	t.Helper()
	in := map[string]func() *installation{"brindle": lanternLane, "ostler": hollin, "hobnail": copperbeck}[spoken]()
	p := placeThere(t, in, spoken, dir)
	m := mend(t, p, false)
	m.state = filepath.Join(dir, "state")
	return m
}

// TestKilledAtAnyPoint: at two hundred points of runs over whole sites, a thousand in a soak, with several edits of one file,
// rows, permissions and an emptied cache, each value is the old or the new one, the
// journal tells which, and undo brings the start back.
func TestKilledAtAnyPoint(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes a while")
	}
	run := func(dir, spoken string, at int) {
		runKilled(t, "TestAKilledRun", killedAt+"="+strconv.Itoa(at), dir, spoken)
	}
	for spoken, points := range map[string]int{"brindle": 90, "ostler": 55, "hobnail": 55} {
		t.Run(spoken, func(t *testing.T) {
			t.Parallel()
			if os.Getenv("WELTAXIS_SOAK") != "" {
				points *= 5
			}
			whole := t.TempDir()
			run(whole, spoken, 0)
			all := (&mending{t: t, state: filepath.Join(whole, "state")}).points()
			require.Greater(t, all, 250, "points of the whole run")
			changes := killed(t, t.TempDir(), spoken).long() // the same in every copy
			for n := range points {
				at := 1 + n*all/points
				dir := inMemory(t)
				m := killed(t, dir, spoken)
				m.fillCache()
				before := m.p.sums(t)
				run(dir, spoken, at)
				m.oldOrNew(changes, at)
				for _, u := range m.undoAll() {
					assert.True(t, u.Back, "killed at %d, %s: %s", at, u.Name, u.Says)
				}
				require.Equal(t, before, m.p.sums(t), "killed at %d", at)
			}
		})
	}
}

// fillCache keeps a few pages, so that the emptying of the cache has points of its own.
func (m *mending) fillCache() {
	m.t.Helper()
	for i := range 8 {
		require.NoError(m.t, os.WriteFile(filepath.Join(m.p.root, filepath.FromSlash(m.p.system.lore().Cache), fmt.Sprintf("%d.html", i)), []byte("kept"), 0o644))
	}
}

// inMemory is a temporary folder that costs nothing to flush, where there is one.
func inMemory(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/dev/shm", "weltaxis-test-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// oldOrNew holds that every setting has the old or the new value, and the journal the right one.
func (m *mending) oldOrNew(changes []fix.Change, at int) {
	m.t.Helper()
	records, err := fix.ReadJournal(m.state)
	require.NoError(m.t, err)
	event := map[string]string{}
	for _, r := range records {
		event[r.Name] = r.Event
	}
	s := m.p.open(m.t)
	defer s.Close()
	for _, c := range changes {
		if c.Kind != fix.Setting {
			continue
		}
		all, err := settings.Readings(m.t.Context(), s, m.p.dialect.Settings[c.Name])
		require.NoError(m.t, err, "killed at %d: %s", at, c.Name)
		now := all[0]
		switch event[c.Name] {
		case fix.Done:
			assert.Equal(m.t, c.To, now.Value, "killed at %d: %s is journalled as done", at, c.Name)
		case fix.Begun:
			if len(c.Edits) == 1 {
				assert.True(m.t, now.Value.Equal(c.From) || now.Value.Equal(c.To), "killed at %d: %s is %s", at, c.Name, now.Value)
			}
		default:
			assert.Equal(m.t, c.From, now.Value, "killed at %d: %s is not in the journal", at, c.Name)
		}
	}
}

// TestARunWithoutRoom is what the next test starts: from a point on, no file may grow past ten bytes.
func TestARunWithoutRoom(t *testing.T) {
	full := os.Getenv("WELTAXIS_TEST_FULL_AT")
	if full == "" {
		t.Skip("only for the test that starts it")
	}
	m := killed(t, os.Getenv("WELTAXIS_TEST_DIR"), "ostler")
	changes, env := m.long()[:1], m.env()
	env.Recheck = nil
	var was syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_FSIZE, &was))
	env.Step = func(at string) {
		limit := was
		if at == full {
			limit.Cur = 10
		}
		_ = syscall.Setrlimit(syscall.RLIMIT_FSIZE, &limit)
	}
	report, err := fix.Write(t.Context(), changes, fix.Seen{}, env)
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &was))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(m.state, "outcome"), []byte(report.Outcomes[0].Result+": "+report.Outcomes[0].Says), 0o600))
}

func TestWhatGoesWrongOnTheWay(t *testing.T) {
	one := func(m *mending) []fix.Change {
		return slices.DeleteFunc(m.plan(m.audit(), map[string]string{"site.title": "Another"}).Changes, func(c fix.Change) bool { return c.Name != "site.title" })
	}
	t.Run("two runs at once", func(t *testing.T) {
		m := mend(t, place(t, hollin(), "ostler"), false)
		m.env()
		_, err := fix.OpenJournal(m.state, time.Now)
		assert.ErrorIs(t, err, fix.ErrBusy)
	})
	for point, says := range map[string]string{"before the journal": "nothing was changed", "before the write": "too large"} {
		t.Run("no room "+point, func(t *testing.T) {
			dir := t.TempDir()
			m := killed(t, dir, "ostler")
			before := m.p.sums(t)
			command := exec.Command(os.Args[0], "-test.run=^TestARunWithoutRoom$")
			command.Env = append(os.Environ(), "WELTAXIS_TEST_FULL_AT="+point, "WELTAXIS_TEST_DIR="+dir)
			out, err := command.CombinedOutput()
			require.NoError(t, err, "%s", out)
			said, err := os.ReadFile(filepath.Join(dir, "state", "outcome"))
			require.NoError(t, err)
			assert.Contains(t, string(said), fix.Trouble)
			assert.Contains(t, string(said), says)
			assert.Equal(t, before, m.p.sums(t), "every file is whole")
			for _, u := range m.undoAll() {
				assert.True(t, u.Back)
			}
			assert.Equal(t, before, m.p.sums(t))
		})
	}
	t.Run("a folder that may not be written to", func(t *testing.T) {
		if os.Geteuid() == 0 {
			t.Skip("root may write everywhere")
		}
		m := mend(t, place(t, hollin(), "ostler"), false)
		folder := filepath.Join(m.p.root, "drawers")
		require.NoError(t, os.Chmod(folder, 0o555))
		defer os.Chmod(folder, 0o755)
		report := m.write(&fix.Plan{Changes: one(m)}, fix.Seen{}, facts.Visible)
		assert.Equal(t, fix.Trouble, report.Outcomes[0].Result)
		assert.Contains(t, report.Outcomes[0].Says, "refused")
	})
	t.Run("the database goes away", func(t *testing.T) {
		m := mend(t, place(t, lanternLane(), "brindle"), false)
		changes, env := one(m), m.env()
		file := filepath.Join(m.p.root, "understage", "prompt.db")
		env.Step = func(point string) {
			if point == "before the write" {
				require.NoError(t, os.Rename(file, file+".gone"))
			}
		}
		report, err := fix.Write(t.Context(), changes, fix.Seen{}, env)
		require.NoError(t, err)
		assert.Equal(t, fix.Trouble, report.Outcomes[0].Result)
		assert.Equal(t, "it does not exist", report.Outcomes[0].Says)
		require.NoError(t, os.Rename(file+".gone", file))
		records, err := fix.ReadJournal(m.state)
		require.NoError(t, err)
		assert.Equal(t, fix.Failed, records[0].Event)
	})
	t.Run("somebody else is quicker", func(t *testing.T) {
		m := mend(t, place(t, hollin(), "ostler"), false)
		changes := one(m)
		file := filepath.Join(m.p.root, "drawers", "label.yaml")
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), "Hollin Beekeepers", "Theirs", 1)), 0o644))
		report := m.write(&fix.Plan{Changes: changes}, fix.Seen{}, facts.Visible)
		assert.Equal(t, fix.Left, report.Outcomes[0].Result)
		assert.Contains(t, report.Outcomes[0].Says, "Theirs")
	})
	t.Run("somebody changes the rest of the file before undo", func(t *testing.T) {
		m := mend(t, place(t, hollin(), "ostler"), false)
		m.write(&fix.Plan{Changes: one(m)}, fix.Seen{}, facts.Visible)
		file := filepath.Join(m.p.root, "drawers", "label.yaml")
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append(data, "more: theirs\n"...), 0o644))
		require.True(t, m.undoAll()[0].Back)
		data, err = os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(data), "title: Hollin Beekeepers\n")
		assert.Contains(t, string(data), "more: theirs\n")
	})
	t.Run("somebody changes the value before undo", func(t *testing.T) {
		m := mend(t, place(t, copperbeck(), "hobnail"), false)
		m.write(&fix.Plan{Changes: one(m)}, fix.Seen{}, facts.Visible)
		s := m.p.open(t)
		edits, err := s.PlanSetting(t.Context(), m.p.dialect.Settings["site.title"], facts.TextOf(facts.String, "Theirs"))
		require.NoError(t, err)
		require.NoError(t, s.Apply(t.Context(), edits[0]))
		undone := m.undoAll()
		assert.False(t, undone[0].Back)
		assert.Contains(t, undone[0].Says, "somebody has changed it since")
	})
	t.Run("the site breaks", func(t *testing.T) {
		m := mend(t, place(t, hollin(), "ostler"), false)
		before, env := m.p.sums(t), m.env()
		env.Home = "https://www.hollinbees.example/"
		asked := 0
		env.Ask = func(_ context.Context, addresses []string) map[string]int {
			if asked++; asked > 1 {
				return map[string]int{env.Home: 200}
			}
			return map[string]int{env.Home: 500}
		}
		report, err := fix.Write(t.Context(), one(m), fix.Seen{Answers: map[string]int{env.Home: 200}}, env)
		require.NoError(t, err)
		assert.Equal(t, fix.Broke, report.Outcomes[0].Result)
		assert.Contains(t, report.Outcomes[0].Says, "answered 500")
		assert.Equal(t, before, m.p.sums(t), "it was taken back at once")
		env.Journal.Close()
		assert.Empty(t, m.undoAll())
	})
	t.Run("nobody can look again", func(t *testing.T) {
		m := mend(t, place(t, hollin(), "ostler"), false)
		changes, env := one(m), m.env()
		env.Recheck = func(context.Context) (fix.Seen, error) { return fix.Seen{}, errors.New("gone") }
		report, err := fix.Write(t.Context(), changes, fix.Seen{}, env)
		require.NoError(t, err)
		assert.Equal(t, fix.Unseen, report.Outcomes[0].Result, "not looked at is not the same as fine")
		assert.Contains(t, report.Outcomes[0].Says, "gone")
	})
	t.Run("it is interrupted", func(t *testing.T) {
		m := mend(t, place(t, hollin(), "ostler"), false)
		changes, env := one(m), m.env()
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		report, err := fix.Write(ctx, changes, fix.Seen{}, env)
		require.NoError(t, err)
		assert.Equal(t, fix.Waits, report.Outcomes[0].Result)
	})
}

// TestModesAreChangedInsideTheRootOnly while somebody swaps a folder for a link to elsewhere, over and over.
func TestModesAreChangedInsideTheRootOnly(t *testing.T) {
	m := mend(t, place(t, lanternLane(), "brindle"), false)
	outside := t.TempDir()
	for i := range 40 {
		require.NoError(t, os.WriteFile(filepath.Join(outside, fmt.Sprintf("f%d.txt", i)), nil, 0o666))
		require.NoError(t, os.Chmod(filepath.Join(outside, fmt.Sprintf("f%d.txt", i)), 0o666))
	}
	inside := filepath.Join(m.p.root, "foyer", "posters", "swapped")
	require.NoError(t, os.CopyFS(inside, os.DirFS(outside)))
	open := func() {
		for i := range 40 {
			_ = os.Chmod(filepath.Join(inside, fmt.Sprintf("f%d.txt", i)), 0o666)
		}
	}
	stop, swaps := make(chan struct{}), 0
	var swapping sync.WaitGroup
	swapping.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
			}
			if os.Rename(inside, inside+".aside") == nil && os.Symlink(outside, inside) == nil {
				swaps++
			}
			_ = os.Remove(inside)
			_ = os.Rename(inside+".aside", inside)
		}
	})
	changed := 0
	for end := time.Now().Add(1500 * time.Millisecond); time.Now().Before(end); {
		if stat, err := os.Lstat(inside); err == nil && stat.IsDir() {
			open()
		}
		for i := range 40 { // what open did to the wrong folder meanwhile is not what is tested
			require.NoError(t, os.Chmod(filepath.Join(outside, fmt.Sprintf("f%d.txt", i)), 0o666))
		}
		r, err := audit.Run(t.Context(), m.site, time.Now(), m.options)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		require.NoError(t, err)
		env := m.env()
		env.Recheck = nil
		plan, err := fix.New(t.Context(), fix.Wishes{Deviations: r.Deviations, Dialect: m.p.dialect, Stores: m.p.options, FilesRoot: m.p.root})
		if err == nil {
			report, err := fix.Write(t.Context(), slices.DeleteFunc(plan.Changes, func(c fix.Change) bool { return c.Kind != fix.Modes || !c.Makeable() }), fix.Seen{}, env)
			require.NoError(t, err)
			changed += len(report.Outcomes)
		}
		env.Journal.Close()
		for i := range 40 {
			stat, err := os.Stat(filepath.Join(outside, fmt.Sprintf("f%d.txt", i)))
			require.NoError(t, err)
			require.Equal(t, os.FileMode(0o666), stat.Mode(), "nothing outside changes")
		}
	}
	close(stop)
	swapping.Wait()
	assert.Greater(t, swaps, 100)
	assert.Positive(t, changed)
}
