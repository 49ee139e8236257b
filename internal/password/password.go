// Package password tells of a password that somebody has chosen why it would be guessed.
//
// It imports nothing of this program.
package password

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// Fewest is how many characters a password has at least. With fewer, also what is made by chance is tried out in a time that somebody takes.
const Fewest = 12

//go:embed common.txt
var list string

// common are words that many choose, as its first line says where from.
var common = sync.OnceValue(func() map[string]bool {
	words := map[string]bool{}
	for line := range strings.Lines(list) {
		if line = strings.TrimSpace(line); !strings.HasPrefix(line, "#") {
			words[line] = true
		}
	}
	return words
})

// rows are signs that stand side by side on keyboards.
var rows = []string{"1234567890", "qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "yxcvbnm", "azertyuiop", "qsdfghjklm", "abcdefghijklmnopqrstuvwxyz", "qazwsxedcrfvtgbyhnujmikolp", "1q2w3e4r5t6z7u8i9o0p", "1qaz2wsx3edc4rfv5tgb6yhn"}

// otherwise are signs that are written for letters.
var otherwise = strings.NewReplacer("0", "o", "1", "i", "3", "e", "4", "a", "5", "s", "7", "t", "8", "b", "@", "a", "$", "s", "!", "i", "+", "t", "|", "l", "€", "e")

// fewestOwn is how many characters have to be left when what anybody would try first is taken out of a password.
const fewestOwn = 8

// fewestBeside is how many have to be left beside what stands side by side on a keyboard.
const fewestBeside = 6

// Weak says why a password would be guessed; "" where nothing tells that it would. Own are words that whoever tries knows: of the site, and the name
// that is asked for with it.
func Weak(password string, own ...string) string {
	if n := utf8.RuneCountInString(password); n < Fewest {
		return fmt.Sprintf("it has %d characters; %d are the fewest", n, Fewest)
	}
	lower := strings.ToLower(password)
	signs := map[rune]bool{}
	for _, r := range lower {
		signs[r] = true
	}
	if len(signs) < 5 {
		return fmt.Sprintf("it is made of %d different characters", len(signs))
	}
	if once := repeated(lower); once != "" {
		return fmt.Sprintf("it says the same %d times", utf8.RuneCountInString(lower)/utf8.RuneCountInString(once))
	}
	inner := strings.TrimFunc(lower, func(r rune) bool { return !unicode.IsLetter(r) })
	for _, text := range []string{lower, otherwise.Replace(lower), otherwise.Replace(inner)} {
		rest, of := without(text, wordsOf(own))
		if utf8.RuneCountInString(rest) < fewestOwn && of != "" {
			return "it is little more than a word of the site, or the name that is asked for with it"
		}
		if rest, _ = withoutRows(rest); utf8.RuneCountInString(rest) < fewestBeside {
			return "it is little more than what stands side by side on a keyboard"
		}
		if fewWords(text, wordsOf(own)) {
			return "it is one or two words that many choose, with figures or signs"
		}
	}
	return ""
}

// repeated is what a text is made of where it says it several times; "" where it does not.
func repeated(text string) string {
	for n := 1; n <= len(text)/2; n++ {
		if len(text)%n == 0 && strings.Repeat(text[:n], len(text)/n) == text {
			return text[:n]
		}
	}
	return ""
}

// wordsOf are the words of texts, in small letters; those of fewer than four letters are in everything.
func wordsOf(texts []string) (words []string) {
	for _, text := range texts {
		for _, word := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if utf8.RuneCountInString(word) >= 4 && !slices.Contains(words, word) {
				words = append(words, word)
			}
		}
	}
	slices.SortFunc(words, func(a, b string) int { return len(b) - len(a) })
	return words
}

// without is a text without some words, the longest first, and what is no letter between them; of is one that was in it.
func without(text string, words []string) (rest, of string) {
	rest = text
	for _, word := range words {
		if strings.Contains(rest, word) {
			rest, of = strings.ReplaceAll(rest, word, " "), word
		}
	}
	return strings.ReplaceAll(rest, " ", ""), of
}

// withoutRows is a text without four and more signs that stand side by side.
func withoutRows(text string) (rest string, taken bool) {
	for n := len(text); n >= 4; n-- {
		for i := 0; i+n <= len(text); i++ {
			if slices.ContainsFunc(rows, func(row string) bool {
				return strings.Contains(row, text[i:i+n]) || strings.Contains(backwards(row), text[i:i+n])
			}) {
				return withoutRows(text[:i] + text[i+n:])
			}
		}
	}
	return text, false
}

func backwards(text string) string {
	signs := []rune(text)
	slices.Reverse(signs)
	return string(signs)
}

// fewWords tells whether a text is one or two words that many choose, with nothing but figures and signs around them.
func fewWords(text string, own []string) bool {
	letters := strings.TrimFunc(text, func(r rune) bool { return !unicode.IsLetter(r) })
	parts := strings.FieldsFunc(letters, func(r rune) bool { return !unicode.IsLetter(r) })
	known := func(word string) bool { return common()[word] || slices.Contains(own, word) }
	switch joined := strings.Join(parts, ""); {
	case joined == "":
		return true
	case len(parts) > 2:
		return false
	case utf8.RuneCountInString(joined) < fewestOwn && len(parts) == 1: // one short word, which no list need have
		return true
	default:
		if known(joined) {
			return true
		}
		for i := 1; i < len(joined); i++ {
			if known(joined[:i]) && known(joined[i:]) {
				return true
			}
		}
		return false
	}
}
