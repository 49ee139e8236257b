// Package nearest finds the word somebody probably meant, for "did you mean" in messages.
//
// It imports nothing of this program.
package nearest

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
)

// Word returns the candidate closest to word, or "" when none is close enough to be worth suggesting.
// Closeness is edit distance: at most a third of the word's length, but two are always forgiven in words of four
// letters and more, since two letters swapped count as two. A candidate that only adds or lacks a
// dotted prefix (robots_index for meta.robots_index) counts as close.
func Word(word string, candidates []string) string {
	best, least := "", len(word)/3+1
	if len(word) >= 4 {
		least = max(least, 3)
	}
	sorted := slices.Sorted(slices.Values(candidates))
	for _, candidate := range sorted {
		// The lengths alone differ by more: a word of a megabyte costs nothing.
		if length := utf8.RuneCountInString(candidate) - utf8.RuneCountInString(word); max(length, -length) >= least {
			continue
		}
		distance := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(candidate))
		if distance < least {
			best, least = candidate, distance
		}
	}
	if best != "" {
		return best
	}
	for _, candidate := range sorted {
		if strings.HasSuffix(candidate, "."+word) || strings.HasSuffix(word, "."+candidate) {
			return candidate
		}
	}
	return ""
}

// Hint is Word made into the end of a message: ` (did you mean "x"?)`, or "".
func Hint(word string, candidates []string) string {
	if near := Word(word, candidates); near != "" {
		return ` (did you mean "` + near + `"?)`
	}
	return ""
}
