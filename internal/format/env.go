package format

import (
	"regexp"
	"strings"
)

var (
	envKey      = regexp.MustCompile(`^(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_.]*)[ \t]*[=:]`)
	envVariable = regexp.MustCompile(`(?:^|[^\\])\$(?:\{|[A-Za-z_])`)
	envBare     = regexp.MustCompile(`^[A-Za-z0-9_./:@%+,=-]+$`)
)

// readEnv reads lines of KEY=value as shells and process managers take them: export before a key, single quotes
// without escapes, double quotes with them, a comment after a blank and #. Paths are the keys. A value made of
// other variables cannot be told.
func readEnv(d *Document) error {
	data := d.data
	for at := skipBOM(data); at < len(data); {
		end := at
		for end < len(data) && data[end] != '\n' {
			end++
		}
		start, lineEnd := trimmed(data, at, end)
		if start == lineEnd || data[start] == '#' {
			at = end + 1
			continue
		}
		m := envKey.FindSubmatchIndex(data[start:lineEnd])
		if m == nil {
			return d.errorAt(start, "a line of KEY=value is expected here")
		}
		key := string(data[start+m[2] : start+m[3]])
		from, to := trimmed(data, start+m[1], lineEnd)
		if from < to && (data[from] == '"' || data[from] == '\'') {
			closing := closingQuote(data, from)
			if closing < 0 {
				return d.errorAt(from, "the text that starts here never ends")
			}
			d.envQuoted(key, from, closing+1)
			for at = closing + 1; at < len(data) && data[at] != '\n'; at++ {
			}
			at++
			continue
		}
		d.envBareValue(key, from, to)
		at = end + 1
	}
	return nil
}

// closingQuote finds the quote that ends the text which starts at an offset; a backslash hides one.
func closingQuote(data []byte, from int) int {
	for i := from + 1; i < len(data); i++ {
		switch {
		case data[i] == '\\':
			i++
		case data[i] == data[from]:
			return i
		}
	}
	return -1
}

var envEscapes = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\n`, "\n", `\r`, "\r", `\$`, "$")

func (d *Document) envQuoted(key string, from, to int) {
	body := string(d.data[from+1 : to-1])
	if d.data[from] == '\'' {
		d.place(key, body, from, to)
		return
	}
	if envVariable.MatchString(body) {
		d.mention(key, nil, from, "it is put together from other variables")
		return
	}
	d.place(key, envEscapes.Replace(body), from, to)
}

func (d *Document) envBareValue(key string, from, to int) {
	for i := from; i < to; i++ {
		if d.data[i] == '#' && (i == from || isBlank(d.data[i-1])) {
			_, to = trimmed(d.data, from, i)
			break
		}
	}
	text := string(d.data[from:to])
	if envVariable.MatchString(text) {
		d.mention(key, nil, from, "it is put together from other variables")
		return
	}
	d.place(key, text, from, to)
}

var envEscaper = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "$", `\$`)

func spellEnv(_ Entry, old string, value any) (string, error) {
	text, err := single(value)
	switch {
	case err != nil:
		return "", err
	case strings.HasPrefix(old, "'") && !strings.ContainsAny(text, `'\`):
		return "'" + text + "'", nil
	case !strings.HasPrefix(old, `"`) && (text == "" || envBare.MatchString(text)):
		return text, nil
	}
	return `"` + envEscaper.Replace(text) + `"`, nil
}

func addEnv(d *Document, path string, value any) ([]edit, error) {
	text, err := spellEnv(Entry{}, "", value)
	if err != nil || !envKey.MatchString(path+"=") {
		return nil, ErrNoPlace
	}
	return d.appended(path + "=" + text), nil
}
