package audit

import (
	"fmt"
	"testing"
	"time"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
)

// BenchmarkJudge10000Pages judges a snapshot of 10 000 pages by the whole baseline.
func BenchmarkJudge10000Pages(b *testing.B) {
	rules, err := baseline.Load()
	if err != nil {
		b.Fatal(err)
	}
	if err := rules.Compile(); err != nil {
		b.Fatal(err)
	}
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Taken: time.Now(), Seen: facts.Seen{Gaps: []facts.Gap{}, Links: []facts.Link{}, Spellings: []facts.Spelling{}}}
	said := func(source facts.Source, name string, v facts.Value) {
		s.Add(facts.Reading{Source: source, Name: name, Value: v})
	}
	said(facts.Intent, "stage", facts.TextOf(facts.Words, "live"))
	said(facts.Intent, "brand", facts.TextOf(facts.String, "Lantern Lane"))
	said(facts.Intent, "separator", facts.TextOf(facts.String, "|"))
	said(facts.Live, "home.title", facts.TextOf(facts.String, "Puppet shows | Lantern Lane"))
	said(facts.Live, "home.description", facts.TextOf(facts.String, "Something"))
	for i := range 10_000 {
		path := fmt.Sprintf("/page-%d/", i)
		s.Pages = append(s.Pages, facts.Page{Address: "https://a.example" + path, Path: path, Kind: "content", Status: 200, Linked: true, Title: fmt.Sprintf("Page number %d | Lantern Lane", i), Titles: 1,
			Description: "A description of a page that is long enough for everybody who reads it.", Descriptions: 1, Indexable: true, Canonicals: 1, CanonicalWorks: "answers",
			Charset: "utf-8", CharsetEarly: true, Zoomable: true, Headings: 1, CardTitle: "a", CardText: "b", CardImage: "https://a.example/i.png", CardType: "c", CardWidth: 1200, CardHeight: 630})
	}
	judged := 0
	for b.Loop() {
		r := Judge(rules, s, Options{})
		judged = len(r.Held) + len(r.Deviations)
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N), "s/judging")
	b.ReportMetric(float64(judged), "held-or-deviating")
}
