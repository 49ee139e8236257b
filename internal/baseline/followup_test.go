package baseline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

func TestAMistakeInAFollowUpIsAnError(t *testing.T) {
	for want, extra := range map[string]string{
		"has a condition (when)":                   "    follow_up: {after: 3, what: a}\n",
		"says what is to be done":                  "    follow_up: {when: 'true', after: 3}\n",
		"has a day (on), or a number of days":      "    follow_up: {when: 'true', what: a}\n",
		"or a number of days after it":             "    follow_up: {when: 'true', what: a, after: 3, on: 'taken'}\n",
		"after is a number of days":                "    follow_up: {when: 'true', what: a, after: -3}\n",
		"a bool is needed":                         "    follow_up: {when: '1 + 1', what: a, after: 3}\n",
		"it gives a string":                        "    follow_up: {when: 'true', what: a, on: '\"2027-01-01\"'}\n",
		`there is nothing called "settings.sit"`:   "    follow_up: {when: 'settings.sit == \"\"', what: a, after: 3}\n",
		`there is nothing called "settings.sites"`: "    follow_up: {when: 'true', what: 'a {settings.sites}', after: 3}\n",
	} {
		_, err := own{extra: extra}.load(t)
		assert.ErrorContains(t, err, want)
	}
}

func TestFollowUps(t *testing.T) {
	until := time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	s := snapshot(reading(facts.Settings, "site.title", facts.TextOf(facts.String, "A")), reading(facts.Intent, "maintenance_until", facts.NumberOf(facts.Date, until.Unix())))
	s.Taken = time.Date(2026, 11, 23, 22, 0, 0, 0, time.UTC)
	ask := func(extra string) []facts.FollowUp {
		return judge(t, own{holds: `'settings.site.title != ""'`, extra: extra}, s).FollowUps
	}
	counted := ask("    follow_up: {when: 'settings.site.title == \"A\"', after: 30, what: 'Look at {settings.site.title}.'}\n")
	require.Len(t, counted, 1, "whether the rule holds or not")
	assert.Equal(t, facts.FollowUp{UID: counted[0].UID, Rule: "titles.mine", On: "2026-12-23", After: 30, What: "Look at A."}, counted[0])

	dated := ask("    follow_up: {when: 'true', on: 'intent.maintenance_until - duration(\"48h\")', what: a}\n")
	require.Len(t, dated, 1)
	assert.Equal(t, facts.Day("2026-11-29"), dated[0].On)
	assert.Equal(t, counted[0].UID, dated[0].UID, "the same rule about the same thing")

	assert.Empty(t, ask("    follow_up: {when: 'settings.site.title == \"B\"', after: 30, what: a}\n"))
	assert.Empty(t, ask("    follow_up: {when: 'settings.site.tagline == \"\"', after: 30, what: a}\n"), "what could not be seen asks for nothing")
	assert.Empty(t, ask("    follow_up: {when: 'true', on: 'intent.maintenance_until', what: '{settings.site.tagline}'}\n")[0].Subject)
}

func TestFollowUpsOfItems(t *testing.T) {
	s := snapshot()
	s.Taken = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s.Pages = []facts.Page{{Path: "/a/", Title: "A"}, {Path: "/b/", Title: "B"}, {Path: "/c/", Title: "A"}}
	all := judge(t, own{each: "live.pages as page", holds: `'page.title != ""'`, extra: "    follow_up: {when: 'page.title == \"A\"', after: 7, what: 'Look at {page.path}.'}\n"}, s).FollowUps
	require.Len(t, all, 2)
	assert.Equal(t, "/a/", all[0].Subject)
	assert.Equal(t, "Look at /c/.", all[1].What)
	assert.NotEqual(t, all[0].UID, all[1].UID)
	assert.True(t, all[0].Due(s.Taken.AddDate(0, 0, 7)))
	assert.False(t, all[0].Due(s.Taken.AddDate(0, 0, 6)))
}
