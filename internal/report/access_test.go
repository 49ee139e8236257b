package report

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// TestAccessTo: everybody who gets at a site stands beside who is meant to; what the site file does not say is unsaid, not wrong.
func TestAccessTo(t *testing.T) {
	text := func(s string) facts.Value { return facts.TextOf(facts.String, s) }
	s := &facts.Snapshot{}
	s.Records = map[string][]facts.Record{
		facts.ListAccounts: {
			{List: facts.ListAccounts, Values: map[string]facts.Value{"name": text("Night Owl"), "role": facts.TextOf(facts.Words, "highest"), "created": facts.NumberOf(facts.Date, 86400), "second_factor": facts.BoolOf(false)}},
			{List: facts.ListAccounts, Values: map[string]facts.Value{"name": text("web-works"), "role": facts.TextOf(facts.Words, "highest")}},
			{List: facts.ListAccounts, Values: map[string]facts.Value{"name": text("a"), "role": facts.TextOf(facts.Words, "lowest")}},
		},
		facts.ListKeys: {{List: facts.ListKeys, Values: map[string]facts.Value{"name": text("k"), "service": text("https://hooks.webworks.example/in"), "kind": facts.TextOf(facts.Words, "call")}}},
	}
	s.Classes = []facts.Class{
		{Role: "config", Kind: "file", Mode: "0644", Owner: "ada", Readers: "everybody", Asked: true, Shared: true, Paths: []string{"a.ini"}},
		{Role: "code", Kind: "file", Mode: "0664", Owner: "ada", Writers: "bob", Asked: true, Paths: []string{"a.php"}},
	}
	s.Add(facts.IntentStaff.Reading([]string{"night_owl"}, facts.Origin{File: "x"}), facts.IntentServices.Reading([]string{"webworks.example"}, facts.Origin{File: "x"}),
		facts.IntentTokens.Reading(nil, facts.Origin{Default: "the site file"}), facts.MetaVerification.Reading([]string{`<meta content="T-1">`}, facts.Origin{File: "x"}))
	a := AccessTo(&audit.Result{Snapshot: s})
	rows := map[string]AccessRow{}
	for _, g := range a.Groups {
		for _, row := range g.Rows {
			rows[g.Name+" "+row.Who] = row
		}
	}
	assert.Equal(t, AccessRow{"Night Owl", "may do everything, without a second factor", "1970-01-02", "", "yes"}, rows["accounts Night Owl"])
	assert.Equal(t, "no", rows["accounts web-works"].Known)
	assert.Equal(t, "unsaid", rows["accounts 1 member"].Known)
	assert.Equal(t, "yes", rows["keys https://hooks.webworks.example/in"].Known)
	assert.Equal(t, "unsaid", rows["tokens T-1"].Known, "no token was named, so none is wrong")
	assert.Equal(t, "reads the secrets", rows["files every other customer of this server"].May)
	assert.Equal(t, "changes what is run", rows["files its owner ada and the account bob"].May)
	assert.Equal(t, 1, a.Unknown)
	assert.Equal(t, 2, a.Known)
	assert.NotEmpty(t, a.Groups[3].Unseen, "that no mailbox was read is said")
}
