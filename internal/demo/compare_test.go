package demo

import (
	"encoding/json"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/compare"
	"weltaxis/internal/facts"
	"weltaxis/internal/report"
)

// lookOf is a result as something to compare. When the files were written says nothing here, since each site is written anew.
func lookOf(t *testing.T, r *audit.Result) compare.Look {
	t.Helper()
	raw, err := json.Marshal(report.New(r))
	require.NoError(t, err)
	verdicts, err := compare.ReadResult(raw)
	require.NoError(t, err)
	snapshot := *r.Snapshot
	snapshot.Programs = slices.Clone(snapshot.Programs)
	for i := range snapshot.Programs {
		snapshot.Programs[i].Changed, snapshot.Programs[i].Touched = 1_700_000_000, 1_700_000_000
	}
	snapshot.Readings = slices.DeleteFunc(slices.Clone(snapshot.Readings), func(r facts.Reading) bool {
		return r.FullName() == facts.ServerRoot.Name || r.FullName() == facts.LiveCertificateUntil.Name || r.FullName() == facts.LiveCertificateSince.Name // where and when the test runs
	})
	return compare.Look{Snapshot: &snapshot, Verdicts: verdicts}
}

// again is the same look, written down and read again, so that it can be changed.
func again(t *testing.T, l compare.Look) compare.Look {
	t.Helper()
	raw, err := json.Marshal(l.Snapshot)
	require.NoError(t, err)
	s := &facts.Snapshot{}
	require.NoError(t, json.Unmarshal(raw, s))
	v := *l.Verdicts
	v.Deviations, v.Held = slices.Clone(v.Deviations), slices.Clone(v.Held)
	return compare.Look{Snapshot: s, Verdicts: &v}
}

var inOrder struct {
	sync.Once
	look compare.Look
}

// orderly is the look at the theatre in order with which others are compared.
func orderly(t *testing.T) compare.Look {
	t.Helper()
	inOrder.Do(func() { inOrder.look = lookOf(t, auditOf(t, lanternLaneAligned())) })
	return inOrder.look
}

// said are the sentences on what changed, and those on what is another for another reason.
func said(c *report.Compared) (changes, others []string) {
	for _, g := range c.Words.Groups {
		for _, l := range g.Lines {
			changes = append(changes, g.Title+": "+l.Says)
		}
	}
	return changes, append(slices.Clone(c.Words.Aside), c.Words.Unseen...)
}

// onceChanged are sites that differ from the theatre in order in one thing, and what is said of it.
var onceChanged = []struct {
	do   func(*installation)
	says string
}{
	{func(b *installation) { b.set("site_title", "Lantern Lane Players") }, "settings: site.title changed from “Lantern Lane” to “Lantern Lane Players”"},
	{func(b *installation) { b.set("tagline", "Wood, string and light") }, "settings: site.tagline changed from “Puppet shows for small people and their grown-ups” to “Wood, string and light”"},
	{onPage("about", func(p *page) { p.Title = "About our theatre" }).do, "settings: title of about changed from “About the theatre” to “About our theatre”"},
	{set("verify", "LL-OTHER-DEMO").do, "settings: meta.verification changed: new in it is “LL-OTHER-DEMO”, and not any more “LL-7Q2M-DEMO”"},
	{set("zone", "Europe/Paris").do, "settings: site.time_zone changed from “Europe/London” to “Europe/Paris”"},
	{set("admin_mail", "else@lanternlane.example").do, "settings: mail.admin changed from “office@lanternlane.example” to “else@lanternlane.example”"},
	{func(b *installation) {
		b.accounts = append(b.accounts, account{Login: "night-owl", Role: "keeper"})
	}, "settings: a new account with the highest role: night-owl"},
	{func(b *installation) { b.accounts[2].Role = "editor" }, "settings: the account maren-os had the author role and has the editor one"},
	{func(b *installation) { b.extensions[0].Version = "2.4.0" }, "settings: version of seating changed from 2.3.1 to 2.4.0"},
	{func(b *installation) {
		b.extensions = append(b.extensions, extension{Name: "bell", Kind: "gallery", Version: "1.0.0", Newest: "1.0.0"})
	}, "settings: a new extension: bell (1.0.0)"},
	{func(b *installation) { b.files["works/loft.php"] = file{"<?php return 1;", 0o640} }, "files: 1 new program file and no version did: works/loft.php"},
	{faults["permissions.config-locked"].do, "files: playhouse.php was 0440 on "},
	{func(b *installation) {
		b.files["foyer/posters/extra.png"] = file{picture(64, 64), 0o644}
	}, "files: 1 more of these: uploads files that are pictures, served; there are 4, and were 3"},
	{faults["hardening.nosniff"].do, "live: sniffing of 16 pages changed: / from “nosniff” to nothing"},
	{faults["runtime.discreet"].do, "runtime: announced changed from no to yes"},
	{faults["delivery.protocol"].do, "live: protocol changed from “HTTP/2.0” to “HTTP/1.1”"},
	{faults["visibility.feed-reply"].do, "settings: feed.reply changed from “post@lanternlane.example” to "},
	{faults["visibility.links-direct"].do, "live: a new link that does not lead straight to a page: "},
	{faults["titles.page-present"].do, "live: title of /tickets/ changed from “Tickets and seats | Lantern Lane” to nothing"},
	{func(b *installation) {
		b.pages = slices.DeleteFunc(b.pages, func(p page) bool { return p.Slug == "new-year-closing" })
	}, "settings: the page new-year-closing is gone (Closed over the new year)"},
}

func TestWhatChangedIsNamedAndNothingElse(t *testing.T) {
	before := orderly(t)
	for _, c := range onceChanged {
		t.Run(c.says, func(t *testing.T) {
			t.Parallel()
			b := lanternLaneAligned()
			c.do(b)
			changes, others := said(report.Compare(compare.Of(before, lookOf(t, auditOf(t, b)))))
			assert.Empty(t, others)
			if assert.Len(t, changes, 1, "%v", changes) {
				assert.Contains(t, changes[0], c.says)
			}
		})
	}
}

func TestTwoLooksAtOneSiteDifferInNothing(t *testing.T) {
	c := compare.Of(orderly(t), lookOf(t, auditOf(t, lanternLaneAligned())))
	assert.True(t, c.Same(), "%+v", c.Changes)
	assert.Empty(t, c.Unseen)
}

// onlyTheTool changes what looks or judges, and never the site.
var onlyTheTool = map[string]struct {
	do   func(t *testing.T, before, after *compare.Look)
	says string
}{
	"another version of the program": {func(_ *testing.T, _, after *compare.Look) { after.Snapshot.Tool, after.Verdicts.Tool = "2", "2" }, "The program is another: it was test, and is 2."},
	"a new rule": {func(_ *testing.T, before, after *compare.Look) {
		v := before.Verdicts
		v.Held = slices.DeleteFunc(v.Held, func(rule string) bool { return rule == "titles.site-own" })
		deviate(after, "titles.site-own", facts.SiteTitle.Term)
		v.Baseline = "0"
	}, "The baseline has a new rule, or one that was not asked for before: titles.site-own."},
	"a stricter rule": {func(_ *testing.T, before, after *compare.Look) {
		deviate(after, "titles.site-own", facts.SiteTitle.Term)
		before.Verdicts.Baseline = "0"
	}, "Judged otherwise by baseline or program, while the site is the same; told now: titles.site-own."},
	"a rule made milder": {func(_ *testing.T, before, after *compare.Look) {
		deviate(before, "titles.site-own", facts.SiteTitle.Term)
		before.Verdicts.Baseline = "0"
	}, "Judged otherwise by baseline or program, while the site is the same; no longer told: titles.site-own."},
	"a rule that is gone": {func(_ *testing.T, before, after *compare.Look) {
		deviate(before, "titles.site-own", facts.SiteTitle.Term)
		after.Verdicts.Held = slices.DeleteFunc(after.Verdicts.Held, func(rule string) bool { return rule == "titles.site-own" })
		before.Verdicts.Baseline = "0"
	}, "The baseline has these rules no more, or they were not asked for: titles.site-own."},
	"a dialect that reads more": {func(_ *testing.T, before, _ *compare.Look) {
		lacking(before.Snapshot, facts.SiteTagline.Name)
		before.Snapshot.Dialect = "brindle 2"
	}, "The dialect brindle 4 reads what brindle 2 did not: settings.site.tagline."},
	"a dialect that reads less": {func(_ *testing.T, _, after *compare.Look) {
		lacking(after.Snapshot, facts.SiteTagline.Name)
		after.Snapshot.Dialect = "brindle 5"
	}, "The dialect brindle 5 does not read what brindle 4 read: settings.site.tagline."},
	"a dialect that reads a list more": {func(_ *testing.T, before, _ *compare.Look) {
		delete(before.Snapshot.Records, facts.ListForms)
		before.Snapshot.Dialect = "brindle 2"
	}, "The dialect brindle 4 reads what brindle 2 did not: forms."},
	"a dialect that knows other roles of files": {func(_ *testing.T, _, after *compare.Look) {
		for i := range after.Snapshot.Classes {
			if c := &after.Snapshot.Classes[i]; c.Role == "code" {
				c.Role = "other"
			}
		}
		after.Snapshot.Dialect = "brindle 5"
	}, "The dialect brindle 5 reads what brindle 4 did not: entries."},
	"an earlier format of snapshots": {func(t *testing.T, before, _ *compare.Look) {
		raw, err := json.Marshal(before.Snapshot)
		require.NoError(t, err)
		var shape map[string]any
		require.NoError(t, json.Unmarshal(raw, &shape))
		shape["format"], shape["tool"] = 5, "0"
		for _, page := range shape["pages"].([]any) {
			for _, key := range []string{"cache_control", "vary", "compressed"} {
				delete(page.(map[string]any), key)
			}
		}
		delete(shape, "programs")
		raw, err = json.Marshal(shape)
		require.NoError(t, err)
		before.Snapshot = &facts.Snapshot{}
		require.NoError(t, json.Unmarshal(raw, before.Snapshot))
	}, "The program looks at more than it did: program files"},
	"a site that could not be reached": {func(_ *testing.T, _, after *compare.Look) {
		after.Snapshot.Pages = nil
		after.Snapshot.Gaps = append(after.Snapshot.Gaps, facts.Gap{Source: facts.Live, What: "www.lanternlane.example", Kind: facts.Failed, Because: "it does not answer", Names: []string{"live."}})
	}, "Could not be seen this time: pages: www.lanternlane.example: it does not answer."},
}

// deviate makes a rule deviate by the reading of a term.
func deviate(l *compare.Look, rule string, term *facts.Term) {
	r, _ := l.Snapshot.Effective(term.Name)
	l.Verdicts.Held = slices.DeleteFunc(l.Verdicts.Held, func(held string) bool { return held == rule })
	l.Verdicts.Deviations = append(l.Verdicts.Deviations, compare.Verdict{Rule: rule, Severity: facts.High, Subject: "site", Says: "It is wrong.", Fingerprint: facts.Fingerprint(rule, "site"), Readings: []facts.Reading{r}})
}

func lacking(s *facts.Snapshot, name string) {
	s.Readings = slices.DeleteFunc(s.Readings, func(r facts.Reading) bool { return r.FullName() == name })
}

func TestTheSiteIsNotBlamedForTheTool(t *testing.T) {
	for name, c := range onlyTheTool {
		t.Run(name, func(t *testing.T) {
			before, after := again(t, orderly(t)), again(t, orderly(t))
			c.do(t, &before, &after)
			compared := compare.Of(before, after)
			assert.Empty(t, compared.Changes)
			assert.Empty(t, compared.New)
			assert.Empty(t, compared.Gone)
			_, others := said(report.Compare(compared))
			assert.True(t, slices.ContainsFunc(others, func(text string) bool { return strings.Contains(text, c.says) }), "%q", others)
		})
	}
}

// A value that another dialect reads otherwise may be the site's doing, or the dialect's: that is said.
func TestWhoseDoingItIsMayBeUnknown(t *testing.T) {
	before, after := again(t, orderly(t)), again(t, orderly(t))
	for i := range after.Snapshot.Readings {
		if r := &after.Snapshot.Readings[i]; r.FullName() == facts.SiteTagline.Name {
			r.Value = facts.TextOf(facts.String, "Another")
		}
	}
	after.Snapshot.Dialect = "brindle 5"
	c := compare.Of(before, after)
	assert.Empty(t, c.Changes)
	require.Len(t, c.Unsure, 1)
	assert.False(t, c.Same())
	changes, _ := said(report.Compare(c))
	assert.Equal(t, []string{"the site or its dialect: site.tagline changed from “Puppet shows for small people and their grown-ups” to “Another”"}, changes)
}

// Program files that were written anew with their old time are told apart from those that changed.
func TestProgramFilesThatChanged(t *testing.T) {
	before, after := again(t, orderly(t)), again(t, orderly(t))
	after.Snapshot.Taken = before.Snapshot.Taken.Add(time.Hour)
	p := after.Snapshot.Programs
	require.Greater(t, len(p), 3)
	p[0].Changed, p[1].Touched = p[0].Changed+60, p[1].Touched+60
	changes, _ := said(report.Compare(compare.Of(before, after)))
	assert.Equal(t, []string{"files: 1 program file changed and no version did: " + p[0].Path,
		"files: 1 program file was touched, and not by when it says it changed: mode or owner, or written anew with the old time: " + p[1].Path}, changes)

	for i := range after.Snapshot.Readings { // with a version, it is an update
		if r := &after.Snapshot.Readings[i]; r.FullName() == facts.SystemVersion.Name {
			r.Value = facts.TextOf(facts.Version, "3.4.3")
		}
	}
	changes, _ = said(report.Compare(compare.Of(before, after)))
	assert.Equal(t, []string{"settings: system.version changed from 3.4.2 to 3.4.3"}, changes)
}

// A page that moves is the same page, where the content system tells.
func TestAPageThatMoves(t *testing.T) {
	before, after := again(t, orderly(t)), again(t, orderly(t))
	for _, s := range []*facts.Snapshot{before.Snapshot, after.Snapshot} {
		for i := range s.Pages {
			s.Pages[i].Own = s.Pages[i].Path
		}
	}
	i := slices.IndexFunc(after.Snapshot.Pages, func(p facts.Page) bool { return p.Path == "/about/" })
	require.GreaterOrEqual(t, i, 0)
	after.Snapshot.Pages[i].Path, after.Snapshot.Pages[i].Address = "/about-us/", "https://www.lanternlane.example/about-us/"
	changes, _ := said(report.Compare(compare.Of(before, after)))
	assert.Equal(t, []string{"live: the page /about/ moved to /about-us/"}, changes)
}

// changed is another value of the same JSON type; the same for what has none.
func changed(v any) any {
	switch x := v.(type) {
	case string:
		return x + "x"
	case float64:
		return x + 1
	case bool:
		return !x
	case []any:
		return append(slices.Clone(x), "x")
	}
	return v
}

// TestEveryFactThatChangesIsNamed: each term and each column, changed by itself, is one change and no other, unless its row says that it
// differs from look to look.
func TestEveryFactThatChangesIsNamed(t *testing.T) {
	t.Parallel()
	before := again(t, orderly(t))
	raw, err := json.Marshal(before.Snapshot)
	require.NoError(t, err)
	var shape map[string]any
	require.NoError(t, json.Unmarshal(raw, &shape))
	for key, most := range map[string]int{"pages": 3, "assets": 4, "answers": 6, "classes": 6, "programs": 3, "repeats": 3, "links": 3, "spellings": 3} { // one of each is changed, and the rest only takes time
		if list, is := shape[key].([]any); is {
			shape[key] = list[:min(len(list), most)]
		}
	}
	raw, err = json.Marshal(shape)
	require.NoError(t, err)
	before.Snapshot = &facts.Snapshot{}
	require.NoError(t, json.Unmarshal(raw, before.Snapshot))
	tried := 0
	try := func(of map[string]any, key, name string, varies bool) {
		old := of[key]
		of[key] = changed(old)
		raw, err := json.Marshal(shape)
		require.NoError(t, err)
		of[key] = old
		after := &facts.Snapshot{}
		if json.Unmarshal(raw, after) != nil {
			return // no value of its type
		}
		c := compare.Of(before, compare.Look{Snapshot: after})
		if all := slices.Concat(c.Changes, c.Wishes); !varies && assert.Len(t, all, 1, name) {
			assert.Equal(t, name, strings.TrimSuffix(all[0].Name+"."+all[0].Field, "."))
		} else if varies {
			assert.Empty(t, all, name)
		}
		tried++
	}
	seen := map[string]bool{}
	for _, one := range shape["readings"].([]any) {
		r := one.(map[string]any)
		name := r["source"].(string) + "." + r["name"].(string)
		term, known := facts.Lookup(name)
		require.True(t, known, name)
		if _, plain := r["value"].(map[string]any); !seen[name] && !plain && r["value"] != nil {
			try(r, "value", name, term.Steady.Varies)
		}
		seen[name] = true
	}
	for key, list := range map[string]string{"pages": facts.ListPages, "assets": facts.ListAssets, "cookies": facts.ListCookies} {
		item := shape[key].([]any)[0].(map[string]any)
		for _, field := range facts.Lists[list] {
			if v := item[field.Name]; v != nil && !slices.Contains([]string{"path", "address", "name", "own", "unread"}, field.Name) {
				try(item, field.Name, list+"."+field.Name, field.Steady.Varies)
			}
		}
	}
	assert.Greater(t, tried, 200)
}
