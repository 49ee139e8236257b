package demo

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
)

// faults holds one fault for every rule: a single change to the well-kept site that this rule must notice, and
// no other may count. A new rule comes with its fault.
var faults = map[string]func(*brindle){
	"titles.site-own":              func(b *brindle) { b.set("site_title", "lanternlane.example") },
	"titles.tagline-own":           func(b *brindle) { b.set("tagline", "Another place made with Brindle") },
	"titles.separator-declared":    func(b *brindle) { b.set("title_form_list", "<list> <sep> <sep> <site>") },
	"identity.time-zone":           func(b *brindle) { b.set("zone", "Europe/Paris"); b.publishScheduled() },
	"identity.time-zone-scheduled": func(b *brindle) { b.set("zone", "UTC") },
	"identity.admin-mail":          func(b *brindle) { b.set("admin_mail", "somebody@quickpost.example") },
	"identity.sender":              func(b *brindle) { b.set("mail_name", "Brindle") },
	"identity.address": func(b *brindle) {
		b.set("public_url", "https://lanternlane.example", "install_url", "https://lanternlane.example")
	},
	"identity.install-address":   func(b *brindle) { b.set("install_url", "https://new.lanternlane.example") },
	"identity.home-assigned":     func(b *brindle) { b.set("front_page", "advent-matinees") }, // scheduled, not published
	"metadata.site-description":  func(b *brindle) { b.set("description", "Puppets.") },
	"metadata.verification-form": func(b *brindle) { b.set("verify", `"LL-7Q2M-DEMO"`) },
	"visibility.index-declared":  func(b *brindle) { b.set("hidden", "yes") },
	"permalinks.readable":        func(b *brindle) { b.set("address_form", "/<year>/<id>/") },
	"hardening.admin-name":       func(b *brindle) { b.accounts = append(b.accounts, account{"Lantern_Lane", "editor"}) },
	"hardening.registration-role": func(b *brindle) {
		b.set("register_role", "editor")
	},
	"hardening.session":              func(b *brindle) { b.set("idle_minutes", "31") },
	"hardening.debug-off":            func(b *brindle) { b.constants["BRINDLE_DEBUG"] = "1" },
	"hardening.secret":               func(b *brindle) { b.secret = "one character short of enough.." },
	"permissions.config-locked":      func(b *brindle) { b.chmod(0o640, "config.php") },
	"permissions.not-world-writable": func(b *brindle) { b.chmod(0o757, "public/media") },
	"permissions.group-write-limited": func(b *brindle) {
		b.chmod(0o775, "public/themes")
	},
	"permissions.files":   func(b *brindle) { b.chmod(0o755, "public/index.php") },
	"permissions.folders": func(b *brindle) { b.chmod(os.ModeSetgid|0o755, "system") },
	"permissions.uploads-inert": func(b *brindle) {
		b.files["public/media/cat.php.jpg"] = file{"not a cat", 0o644}
	},
	"permissions.private-outside": func(b *brindle) { b.files["public/.git/config"] = file{"[core]", 0o644} },
	"maintenance.lifted-declared": func(b *brindle) { b.set("closed", "yes") },
	"maintenance.message":         func(b *brindle) { b.set("closed_text", "We will be back soon.") },
}

func (b *brindle) publishScheduled() {
	for i := range b.pages {
		b.pages[i].status = "public"
	}
}

// auditOf writes a site, serves it and audits it. Without names of sources it is seen from all of them.
func auditOf(t *testing.T, b *brindle, sources ...string) *audit.Result {
	t.Helper()
	dir := t.TempDir()
	_, err := b.write(dir)
	require.NoError(t, err)
	server, err := serve(dir, []served{{folder: b.folder, hosts: lanternLaneHosts}}, true)
	require.NoError(t, err)
	defer server.Close()
	s, err := site.Load(filepath.Join(dir, b.folder))
	require.NoError(t, err)
	for name, leave := range map[string]func(){
		facts.Settings: func() { s.Sources.Settings = nil }, facts.Live: func() { s.Sources.Live = nil }, facts.Files: func() { s.Sources.Files = nil },
	} {
		if len(sources) > 0 && !slices.Contains(sources, name) {
			leave()
		}
	}
	result, err := audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test", Connect: server.Connect(b.folder)})
	require.NoError(t, err)
	return result
}

func deviating(r *audit.Result) []string {
	var rules []string
	for _, d := range r.Deviations {
		if !slices.Contains(rules, d.Rule) {
			rules = append(rules, d.Rule)
		}
	}
	return rules
}

func TestEachFaultIsNoticedByItsRuleAlone(t *testing.T) {
	for rule, do := range faults {
		t.Run(rule, func(t *testing.T) {
			t.Parallel()
			b := lanternLaneAligned()
			do(b)
			result := auditOf(t, b)
			assert.Equal(t, []string{rule}, deviating(result))
			assert.Empty(t, result.NotJudged)
			assert.Empty(t, result.Broken)
		})
	}
}

func TestEveryRuleHasItsFault(t *testing.T) {
	rules := auditOf(t, lanternLaneAligned()).Rules.IDs()
	assert.ElementsMatch(t, rules, slices.Collect(maps.Keys(faults)))
}

func TestAlignedTwinHasNothingToReportAndAllIsJudged(t *testing.T) {
	result := auditOf(t, lanternLaneAligned())
	assert.Empty(t, result.Deviations)
	assert.Empty(t, result.NotJudged)
	assert.Empty(t, result.Gaps)
	assert.Equal(t, []string{"permissions.private-outside"}, result.NotApplicable)
	assert.Equal(t, 1.0, *result.Alignment)
	assert.Equal(t, 1.0, *result.Judged)
}

// Every deviation of the site in disorder is told by its story, and the story tells of nothing that is not there.
func TestTheStoryOfLanternLaneIsWhatTheAuditFinds(t *testing.T) {
	result := auditOf(t, lanternLane())
	var told []string
	for _, l := range lanternLaneLeavings {
		told = append(told, l.rules...)
	}
	found := deviating(result)
	for _, c := range result.Covered {
		found = append(found, c.Rule)
	}
	slices.Sort(found)
	assert.ElementsMatch(t, told, slices.DeleteFunc(slices.Compact(found), func(rule string) bool {
		return rule == "permissions.folders" // only ever under the group's writing
	}))
	assert.Empty(t, result.NotJudged)
}

func TestEveryDeviationNamesWhereItWasSeen(t *testing.T) {
	for _, d := range auditOf(t, lanternLane()).Deviations {
		require.NotEmpty(t, d.Readings, d.Rule)
		for _, r := range d.Readings {
			switch {
			case r.Source == facts.Files:
				assert.True(t, r.Origin.Path != "" && r.Origin.Mode != "", "%s: %+v", d.Rule, r.Origin)
			case r.Origin.Table != "":
				assert.NotEmpty(t, r.Origin.Row, d.Rule)
			case r.Origin.Key != "" && r.Origin.Line == 0:
				assert.Contains(t, r.Origin.Key, "SELECT", d.Rule)
			default:
				assert.True(t, r.Origin.File != "" && r.Origin.Line > 0, "%s: %+v", d.Rule, r.Origin)
			}
		}
	}
}

func TestAConstantOverridesTheRow(t *testing.T) {
	result := auditOf(t, lanternLane())
	i := slices.IndexFunc(result.Deviations, func(d facts.Deviation) bool { return d.Rule == "hardening.debug-off" })
	require.GreaterOrEqual(t, i, 0)
	readings := result.Deviations[i].Readings
	require.Len(t, readings, 2)
	assert.Equal(t, "config.php", readings[0].Origin.File)
	assert.True(t, readings[0].Value.Bool())
	assert.Equal(t, "brn_options", readings[1].Origin.Table)
	assert.False(t, readings[1].Value.Bool())
}

func TestCoveredDeviationsFoldUnderTheirCause(t *testing.T) {
	b := lanternLaneAligned()
	b.chmod(0o666, "config.php")
	result := auditOf(t, b)
	require.Equal(t, []string{"permissions.config-locked"}, deviating(result))
	assert.Equal(t, facts.Critical, result.Deviations[0].Severity)
	var covered []string
	for _, c := range result.Covered {
		assert.Equal(t, "config.php", c.Subject)
		covered = append(covered, c.Rule)
	}
	assert.Equal(t, []string{"permissions.not-world-writable", "permissions.group-write-limited", "permissions.files"}, covered)
}

func TestDemoIsNeverWrittenOverWhatItDidNotWrite(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	require.NoError(t, Write(dir, false))
	assert.ErrorIs(t, Write(dir, false), ErrThere)
	require.NoError(t, Write(dir, true))

	mine := filepath.Join(dir, FirstSite, "notes.txt")
	require.NoError(t, os.WriteFile(mine, []byte("mine"), 0o644))
	var refused *RefusedError
	require.ErrorAs(t, Write(dir, true), &refused)
	assert.Contains(t, refused.Says, "notes.txt")
	assert.FileExists(t, filepath.Join(dir, FirstSite, "weltaxis.yaml"), "a refusal leaves all as it is")

	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "thesis.txt"), nil, 0o644))
	require.ErrorAs(t, Write(other, false), &refused)
	entries, err := os.ReadDir(other)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}
