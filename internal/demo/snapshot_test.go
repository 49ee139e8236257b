package demo

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// judgedFrom judges the theatre's twin as an earlier version of this program wrote it down, after a change.
func judgedFrom(t *testing.T, change func(map[string]any)) *audit.Result {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join("testdata", "snapshot-format-1.json"))
	require.NoError(t, err)
	var shape map[string]any
	require.NoError(t, json.Unmarshal(raw, &shape))
	require.EqualValues(t, 1, shape["format"])
	change(shape)
	raw, err = json.Marshal(shape)
	require.NoError(t, err)
	s := &facts.Snapshot{}
	require.NoError(t, json.Unmarshal(raw, s))
	rules, err := audit.RulesFor(s, audit.Options{})
	require.NoError(t, err)
	return audit.Judge(rules, s, audit.Options{Tool: "test"})
}

func TestASnapshotOfFormat1IsJudgedAsFarAsItGoes(t *testing.T) {
	r := judgedFrom(t, func(map[string]any) {})
	assert.Empty(t, deviating(r))
	assert.Empty(t, r.Covered)
	var since []string
	for _, n := range r.NotJudged {
		since = append(since, n.Rule)
		if !strings.Contains(n.Because, "no server source was asked") && !strings.Contains(n.Because, "no runtime source was asked") && !strings.Contains(n.Because, "no upkeep source was asked") && !strings.Contains(n.Because, "there is no earlier look") && n.Because != "the site file does not say" {
			assert.Contains(t, n.Because, "the snapshot is older than this is looked at", n.Rule)
		}
	}
	assert.ElementsMatch(t, []string{"identity.profile-page", "identity.posts-shown", "metadata.verification-known", "visibility.same-for-search", "visibility.robot-by-name", "visibility.no-building-hosts", "visibility.assets-answer",
		"maintenance.lifted", "maintenance.not-cached", "hardening.upload-inert", "hardening.listing-off", "hardening.firewall-path", "hardening.firewall-loaded",
		"hardening.https", "hardening.framing", "hardening.nosniff", "hardening.referrer", "hardening.cookies", "hardening.versions-hidden", "hardening.readme-hidden", "runtime.session-cookie",
		"hardening.accounts-known", "hardening.hsts", "hardening.certificate", "hardening.content-policy", "hardening.permissions-policy",
		"runtime.errors-hidden", "runtime.discreet", "runtime.no-remote-include", "runtime.upload-limits", "runtime.modules", "runtime.lines-work",
		"caching.works", "caching.one", "caching.no-leavings", "caching.one-layer", "caching.fresh", "caching.private", "caching.private-configured",
		"caching.key", "caching.exclusions", "caching.gain", "caching.assets", "caching.validators", "caching.vary", "caching.vary-assets",
		"caching.byte-code", "caching.errors-brief", "caching.errors-served", "delivery.compression", "delivery.compression-assets", "delivery.minified",
		"delivery.asset-count", "delivery.asset-owner", "delivery.page-weight", "delivery.image-format", "delivery.image-weight", "delivery.image-size",
		"delivery.first-byte", "delivery.network", "delivery.protocol", "delivery.capabilities",
		"hardening.spam-comments", "hardening.messages", "hardening.profiles", "hardening.firewall", "hardening.firewall-learning", "hardening.backups", "hardening.backup-age", "hardening.backup-place",
		"hardening.keys-known", "hardening.head-code", "hardening.tls", "hardening.security-contact", "hardening.nothing-leaks", "hardening.errors-served", "hardening.spam-served",
		"permissions.one-owner", "permissions.needed-writable", "permissions.no-address", "permissions.owner-apart", "permissions.new-entries", "permissions.no-set-id", "hardening.discreet", "hardening.installer-gone",
		"upkeep.no-known-flaws", "upkeep.core", "upkeep.extensions", "upkeep.abandoned", "upkeep.no-strays", "upkeep.themes-used", "upkeep.no-overlap", "upkeep.scheduler", "upkeep.integrity", "upkeep.no-strange-code", "upkeep.runtime-age", "upkeep.space",
		"maintenance.lifted-configured", "maintenance.lifted-throughout", "maintenance.served", "maintenance.status", "maintenance.robots", "maintenance.notice-brief", "maintenance.staff", "maintenance.message-served",
		"maintenance.contact", "maintenance.contact-named", "maintenance.shut-told", "maintenance.lock-whole", "maintenance.lock-encrypted", "maintenance.lock-spares", "maintenance.lock-stops",
		"search.shortest", "search.longest", "search.partial", "search.synonyms", "search.ignored", "search.rebuild", "aliases.answered", "aliases.limits", "aliases.certified", "aliases.there", "aliases.alike", "hardening.listing-seen", "hardening.firewall-seen"}, since)
	shows, known := r.Snapshot.Is(facts.HomeShows)
	assert.True(t, known)
	assert.Equal(t, "page", shows.Text())
	own, known := r.Snapshot.Pages[1].Field("own")
	assert.False(t, known, "%v: what it is known by is held since format 2", own)
}

// TestWhatASnapshotLacksIsUnknown: three fields of every page are taken out, and nothing deviates for that.
func TestWhatASnapshotLacksIsUnknown(t *testing.T) {
	whole := judgedFrom(t, func(map[string]any) {})
	r := judgedFrom(t, func(shape map[string]any) {
		for _, page := range shape["pages"].([]any) {
			for _, name := range []string{"description", "headings", "canonicals"} {
				delete(page.(map[string]any), name)
			}
		}
		for _, class := range shape["classes"].([]any) {
			delete(class.(map[string]any), "public")
		}
	})
	assert.Empty(t, deviating(r))
	var unjudged []string
	for _, n := range r.NotJudged {
		unjudged = append(unjudged, n.Rule)
		if whole := slices.ContainsFunc(whole.NotJudged, func(other baseline.NotJudged) bool { return other.Rule == n.Rule }); !whole {
			assert.Equal(t, "the snapshot does not hold it", n.Because, n.Rule)
		}
	}
	assert.Subset(t, unjudged, []string{"metadata.one-heading", "metadata.canonical", "metadata.description-unique", "permissions.private-outside"})
	assert.Less(t, len(r.Held), len(whole.Held))
}

func TestANewerSnapshotIsRefused(t *testing.T) {
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"format": 13}`), &facts.Snapshot{}), "this program reads formats 1 to 12")
}
