package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/dialect"
	"weltaxis/internal/discover"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
)

// A tally is how discovery did on one layout.
type tally struct{ present, found, sure, right int }

func (a tally) plus(b tally) tally {
	return tally{a.present + b.present, a.found + b.found, a.sure + b.sure, a.right + b.right}
}

func (a tally) String() string {
	return fmt.Sprintf("%d settings present, %d found (%.0f %%), %d written as sure, %d of them right (%.1f %%)",
		a.present, a.found, 100*float64(a.found)/float64(a.present), a.sure, a.right, 100*float64(a.right)/float64(max(a.sure, 1)))
}

// count holds a draft against where the settings really are, and what they mean there where that is known.
func count(d *discover.Draft, truth map[string]string, means func(setting string) bool, explain func(string, ...any)) tally {
	n := tally{present: len(truth)}
	for _, f := range d.Findings {
		is := strings.HasSuffix(truth[f.Setting], "\x00"+f.Place) || truth[f.Setting] == f.Origin
		if is {
			n.found++
		}
		if f.Certain {
			n.sure++
			if is && means(f.Setting) {
				n.right++
			} else {
				explain("%s: written as sure, and wrong: %s", f.Setting, f.Origin)
			}
		}
		if !is {
			explain("%s: thought %s (%.2f, certain %v), is %q", f.Setting, f.Origin, f.Sure, f.Certain, truth[f.Setting])
		}
	}
	for setting, at := range truth {
		if !slices.ContainsFunc(d.Findings, func(f discover.Finding) bool { return f.Setting == setting }) {
			explain("%s: not found, is %q", setting, at)
		}
	}
	return n
}

// whereTheyAre is where a dialect's settings are, as discovery names places.
func whereTheyAre(t *testing.T, p *placed) map[string]string {
	t.Helper()
	s := p.open(t)
	defer s.Close()
	truth := map[string]string{}
	for _, name := range p.dialect.Names() {
		for _, place := range p.dialect.Settings[name].Places() {
			found, err := s.Look(place)
			require.NoError(t, err)
			if !found.There {
				continue
			}
			o := found.Origin
			switch {
			case o.Table != "":
				truth[name] = "table " + o.Table
				for _, part := range [][2]string{{", row ", o.Row}, {", column ", o.Column}, {", in it ", o.Key}} {
					if part[1] != "" {
						truth[name] += part[0] + part[1]
					}
				}
			default:
				truth[name] = fmt.Sprintf("%s, line %d", o.File, o.Line)
			}
			break
		}
	}
	return truth
}

// liveOf looks at a served site from outside alone.
func liveOf(t *testing.T, p *placed) *facts.Snapshot {
	t.Helper()
	server, err := serve(p.dir, []*installation{p.installation}, 0)
	require.NoError(t, err)
	defer server.Close()
	s, err := site.Load(filepath.Join(p.dir, p.folder))
	require.NoError(t, err)
	s.Sources.Settings, s.Sources.Files = nil, nil
	r, err := audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test", Connect: server.Connect(p.folder), Only: []string{"titles"}})
	require.NoError(t, err)
	return r.Snapshot
}

// meansTheSame reads a setting through the draft and through the real dialect.
func meansTheSame(t *testing.T, p *placed, d *discover.Draft) func(string) bool {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "found.yaml"), d.YAML(), 0o600))
	drafted, err := dialect.Load("./found.yaml", dir)
	require.NoError(t, err, string(d.YAML()))
	return func(name string) bool {
		read := func(spoken *dialect.Dialect) facts.Value {
			s, err := store.Open(t.Context(), spoken, p.options)
			require.NoError(t, err)
			defer s.Close()
			readings, err := settings.Readings(t.Context(), s, spoken.Settings[name])
			require.NoError(t, err, name)
			return readings[0].Value
		}
		return read(drafted).Equal(read(p.dialect))
	}
}

// discovered drafts a dialect for every layout, with the real one withheld, and tells how that went.
func discovered(t *testing.T, tell func(string, ...any)) (standIns, others tally) {
	t.Helper()
	for spoken, make := range map[string]func() *installation{"brindle": lanternLaneAligned, "ostler": hollin, "hobnail": copperbeckAligned} {
		p := place(t, make(), spoken)
		d, err := discover.Discover(t.Context(), discover.Options{Name: "found", Root: p.root, Stores: p.options, Live: liveOf(t, p)})
		require.NoError(t, err)
		n := count(d, whereTheyAre(t, p), meansTheSame(t, p, d), tell)
		tell("%s: %s", spoken, n)
		standIns = standIns.plus(n)
	}
	for _, l := range layouts {
		root := t.TempDir()
		truth := l.write(t, root)
		d, err := discover.Discover(t.Context(), discover.Options{Name: "found", Root: root, Stores: storeOptions(root)})
		require.NoError(t, err)
		n := count(d, truth, func(string) bool { return true }, tell)
		tell("%s: %s", l.name, n)
		others = others.plus(n)
	}
	return standIns, others
}

// TestDiscoveryIsRightWhereItIsSure holds the floor; the figures themselves are printed by scripts/bench.
func TestDiscoveryIsRightWhereItIsSure(t *testing.T) {
	tell := func(string, ...any) {}
	if testing.Verbose() {
		tell = t.Logf
	}
	standIns, others := discovered(t, tell)
	tell("stand-ins: %s", standIns)
	tell("other layouts: %s", others)
	for _, n := range []tally{standIns, others} {
		assert.GreaterOrEqual(t, float64(n.found)/float64(n.present), 0.6)
		assert.GreaterOrEqual(t, float64(n.right)/float64(n.sure), 0.95)
	}
}

func TestADraftIsADialect(t *testing.T) {
	p := place(t, copperbeckAligned(), "hobnail")
	d, err := discover.Discover(t.Context(), discover.Options{Name: "found", Root: p.root, Stores: p.options})
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "found.yaml"), d.YAML(), 0o600))
	spoken, err := dialect.Load("./found.yaml", dir)
	require.NoError(t, err, string(d.YAML()))
	assert.Len(t, spoken.Settings, d.Certain())
	assert.NotContains(t, string(d.YAML()), p.secret)
}
