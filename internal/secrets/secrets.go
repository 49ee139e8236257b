// Package secrets takes secrets out of what is shown or kept. Shown does so by look, in any text, and is what every output passes. Mask and Directive do so
// by place, in configurations: what stands behind a word such as password, whatever the file's format, behind a parameter, a header or a variable
// of that name, and what has the shape of a key; they err on the side of hiding too much. Command does so with the words of a command. It imports nothing of this program.
package secrets

import (
	"math"
	"regexp"
	"strings"
)

// Hidden stands in the place of what was taken out.
const Hidden = "…"

var (
	// named is a name with the sign that a value follows.
	named         = regexp.MustCompile(`([A-Za-z0-9_.-]+)["'\]\)]*\s*(=>|:=|[:=,(>])\s*`)
	harmlessValue = regexp.MustCompile(`(?i)^(?:|true|false|yes|no|on|off|null|nil|none|~|-?[0-9]{1,6}(?:\.[0-9]+)?(?:[smhdkMG]|ms|min)?|\$\{[A-Za-z_][A-Za-z0-9_]*\}|%env\([A-Za-z_:]+\)%|` + Hidden + `)$`)
	opensBlock    = regexp.MustCompile(`^(?:[|>][+-]?[0-9]?|\[|\(|\{|array\s*\(|)$`)

	run      = regexp.MustCompile(`[A-Za-z0-9+/=_.~-]{20,}`)
	between  = regexp.MustCompile(`[/._~-]+`)
	digest   = regexp.MustCompile(`^sha(?:256|384|512)-`) // of what a page may run (CSP3 §2.3.1)
	hexRun   = regexp.MustCompile(`^[0-9a-fA-F]{32,}$`)
	pem      = regexp.MustCompile(`-----(BEGIN|END) [A-Z ]*(?:PRIVATE KEY|CERTIFICATE REQUEST)[A-Z ]*-----`)
	blockRun = regexp.MustCompile(`^\s*[A-Za-z0-9+/=]{16,}\s*$`)
	heredoc  = regexp.MustCompile(`^<<[<~-]?\s*['"]?([A-Za-z_][A-Za-z0-9_]*)['"]?;?$`)
	joined   = regexp.MustCompile(`^\s*[.+]\s*['"$A-Za-z]`)
	lead     = regexp.MustCompile(`^[ +-]?\s*`)
)

// harmless tells whether a value is one that every configuration has: a number, a switch, a variable.
func harmless(value string) bool {
	return harmlessValue.MatchString(value) || strings.ContainsAny(value, "$%") && strings.Trim(variables.ReplaceAllString(value, ""), ` ,;:)("'`+"`]}") == ""
}

// Mask takes out of a text of many lines what looks like a secret. The lines stay as many, and may be those of a diff.
func Mask(text string) string {
	text = statements(text)
	lines := strings.SplitAfter(text, "\n")
	block, inPEM := -1, false // how far the block of a secret name is indented; -1 outside of one
	until := ""               // the word that ends a text of several lines
	for i, line := range lines {
		body := strings.TrimRight(line, "\r\n")
		end := line[len(body):]
		switch indent := indentation(body); {
		case until != "":
			if strings.HasPrefix(strings.TrimLeft(body, " \t+-"), until) {
				until = ""
			} else {
				lines[i] = lead.FindString(body) + Hidden + end
			}
			continue
		case pem.MatchString(body):
			inPEM = strings.Contains(pem.FindString(body), "BEGIN")
			continue
		case inPEM || blockRun.MatchString(body) && looksRandom(strings.TrimSpace(body)):
			lines[i] = lead.FindString(body) + Hidden + end
			continue
		case block >= 0 && strings.TrimSpace(strings.TrimLeft(body, "+-")) != "" && indent > block:
			lines[i] = lead.FindString(body) + maskedItem(body) + end
			continue
		default:
			block = -1
		}
		masked, opens, ends := maskLine(body)
		until = ends
		if opens {
			block = indentation(body)
		}
		lines[i] = masked + end
	}
	return Shown(strings.Join(lines, ""))
}

// indentation is how far a line is indented, the sign of a diff counted as a blank.
func indentation(line string) int {
	if line != "" && (line[0] == '+' || line[0] == '-') {
		line = " " + line[1:]
	}
	return len(line) - len(strings.TrimLeft(line, " \t"))
}

// maskedItem is a line of a block below a secret name: nothing of it is shown but the signs of the format.
func maskedItem(line string) string {
	text := strings.TrimSpace(strings.TrimLeft(line, "+-"))
	if strings.Trim(text, "[](){};,") == "" {
		return text
	}
	return Hidden
}

// maskLine takes out of a line what stands behind secret names, and what has the shape of a secret. Opens tells that the
// value begins on the next line, and until is the word that ends one that does.
func maskLine(line string) (masked string, opens bool, until string) {
	var b strings.Builder
	rest := line
	for {
		at := named.FindStringSubmatchIndex(rest)
		if at == nil {
			break
		}
		b.WriteString(rest[:at[1]])
		if !Key(rest[at[2]:at[3]]) {
			rest = rest[at[1]:]
			continue
		}
		sign := rest[at[4]:at[5]]
		if sign = strings.TrimSpace(sign); sign == "," && !strings.ContainsRune("\"'", rune(rest[at[3]])) || sign == "(" && rest[at[3]] == ' ' { // a list of names, and what is said in passing
			rest = rest[at[1]:]
			continue
		}
		rest = rest[at[1]:]
		value, length := valueOf(rest, sign)
		switch {
		case heredoc.MatchString(strings.TrimSpace(rest)):
			until = heredoc.FindStringSubmatch(strings.TrimSpace(rest))[1]
		case opensBlock.MatchString(strings.TrimSpace(rest)) && sign != "(" && (sign != "," || strings.TrimSpace(rest) == ""):
			opens = true
		case harmless(value), pattern.MatchString(value):
			continue
		case length > 0:
			b.WriteString(strings.Replace(rest[:length], value, Hidden, 1))
			if rest = rest[length:]; joined.MatchString(rest) { // put together of several
				rest = ""
			}
		}
	}
	b.WriteString(rest)
	return run.ReplaceAllStringFunc(addresses(b.String()), hideRandom), opens, until
}

// hideRandom is a run of letters, digits and what joins them, or Hidden where a part of it has the shape of a key.
func hideRandom(word string) string {
	if digest.MatchString(word) {
		return word
	}
	for _, piece := range append(between.Split(word, -1), word) {
		if looksRandom(piece) && (piece != word || !strings.ContainsAny(word, "/._")) {
			return Hidden
		}
	}
	return word
}

// valueOf is the value at the start of a text, and how much of the text it takes with its quotes.
func valueOf(text, sign string) (value string, length int) {
	if text == "" {
		return "", 0
	}
	if quote := text[0]; quote == '"' || quote == '\'' || quote == '`' {
		for i := 1; i < len(text); i++ {
			switch {
			case text[i] == '\\':
				i++
			case text[i] == quote && i+1 < len(text) && text[i+1] == quote && i > 1: // doubled, as SQL and YAML write it
				i++
			case text[i] == quote:
				return text[1:i], i + 1
			}
		}
		return text[1:], len(text)
	}
	stop := len(text)
	switch sign {
	case ">":
		if i := strings.IndexByte(text, '<'); i >= 0 {
			stop = i
		}
	case ",", "(":
		stop = strings.IndexAny(text+")", "),;")
	default:
		for _, comment := range []string{" #", " ;", " //", ", ", "&", " <!--"} {
			if i := strings.Index(text[:stop], comment); i > 0 {
				stop = i
			}
		}
	}
	value = strings.TrimRight(text[:stop], " \t,;")
	return value, len(value)
}

// looksRandom tells whether a run of letters and digits has the shape of a key: long, mixed, and without a pattern.
func looksRandom(word string) bool {
	word = strings.TrimRight(word, ".=")
	if hexRun.MatchString(word) {
		return entropy(word) > 3
	}
	var upper, lower, digit int
	for _, r := range word {
		switch {
		case r >= 'A' && r <= 'Z':
			upper++
		case r >= 'a' && r <= 'z':
			lower++
		case r >= '0' && r <= '9':
			digit++
		}
	}
	return len(word) >= 20 && upper >= 2 && lower >= 2 && digit >= 2 && entropy(word) > 3.8
}

// entropy is that of the signs of a word, in bits for each (Shannon 1948).
func entropy(word string) float64 {
	counts := map[rune]float64{}
	n := 0.0
	for _, r := range word {
		counts[r]++
		n++
	}
	sum := 0.0
	for _, c := range counts {
		sum -= c / n * math.Log2(c/n)
	}
	return sum
}
