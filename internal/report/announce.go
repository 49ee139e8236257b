package report

import (
	"fmt"
	"slices"
	"strings"

	"weltaxis/internal/announce"
	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// An Announcement is what search engines are told, or why not, in words.
type Announcement struct {
	Site     string            `json:"site"`
	Address  string            `json:"address"`
	Endpoint string            `json:"endpoint"`
	Refused  []Obstacle        `json:"refused"` // what has to be right before; empty when nothing stands in the way
	Proofs   []Proof           `json:"proofs"`  // tags and files by which engines know whose the site is
	KeyFile  string            `json:"key_file"`
	News     announce.News     `json:"news"`
	Before   int               `json:"told_before"` // addresses that the endpoint has been told of
	Answers  []announce.Answer `json:"answers"`
	Says     string            `json:"says"`
	Sent     bool              `json:"sent"`
}

// An Obstacle is what has to be right before search engines are told, and what to do about it.
type Obstacle struct {
	Rule string `json:"rule"` // "" where it is no rule
	Says string `json:"says"`
	Do   string `json:"do"`
}

// A Proof is a tag or a file by which an engine knows whose the site is.
type Proof struct {
	What  string `json:"what"`
	Found bool   `json:"found"`
	Says  string `json:"says"`
}

// firstImpression are the areas in which nothing high may stand before engines are told.
var firstImpression = []string{"titles", "metadata", "visibility", "permalinks"}

// Obstacles are what has to be right before search engines are told of a site: the first crawl decides the first impression.
func Obstacles(r *audit.Result) (list []Obstacle) {
	list = []Obstacle{}
	stage, known := r.Snapshot.Is(facts.IntentStage.Term)
	if !known || stage.Text() != "live" {
		list = append(list, Obstacle{"", "The site is not live: its site file says " + stageSaid(stage.Text()) + ".", "Say intent: {stage: live} once it is open."})
	}
	for _, d := range r.Deviations {
		grave := d.Severity == facts.Critical || d.Severity == facts.High && slices.Contains(firstImpression, d.Area)
		if !grave || d.Accepted != nil || slices.ContainsFunc(list, func(o Obstacle) bool { return o.Rule == d.Rule }) {
			continue
		}
		list = append(list, Obstacle{d.Rule, d.Says, "weltaxis fix " + d.Rule + " shows what would put it right."})
	}
	return append(list, unseenYet(r)...)
}

func stageSaid(text string) string {
	if text == "" {
		return "nothing of a stage"
	}
	return text
}

// unseenYet are the areas of the first impression of which nothing could be told, or not all.
func unseenYet(r *audit.Result) (list []Obstacle) {
	if address, known := r.Snapshot.Is(facts.LivePreferred.Term); known && !address.Bool() {
		list = append(list, Obstacle{"", "What was looked at is not the site's one true address.", "Leave live: {url: ...} out of the site file for this."})
	}
	for _, g := range r.Snapshot.Gaps {
		if g.Source == facts.Live && g.Kind != facts.Unmapped {
			list = append(list, Obstacle{"", fmt.Sprintf("Not all could be seen: %s: %s.", g.What, strings.TrimSuffix(g.Because, ".")), "Look again when it can be; weltaxis audit says what else was not judged."})
			break
		}
	}
	for _, area := range firstImpression {
		judged := slices.ContainsFunc(r.Held, func(id string) bool { return strings.HasPrefix(id, area+".") }) ||
			slices.ContainsFunc(r.Deviations, func(d facts.Deviation) bool { return d.Area == area })
		if !judged {
			list = append(list, Obstacle{"", "Nothing of " + area + " could be judged.", "weltaxis audit --only " + area + " says what was in the way."})
		}
	}
	return list
}

// Proofs are the tags and files that the site file names, as they are seen from outside.
func Proofs(r *audit.Result) (list []Proof) {
	list = []Proof{}
	said := func(term *facts.Term) []string {
		v, _ := r.Snapshot.Is(term)
		return v.List()
	}
	shown, seen := r.Snapshot.Is(facts.HomeVerification)
	for _, token := range said(facts.IntentTokens.Term) {
		n := 0
		for _, found := range shown.List() {
			if found == token {
				n++
			}
		}
		p := Proof{"the tag " + token, n == 1, "stands once on the home page"}
		switch {
		case !seen:
			p.Says = "nobody could look"
		case n == 0:
			p.Says = "does not stand on the home page"
		case n > 1:
			p.Says = fmt.Sprintf("stands %d times on the home page", n)
		}
		list = append(list, p)
	}
	missing, seen := r.Snapshot.Is(facts.LiveTokensMissing.Term)
	for _, name := range said(facts.IntentTokenFiles.Term) {
		p := Proof{"the file " + name, seen, "answers"}
		if !seen {
			p.Says = "nobody could look"
		}
		for _, wrong := range missing.List() {
			if because, is := strings.CutPrefix(wrong, name+" ("); is {
				p.Found, p.Says = false, "does not answer as it should: "+strings.TrimSuffix(because, ")")
			}
		}
		list = append(list, p)
	}
	return list
}
