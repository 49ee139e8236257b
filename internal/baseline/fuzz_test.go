package baseline

import (
	"os"
	"path/filepath"
	"testing"

	"weltaxis/internal/facts"
)

// FuzzRules holds that no file of rules makes loading, compiling or judging panic.
func FuzzRules(f *testing.F) {
	f.Add("rules:\n  - {id: titles.mine, severity: low, holds: 'settings.site.title == \"x\"', says: \"{settings.site.title}\", expected: e, why: w, fix: {risk: safe, steps: [do]}}\n")
	f.Add("limits: {title_chars: {type: int, value: \"5\", means: m}}\n")
	f.Add("rules:\n  - id: titles.mine\n    each: live.pages as page\n    severity: [{if: page.noindex, is: high}, {is: low}]\n    holds: page.title.matches('(a+)+')\n")
	name := filepath.Join(f.TempDir(), "own.yaml")
	s := &facts.Snapshot{}
	s.Add(facts.SiteTitle.Reading("title", facts.Origin{}))
	s.Pages = []facts.Page{{Path: "/", Title: "aaaaaaaaaaaaaaaaaaaaaaaa"}}
	f.Fuzz(func(t *testing.T, text string) {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		b, err := Load(name)
		if err != nil {
			return
		}
		var own []string
		for _, r := range b.Rules {
			if !r.builtIn {
				own = append(own, r.ID)
			}
		}
		if len(own) == 0 || b.Compile(own...) != nil || b.CheckMessages() != nil {
			return
		}
		b.Judge(s)
	})
}
