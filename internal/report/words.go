package report

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// shown is how many of like things are named before the rest is only counted.
const shown = 3

// List joins words as a sentence does: a, b and c.
func List(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// Count says how many: 1 file, 2 files.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// FirstFew are the first few of like things, and how many more there are.
func FirstFew(words []string) []string {
	if len(words) <= shown {
		return words
	}
	return append(slices.Clone(words[:shown]), fmt.Sprintf("%d more", len(words)-shown))
}

// folded says several sentences that differ in one place as one, followed by what else goes there. Those that differ
// in more stand for themselves, the first few of them.
func folded(sentences []string) []string {
	var distinct []string
	for _, s := range sentences {
		if s != "" && !slices.Contains(distinct, s) {
			distinct = append(distinct, s)
		}
	}
	var said []string
	for len(distinct) > 0 {
		head := distinct[0]
		var rest, others []string
		for _, other := range distinct[1:] {
			if middle := differing(head, other); middle != "" {
				others = append(others, middle)
			} else {
				rest = append(rest, other)
			}
		}
		if len(others) > 0 {
			head += " The same: " + List(FirstFew(others)) + "."
		}
		said, distinct = append(said, head), rest
	}
	if len(said) > shown {
		said = append(said[:shown:shown], fmt.Sprintf("And %d more like these.", len(said)-shown))
	}
	return said
}

// differing is what stands in the second sentence where the first has something else; "" when they have too little in
// common to be told as one.
func differing(a, b string) string {
	x, y := strings.Fields(a), strings.Fields(b)
	start := 0
	for start < len(x) && start < len(y) && x[start] == y[start] {
		start++
	}
	end := 0
	for end < len(x)-start && end < len(y)-start && x[len(x)-1-end] == y[len(y)-1-end] {
		end++
	}
	middle := strings.Trim(strings.Join(y[start:len(y)-end], " "), ",.;:")
	if 2*(start+end) < len(x) || start+end == 0 || middle == "" {
		return ""
	}
	if strings.Count(middle, "“") > strings.Count(middle, "”") { // the rest of the quotation is the same
		middle += " …”"
	}
	return middle
}

// Capital is a text with its first letter in upper case.
func Capital(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return ""
	}
	return string(unicode.ToUpper(first)) + text[size:]
}
