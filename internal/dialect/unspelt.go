package dialect

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

// mark is a mark in a pattern, as neutral values have it.
var mark = regexp.MustCompile(`\{[a-z_]+\}`)

// Unspelt says why a value cannot be written where something is stored that looks like what is given, though it can be read from there: neutral words,
// marks, units and separators are the program's own, and nobody else knows them, so that without the dialect's or the place's own ones visitors would see
// them. "" where nothing stands in the way. What is stored there already always can be.
func (t Translation) Unspelt(entry facts.Term, v facts.Value, like Like) string {
	if t.IsSet || t.Contains != "" {
		return ""
	}
	old, _ := Text(like.Old)
	if now, err := t.Value(entry, like.Old); like.Old != nil && err == nil && now.Equal(v) {
		return ""
	}
	if _, has := t.word(entry, v); has {
		return ""
	}
	switch entry.Type {
	case facts.Words:
		return fmt.Sprintf("the dialect does not say how %q is written there (words: {STORED: %s})", v.Text(), v.Text())
	case facts.Pattern:
		var lacks []string
		for _, m := range mark.FindAllString(v.Text(), -1) {
			if _, has := reversed(t.Placeholders)[m]; !has && !strings.Contains(old, m) && !slices.Contains(lacks, m) {
				lacks = append(lacks, m)
			}
		}
		if lacks != nil {
			return fmt.Sprintf("the dialect does not say how %s is written there (placeholders: {STORED: %q})", strings.Join(lacks, ", "), lacks[0])
		}
	case facts.List:
		return t.unspeltList(entry, v, like)
	case facts.Duration, facts.Size:
		if _, err := strconv.ParseInt(strings.TrimSpace(old), 10, 64); t.Unit == "" && v.Number() != 0 && (err == nil || strings.TrimSpace(old) == "") {
			return "the dialect does not say in what it is counted there (unit: " + strings.Join(units[entry.Type], ", or ") + ")"
		}
	}
	return ""
}

func (t Translation) unspeltList(entry facts.Term, v facts.Value, like Like) string {
	items, isList := like.Old.([]any)
	old, _ := Text(like.Old)
	had := texts(items)
	if !isList {
		had = splitList(old, t.Split)
	}
	if len(entry.Words) > 0 {
		for _, item := range v.List() {
			if !slices.Contains(had, item) {
				return fmt.Sprintf("the dialect does not say how %q is written there", item)
			}
		}
	}
	if isList || like.Old == nil && like.Typed || t.Split != "" || len(v.List()) < 2 || strings.Contains(old, ",") {
		return ""
	}
	return "the dialect does not say what stands between several (split: \",\")"
}

// ReadOnly says why a setting can be read and not be given another value than the one that is stored, as far as the dialect goes; "" where it can.
func (s Setting) ReadOnly(stored any) (why string) {
	entry, like := s.entry(), Like{Old: stored}
	now, err := s.Value(stored)
	if err != nil || len(s.Parts) > 0 {
		return ""
	}
	samples := map[facts.Type][]facts.Value{facts.Pattern: {facts.TextOf(facts.Pattern, "{site}"), facts.TextOf(facts.Pattern, "{name}")}, facts.List: {facts.ListOf("a", "b")},
		facts.Duration: {facts.NumberOf(facts.Duration, now.Number()+86400)}, facts.Size: {facts.NumberOf(facts.Size, now.Number()+1<<20)}}[entry.Type]
	if entry.Type == facts.Words {
		for _, word := range entry.Words {
			samples = append(samples, facts.TextOf(facts.Words, word))
		}
	}
	for _, v := range samples {
		if v.Equal(now) {
			continue
		}
		if why = s.Unspelt(entry, v, like); why == "" {
			return ""
		}
	}
	return why
}
