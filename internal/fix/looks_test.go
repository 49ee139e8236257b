package fix

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// TestWhatIsAskedAgainIsASample: the home page, the sign-in, pages with forms, one of every kind, and no more than twelve.
func TestWhatIsAskedAgainIsASample(t *testing.T) {
	s := &facts.Snapshot{Sources: []facts.Asked{{Source: facts.Live}}}
	s.Add(facts.Reading{Source: facts.Live, Name: "home.status", Value: facts.NumberOf(facts.Int, 200), Origin: facts.Origin{URL: "https://a.example/"}},
		facts.Reading{Source: facts.Live, Name: "login.password", Value: facts.BoolOf(true), Origin: facts.Origin{URL: "https://a.example/enter/"}})
	for i := range 30 {
		page := facts.Page{Address: fmt.Sprintf("https://a.example/%d/", i), Status: 200, Kind: "article"}
		switch i {
		case 27:
			page.Kind = "listing"
		case 28:
			page.Forms = 1
		case 3:
			page.Status = 404
		}
		s.Pages = append(s.Pages, page)
	}
	r := &audit.Result{Snapshot: s, Deviations: []facts.Deviation{{Rule: "a.b", Subject: "x"}, {Rule: "a.b", Subject: "y"}}, Covered: []baseline.Covered{{Rule: "c.d", Subject: "z"}}}
	seen := SeenIn(r)
	assert.Equal(t, map[string][]string{"a.b": {"x", "y"}, "c.d": {"z"}}, seen.Deviating)
	assert.Len(t, seen.Answers, maxSample)
	for _, address := range []string{"https://a.example/", "https://a.example/enter/", "https://a.example/28/", "https://a.example/27/"} {
		assert.Equal(t, 200, seen.Answers[address], address)
	}
	assert.NotContains(t, seen.Answers, "https://a.example/3/", "it did not answer before")

	s.Sources = nil
	assert.Nil(t, SeenIn(r).Answers, "nobody looked")
}

// TestTheGate: what may be made, by risk, by name and by a yes.
func TestTheGate(t *testing.T) {
	s := changing(t)
	all := &Plan{Changes: s.plan(newTitle, debugOff, set("identity.address", facts.Disruptive, "site.address", "https://new.example"), set("a.asks", facts.Safe, "front.page", ""))}
	for _, c := range []struct {
		k    Consent
		want string
	}{
		{Consent{Upto: facts.Safe}, "debug.on"},
		{Consent{Upto: facts.Visible}, "debug.on site.title"},
		{Consent{Upto: facts.Disruptive}, "debug.on site.title"},
		{Consent{Upto: facts.Disruptive, Names: []string{"identity"}}, "debug.on site.title"},
		{Consent{Upto: facts.Disruptive, Names: []string{"identity.address"}}, "debug.on site.title site.address"},
		{Consent{Upto: facts.Disruptive, Names: []string{"site.address"}}, "debug.on site.title site.address"},
		{Consent{Upto: facts.Visible, Names: []string{"site.address"}}, "debug.on site.title"},
	} {
		chosen, rest, err := all.Gate(c.k)
		require.NoError(t, err)
		assert.Equal(t, c.want, names(&Plan{Changes: chosen}), "%+v", c.k)
		assert.Len(t, rest, len(all.Changes)-len(chosen))
		assert.Contains(t, names(&Plan{Changes: rest}), "front.page", "nobody has said its value")
	}
	asked := 0
	yes := func(Change) error { asked++; return nil }
	_, _, err := all.Gate(Consent{Upto: facts.Disruptive, Names: []string{"site.address"}, Yes: yes})
	require.NoError(t, err)
	assert.Equal(t, 1, asked, "only the disruptive one")
	chosen, rest, err := all.Gate(Consent{Upto: facts.Disruptive, Names: []string{"site.address"}, Yes: func(Change) error { return errors.New("no") }})
	assert.ErrorContains(t, err, "nothing was changed: no")
	assert.Empty(t, chosen)
	assert.Empty(t, rest)
}

// TestNothingIsSaidNotToHaveTakenBecauseOfItsNeighbours: what a rule says of others is not the change's.
func TestNothingIsSaidNotToHaveTakenBecauseOfItsNeighbours(t *testing.T) {
	for now, want := range map[string]string{"mine": Stale, "another": Took, "": Took} {
		s := changing(t)
		mine := newTitle
		mine.Subject = "mine"
		report := s.write(s.plan(mine))
		deviating := map[string][]string{}
		if now != "" {
			deviating["titles.site-own"] = []string{now}
		}
		report.compare(Seen{}, Seen{Deviating: deviating})
		assert.Equal(t, want, report.Outcomes[0].Result, now)
	}
}
