package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/jpeg"
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"weltaxis/internal/audit"
	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/history"
	"weltaxis/internal/pace"
	"weltaxis/internal/report"
)

// attacks are what a site may put wherever it has a say, each to be shown as the text that it is.
var attacks = []string{`</title><script>alert(1)</script>`, `"><img src=https://evil.example/x onerror=alert(2)>`, `<style>*{background:url(https://evil.example/y)}</style>`, `{{.Policy}} javascript:alert(3)`,
	"a\x1b[31m\u202eb\u2028\x00", `</article></main><base href=https://evil.example/>`, `--><iframe srcdoc="<script>alert(4)</script>">`, `' onfocus='alert(5)' autofocus x='`}

// letterOfAttacks is an author's word that somebody else had a hand in.
const letterOfAttacks = "# Dear client\n\n##### In short\n\nAll *will* be well, see [here](https://a.example/fine).\n\n<script>alert(1)</script> <style>*{}</style> <base href=https://evil.example>\n\n" +
	"<div id=report style='position:fixed' onclick='alert(2)'>x</div>\n\n[a](javascript:alert(3)) [b](data:text/html,x) ![c](https://evil.example/p.png) <img src=x onerror=alert(4)> <form action=https://evil.example><input name=password></form>\n\n" +
	"| when | what |\n|---|---|\n| today | titles |\n\n\x1b[31m\u202ered\n"

// largeReport is one of a site whose pages have what is wrong in their own words.
func largeReport(t testing.TB, pages int, words []string, only ...string) *report.Report {
	rules, err := baseline.Load()
	require.NoError(t, err)
	require.NoError(t, rules.Compile(only...))
	say := func(i int) string { return words[i%len(words)] }
	s := &facts.Snapshot{Format: facts.SnapshotFormat, Site: say(0), Taken: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), Seen: facts.Seen{Gaps: []facts.Gap{{Source: facts.Live, Because: say(1)}}, Links: []facts.Link{}, Spellings: []facts.Spelling{}},
		Sources: []facts.Asked{{Source: facts.Live, Where: say(2)}, {Source: facts.Settings, Where: say(3)}}}
	s.Add(facts.Reading{Source: facts.Intent, Name: "stage", Value: facts.TextOf(facts.Words, "live")}, facts.Reading{Source: facts.Intent, Name: "brand", Value: facts.TextOf(facts.String, say(4))},
		facts.SiteTitle.Reading(say(5), facts.Origin{File: say(6), Row: say(7), Screen: say(0)}), facts.SiteTagline.Reading(say(1), facts.Origin{File: say(2)}))
	for i := range pages {
		path := fmt.Sprintf("/%d-%s", i, say(i))
		if i == 0 {
			path = "/"
		}
		s.Pages = append(s.Pages, facts.Page{Address: "https://a.example" + path, Path: path, Kind: "content", Status: 200, Linked: true, Title: say(i), Titles: 2, Description: say(i + 1), Descriptions: 2, Robots: say(i + 2), Indexable: true,
			Canonicals: 2, CanonicalWorks: "answers", Charset: say(i + 3), Headings: i % 3, CardTitle: say(i + 4), CardText: say(i + 5), CardImage: say(i + 6), CardUnseen: say(i + 7), Language: say(i), Weight: i % 40, Sent: i % 9000})
	}
	inside(s, say)
	return report.New(audit.Judge(rules, s, audit.Options{Only: only}))
}

// inside adds what is only shown, and not judged, or nowhere listed: pictures, times, files, signs.
func inside(s *facts.Snapshot, say func(int) string) {
	var drawn bytes.Buffer
	_ = jpeg.Encode(&drawn, image.NewRGBA(image.Rect(0, 0, 30, 16)), nil)
	for i := range 8 {
		s.Pictures = append(s.Pictures, facts.Picture{Address: say(i), Small: [][]byte{drawn.Bytes(), []byte(say(i))}[i%2]})
		s.Repeats = append(s.Repeats, facts.Repeat{Path: say(i), Kind: "content", Asks: 6, Hits: i % 6, Then: "hit", FirstBytes: []float64{1, 2, 3, 200 * float64(i)}, AroundBytes: []float64{4, 5, 6}, GainWhy: say(i)})
		s.Classes = append(s.Classes, facts.Class{Role: "code", Kind: "file", Mode: "0644", Owner: say(i), Group: say(i + 1), Count: 4, Paths: []string{say(i)}})
		s.Signs = append(s.Signs, facts.Telling{Gives: "extension", Name: say(i), Version: say(i), Sure: "certain", Place: "tag", Says: say(i)})
	}
	s.Repeats = append(s.Repeats, facts.Repeat{Path: "/", Kind: "home", Asks: 3, FirstBytes: []float64{0, 0, 0}})
}

// keptWith is what is kept of a site that had its say in it.
func keptWith(r *report.Report, say string) report.Kept {
	k := report.Kept{Signs: &facts.Snapshot{Taken: r.Taken.Add(-48 * time.Hour), Seen: facts.Seen{Signs: []facts.Telling{{Gives: "theme", Name: say, Place: "tag", Says: say}}}}}
	for i := range 5 {
		aligned, first := float64(i)/10, 10*i
		k.Audits = append(k.Audits, history.Audit{ID: int64(i + 1), Taken: r.Taken.Add(time.Duration(i-5) * 24 * time.Hour), Alignment: &aligned, Counts: map[facts.Severity]int{facts.High: 9 - i}, Measures: history.Measures{FirstByte: &first}})
	}
	k.Audits[2].Measures.FirstByte = nil
	k.Pace = &pace.Run{Taken: r.Taken}
	for _, p := range r.Snapshot.Pages[:min(len(r.Snapshot.Pages), 5)] {
		k.Pace.Pages = append(k.Pace.Pages, pace.Page{Address: p.Address, Path: p.Path, Failed: say, Laps: []pace.Lap{{Outcome: "hit", First: 1}, {Outcome: "hit", First: 2}, {Outcome: "miss", First: 40}}})
	}
	run := r.Taken.Add(-24 * time.Hour).Format("20060102T150405")
	for i, event := range []string{fix.Done, fix.Done, fix.TakenBackByUndo, fix.TakenBack, fix.Failed} {
		k.Changes = append(k.Changes, fix.LogLine{Run: run, ID: i + 1, At: r.Taken, Event: event, Kind: fix.Setting, Name: say, From: say, To: say})
	}
	k.Runs = []*report.Work{{Run: run, After: 1, Changes: []report.Made{{Result: fix.Took}, {Result: fix.Failed}}, Settled: []report.Brief{{Rule: "a.b", Says: say}}}}
	return k
}

// laid is a report's page, and what a browser makes of it.
func laid(t testing.TB, r *report.Report) (string, *html.Node) {
	var out bytes.Buffer
	require.NoError(t, HTML(&out, report.DocumentOf(r, keptWith(r, r.Site)), letterOfAttacks))
	tree, err := html.Parse(bytes.NewReader(out.Bytes()))
	require.NoError(t, err)
	return out.String(), tree
}

// clients is the report's page for whoever the site is kept for.
func clients(t testing.TB, r *report.Report) (string, *html.Node) {
	var out bytes.Buffer
	require.NoError(t, ClientHTML(&out, report.ClientOf(r, keptWith(r, "INSIDE")), letterOfAttacks))
	tree, err := html.Parse(bytes.NewReader(out.Bytes()))
	require.NoError(t, err)
	return out.String(), tree
}

// eachPage runs a test of both pages.
func eachPage(t *testing.T, test func(t *testing.T, lay func(testing.TB, *report.Report) (string, *html.Node))) {
	t.Run("administrator", func(t *testing.T) { test(t, laid) })
	t.Run("client", func(t *testing.T) { test(t, clients) })
}

// all are the elements of a kind, in their order.
func all(n *html.Node, kind atom.Atom) (found []*html.Node) {
	for c := range n.Descendants() {
		if c.Type == html.ElementNode && c.DataAtom == kind {
			found = append(found, c)
		}
	}
	return found
}

// tableRows are the rows of the table whose caption begins so.
func tableRows(t testing.TB, tree *html.Node, caption string) []*html.Node {
	for _, table := range all(tree, atom.Table) {
		if of := all(table, atom.Caption); len(of) == 1 && strings.HasPrefix(words(of[0]), caption) {
			return all(all(table, atom.Tbody)[0], atom.Tr)
		}
	}
	require.Fail(t, "there is no table of "+caption)
	return nil
}

func attribute(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

func words(n *html.Node) string {
	var b strings.Builder
	for c := range n.Descendants() {
		if c.Type == html.TextNode {
			b.WriteString(c.Data)
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

func TestAPageLoadsNothingAndRunsNothingOfOthers(t *testing.T) { eachPage(t, loadsNothing) }

func loadsNothing(t *testing.T, lay func(testing.TB, *report.Report) (string, *html.Node)) {
	markup, tree := lay(t, largeReport(t, 20, attacks))
	_, calm := lay(t, largeReport(t, 20, []string{"calm"}))
	for _, kind := range []atom.Atom{atom.Script, atom.Style, atom.Title, atom.Meta, atom.Main, atom.Header, atom.Footer} {
		assert.Len(t, all(tree, kind), len(all(calm, kind)), kind)
	}
	for _, kind := range []atom.Atom{atom.Img, atom.Iframe, atom.Base, atom.Form, atom.Object, atom.Embed, atom.Video, atom.Audio} {
		assert.Empty(t, all(tree, kind), kind)
	}
	require.Len(t, all(tree, atom.Link), 1, "no icon is asked for")
	assert.Equal(t, "data:,", attribute(all(tree, atom.Link)[0], "href"))
	require.Len(t, all(tree, atom.Script), 1)
	policy := attribute(all(tree, atom.Meta)[1], "content")
	assert.True(t, strings.HasPrefix(policy, "default-src 'none'; "), policy)
	assert.NotContains(t, policy, "unsafe")
	assert.Contains(t, policy, "script-src "+sourceHash(all(tree, atom.Script)[0].FirstChild.Data), "what runs is what the policy names")
	assert.Contains(t, policy, "style-src "+sourceHash(all(tree, atom.Style)[0].FirstChild.Data))
	for n := range tree.Descendants() {
		for _, a := range n.Attr {
			assert.False(t, strings.HasPrefix(a.Key, "on") || a.Key == "style" || a.Key == "src" || a.Key == "srcdoc" || a.Key == "autofocus", "%s of %s", a.Key, n.Data)
			if a.Key == "href" {
				assert.Regexp(t, `^(#[a-z]+(-[a-z0-9]+)*|https://a.example/fine|data:,|data:image/jpeg;base64,[A-Za-z0-9+/]+=*)$`, a.Val)
			}
		}
	}
	for _, r := range []string{"\x1b", "\u202e", "\u2028", "\x00"} {
		assert.NotContains(t, markup, r)
	}
	said := words(tree)
	for _, attack := range []string{attacks[0], attacks[2], attacks[6]} {
		assert.Contains(t, said, attack, "it is shown, as the text that it is")
	}
}

func TestAPageIsAtHomeWithKeyboardAndReader(t *testing.T) { eachPage(t, isAtHome) }

func isAtHome(t *testing.T, lay func(testing.TB, *report.Report) (string, *html.Node)) {
	_, tree := lay(t, largeReport(t, 20, attacks))
	assert.Equal(t, "en", attribute(all(tree, atom.Html)[0], "lang"))
	assert.Len(t, all(tree, atom.H1), 1)
	names := map[string]bool{}
	for n := range tree.Descendants() {
		if id := attribute(n, "id"); id != "" {
			assert.False(t, names[id], "%s is there twice", id)
			names[id] = true
		}
	}
	for _, a := range all(tree, atom.A) {
		if to, within := strings.CutPrefix(attribute(a, "href"), "#"); within {
			assert.True(t, names[to], to)
		}
		assert.NotEmpty(t, words(a))
	}
	for _, s := range all(tree, atom.Section) {
		assert.True(t, names[attribute(s, "aria-labelledby")])
	}
	require.Greater(t, len(all(tree, atom.Table)), 1)
	for _, table := range all(tree, atom.Table)[1:] { // the first is the author's
		require.Len(t, all(table, atom.Caption), 1)
		width := len(all(all(table, atom.Thead)[0], atom.Th)) + len(all(all(table, atom.Thead)[0], atom.Td))
		for _, row := range all(all(table, atom.Tbody)[0], atom.Tr) {
			assert.Equal(t, width, len(all(row, atom.Td))+len(all(row, atom.Th)), words(row))
			assert.Equal(t, "row", attribute(all(row, atom.Th)[0], "scope"))
		}
	}
	charts := 0
	for _, svg := range all(tree, atom.Svg) {
		if attribute(svg, "aria-hidden") == "true" { // the numbers stand beside it
			continue
		}
		charts++
		assert.Equal(t, "img", attribute(svg, "role"))
		assert.NotEmpty(t, attribute(svg, "aria-label"))
	}
	assert.Greater(t, charts, 5)
	for _, field := range all(tree, atom.Input) {
		assert.Equal(t, atom.Label, field.Parent.DataAtom)
	}
	level := 1
	for n := range tree.Descendants() {
		if n.DataAtom == atom.H1 || n.DataAtom == atom.H2 || n.DataAtom == atom.H3 {
			next := int(n.Data[1] - '0')
			assert.LessOrEqual(t, next, level+1, words(n))
			assert.NotEmpty(t, words(n))
			level = next
		}
	}
}

// A client reads the baseline's own words, counts, and what every visitor sees of pages that may be listed: nothing else that the
// site, its site file or its server said stands in the markup.
func TestAClientIsToldNothingOfTheInside(t *testing.T) {
	r := largeReport(t, 20, []string{"INSIDE"})
	r.Site = "Lantern Lane"
	for i := range r.Snapshot.Pages {
		r.Snapshot.Pages[i].Indexable = i > 0
	}
	r.Snapshot.Pages = append(r.Snapshot.Pages, facts.Page{Address: "https://a.example/gate/", Path: "/gate/", Kind: "sign-in", Status: 200, Linked: true, Indexable: true, Title: "INSIDE"})
	home := &r.Snapshot.Pages[0]
	home.Title, home.Description, home.CardTitle, home.CardText, home.CardImage, home.Language = "Front of house", "Every evening at eight", "", "", "https://a.example/INSIDE.png", "en"
	r.Words.Gaps, r.Words.Due, r.Words.Lapsed = []string{"INSIDE"}, []string{"INSIDE"}, []string{"INSIDE", "INSIDE"}
	r.Words.Accepted = []report.Accepted{{Rule: "titles.site-own", Says: "INSIDE", Because: "INSIDE"}}
	administrators, _ := laid(t, r)
	markup, tree := clients(t, r)
	assert.Contains(t, administrators, "titles.site-own")
	for _, d := range r.Deviations {
		assert.NotContains(t, markup, d.Rule)
	}
	for _, command := range []string{"weltaxis ", "site.title", "intent.", "weltaxis.yaml"} {
		assert.NotContains(t, strings.ToLower(words(all(tree, atom.Body)[0])), command)
	}
	rows := tableRows(t, tree, "Pages that search engines may list")
	assert.Len(t, rows, 19, "what may not be listed is not shown")
	shown := append(rows, tableRows(t, tree, "The heaviest pages")...)
	for _, details := range all(tree, atom.Details) {
		if attribute(details, "class") == "others" {
			assert.Len(t, all(details, atom.Details), 19, "nor how it is found")
			shown = append(shown, details)
		}
	}
	for _, n := range shown {
		n.Parent.RemoveChild(n)
	}
	var rest bytes.Buffer
	require.NoError(t, html.Render(&rest, tree))
	assert.NotContains(t, rest.String(), "INSIDE")
	for _, said := range []string{"Search engines do not show it.", "a.example Front of house Every evening at eight", "a picture that could not be looked at a.example Front of house Every evening at eight", "1 thing that was asked for could not be seen.", "1 matter was accepted", "2 acceptances are over.", "8 signs tell strangers what the site runs on; at the look of 21 November 2026, 12:00 UTC it was 1.", "4 changes were made, 1 seen to have taken; 1 matter deviated no more; 1 taken back at once", "1 matter to come back to now.", "could not be judged"} {
		assert.Contains(t, words(tree), said)
	}
}

func TestARunIsAPage(t *testing.T) {
	attack := strings.Join(attacks, " ")
	work := &report.Work{Run: "20260306T120000", Site: attack, Before: 1, After: 2, Found: []report.Brief{{Rule: "a.one", Severity: facts.High, Count: 2, Says: attack}, {Rule: "a.two", Severity: facts.Low, Says: "small"}},
		Settled: []report.Brief{{Rule: "a.one", Severity: facts.High, Count: 2, Says: attack}}, Left: []report.Brief{{Rule: "a.two", Severity: facts.Low, Says: "small"}},
		Changes: []report.Made{{Change: 3, What: attack, Place: attack, From: "old title", To: attack, Result: fix.Took}, {What: "b", Result: fix.Failed, Says: attack}}, Waits: []report.Waiting{{What: "b", For: "root", Steps: []string{attack}}}}
	lay := func() (string, *html.Node) {
		var out bytes.Buffer
		require.NoError(t, WorkHTML(&out, work))
		tree, err := html.Parse(bytes.NewReader(out.Bytes()))
		require.NoError(t, err)
		return out.String(), tree
	}
	markup, tree := lay()
	for _, kind := range []atom.Atom{atom.Img, atom.Iframe, atom.Base, atom.Form} {
		assert.Empty(t, all(tree, kind), kind)
	}
	assert.Len(t, all(tree, atom.Script), 1)
	assert.NotContains(t, markup, "\x1b")
	said := words(tree)
	for _, want := range []string{"2 changes: 1 seen to have taken. Of what deviated 1 matter does no more.", "What deviates no more", "What still deviates", "b: root", "audits 1 and 2"} {
		assert.Contains(t, said, want)
	}
	assert.NotContains(t, said, "Nobody could look")
	cells := all(all(all(tree, atom.Table)[0], atom.Tbody)[0], atom.Td)
	assert.Equal(t, "old title", words(cells[0]))
	assert.Len(t, cells, 8)

	work.After, work.Settled, work.Left = 0, nil, nil
	_, tree = lay()
	assert.Contains(t, words(tree), "2 changes; nobody could look afterwards.")
	assert.Contains(t, words(tree), "All that deviated before the run.")
	assert.NotContains(t, words(tree), "deviates no more")
}

func TestWhatNobodySeesIsShown(t *testing.T) {
	for text, want := range map[string]string{"提灯\u3000人形劇": "提灯\u3000人形劇", "👨\u200d👩\u200d👧": "👨\u200d👩\u200d👧", "نمی\u200cخواهم": "نمی\u200cخواهم", "Donau\u00addampf a\tb\u00a0c\u2009d\n": "Donau\u00addampf a\tb\u00a0c\u2009d\n",
		"a\u202eb\u2066c\u200fd": "a�b�c�d", "a\x1b[2J\x00\r\u2028\u2029": "a�[2J����", "a\u200bb\ufeffc\U000e0041": "a�b�c�"} {
		assert.Equal(t, want, string(readable([]byte(text))), "%q", text)
	}
}

func TestAStepIsASentence(t *testing.T) {
	for step, want := range map[string]string{"set debug.on to no": "Set debug.on to no.", "öffne das Tor": "Öffne das Tor.", "Look again.": "Look again.", "is it yours?": "is it yours?", "": "", "漢字": "漢字.", "x ": "X."} {
		assert.Equal(t, want, sentence(step))
	}
}

func TestAWordBeforeIsALetter(t *testing.T) {
	word, err := letter(letterOfAttacks)
	require.NoError(t, err)
	assert.Contains(t, string(word), "<h3>Dear client</h3>")
	assert.Contains(t, string(word), "<h3>In short</h3>")
	assert.Contains(t, string(word), `All <em>will</em> be well, see <a href="https://a.example/fine" rel="noreferrer">here</a>.`)
	assert.Contains(t, string(word), "<td>titles</td>")
	for _, never := range []string{"script", "style", "base", "onclick", "onerror", "img", "form", "input", "evil", "id=", "data:"} {
		assert.NotContains(t, string(word), never)
	}
	none, err := letter("")
	require.NoError(t, err)
	assert.Empty(t, none)
	_, tree := clients(t, largeReport(t, 1, []string{"calm"}))
	assert.Equal(t, "A word before", words(all(tree, atom.H2)[0]), "it stands on top")
}

// Neither is a rule named when only some were asked for, nor what deviates told of where somebody else may get hold of something.
func TestAClientIsToldOfNoWayIn(t *testing.T) {
	r := largeReport(t, 3, []string{"calm"}, "titles.site-own")
	markup, tree := clients(t, r)
	assert.Contains(t, r.Words.Stands, "titles.site-own")
	assert.NotContains(t, markup, "titles.site-own")
	assert.Contains(t, words(tree), "Of a part of the rules: nothing deviates")

	r = largeReport(t, 3, []string{"calm"})
	r.Words.Entries = nil
	for _, id := range []string{"identity.admin-mail", "aliases.known", "metadata.verification-known-declared", "caching.private"} {
		area, _, _ := strings.Cut(id, ".")
		r.Words.Entries = append(r.Words.Entries, report.Entry{Rule: id, Area: area, Severity: facts.Medium, Count: 1})
	}
	markup, tree = clients(t, r)
	for _, e := range r.Words.Entries {
		if rule, known := r.Rules.Rule(e.Rule); known {
			assert.NotContains(t, words(tree), strings.Join(strings.Fields(rule.Why), " "), e.Rule)
		}
	}
	assert.Equal(t, 4, strings.Count(markup, "1 matter deviates: 1 medium."))
}

// What would help whoever means harm is counted, with how bad it is, and what is urgent is said to be.
func TestAnUrgentMatterIsSaidToBeOne(t *testing.T) {
	r := largeReport(t, 5, []string{"calm"})
	guarded, kept := "hardening", "permissions"
	r.Words.Entries = []report.Entry{{Rule: "hardening.nothing-leaks", Area: guarded, Severity: facts.Critical, Count: 1, Says: []string{"INSIDE"}, Expected: "INSIDE"},
		{Rule: "permissions.files", Area: kept, Severity: facts.High, Count: 3, Says: []string{"INSIDE"}}, {Rule: "titles.mine", Area: "titles", Severity: facts.Low, Says: []string{"INSIDE"}}}
	r.Words.First = []report.First{{Rule: "hardening.nothing-leaks", Says: "INSIDE", Do: "INSIDE"}, {Rule: "titles.site-own", Says: "INSIDE"}}
	markup, tree := clients(t, r)
	assert.NotContains(t, markup, "INSIDE")
	said := words(tree)
	for _, want := range []string{"An urgent matter of hardening. The administrator has been told", "1 matter deviates: 1 critical. What is critical is urgent.", "1 matter deviates: 1 high.", "1 matter deviates: 1 low.", "The site's title stands in every browser tab"} {
		assert.Contains(t, said, want)
	}
}

// The same facts in text, JSON and HTML, of a site of more than 500 pages, and no larger than one can send.
func TestThePageHasTheNumbersOfTheOtherForms(t *testing.T) {
	const many = 560
	r := largeReport(t, many, append([]string{"calm", "A house on the lane", strings.Repeat("long words ", 12)}, attacks...))
	markup, tree := laid(t, r)
	text := strings.Join(strings.Fields(lay(r, MaxWidth, Usual)), " ")
	var out bytes.Buffer
	require.NoError(t, JSON(&out, r))
	var back struct {
		Deviations []struct{ Rule string }
		Held       []string
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &back))
	require.Greater(t, len(back.Deviations), 3000)
	perRule := map[string]int{}
	for _, d := range back.Deviations {
		perRule[d.Rule]++
	}

	held, deviate := 0, 0
	for _, row := range tableRows(t, tree, "Rules of each area") {
		cells := all(row, atom.Td)
		h, err := strconv.Atoi(words(cells[1]))
		require.NoError(t, err)
		d, err := strconv.Atoi(words(cells[2]))
		require.NoError(t, err)
		held, deviate = held+h, deviate+d
	}
	assert.Equal(t, len(back.Held), held)
	assert.Equal(t, len(perRule), deviate)
	assert.Contains(t, text, fmt.Sprintf("%d of %d rules hold", held, held+deviate))
	assert.Contains(t, words(tree), r.Words.Stands)
	assert.Contains(t, text, r.Words.Stands)

	seen := map[string]int{}
	for _, entry := range all(tree, atom.Article) {
		heading := all(entry, atom.H3)[0]
		rule, count := words(all(heading, atom.Span)[1]), 1
		if _, times, repeated := strings.Cut(words(heading), "×"); repeated {
			var err error
			count, err = strconv.Atoi(times)
			require.NoError(t, err)
		}
		seen[rule] += count
	}
	for rule, count := range perRule {
		assert.Equal(t, count, seen[rule], rule)
	}
	assert.Len(t, tableRows(t, tree, "The pages that were seen"), many)
	assert.LessOrEqual(t, len(markup), 3<<19, "1.5 MB")
	t.Logf("%d pages with %d deviations: %d bytes", many, len(back.Deviations), len(markup))
}

// The look's own colours, in light, in dark and on paper: what is written is told from what it is written on (WCAG 2.2, success
// criterion 1.4.3: 4.5 to 1), and what only marks from what is beside it (1.4.11: 3 to 1).
func TestColoursAreToldApart(t *testing.T) {
	colours := regexp.MustCompile(`--([a-z]+): #([0-9a-f]{3,6})`)
	looks := 0
	for _, root := range regexp.MustCompile(`(?s):root \{(.*?)\}`).FindAllStringSubmatch(documentStyle, -1) {
		light := map[string]float64{}
		for _, c := range colours.FindAllStringSubmatch(root[1], -1) {
			light[c[1]] = luminance(t, c[2])
		}
		require.Len(t, light, 7, root[1])
		looks++
		for _, paper := range []string{"paper", "sheet"} {
			for _, ink := range []string{"ink", "quiet", "name", "loud"} {
				assert.GreaterOrEqual(t, contrast(light[paper], light[ink]), 4.5, "%s on %s of %s", ink, paper, root[1])
			}
		}
	}
	assert.Equal(t, 3, looks)
	assert.InDelta(t, 21, contrast(luminance(t, "000"), luminance(t, "ffffff")), 0.001)
	assert.InDelta(t, 4.54, contrast(luminance(t, "767676"), luminance(t, "fff")), 0.01)
}

// luminance is the relative luminance of a colour (WCAG 2.2, relative luminance).
func luminance(t *testing.T, colour string) float64 {
	if len(colour) == 3 {
		colour = strings.Repeat(colour[:1], 2) + strings.Repeat(colour[1:2], 2) + strings.Repeat(colour[2:], 2)
	}
	sum := 0.0
	for i, weight := range []float64{0.2126, 0.7152, 0.0722} {
		v, err := strconv.ParseUint(colour[2*i:2*i+2], 16, 8)
		require.NoError(t, err)
		c := float64(v) / 255
		if c <= 0.04045 {
			c /= 12.92
		} else {
			c = math.Pow((c+0.055)/1.055, 2.4)
		}
		sum += weight * c
	}
	return sum
}

// contrast is that of two luminances (WCAG 2.2, contrast ratio).
func contrast(a, b float64) float64 {
	return (max(a, b) + 0.05) / (min(a, b) + 0.05)
}

// BenchmarkHTML makes the page of a site of 500 pages, beside its JSON.
func BenchmarkHTML(b *testing.B) {
	r := largeReport(b, 500, []string{"calm", "A house on the lane", strings.Repeat("long words ", 12)})
	var page, plain time.Duration
	size := 0
	for b.Loop() {
		var out bytes.Buffer
		start := time.Now()
		require.NoError(b, HTML(&out, report.DocumentOf(r, report.Kept{}), ""))
		page += time.Since(start)
		size = out.Len()
		out.Reset()
		start = time.Now()
		require.NoError(b, JSON(&out, r))
		plain += time.Since(start)
	}
	b.ReportMetric(page.Seconds()/float64(b.N), "s/page")
	b.ReportMetric(float64(page)/float64(plain), "of-JSON")
	b.ReportMetric(float64(size), "bytes")
}
