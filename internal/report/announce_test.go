package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// wellSeen is a live site of which all was seen, and nothing deviates.
func wellSeen() *audit.Result {
	s := &facts.Snapshot{}
	s.Add(facts.IntentStage.Reading("live", facts.Origin{}), facts.LivePreferred.Reading(true, facts.Origin{}), facts.IntentTokens.Reading([]string{"A-1"}, facts.Origin{}), facts.IntentTokenFiles.Reading([]string{"proof.html", "other.txt"}, facts.Origin{}),
		facts.Reading{Source: facts.Live, Name: "home.verification", Value: facts.ListOf("A-1", "x")}, facts.LiveTokensMissing.Reading([]string{"other.txt (404)"}, facts.Origin{}))
	r := &audit.Result{Snapshot: s}
	r.Held = []string{"titles.a", "metadata.a", "visibility.a", "permalinks.a"}
	return r
}

// Each thing that stands in the way is said by itself, with what to do.
func TestWhatStandsInTheWayOfTellingEngines(t *testing.T) {
	assert.Empty(t, Obstacles(wellSeen()))
	deviation := func(rule, area string, severity facts.Severity) func(*audit.Result) {
		return func(r *audit.Result) {
			r.Deviations = append(r.Deviations, facts.Deviation{Rule: rule, Area: area, Severity: severity, Says: "It is so."})
		}
	}
	for name, c := range map[string]struct {
		do       func(*audit.Result)
		says, to string
	}{
		"building": {func(r *audit.Result) {
			r.Snapshot.Readings[0] = facts.IntentStage.Reading("building", facts.Origin{})
		}, "its site file says building", "Say intent: {stage: live}"},
		"no stage":               {func(r *audit.Result) { r.Snapshot.Readings = r.Snapshot.Readings[1:] }, "nothing of a stage", "Say intent: {stage: live}"},
		"another address":        {func(r *audit.Result) { r.Snapshot.Readings[1] = facts.LivePreferred.Reading(false, facts.Origin{}) }, "not the site's one true address", "Leave live: {url: ...} out"},
		"critical anywhere":      {deviation("permissions.x", "permissions", facts.Critical), "It is so.", "weltaxis fix permissions.x"},
		"high in titles":         {deviation("titles.x", "titles", facts.High), "It is so.", "weltaxis fix titles.x"},
		"high in metadata":       {deviation("metadata.x", "metadata", facts.High), "It is so.", "weltaxis fix metadata.x"},
		"high in visibility":     {deviation("visibility.x", "visibility", facts.High), "It is so.", "weltaxis fix visibility.x"},
		"high in permalinks":     {deviation("permalinks.x", "permalinks", facts.High), "It is so.", "weltaxis fix permalinks.x"},
		"an area that is unseen": {func(r *audit.Result) { r.Held = r.Held[1:] }, "Nothing of titles could be judged", "weltaxis audit --only titles"},
		"not all was seen": {func(r *audit.Result) {
			r.Snapshot.AddGap(facts.Gap{Source: facts.Live, What: "the site", Kind: facts.Failed, Because: "it refuses us now"})
		}, "Not all could be seen: the site: it refuses us now.", "Look again"},
	} {
		t.Run(name, func(t *testing.T) {
			r := wellSeen()
			c.do(r)
			list := Obstacles(r)
			if assert.Len(t, list, 1) {
				assert.Contains(t, list[0].Says, c.says)
				assert.Contains(t, list[0].Do, c.to)
			}
		})
	}
	for name, do := range map[string]func(*audit.Result){
		"high elsewhere":   deviation("caching.x", "caching", facts.High),
		"medium in titles": deviation("titles.x", "titles", facts.Medium),
		"accepted": func(r *audit.Result) {
			r.Deviations = []facts.Deviation{{Rule: "titles.x", Area: "titles", Severity: facts.High, Accepted: &facts.Acceptance{}}}
		},
		"a gap of the dialect": func(r *audit.Result) { r.Snapshot.AddGap(facts.Gap{Source: facts.Live, Kind: facts.Unmapped}) },
		"a gap of the files":   func(r *audit.Result) { r.Snapshot.AddGap(facts.Gap{Source: facts.Files, Kind: facts.Failed}) },
	} {
		r := wellSeen()
		do(r)
		assert.Empty(t, Obstacles(r), name)
	}
}

func TestWhoseTheSiteIs(t *testing.T) {
	assert.Equal(t, []Proof{{"the tag A-1", true, "stands once on the home page"}, {"the file proof.html", true, "answers"}, {"the file other.txt", false, "does not answer as it should: 404"}}, Proofs(wellSeen()))
	r := wellSeen()
	r.Snapshot.Readings[4].Value = facts.ListOf("A-1", "A-1")
	assert.Equal(t, "stands 2 times on the home page", Proofs(r)[0].Says)
	r.Snapshot.Readings[4].Value = facts.ListOf()
	assert.Equal(t, "does not stand on the home page", Proofs(r)[0].Says)
	r.Snapshot.Readings = r.Snapshot.Readings[:4]
	for _, p := range Proofs(r) {
		assert.False(t, p.Found)
		assert.Equal(t, "nobody could look", p.Says)
	}
}

// What a stranger gets is said in words that fit what was seen.
func TestDoorsInWords(t *testing.T) {
	for want, d := range map[string]facts.Door{
		"the site (200)":                                                       {Kind: facts.HomeDoor, Shows: facts.ShowsSite, Status: 200},
		"the notice (503, again after 1 hour)":                                 {Kind: facts.InnerDoor, Shows: facts.ShowsNotice, Status: 503, Retry: "3600"},
		"the notice (503, again after 1 h 30 min)":                             {Kind: facts.InnerDoor, Shows: facts.ShowsNotice, Status: 503, Retry: "5400"},
		"the notice (503, again after Fri, 27 Nov 2026 10:00:00 GMT)":          {Kind: facts.InnerDoor, Shows: facts.ShowsNotice, Status: 503, Retry: "Fri, 27 Nov 2026 10:00:00 GMT"},
		"the notice (200, out of a cache)":                                     {Kind: facts.HomeDoor, Shows: facts.ShowsNotice, Status: 200, Hit: true},
		"as ever (200)":                                                        {Kind: facts.FeedDoor, Shows: facts.ShowsSite, Status: 200},
		"asks for name and password (401), by 301 to https://www.site.example": {Kind: facts.UnencryptedDoor, Address: "http://www.site.example/", Leads: "https://www.site.example/", First: 301, Shows: facts.ShowsLock, Status: 401},
		"the notice (200), by 302 to https://www.site.example/closed":          {Kind: facts.HomeDoor, Address: "https://www.site.example/", Leads: "https://www.site.example/closed", First: 302, Strays: true, Shows: facts.ShowsNotice, Status: 200},
		"the site (200), by 301 to https://b.example":                          {Kind: facts.OtherNameDoor, Address: "https://a.example/", Leads: "https://b.example/", First: 301, Shows: facts.ShowsSite, Status: 200},
	} {
		assert.Equal(t, want, doorSays(&d))
	}
}
