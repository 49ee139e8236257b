package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// TestWhatIsDeclaredAndWhatVisitorsGet: stale, not written, overridden or otherwise, and never that it holds.
func TestWhatIsDeclaredAndWhatVisitorsGet(t *testing.T) {
	rules, err := baseline.Load()
	assert.NoError(t, err)
	assert.NoError(t, rules.Compile())
	at := facts.Origin{File: "settings.ini", Line: 3}
	served := func(term *facts.Term, v facts.Value) facts.Reading {
		_, name := facts.SourceOf(term.Name)
		return facts.Reading{Source: facts.Live, Name: name, Value: v, Origin: facts.Origin{URL: "https://site.example/"}}
	}
	text := func(s string) facts.Value { return facts.TextOf(facts.String, s) }
	header := facts.Answer{Kind: "home", Address: "https://site.example/", Cells: facts.Cells{"robots_header": {Value: text("noindex"), Origin: facts.Origin{File: "nginx.conf", Line: 9}}}}
	for name, c := range map[string]struct {
		declared facts.Reading
		shown    *facts.Term
		served   facts.Value
		more     facts.Seen
		how      string
	}{
		"the same":                         {facts.SiteLanguage.Reading("en", at), facts.SiteLanguage.ShownBy, text("en-GB"), facts.Seen{}, ""},
		"another language":                 {facts.SiteLanguage.Reading("en", at), facts.SiteLanguage.ShownBy, text("de"), facts.Seen{}, Otherwise},
		"none":                             {facts.SiteLanguage.Reading("en", at), facts.SiteLanguage.ShownBy, text(""), facts.Seen{}, NotWritten},
		"an old page":                      {facts.SiteLanguage.Reading("en", at), facts.SiteLanguage.ShownBy, text("de"), facts.Seen{Repeats: []facts.Repeat{{Kind: "home", Old: "the language"}}}, Stale},
		"an old page elsewhere":            {facts.SiteLanguage.Reading("en", at), facts.SiteLanguage.ShownBy, text("de"), facts.Seen{Repeats: []facts.Repeat{{Kind: "content", Old: "the title"}}}, Otherwise},
		"a tag that is not there":          {facts.MetaAuthorShown.Reading(true, at), facts.MetaAuthorShown.ShownBy, text(""), facts.Seen{}, NotWritten},
		"a tag that is there all the same": {facts.MetaGeneratorShown.Reading(false, at), facts.MetaGeneratorShown.ShownBy, text("Brindle 4"), facts.Seen{}, Otherwise},
		"no tag as it is said":             {facts.MetaGeneratorShown.Reading(false, at), facts.MetaGeneratorShown.ShownBy, text(""), facts.Seen{}, ""},
		"a header of the web server's":     {facts.MetaRobotsIndex.Reading(true, at), facts.MetaRobotsIndex.ShownBy, text("not listed: the header says so"), facts.Seen{Answers: []facts.Answer{header}}, Overridden},
		"listed as it is said":             {facts.MetaRobotsIndex.Reading(true, at), facts.MetaRobotsIndex.ShownBy, text("listed; its links are not followed"), facts.Seen{}, ""},
		"fewer entries than may be":        {facts.FeedItems.Reading(20, at), facts.FeedItems.ShownBy, facts.NumberOf(facts.Int, 3), facts.Seen{}, ""},
		"more entries than may be":         {facts.FeedItems.Reading(20, at), facts.FeedItems.ShownBy, facts.NumberOf(facts.Int, 30), facts.Seen{}, Otherwise},
		"a token of two":                   {facts.MetaVerification.Reading([]string{"A-1", "B-2"}, at), facts.MetaVerification.ShownBy, text(`<meta name="proof" content="A-1">`), facts.Seen{}, Otherwise},
	} {
		t.Run(name, func(t *testing.T) {
			seen := c.more
			seen.Readings = []facts.Reading{c.declared, served(c.shown, c.served)}
			r := &Result{Rules: rules, Snapshot: &facts.Snapshot{Seen: seen}}
			for _, row := range r.SideBySide(false) {
				if "settings."+row.Setting != c.declared.FullName() {
					continue
				}
				assert.Equal(t, c.how, row.Differs)
				if c.how != "" {
					assert.NotEqual(t, facts.Holds, row.Verdict)
					assert.NotEmpty(t, row.Because)
				}
				return
			}
			assert.Fail(t, "there is no such row")
		})
	}
}
