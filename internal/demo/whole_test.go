package demo

import (
	_ "embed"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/baseline"
)

//go:embed testdata/look-alikes.txt
var lookAlikes string

// harmlessNames are the cases of what is harmless and looks like a fault.
func harmlessNames() map[string]bool {
	names := map[string]bool{}
	for _, c := range slices.Concat(harmless, hardeningHarmless, cachingHarmless, maintenanceHarmless) {
		names[c.name] = true
	}
	for _, c := range upkeepHarmless {
		names[c.name] = true
	}
	for _, c := range closings {
		names["notice: "+c.name] = c.rules == nil
	}
	for _, c := range locks {
		names["lock: "+c.name] = c.rules == nil
	}
	return names
}

// looks is a name of what is seen rather than said.
var looks = regexp.MustCompile(`\b(live|files|server|runtime|upkeep)\.[a-z]`)

// Every rule says why, on whose word, and what to do; and has something harmless beside its fault that looks like it, or a word on why there is no
// such thing.
func TestEveryRuleIsWhole(t *testing.T) {
	b, err := baseline.Load()
	require.NoError(t, err)
	require.NoError(t, b.Compile())
	said := map[string]string{}
	for line := range strings.Lines(lookAlikes) {
		if rule, what, is := strings.Cut(strings.TrimSpace(line), ": "); is && !strings.HasPrefix(line, "#") {
			require.NotContains(t, said, rule)
			said[rule] = what
		}
	}
	names := harmlessNames()
	for _, id := range b.IDs() {
		r, _ := b.Rule(id)
		assert.NotEmpty(t, r.Why, id)
		assert.NotEmpty(t, r.Cites, id)
		assert.NotEmpty(t, r.Jobs, id)
		assert.NotEmpty(t, r.Fix, id)
		what, listed := said[id]
		delete(said, id)
		asks := looks.MatchString(r.When.Source + " " + r.Holds.Source + " " + r.Each)
		assert.Equal(t, asks, listed, "%s: what looks at more than settings and the intent stands in look-alikes.txt, and nothing else does", id)
		if because, none := strings.CutPrefix(what, "none: "); none {
			assert.NotEmpty(t, because, id)
		} else if listed {
			assert.True(t, names[what], "%s: no case is called %q, or it is no harmless one", id, what)
		}
	}
	assert.Empty(t, said, "there are no such rules")
}

// Every rule holds somewhere: in a twin, or in a site of another stage, purpose or audience that is as it should be.
func TestEveryRuleHoldsSomewhere(t *testing.T) {
	t.Parallel()
	sites := []*installation{lanternLaneAligned(), hollin(), copperbeckAligned()}
	for _, change := range []func(*installation){
		locked, unlocked, announced, until, after(stage("retiring"), archive),
		after(stage("retiring"), with(everything, func(w http.ResponseWriter, r *http.Request) { http.Error(w, "gone", http.StatusGone) })),
		func(b *installation) {
			b.set("hidden", "yes", "sitemap", "no")
			b.siteFile = strings.Replace(b.siteFile, "  language: en-GB", "  audience: members\n  language: en-GB", 1)
		},
		func(b *installation) {
			b.siteFile = strings.NewReplacer("authors: several", "authors: one", "purpose: community", "purpose: brochure").Replace(b.siteFile)
			b.set("register", "shut", "messages", "no")
		},
		func(b *installation) {
			b.siteFile = strings.Replace(b.siteFile, "aliases: []", "aliases: [lanterns.example]\n  token_files: [proof-7Q2M.txt]", 1)
			b.set("alias", "lanterns.example")
			inPublic("proof-7Q2M.txt", "proof")(b)
		},
		lockedByServer(""),
		func(b *installation) {
			b.set("sites_count", "2", "limit_mb", "2048", "limit_pages", "500", "limit_users", "20")
		},
	} {
		b := lanternLaneAligned()
		change(b)
		sites = append(sites, b)
	}
	var mu sync.Mutex
	held := map[string]bool{}
	var all []string
	t.Run("sites", func(t *testing.T) {
		for i, b := range sites {
			t.Run(b.folder+string(rune('a'+i)), func(t *testing.T) {
				t.Parallel()
				if i > 2 {
					b.earlier = earlierLook(t)
				}
				r := auditOf(t, b)
				mu.Lock()
				defer mu.Unlock()
				for _, id := range r.Held {
					held[id] = true
				}
				all = r.Rules.IDs()
			})
		}
	})
	for _, id := range all {
		_, none := holdsOfNothing[id]
		assert.NotEqual(t, held[id], none, "%s: it holds in one of these sites, or a word says why it cannot", id)
	}
}

const (
	onlyWrong = "it is asked of each entry of a list of what may be wrong, and a site in order has none"
	unsaid    = "it is asked where a site file says more than these do"
	compared  = "it is asked where there is an earlier look to compare with"
)

// holdsOfNothing are rules that hold in none of these sites, and why; the tables of kinds and look-alikes have sites in which their conditions are met.
var holdsOfNothing = map[string]string{
	"visibility.links-answer": onlyWrong, "visibility.links-direct": onlyWrong, "caching.private-configured": onlyWrong, "caching.key": onlyWrong, "caching.errors-brief": onlyWrong, "hardening.cookies": onlyWrong,
	"hardening.readme-hidden": onlyWrong, "hardening.nothing-leaks": onlyWrong, "hardening.spam-served": onlyWrong, "hardening.head-code": onlyWrong, "upkeep.no-known-flaws": onlyWrong, "upkeep.integrity": onlyWrong,
	"permissions.links-inside": onlyWrong, "runtime.lines-work": onlyWrong, "runtime.session-cookie": onlyWrong,
	"metadata.structured-group": unsaid, "metadata.languages": unsaid, "metadata.breadcrumbs": unsaid, "visibility.analytics": unsaid, "delivery.network": unsaid, "hardening.firewall-learning": unsaid,
	"permalinks.old-lead-on": compared, "upkeep.no-strange-code": compared,
}
