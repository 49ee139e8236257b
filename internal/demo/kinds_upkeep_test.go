package demo

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// files puts files into the installation.
func files(pairs ...string) func(*installation) {
	return func(b *installation) {
		for i := 0; i < len(pairs); i += 2 {
			b.files[pairs[i]] = file{pairs[i+1], 0o644}
		}
	}
}

// gone takes files away.
func gone(names ...string) func(*installation) {
	return func(b *installation) {
		for _, name := range names {
			delete(b.files, name)
		}
	}
}

// after does one thing after another.
func after(all ...func(*installation)) func(*installation) {
	return func(b *installation) {
		for _, do := range all {
			do(b)
		}
	}
}

// part adds an extension or a theme.
func part(e extension) func(*installation) {
	return func(b *installation) { b.extensions = append(b.extensions, e) }
}

// versions says something else of a part in the list of versions.
func versions(part, says string) func(*installation) {
	return func(b *installation) {
		lines := strings.Split(b.lists["versions.yaml"], "\n")
		at := slices.IndexFunc(lines, func(line string) bool { return strings.HasPrefix(line, "  "+part+":") })
		end := at + 1
		for end < len(lines) && strings.HasPrefix(lines[end], "   ") {
			end++
		}
		b.lists["versions.yaml"] = strings.Join(slices.Replace(lines, at, end, days(time.Now()).Replace("  "+part+": "+says)), "\n")
	}
}

const (
	ofSeating = `"ranges": [{"type": "ECOSYSTEM", "events": [`
	packagist = "Packagist"
	seating   = "brindle-turns/seating"
)

// upkeepKinds are faults of what is installed, spelt otherwise, seen without asking the site. Those of no-strange-code came since an earlier look.
var upkeepKinds = []struct {
	rule, name string
	do         func(*installation)
}{
	{"upkeep.no-known-flaws", "versions one by one", flawed(packagist, seating, `"versions": ["2.3.0", "2.3.1"]`, "")},
	{"upkeep.no-known-flaws", "a version with a v", flawed(packagist, seating, `"versions": ["v2.3.1"]`, "")},
	{"upkeep.no-known-flaws", "a version with a zero more", flawed(packagist, seating, `"versions": ["2.3.1.0"]`, "")},
	{"upkeep.no-known-flaws", "the last that has it", flawed(packagist, seating, ofSeating+`{"introduced": "0"}, {"last_affected": "2.3.1"}]}]`, "")},
	{"upkeep.no-known-flaws", "never put right", flawed(packagist, seating, ofSeating+`{"introduced": "0"}]}]`, "")},
	{"upkeep.no-known-flaws", "events in no order", flawed(packagist, seating, ofSeating+`{"fixed": "2.4.0"}, {"introduced": "2.3.0"}, {"fixed": "2.0.5"}, {"introduced": "0"}]}]`, "")},
	{"upkeep.no-known-flaws", "a range of another kind", flawed(packagist, seating, `"ranges": [{"type": "SEMVER", "events": [{"introduced": "2.3.1-rc.1"}, {"fixed": "2.3.2"}]}]`, "")},
	{"upkeep.no-known-flaws", "below a limit", flawed(packagist, seating, ofSeating+`{"introduced": "0"}, {"limit": "3.0.0"}]}]`, "")},
	{"upkeep.no-known-flaws", "a name in capitals", flawed(packagist, "Brindle-Turns/Seating", `"versions": ["2.3.1"]`, "")},
	{"upkeep.no-known-flaws", "a registry of its own", flawed("Packagist:https://turns.example/", seating, `"versions": ["2.3.1"]`, "")},
	{"upkeep.no-known-flaws", "an escaped name", withList("advisories/NOBODY-2.json", `{"id": "NOBODY-2", "modified": "2026-11-01T00:00:00Z", "affected": [{"package": {"ecosystem": "Packagist", "name": "brindle-turns\/seating"}, "versions": ["2.3.1"]}]}`)},
	{"upkeep.no-known-flaws", "the system itself", flawed(packagist, "playhouse/brindle", `"versions": ["3.4.2"]`, "")},
	{"upkeep.no-known-flaws", "another package as well", withList("advisories/NOBODY-3.json", `{"id": "NOBODY-3", "modified": "2026-11-01T00:00:00Z", "affected": [{"package": {"ecosystem": "npm", "name": "else"}, "versions": ["1.0.0"]}, {"package": {"ecosystem": "Packagist", "name": "brindle-turns/seating"}, "versions": ["2.3.1"]}]}`)},
	{"upkeep.no-known-flaws", "a library", after(files("works/../vendor/composer/installed.json", `{"packages": [{"name": "lamp-works/wick", "version": "v1.2.0"}]}`), flawed(packagist, "lamp-works/wick", ofSeating+`{"introduced": "1.0"}, {"fixed": "1.2.1"}]}]`, ""))},
	{"upkeep.no-known-flaws", "a library, as it was written before", after(files("vendor/composer/installed.json", `[{"name": "lamp-works/wick", "version": "1.2.0"}]`), flawed(packagist, "lamp-works/wick", `"versions": ["1.2.0"]`, ""))},
	{"upkeep.no-known-flaws", "a library of scripts", after(files("node_modules/.package-lock.json", `{"packages": {"node_modules/@lamp/wick": {"version": "1.2.0"}, "node_modules/x/node_modules/inner": {"version": "0.1.0"}}}`), flawed("npm", "inner", `"versions": ["0.1.0"]`, ""))},

	{"upkeep.core", "numbers count as numbers", versions("brindle", `{branches: {"3.4": {newest: "3.4.10", released: @two-months-ago@}}}`)},
	{"upkeep.core", "a branch that is mended no more", versions("brindle", `{branches: {"3.4": {newest: 3.4.2, released: @a-year-ago@, until: @last-week@}, "3.5": {newest: 3.5.1, released: @two-months-ago@}}}`)},
	{"upkeep.core", "nothing newer, and mended no more", versions("brindle", `{branches: {"3.4": {newest: 3.4.2, released: @a-year-ago@, until: @last-week@}}}`)},
	{"upkeep.core", "a branch that the list has dropped", versions("brindle", `{branches: {"3.5": {newest: 3.5.1, released: @two-months-ago@}}}`)},
	{"upkeep.core", "all releases", versions("brindle", `{releases: [{version: 3.4.4, released: @today@}, {version: 3.4.3, released: @two-months-ago@}, {version: 3.4.2, released: @a-year-ago@}]}`)},
	{"upkeep.core", "a v before the newest", versions("brindle", `{newest: v3.4.3, released: @two-months-ago@}`)},
	{"upkeep.core", "without a day", after(versions("brindle", `{newest: 3.4.3}`), relisted("versions.yaml", "as_of: "+time.Now().UTC().Format(time.DateOnly), "as_of: "+time.Now().UTC().AddDate(0, 0, -20).Format(time.DateOnly)))},
	{"upkeep.extensions", "a theme", versions("lantern", `{newest: 1.2.1, released: @two-months-ago@}`)},
	{"upkeep.extensions", "by its name elsewhere", after(versions("seating", `{newest: 2.3.1}`), relisted("versions.yaml", "  seating: {newest: 2.3.1}", "  brindle-turns/seating: {newest: 2.4.0, released: 2026-01-01}"))},
	{"upkeep.extensions", "an old list that knows of a newer one", after(versions("swiftpages", `{newest: 1.9.0, released: @a-year-ago@}`))},
	{"upkeep.extensions-declared", "a theme", func(b *installation) { b.extensions[2].Newest = "1.10.0" }},
	{"upkeep.abandoned", "no release for years", versions("swiftpages", `{newest: 1.8.0, released: @three-years-ago@}`)},
	{"upkeep.abandoned", "withdrawn without a reason", versions("swiftpages", `{newest: 1.8.0, released: @two-months-ago@, withdrawn: @last-week@}`)},
	{"upkeep.extensions-used", "a second page cache", part(extension{Name: "nightlight", Kind: "page-cache", Version: "1.0.3", Newest: "1.0.3"})},
	{"upkeep.no-strays", "a theme", files("foyer/costumes/velvet/style.css", "body{}")},
	{"upkeep.no-strays", "further down", files("turns/bell/inc/bell.inc", "<?php\n")},
	{"upkeep.themes-used", "on top of nothing that is used", after(part(extension{Name: "velvet", Kind: "costume", Version: "1.0.0", Newest: "1.0.0"}), part(extension{Name: "paper-moon", Kind: "costume", Version: "1.0.0", Newest: "1.0.0", Parent: "velvet"}))},
	{"upkeep.no-overlap", "two at the door", after(part(extension{Name: "town-crier", Kind: "doorkeeper", Version: "2.0.0", Newest: "2.0.0", Active: true}), part(extension{Name: "second-crier", Kind: "doorkeeper", Version: "1.1.0", Newest: "1.1.0", Active: true}))},
	{"upkeep.scheduler", "it waits for visits", func(b *installation) {
		b.set("jobs_by_visits", "yes", "jobs_ran", time.Now().UTC().Add(-26*time.Hour).Format("2006-01-02 15:04"))
	}},
	{"upkeep.scheduler", "it never ran", set("jobs_ran", "1970-01-01").do},
	{"upkeep.integrity", "a file less", gone("works/brindle.php")},
	{"upkeep.integrity", "a program more", files("works/loft.php", "<?php\n")},
	{"upkeep.integrity", "a command without an ending", files("works/loft", "#!/bin/sh\n")},
	{"upkeep.integrity", "code in a name that is none of code", files("works/loft.txt", "<?php echo 1;\n")},
	{"upkeep.integrity", "one byte", files("foyer/index.php", "<?php\nrequire __DIR__ . '/../works/brindle.php'; \n")},
	{"upkeep.integrity", "the file of an extension", files("turns/seating/seating.php", "<?php\n// Sells tickets by the row.\n")},
	{"upkeep.integrity", "a program beside an extension's", files("turns/seating/loft.php", "<?php\n")},
	{"upkeep.integrity", "a program in the folder that is served", files("foyer/posters.php", "<?php\n")},
	{"upkeep.no-known-flaws", "of an order that nobody knows, and of all versions", after(func(b *installation) { b.beside = spoken("Playbills") }, flawed("Playbills", seating, ofSeating+`{"introduced": "0"}]}]`, ""))},
	{"upkeep.integrity", "a list in another form", func(b *installation) {
		text := ""
		for line := range strings.Lines(b.lists["checksums/brindle-3.4.2.sha256"]) {
			sum, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
			text += "SHA256 (./" + name + ") = " + strings.ToUpper(sum) + "\r\n"
		}
		b.lists["checksums/brindle-3.4.2.sha256"] = "# brindle 3.4.2\n" + text
		files("works/brindle.php", "<?php\n// Another.\n")(b)
	}},
	{"upkeep.no-strange-code", "in the folder that is served", files("foyer/props/seating/loft.php", "<?php\n")},
	{"upkeep.no-strange-code", "a line in an old one", files("works/overture/swiftpages.php", "<?php\n// Loaded before the curtain rises, and something else.\n")},
	{"upkeep.no-strange-code", "with another extension updated", after(files("works/overture/loft.php", "<?php\n"), func(b *installation) { b.extensions[0].Version, b.extensions[0].Newest = "2.3.2", "2.3.2" })},
	{"upkeep.runtime-age", "packaged long ago", func(b *installation) { b.front.from = `version: "7.3", from: Debian 10` }},
	{"upkeep.runtime-age", "older than anybody lists", func(b *installation) { b.front.from = `version: "5.6", from: makers` }},
	{"upkeep.space", "hardly any", func(b *installation) { b.room = roomLeft(400<<20, 100<<30, 0, 0) }},
	{"upkeep.space", "room for bytes and none for files", func(b *installation) { b.room = roomLeft(100<<30, 200<<30, 300, 6_000_000) }},
}

// upkeepHarmless is what looks like one and is none.
var upkeepHarmless = []struct {
	rule, name string
	do         func(*installation)
}{
	{"", "put right in the very version", flawed(packagist, seating, ofSeating+`{"introduced": "0"}, {"fixed": "2.3.1"}]}]`, "")},
	{"", "put right before, in another branch again", flawed(packagist, seating, ofSeating+`{"introduced": "2.0.0"}, {"fixed": "2.2.9"}, {"introduced": "3.0.0"}, {"fixed": "3.0.2"}]}]`, "")},
	{"", "came in later", flawed(packagist, seating, ofSeating+`{"introduced": "2.3.2"}]}]`, "")},
	{"", "the same name elsewhere", flawed("npm", seating, `"versions": ["2.3.1"]`, "")},
	{"", "a longer name", flawed(packagist, seating+"-plan", `"versions": ["2.3.1"]`, "")},
	{"", "taken back", flawed(packagist, seating, `"versions": ["2.3.1"]`, `, "withdrawn": "2026-10-01T00:00:00Z"`)},
	{"", "above a limit", flawed(packagist, seating, ofSeating+`{"introduced": "0"}, {"limit": "2.3.0"}]}]`, "")},
	{"", "commits, and versions beside them", flawed(packagist, seating, `"ranges": [{"type": "GIT", "events": [{"introduced": "0"}]}], "versions": ["2.3.0"]`, "")},
	{"", "a release that came last week", versions("swiftpages", `{newest: 1.8.1, released: `+time.Now().UTC().AddDate(0, 0, -5).Format(time.DateOnly)+`}`)},
	{"", "a newer branch beside one that is mended", versions("brindle", `{branches: {"3.4": {newest: 3.4.2, released: @two-months-ago@}, "4.0": {newest: 4.0.1, released: @two-months-ago@}}}`)},
	{"", "one to be tried", versions("brindle", `{releases: [{version: 3.4.2, released: @a-year-ago@}, {version: 3.5.0-rc1, released: @two-months-ago@}, {version: 3.5.0beta2, released: @two-months-ago@}]}`)},
	{"", "3.40 is not of 3.4", versions("brindle", `{branches: {"3.40": {newest: 3.40.1, released: @two-months-ago@}, "3.4": {newest: 3.4.2, released: @two-months-ago@}}}`)},
	{"", "a zero more", versions("brindle", `{newest: 3.4.2.0, released: @two-months-ago@}`)},
	{"", "newer than the list", versions("swiftpages", `{newest: 1.7.9, released: @half-a-year-ago@}`)},
	{"", "a content system that knows of none", func(b *installation) { b.extensions[0].Newest = "" }},
	{"", "a content system that is behind itself", func(b *installation) { b.extensions[0].Newest = "2.2.0" }},
	{"", "what a theme is made on top of", after(part(extension{Name: "velvet", Kind: "costume", Version: "1.0.0", Newest: "1.0.0"}), part(extension{Name: "paper-moon", Kind: "costume", Version: "1.0.0", Newest: "1.0.0"}), func(b *installation) { b.extensions[2].Parent = "velvet" })},
	{"", "one spare theme", part(extension{Name: "velvet", Kind: "costume", Version: "1.0.0", Newest: "1.0.0"})},
	{"", "a folder with nothing in it", func(b *installation) { b.folders["turns/bell"] = 0o755 }},
	{"", "a folder with a note in it", files("turns/bell/note.txt", "To be hung up again.\n")},
	{"", "a run within the day", func(b *installation) {
		b.set("jobs_by_visits", "yes", "jobs_ran", time.Now().UTC().Add(-23*time.Hour).Format("2006-01-02 15:04"))
	}},
	{"", "a licence less", gone("works/LICENCE.txt")},
	{"", "another way of ending lines", files("works/brindle.php", "<?php\r\n// The content system itself would stand here; the demo needs only its place.\r\n")},
	{"", "a file by which the server is told", files("foyer/.htaccess", "FallbackResource /index.php\nOptions -Indexes\n")},
	{"", "a note more", files("works/note.txt", "Ask Tobit.\n")},
	{"", "a folder before every path", func(b *installation) {
		text := strings.ReplaceAll(b.lists["checksums/brindle-3.4.2.sha256"], "  ", "  brindle-3.4.2/")
		b.lists["checksums/brindle-3.4.2.sha256"] = text
	}},
	{"", "since: an update of the system", after(files("works/overture/loft.php", "<?php\n"), func(b *installation) { b.set("version", "3.4.3") }, versions("brindle", `{newest: 3.4.3, released: @last-week@}`))},
	{"", "since: an extension more", after(part(extension{Name: "town-crier", Kind: "crier", Version: "2.0.0", Newest: "2.0.0", Active: true}), files("turns/town-crier/crier.php", "<?php\n"))},
	{"", "since: a page that was kept", files("foyer/lamplit/about.php", "<?php /* kept */\n")},
	{"", "since: a setting that was told otherwise", func(b *installation) { b.aloud["show_errors"] = "false" }},
	{"", "since: a picture", files("foyer/posters/new.svg", "<svg xmlns=\"http://www.w3.org/2000/svg\"/>")},
	{"", "a distribution that mends longer", func(b *installation) { b.front.from = `version: "8.2", from: Debian 12` }},
	{"", "little of a large disk", func(b *installation) { b.room = roomLeft(90<<30, 2<<40, 0, 0) }},
	{"", "enough of a small one", func(b *installation) { b.room = roomLeft(2<<30, 10<<30, 700_000, 1_000_000) }},
}

func TestUpkeepSpeltOtherwise(t *testing.T) {
	for _, c := range slices.Concat(upkeepKinds, upkeepHarmless) {
		t.Run(strings.ReplaceAll(c.rule+": "+c.name, "/", "-"), func(t *testing.T) {
			t.Parallel()
			b := lanternLaneAligned()
			if c.rule == "upkeep.no-strange-code" || strings.HasPrefix(c.name, "since: ") {
				b.earlier = auditOf(t, b, facts.Settings, facts.Files, facts.Upkeep).Snapshot
			}
			c.do(b)
			r := auditOf(t, b, facts.Settings, facts.Files, facts.Upkeep)
			var says, rules []string
			for _, d := range r.Deviations {
				if strings.HasPrefix(d.Rule, "upkeep.") {
					says, rules = append(says, d.Rule+": "+d.Says), append(rules, d.Rule)
				}
			}
			var want []string
			if c.rule != "" {
				want = []string{c.rule}
			}
			assert.Equal(t, want, slices.Compact(rules), "%q", says)
		})
	}
}

// What cannot be told is said and counted, and is neither a deviation nor passed.
func TestWhatIsNotKnownOfVersionsIsSaid(t *testing.T) {
	for name, c := range map[string]struct {
		do    func(*installation)
		rules []string // that were not judged, or not of all
		says  string   // one of the reasons
	}{
		"no list": {func(b *installation) { b.lists = nil }, []string{"upkeep.abandoned", "upkeep.core", "upkeep.extensions", "upkeep.integrity", "upkeep.no-known-flaws"}, "no upkeep source was asked: the site file names none"},
		"an old list": {func(b *installation) {
			b.lists["versions.yaml"] = strings.Replace(b.lists["versions.yaml"], "as_of: "+time.Now().UTC().Format(time.DateOnly), "as_of: 2026-03-05", 1)
		}, []string{"upkeep.abandoned", "upkeep.core", "upkeep.extensions"}, "the list of versions is of 5 March 2026, and knows nothing of what came since"},
		"an order that nobody knows": {func(b *installation) {
			b.lists["versions.yaml"] = strings.Replace(b.lists["versions.yaml"], "order: Packagist\n", "", 1)
			b.beside = spoken("Playbills")
		}, []string{"upkeep.core", "upkeep.extensions"}, "nobody says in which order its versions are"},
		"an advisory for such a one": {after(func(b *installation) { b.beside = spoken("Playbills") }, flawed("Playbills", seating, ofSeating+`{"introduced": "2.0"}]}]`, "")),
			[]string{"upkeep.no-known-flaws"}, "it cannot be told whether they are about what is installed: NOBODY-2026-0001: brindle-turns/seating 2.3.1: the order of versions of Playbills is not known"},
		"an advisory by commits":   {flawed(packagist, seating, `"ranges": [{"type": "GIT", "events": [{"introduced": "0"}]}]`, ""), []string{"upkeep.no-known-flaws"}, "it names commits, and no versions"},
		"an advisory that is none": {withList("advisories/broken.json", `{"affected": [{"package": {"name": "brindle-turns/seating"`), []string{"upkeep.no-known-flaws"}, "is no advisory in OSV format"},
		"a part that nobody lists": {part(extension{Name: "bell", Kind: "tickets", Version: "1.0.0", Newest: "1.0.0", Active: true}), []string{"upkeep.abandoned", "upkeep.extensions"}, "the list of versions does not have it"},
		"checksums of another": {func(b *installation) {
			b.lists["checksums/brindle-3.4.2.sha256"] = "# brindle 3.4.1\n" + b.lists["checksums/brindle-3.4.2.sha256"]
		}, []string{"upkeep.integrity"}, "the list is of brindle 3.4.1, and 3.4.2 is installed"},
		"lines that are no checksums": {func(b *installation) { b.lists["checksums/brindle-3.4.2.sha256"] += "works/brindle.php\n" }, []string{"upkeep.integrity"}, "they are no checksums with a path"},
		"no checksums of the version": {func(b *installation) { delete(b.lists, "checksums/brindle-3.4.2.sha256") }, []string{"upkeep.integrity"}, "it would be called brindle-3.4.2.sha256"},
		"a runtime that nobody lists": {func(b *installation) { b.front.from = `version: "9.9", from: Debian 12` }, []string{"upkeep.runtime-age"}, "the table of ends does not have 9.9 of Debian 12"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := lanternLaneAligned()
			c.do(b)
			r := auditOf(t, b, facts.Settings, facts.Files, facts.Upkeep)
			var rules, because []string
			for _, n := range r.NotJudged {
				if strings.HasPrefix(n.Rule, "upkeep.") && n.Rule != "upkeep.no-strange-code" {
					rules, because = append(rules, n.Rule), append(because, n.Because)
				}
			}
			slices.Sort(rules)
			assert.Equal(t, c.rules, slices.Compact(rules), "%q", because)
			assert.Contains(t, strings.Join(because, "\n"), c.says)
			for _, d := range r.Deviations {
				assert.NotContains(t, d.Rule, "upkeep.", d.Says)
			}
		})
	}
}

// spoken has the site read by a dialect of its own, in which versions are of another ecosystem.
func spoken(ecosystem string) func(root string) error {
	return func(root string) error {
		file := filepath.Join(filepath.Dir(root), "weltaxis.yaml")
		text, err := os.ReadFile(file)
		if err == nil {
			err = os.WriteFile(file, []byte(strings.Replace(string(text), "dialect: brindle", "dialect: ./mine.yaml", 1)), 0o600)
		}
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(filepath.Dir(root), "mine.yaml"), []byte("dialect: brindle\nversion: 1\nbuilds_on: brindle\nparts: {ecosystem: "+ecosystem+"}\n"), 0o600)
	}
}

// What a stranger can tell of versions is held against the same lists.
func TestSignsAreHeldAgainstAdvisories(t *testing.T) {
	b := lanternLaneAligned()
	b.set("show_maker", "yes", "version", "3.4.0")
	r := auditOf(t, b, facts.Live, facts.Upkeep)
	var says []string
	for _, d := range r.Deviations {
		if strings.HasPrefix(d.Rule, "upkeep.") {
			says = append(says, d.Says)
		}
	}
	require.Len(t, says, 1, "the advisory's name of it no dialect tells, the list's it does: %v", says)
	assert.Contains(t, says[0], "3.4.0 is not the newest of its branch; 3.4.2 is the one to have")
}
