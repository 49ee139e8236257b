package format

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// readProperties reads Java properties (java.util.Properties, load): key=value, key:value or key value, lines
// that go on after a backslash, escapes in key and value. Paths are the keys.
func readProperties(d *Document) error {
	goesOn := -1 // where the value of a line that goes on has begun
	var key string
	return eachLine(d.data, skipBOM(d.data), func(start, end int) error {
		from, _ := trimmed(d.data, start, end)
		if goesOn < 0 {
			if from == end || d.data[from] == '#' || d.data[from] == '!' {
				return nil
			}
			at, separated := from, false
			for ; at < end && !separated; at++ {
				switch c := d.data[at]; {
				case c == '\\':
					at++
				case c == '=' || c == ':' || isBlank(c):
					separated = true
					at--
				}
			}
			keyEnd := min(at, end)
			name, err := propertyText(string(d.data[from:keyEnd]))
			if err != nil {
				return d.errorOf(from, err.Error(), err)
			}
			key = name
			at, _ = trimmed(d.data, keyEnd, end)
			if at < end && (d.data[at] == '=' || d.data[at] == ':') {
				at, _ = trimmed(d.data, at+1, end)
			}
			from = min(at, end)
			goesOn = from
		}
		if backslashes(d.data[start:end])%2 == 1 && end < len(d.data) {
			return nil
		}
		begin := goesOn
		goesOn = -1
		value, err := propertyText(string(d.data[begin:end]))
		if err != nil {
			return d.errorOf(begin, err.Error(), err)
		}
		d.place(key, value, begin, end)
		return nil
	})
}

// backslashes counts those at the end of a line.
func backslashes(line []byte) int { return len(line) - len(bytes.TrimRight(line, `\`)) }

// propertyText resolves escapes and joins lines.
func propertyText(raw string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			if raw[i] != '\\' {
				b.WriteByte(raw[i])
			}
			continue
		}
		i++
		switch c := raw[i]; c {
		case 't':
			b.WriteByte('\t')
		case 'n':
			b.WriteByte('\n')
		case 'r':
			b.WriteByte('\r')
		case 'f':
			b.WriteByte('\f')
		case '\r', '\n':
			for i+1 < len(raw) && strings.IndexByte(" \t\f\r\n", raw[i+1]) >= 0 {
				i++
			}
		case 'u':
			n, err := strconv.ParseUint(raw[i+1:min(i+5, len(raw))], 16, 16)
			if err != nil || i+5 > len(raw) {
				return "", fmt.Errorf("four hexadecimal digits are expected after \\u")
			}
			i += 4
			r := rune(n)
			if utf16.IsSurrogate(r) && i+6 < len(raw) && raw[i+1] == '\\' && raw[i+2] == 'u' {
				if low, err := strconv.ParseUint(raw[i+3:i+7], 16, 16); err == nil {
					r = utf16.DecodeRune(r, rune(low))
					i += 6
				}
			}
			b.WriteRune(r)
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), nil
}

func spellProperties(_ Entry, old string, value any) (string, error) {
	text, err := single(value)
	if err != nil || !utf8.ValidString(text) {
		return "", ErrNoPlace
	}
	escaped := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\f", `\f`).Replace(text)
	if strings.HasPrefix(escaped, " ") {
		escaped = `\` + escaped
	}
	if strings.Contains(old, `\u`) { // the file is kept in ASCII
		var b strings.Builder
		for _, unit := range utf16.Encode([]rune(escaped)) {
			if unit < 0x80 {
				b.WriteByte(byte(unit))
			} else {
				fmt.Fprintf(&b, `\u%04x`, unit)
			}
		}
		escaped = b.String()
	}
	return escaped, nil
}

var propertyKey = strings.NewReplacer(" ", `\ `, "=", `\=`, ":", `\:`)

func addProperties(d *Document, path string, value any) ([]edit, error) {
	text, err := spellProperties(Entry{}, "", value)
	if err != nil || path == "" || strings.ContainsAny(path, "\\\n\r#!") {
		return nil, ErrNoPlace
	}
	return d.appended(propertyKey.Replace(path) + "=" + text), nil
}
