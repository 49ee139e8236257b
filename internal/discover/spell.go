package discover

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
)

// translation guesses how a value is spelt; the second result says why nobody should rely on the guess.
func translation(name string, entry facts.Term, c candidate) (dialect.Translation, string) {
	var t dialect.Translation
	unspelt := ""
	switch entry.Type {
	case facts.Bool:
		t.Inverted, unspelt = inverted(name, c)
		if t.Words = foreignYesNo(c.text); t.Words != nil && t.Inverted {
			for stored, neutral := range t.Words {
				t.Words[stored] = map[string]string{"yes": "no", "no": "yes"}[neutral]
			}
			t.Inverted = false
		}
	case facts.Duration:
		t.Unit, unspelt = unitOfTime(name, c)
		if before, _, is := strings.Cut(c.text, "max-age="); is && before == "" {
			t.Wrapped = "max-age={value}"
		}
	case facts.Size:
		t.Unit, unspelt = unitOfSize(c)
	case facts.Pattern:
		t.Placeholders, unspelt = placeholders(name, c.text)
	case facts.List:
		t.Split = separatorOf(c.text, name)
	case facts.Words:
		if !slices.Contains(entry.Words, c.text) {
			unspelt = fmt.Sprintf("what %q means in %s is not known", facts.Shorten(c.text, 24), strings.Join(entry.Words, ", "))
			return t, unspelt
		}
	}
	if unspelt == "" {
		if _, err := t.Value(entry, c.value); err != nil {
			unspelt = "the value is not understood: " + err.Error()
		}
	}
	return t, unspelt
}

// negatives turn a yes into a no.
var negatives = []string{"no", "not", "disable", "disabled", "disallow", "without", "nein", "kein", "sans", "sin", "off", "nofollow", "noindex", "deny", "block"}

// inverted tells whether stored yes means no, by the words of the key.
func inverted(name string, c candidate) (bool, string) {
	flips := 0
	for _, w := range c.words {
		hides := slices.Contains(w.concepts, "hide") && (strings.Contains(name, "index") || strings.Contains(name, "listing"))
		if hides || slices.Contains(negatives, w.text) || w.text == "nofollow" || strings.HasPrefix(w.text, "disable") {
			flips++
		}
	}
	if flips > 1 {
		return false, "the key says no twice"
	}
	return flips == 1, ""
}

// foreignYesNo are the words for yes and no that the value is one of, where every reader does not know them.
func foreignYesNo(text string) map[string]string {
	if _, err := facts.Bool.Parse(text); err == nil {
		return nil
	}
	for _, pair := range [][2]string{{"ja", "nein"}, {"oui", "non"}, {"si", "no"}, {"open", "closed"}, {"enabled", "disabled"}, {"enable", "disable"}, {"allow", "deny"}, {"active", "inactive"}, {"y", "n"}, {"Y", "N"}} {
		if text == pair[0] || text == pair[1] {
			return map[string]string{pair[0]: "yes", pair[1]: "no"}
		}
	}
	return nil
}

func hasWord(c candidate, words ...string) bool {
	return slices.ContainsFunc(append(slices.Clone(c.words), c.around...), func(w word) bool { return slices.Contains(words, w.text) })
}

func unitOfTime(name string, c candidate) (string, string) {
	n, err := strconv.ParseInt(strings.TrimPrefix(strings.TrimSpace(c.text), "max-age="), 10, 64)
	switch {
	case err != nil:
		return "", ""
	case hasWord(c, "minutes", "minute", "min", "mins", "minuten", "minutos", "minuti"):
		return "minutes", ""
	case hasWord(c, "hours", "hour", "stunden", "heures", "horas", "ore"):
		return "hours", ""
	case hasWord(c, "seconds", "second", "sec", "secs", "sekunden", "secondes", "segundos") || strings.HasPrefix(c.text, "max-age="):
		return "seconds", ""
	case hasWord(c, "days", "day", "tage", "jours"):
		return "days", ""
	case n >= 300:
		return "seconds", ""
	case n <= 180 && name == "session.idle":
		return "minutes", ""
	}
	return "minutes", "whether these are seconds or minutes is not known"
}

func unitOfSize(c candidate) (string, string) {
	n, err := strconv.ParseInt(strings.TrimSpace(c.text), 10, 64)
	switch {
	case err != nil:
		return "", ""
	case hasWord(c, "kb", "kib", "kilobytes"):
		return "KiB", ""
	case hasWord(c, "mb", "mib", "megabytes"):
		return "MiB", ""
	case n >= 100_000:
		return "bytes", ""
	case n >= 512:
		return "KiB", ""
	}
	return "MiB", ""
}

// marksOf are the words that stand in marks, and what they stand for.
var marksOf = map[string]map[string]string{
	"title": {"site": "{site}", "sitename": "{site}", "sitetitle": "{site}", "name": "{site}", "s": "{site}", "seite": "{site}", "nomdusite": "{site}",
		"tagline": "{tagline}", "slogan": "{tagline}", "motto": "{tagline}", "t": "{tagline}", "subtitle": "{tagline}", "page": "{page}", "title": "{page}", "pagetitle": "{page}", "p": "{page}", "titel": "{page}", "titre": "{page}", "post": "{page}",
		"archive": "{listing}", "list": "{listing}", "listing": "{listing}", "category": "{listing}", "term": "{listing}", "l": "{listing}", "shelf": "{listing}", "rubrik": "{listing}", "rubrique": "{listing}",
		"sep": "{separator}", "separator": "{separator}", "between": "{separator}", "-": "{separator}", "trenner": "{separator}", "divider": "{separator}"},
	"address": {"name": "{name}", "slug": "{name}", "title": "{name}", "titel": "{name}", "nom": "{name}", "id": "{id}", "no": "{id}", "number": "{id}", "nr": "{id}",
		"year": "{year}", "yyyy": "{year}", "y": "{year}", "jahr": "{year}", "annee": "{year}", "month": "{month}", "mm": "{month}", "m": "{month}", "monat": "{month}", "mois": "{month}", "day": "{day}", "dd": "{day}", "tag": "{day}", "jour": "{day}",
		"category": "{category}", "topic": "{category}", "dept": "{category}", "shelf": "{category}", "section": "{category}", "rubrik": "{category}", "rubrique": "{category}", "author": "{author}", "writer": "{author}", "clerk": "{author}", "hand": "{author}", "autor": "{author}", "auteur": "{author}"},
}

// placeholders reads the marks of a pattern.
func placeholders(name, text string) (map[string]string, string) {
	table := marksOf["title"]
	if strings.HasPrefix(name, "permalink") {
		table = marksOf["address"]
	}
	found := map[string]string{}
	for _, mark := range markShape.FindAllString(text, -1) {
		inner := strings.ToLower(strings.Trim(mark, "%:<{[$#]}> "))
		stands, known := table[inner]
		if mark == "%-" {
			stands, known = "{separator}", true
		}
		if !known {
			return found, fmt.Sprintf("what %s stands for is not known", mark)
		}
		if mark != stands {
			found[mark] = stands
		}
	}
	return found, ""
}

func separatorOf(text, name string) string {
	for _, by := range []string{"\n", ";", "|"} {
		if strings.Contains(text, by) && !strings.Contains(text, ",") {
			return by
		}
	}
	if name == "upload.types" && strings.Contains(text, " ") && !strings.Contains(text, ",") {
		return " "
	}
	return ""
}
