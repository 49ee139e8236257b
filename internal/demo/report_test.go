package demo

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/render"
	"weltaxis/internal/report"
)

// disordered places one of the sites in disorder.
func disordered(t *testing.T, folder string) *placed {
	t.Helper()
	spoken := map[string]string{"lantern-lane": "brindle", "copperbeck": "hobnail", "saltmarsh": "ostler"}[folder]
	for _, in := range sites() {
		if in.folder == folder {
			return place(t, in, spoken)
		}
	}
	t.Fatalf("there is no site %s", folder)
	return nil
}

// linesADeviation is how many lines of 80 columns a deviation takes on average, at most.
const linesADeviation = 7.25

// TestTheReport holds what people read of each disordered site: it is short, says the risk that the plan will have and
// who notices, and breaks no word.
func TestTheReport(t *testing.T) {
	for _, folder := range []string{"lantern-lane", "copperbeck", "saltmarsh"} {
		t.Run(folder, func(t *testing.T) {
			m := mend(t, disordered(t, folder), true)
			result := m.audit()
			r := report.New(result)
			plan := m.plan(result, nil)
			for _, e := range r.Words.Entries {
				risk, noticed := facts.Risk(0), []facts.Who{}
				for _, c := range plan.Changes {
					if slices.Contains(c.Rules, e.Rule) {
						risk, noticed = max(risk, c.Risk), append(noticed, c.Noticed...)
					}
				}
				assert.Equal(t, risk, e.Risk, e.Rule)
				for _, who := range e.Noticed {
					assert.Contains(t, noticed, who, e.Rule)
				}
			}
			var out bytes.Buffer
			render.Text(render.Sheet{Writer: &out, Width: 80}, r, render.Usual)
			text := ansi.Strip(out.String())
			lines := strings.Split(strings.TrimSpace(text), "\n")
			head := slices.IndexFunc(lines, func(line string) bool { return strings.HasPrefix(line, r.Words.Entries[0].Area+" ─") })
			require.Positive(t, head)
			assert.LessOrEqual(t, head, 19, "what to do first is on the first screen")
			assert.LessOrEqual(t, float64(len(lines)-head), linesADeviation*float64(len(r.Words.Entries))+2*float64(len(slices.Compact(areas(r))))+3)
			for _, e := range r.Words.Entries {
				for word := range strings.FieldsSeq(strings.Join(e.Says, " ")) {
					if len(word) < 60 {
						assert.Contains(t, strings.Fields(text), word, "a word is broken")
					}
				}
			}
		})
	}
}

func areas(r *report.Report) []string {
	var all []string
	for _, e := range r.Words.Entries {
		all = append(all, e.Area)
	}
	return all
}

// TestFirstThings tells what each disordered site is to do first.
func TestFirstThings(t *testing.T) {
	for folder, want := range map[string][]string{
		"lantern-lane": {"permissions.uploads-inert", "hardening.nothing-leaks", "permissions.private-outside"},
		"copperbeck":   {"caching.private", "hardening.nothing-leaks", "hardening.registration-role"},
		"saltmarsh":    {"hardening.secret", "visibility.index-building", "titles.tagline-own"},
	} {
		var got []string
		for _, f := range report.New(mend(t, disordered(t, folder), true).audit()).Words.First {
			assert.NotEmpty(t, f.Do, f.Rule)
			got = append(got, f.Rule)
		}
		assert.Equal(t, want, got, folder)
	}
}

// TestSearchEnginesAreLetInLast, after what they would see, in the plan as in the report; and by name at once.
func TestSearchEnginesAreLetInLast(t *testing.T) {
	m := mend(t, disordered(t, "lantern-lane"), true)
	result := m.audit()
	plan := m.plan(result, nil)
	opens := slices.IndexFunc(plan.Changes, func(c fix.Change) bool { return c.Name == facts.MetaRobotsIndex.Short() })
	require.GreaterOrEqual(t, opens, 0)
	assert.Contains(t, plan.Changes[opens].After, "metadata.site-description")
	for _, c := range plan.Changes[opens:] {
		assert.NotEqual(t, facts.SiteTitle.Short(), c.Name)
	}
	chosen, rest, err := plan.Gate(fix.Consent{Upto: facts.Visible})
	require.NoError(t, err)
	is := func(c fix.Change) bool { return c.Name == facts.MetaRobotsIndex.Short() }
	assert.False(t, slices.ContainsFunc(chosen, is), "a description of the install would be found")
	i := slices.IndexFunc(rest, is)
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, rest[i].Needs, "metadata.site-description")
	chosen, _, err = plan.Gate(fix.Consent{Upto: facts.Visible, Names: []string{"visibility.index-live"}})
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(chosen, is), "who names it knows")
}
