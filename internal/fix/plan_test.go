package fix

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/store"
)

const pebble = `dialect: pebble
version: 1
stores:
  ini: {file: pebble.ini, format: ini}
settings:
  site.title: {from: ini/title}
  site.address: {from: ini/address}
  debug.on: {from: ini/debug}
  session.idle: {from: ini/idle, unit: minutes}
  front.shows: {from: ini/front, words: {posts: posts, page: page}}
  front.page: {from: ini/front_page, default: ""}
  delivery.minify: {from: ini/minify}
  sitemap.offered: {from: ini/map}
  permalink.pattern: {from: ini/shape, placeholders: {":name": "{name}", ":id": "{id}"}}
  security.secret: {from: ini/secret}
  feed.items: {query: SELECT 1}
  maintenance.on: {from: ini/dark, default: "no"}
  lock.on: {from: ini/locked, default: "no"}
  login.path: {from: ini/door, default: /front/}
databases: {main: {sqlite: none.db}}
lists:
  pages: {from: ini/page, columns: {path: key, title: title}}
`

const pebbleINI = "title = Old\naddress = http://old.example\ndebug = on\nidle = 480\nfront = posts\nminify = off\nmap = off\nshape = /{id}\nsecret = MARKED-secret-here\n"

func pebbleSite(t *testing.T) (*dialect.Dialect, store.Options) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pebble.yaml"), []byte(pebble), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pebble.ini"), []byte(pebbleINI), 0o644))
	d, err := dialect.Load("./pebble.yaml", dir)
	require.NoError(t, err)
	return d, store.Options{Root: dir}
}

// set is a deviation whose fix sets a setting; an empty value is one that a person must say.
func set(rule string, risk facts.Risk, pairs ...string) facts.Deviation {
	d := facts.Deviation{Rule: rule, Severity: facts.High, Subject: "site", Fix: facts.Proposal{Kind: facts.KindSet, Risk: risk}}
	for i := 0; i < len(pairs); i += 2 {
		entry, _ := facts.Lookup("settings." + pairs[i])
		c := facts.Target{Name: pairs[i], Hint: "say it"}
		if pairs[i+1] != "" {
			c.To, _ = entry.Type.Parse(pairs[i+1])
		}
		d.Fix.Changes = append(d.Fix.Changes, c)
	}
	return d
}

func plan(t *testing.T, values map[string]string, deviations ...facts.Deviation) *Plan {
	t.Helper()
	d, options := pebbleSite(t)
	p, err := New(t.Context(), Wishes{Deviations: deviations, Dialect: d, Stores: options, Values: values})
	require.NoError(t, err)
	return p
}

func names(p *Plan) string {
	var all []string
	for _, c := range p.Changes {
		all = append(all, c.Name)
	}
	return strings.Join(all, " ")
}

func TestTheOrderIsThatOfTheTrade(t *testing.T) {
	p := plan(t, nil, set("identity.address", facts.Disruptive, "site.address", "https://new.example"), set("delivery.minify", facts.Visible, "delivery.minify", "yes"),
		set("visibility.sitemap", facts.Safe, "sitemap.offered", "yes"), set("permalinks.readable", facts.Disruptive, "permalink.pattern", "/{name}/"),
		set("titles.site-own", facts.Visible, "site.title", "New"), set("hardening.debug-off", facts.Safe, "debug.on", "no"))
	assert.Equal(t, "debug.on site.title permalink.pattern delivery.minify site.address sitemap.offered", names(p), "the address last but for what lets search engines in")
	assert.Equal(t, []int{1, 2, 3, 4, 5, 6}, []int{p.Changes[0].ID, p.Changes[1].ID, p.Changes[2].ID, p.Changes[3].ID, p.Changes[4].ID, p.Changes[5].ID})
	assert.Equal(t, "Old", p.Changes[1].From.Text())
	assert.Contains(t, p.Changes[4].Because, "one wrong character")
}

func TestWhatSeveralRulesProposeIsOneChange(t *testing.T) {
	p := plan(t, nil, set("a.one", facts.Safe, "debug.on", "no"), set("a.two", facts.Visible, "debug.on", "no"))
	require.Len(t, p.Changes, 1)
	assert.Equal(t, []string{"a.one", "a.two"}, p.Changes[0].Rules)
	assert.Equal(t, facts.Visible, p.Changes[0].Risk, "the greater risk counts")
}

func TestWhatIsNotMadeAndWhy(t *testing.T) {
	steps := facts.Deviation{Rule: "b.steps", Fix: facts.Proposal{Kind: facts.KindSteps, Risk: facts.Safe, Steps: []string{"do it"}}}
	p := plan(t, nil, set("a.front", facts.Visible, "front.shows", "page", "front.page", ""), set("a.unmapped", facts.Safe, "cache.page", "yes"),
		set("a.query", facts.Safe, "feed.items", "20"), set("a.same", facts.Safe, "site.title", "Old"), steps)
	by := map[string]Change{}
	for _, c := range p.Changes {
		by[c.Name] = c
		assert.False(t, c.Makeable(), c.Name)
	}
	assert.Contains(t, by["front.shows"].Needs, "together with front.page")
	assert.Equal(t, "say it", by["front.page"].Needs)
	assert.Contains(t, by["cache.page"].Cannot, "does not say where it lives")
	assert.Contains(t, by["feed.items"].Cannot, "counted by a query")
	assert.Equal(t, Person, by["b.steps"].Kind)
	assert.NotContains(t, by, "site.title", "it is so already")

	p = plan(t, map[string]string{"front.page": "welcome"}, set("a.front", facts.Visible, "front.shows", "page", "front.page", ""))
	for _, c := range p.Changes {
		assert.True(t, c.Makeable(), "%s: %s %s", c.Name, c.Needs, c.Cannot)
	}
}

func TestValuesThatAPersonSays(t *testing.T) {
	p := plan(t, map[string]string{"session.idle": "30m", "site.address": "https://new.example"})
	assert.Equal(t, "session.idle site.address", names(p))
	assert.Equal(t, facts.Disruptive, p.Changes[1].Risk, "what is dangerous stays so when it is asked for")
	d, options := pebbleSite(t)
	for key, c := range map[string][2]string{"session.idle": {"soon", "is not a duration"}, "no.such": {"x", "there is no setting"}, "security.secret": {"x", "not set from here"},
		"front.shows": {"pages", "is none of posts, page"}, "page.x": {"y", "there is no setting"}} {
		_, err := New(t.Context(), Wishes{Dialect: d, Stores: options, Values: map[string]string{key: c[0]}})
		assert.ErrorContains(t, err, c[1], key)
	}
}

func TestNamedNarrowsThePlan(t *testing.T) {
	all := []facts.Deviation{set("titles.site-own", facts.Visible, "site.title", "New"), set("hardening.debug-off", facts.Safe, "debug.on", "no"), set("hardening.session", facts.Safe, "session.idle", "30m")}
	for named, want := range map[string]string{"titles": "site.title", "hardening.session": "session.idle", "debug.on": "debug.on", "high": "debug.on session.idle site.title"} {
		p := plan(t, nil, all...)
		assert.Empty(t, p.Named([]string{named}))
		got := strings.Fields(names(p))
		slices.Sort(got)
		assert.Equal(t, want, strings.Join(got, " "), named)
	}
	assert.Equal(t, []string{"nothing"}, plan(t, nil, all...).Named([]string{"nothing", "titles"}))
}

func TestLetters(t *testing.T) {
	for mode, want := range map[uint32]string{0o644: "rw-r--r--", 0o755: "rwxr-xr-x", 0o4755: "rwsr-xr-x", 0o2640: "rw-r-S---", 0o1777: "rwxrwxrwt", 0: "---------"} {
		assert.Equal(t, want, Letters(mode))
	}
}

// TestTheScriptDoesWhatThePlanSays, and holds no secret.
func TestTheScriptDoesWhatThePlanSays(t *testing.T) {
	d, options := pebbleSite(t)
	p, err := New(t.Context(), Wishes{Deviations: []facts.Deviation{set("a.b", facts.Safe, "debug.on", "no"), set("a.c", facts.Visible, "site.title", "It's new")}, Dialect: d, Stores: options})
	require.NoError(t, err)
	text, err := p.Script("Pebble\nrm -rf", options.Root, p.Changes, nil)
	require.NoError(t, err)
	assert.NotContains(t, text, "MARKED")
	assert.NotContains(t, text, "\nrm -rf")
	script := filepath.Join(t.TempDir(), "s.sh")
	require.NoError(t, os.WriteFile(script, []byte(text), 0o600))
	if _, err := exec.LookPath("patch"); err != nil {
		t.Skip("patch is not installed")
	}
	run := func(argument string) string {
		out, err := exec.Command("sh", script, argument).CombinedOutput()
		require.NoError(t, err, "%s", out)
		data, err := os.ReadFile(filepath.Join(options.Root, "pebble.ini"))
		require.NoError(t, err)
		return string(data)
	}
	// Both are planned from the file as it is, so that each stands by itself.
	changed := run("apply")
	assert.Contains(t, changed, "debug = off\n")
	assert.Contains(t, changed, "It's new")
	assert.Equal(t, pebbleINI, run("undo"))
}

func TestDiffsHoldNoSecret(t *testing.T) {
	d, options := pebbleSite(t)
	one := strings.Replace(pebbleINI, "\nsecret", " ; MARKED-secret-here\nsecret", 1)
	require.NoError(t, os.WriteFile(filepath.Join(options.Root, "pebble.ini"), []byte(one), 0o644))
	p, err := New(t.Context(), Wishes{Deviations: []facts.Deviation{set("a.b", facts.Disruptive, "permalink.pattern", "/{name}/")}, Dialect: d, Stores: options})
	require.NoError(t, err)
	diffs := p.Show(p.Changes[0]).Diffs
	require.Len(t, diffs, 1)
	assert.Contains(t, diffs[0], "+shape = ")
	assert.NotContains(t, diffs[0], "MARKED", "the line beside it holds the secret")
	script, err := p.Script("x", options.Root, p.Changes, nil)
	require.NoError(t, err)
	assert.NotContains(t, script, "MARKED")
}
