package secrets

import (
	"encoding/base64"
	"regexp"
	"slices"
	"strings"
)

var (
	bearer = regexp.MustCompile(`(?i)\b(bearer|basic|negotiate|apikey)(\s+|%20|\+)([A-Za-z0-9+/=._~-]{6,})`)
	// cookies are the line of a header, or the words of a directive that sets it.
	cookies = regexp.MustCompile(`(?i)\b((?:set-)?cookie)((?:\\?["'])?\s*:\s*(?:\\?["'])?|(?:\\?["'])?\s+\\?["'])((?:[^\s=;,"'<>\\]+(?:=(?:\\?"[^"\\\n]*\\?"|[^;\s"'\\]*))?(?:;\s*|\s|))*)`)
	cookie  = regexp.MustCompile(`([^\s=;,"']+)=(\\?"?)([^;\s"'\\]+)`)
	// attributes are those of a cookie (RFC 6265bis §5.6), which are no part of what it holds.
	attributes = setOf("path domain expires max-age samesite version priority comment")
	// privateKey is one in its own form (RFC 7468 §2), with the lines that say how it is locked (RFC 1421 §4.6), also as a text in JSON; it may end early.
	privateKey = regexp.MustCompile(`(-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----)((?:[A-Za-z0-9+/=:,\s]|-[A-Za-z0-9]|\\[nrt])+)`)
	webToken   = regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{6,}\.[A-Za-z0-9_-]{4,}\.[A-Za-z0-9_-]*`) // RFC 7519 §3: three parts, the first begins with {"
	crypted    = regexp.MustCompile(`(?:\{(?:SHA|SSHA|SSHA256|SSHA512|CRYPT)\})[A-Za-z0-9./+=-]{8,}|\$(?:2[abxy]?|1|5|6|7|y|gy|apr1|argon2(?:id|i|d)|scrypt|pbkdf2[a-z0-9-]*)\$[A-Za-z0-9./,=+-]{1,40}\$[A-Za-z0-9./$,=+-]{4,}`)
	inWords    = regexp.MustCompile(`\b((?:fastcgi|uwsgi|scgi)_param|(?:proxy|grpc)_set_header|add_header|add_trailer|SetEnv|(?:Request)?Header\s+(?:always\s+|onsuccess\s+)?(?:set|add|append|merge|setifempty)|set|Define|php_(?:admin_)?value|X?SETENV)(\s+(?:\\?["'])?\$?)([A-Za-z][A-Za-z0-9_.-]*)((?:\\?["'])?\s+)(\\?"[^"\\,:}\]\s][^"\\]*|'[^'"]*|[^\s;"'<>\\]+)`)
	header     = regexp.MustCompile(`(?i)\b((?:proxy-)?authorization|x-[a-z0-9-]*(?:token|secret|key|auth|password|signature)|[a-z0-9-]*api-?key)((?:\\?["'])?\s*:\s*(?:\\?["'])?)((?:(?:bearer|basic|digest|negotiate|token)\s+)?)([^\s"'\\<>]{4,})`)
)

// Shown takes out of any text what has the shape of a secret, whatever it is part of: prose, a table, JSON, CSV, HTML. What is taken out is that of an
// address before the host and in its query, of headers that tell who asks, of assignments to names that are those of secrets, private keys,
// web tokens (RFC 7519), stored passwords. What a plain word hides it cannot know; of configurations Mask knows more.
func Shown(text string) string {
	if strings.Contains(text, "-----BEGIN ") {
		text = privateKey.ReplaceAllStringFunc(text, func(block string) string {
			m := privateKey.FindStringSubmatch(block)
			if strings.Trim(m[2], " \t\r\n+") == "" { // hidden already, in a diff perhaps
				return block
			}
			body := strings.TrimSuffix(m[2], "\n")
			lines := strings.Count(body, "\n")
			return m[1] + strings.Repeat("\n"+Hidden, lines) + strings.Repeat(Hidden, 1-min(lines, 1)) + m[2][len(body):]
		})
	}
	var b strings.Builder
	same := 0 // up to where the text is as it was
	for at := 0; at < len(text); {
		end := pieceEnd(text[at:]) + at
		if piece := text[at:end]; !innocent(piece) {
			if shown := shownPiece(piece); shown != piece {
				b.WriteString(text[same:at])
				b.WriteString(shown)
				same = end
			}
		}
		at = end
	}
	if same == 0 {
		return text
	}
	b.WriteString(text[same:])
	return b.String()
}

// pieceEnd is where a line ends, or a text in a list or an object in JSON: what is looked at by itself.
func pieceEnd(text string) int {
	end := strings.IndexByte(text, '\n') + 1
	if end == 0 {
		end = len(text)
	}
	if next := strings.Index(text[:end], `","`); next >= 0 {
		return next + 2
	}
	return end
}

func shownPiece(text string) string {
	if strings.Contains(text, "://") {
		text = addresses(text)
	}
	if strings.Contains(text, "=") {
		text = assigned(text)
	}
	if strings.Contains(text, "eyJ") {
		text = webToken.ReplaceAllString(text, Hidden)
	}
	if strings.ContainsAny(text, "$") || strings.Contains(text, "{S") || strings.Contains(text, "{C") {
		text = crypted.ReplaceAllStringFunc(text, func(hash string) string {
			if !mixed(hash[strings.LastIndexByte(hash, '$')+1:]) { // variables of a server, one after the other
				return hash
			}
			return Hidden
		})
	}
	low := strings.ToLower(text)
	if strings.Contains(low, "cookie") {
		text = cookies.ReplaceAllStringFunc(text, func(line string) string {
			m := cookies.FindStringSubmatch(line)
			return m[1] + m[2] + cookieValues(m[3])
		})
	}
	if containsAny(low, "auth", "token", "secret", "key", "password", "signature") {
		text = header.ReplaceAllStringFunc(text, func(line string) string {
			m := header.FindStringSubmatch(line)
			name, after, _ := strings.Cut(m[2], ":")
			if harmless(m[4]) || !mixed(m[4]) || strings.Contains(name, `"`) && !strings.Contains(after, `"`) { // a number, a list or an object in JSON
				return line
			}
			return m[1] + m[2] + m[3] + Hidden
		})
	}
	if containsAny(low, "bearer", "basic", "negotiate", "apikey") {
		text = bearer.ReplaceAllStringFunc(text, func(line string) string {
			m := bearer.FindStringSubmatch(line)
			if !mixed(m[3]) || strings.EqualFold(m[1], "basic") && !isBasic(m[3]) {
				return line
			}
			return m[1] + m[2] + Hidden
		})
	}
	if containsAny(low, "_param", "_header", "_trailer", "setenv", "header", "set", "define", "php_") {
		text = inWords.ReplaceAllStringFunc(text, func(line string) string {
			m := inWords.FindStringSubmatch(line)
			quote := m[5][:len(m[5])-len(strings.TrimLeft(m[5], `\"'`))]
			value := strings.TrimLeft(m[5], `\"'`)
			if !Key(m[3]) || harmless(value) || quote == "" && !mixed(value) { // a sentence, in which cookies are set
				return line
			}
			if strings.HasSuffix(strings.ToLower(m[3]), "cookie") && strings.Contains(value, "=") {
				return m[1] + m[2] + m[3] + m[4] + quote + cookieValues(value)
			}
			return m[1] + m[2] + m[3] + m[4] + quote + Hidden
		})
	}
	return text
}

// innocent tells, at a glance and of most texts, that there is nothing in one for which it is worth while to look closer.
func innocent(text string) bool {
	addressed := strings.Contains(text, "://")
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '=':
			if assigns(text, i) {
				return false
			}
		case '@':
			if addressed {
				return false
			}
		case '$':
			if i+2 < len(text) && strings.IndexByte("12567yagsp", text[i+1]) >= 0 && (text[i+2] == '$' || text[i+2] >= 'a' && text[i+2] <= 'y') {
				return false
			}
		case '{':
			if i+1 < len(text) && (text[i+1] == 'S' || text[i+1] == 'C') {
				return false
			}
		case 'e':
			if strings.HasPrefix(text[i:], "eyJ") {
				return false
			}
		case ' ', '\t', ':', '+', '%', '"', '\'', '\\': // what a header, a scheme or a directive is followed by
			if i == 0 {
				continue
			}
			for _, before := range headings[text[i-1]|0x20] {
				if i >= len(before) && strings.EqualFold(text[i-len(before):i], before) {
					return false
				}
			}
		}
	}
	return true
}

// headings end what is followed by a colon or a blank and a secret, by their last letters.
var headings = func() (all [256][]string) {
	for _, h := range strings.Fields(`authorization cookie token secret key auth password signature bearer basic negotiate
		_param set_header add_header add_trailer setenv set add append merge setifempty define value`) {
		all[h[len(h)-1]] = append(all[h[len(h)-1]], h)
	}
	return all
}()

// containsAny tells whether a text holds one of some words.
func containsAny(text string, words ...string) bool {
	return slices.ContainsFunc(words, func(word string) bool { return strings.Contains(text, word) })
}

// mixed tells whether a word is no word of a language: digits among its letters, capitals within, or padding.
func mixed(word string) bool {
	var digits, capitals bool
	for i, r := range word {
		digits = digits || r >= '0' && r <= '9' || r == '='
		capitals = capitals || i > 0 && r >= 'A' && r <= 'Z'
	}
	return digits || capitals
}

// isBasic tells whether a text is what HTTP's Basic scheme sends (RFC 7617 §2), a name and a password.
func isBasic(word string) bool {
	word = strings.TrimRight(word[:min(len(word), 256)], "=")
	for word != "" && len(word) >= 4 {
		if plain, err := base64.RawStdEncoding.DecodeString(word); err == nil {
			return strings.Contains(string(plain), ":")
		}
		word = word[:len(word)-1]
	}
	return false
}

func cookieValues(line string) string {
	return cookie.ReplaceAllStringFunc(line, func(pair string) string {
		m := cookie.FindStringSubmatch(pair)
		if attributes[strings.ToLower(m[1])] || harmless(m[3]) || strings.ContainsAny(m[1], "(^?|") {
			return pair
		}
		return m[1] + "=" + m[2] + Hidden
	})
}

// farthest is how many bytes of an address are looked at for its host.
const farthest = 1 << 10

// addresses takes what stands before the host out of all addresses in a text: a password, and a name that is one.
func addresses(text string) string {
	var b strings.Builder
	for {
		at := strings.Index(text, "://")
		if at < 0 {
			break
		}
		b.WriteString(text[:at+3])
		text = text[at+3:]
		near := text[:min(len(text), farthest)]
		end := strings.IndexAny(near, "/?# \t\r\n\"'<>`{}|")
		if end < 0 {
			end = len(near)
		}
		// A password may hold a slash, as written by hand; the host begins behind the last sign of that kind before a blank.
		if wide := strings.IndexAny(near, " \t\r\n\"'<>`{}|?#,"); end < len(near) && near[end] == '/' && !strings.Contains(near[:end], "@") && strings.Contains(near[:end], ":") {
			if wide < 0 {
				wide = len(near)
			}
			if last := strings.LastIndexByte(text[:wide], '@'); last > end && !strings.Contains(text[:last], "://") && !isPort(text[strings.IndexByte(text, ':')+1:end]) {
				end = wide
			}
		}
		host := strings.LastIndexByte(text[:end], '@')
		if host < 0 {
			continue
		}
		name, password, both := strings.Cut(text[:host], ":")
		switch {
		case both && !harmless(password):
			b.WriteString(name + ":" + Hidden)
		case !both && len(name) >= 12 && mixed(name) && !harmless(name):
			b.WriteString(Hidden)
		default:
			b.WriteString(text[:host])
		}
		text = text[host:]
	}
	b.WriteString(text)
	return b.String()
}

func isPort(text string) bool {
	return text != "" && len(text) <= 5 && strings.Trim(text, "0123456789") == ""
}

// assigns tells whether what stands before an equals sign may be the name of a secret.
func assigns(text string, at int) bool {
	start := at
	for start > 0 && nameSign(text[start-1]) && at-start < 200 {
		start--
	}
	name := text[start:at]
	if name == "" {
		return false
	}
	if start > 0 && strings.IndexByte("?&;", text[start-1]) >= 0 || strings.HasPrefix(name, "u0026") {
		name = strings.ToLower(strings.TrimPrefix(name, "u0026"))
		return name == "key" || queryKeys[name] || hints(name)
	}
	return hints(name)
}

// assigned takes out what stands behind a name and an equals sign, in the query of an address or elsewhere, where the name is that of a secret.
func assigned(text string) string {
	var b strings.Builder
	for {
		at := strings.IndexByte(text, '=')
		if at < 0 {
			break
		}
		from := at
		for from > 0 && nameSign(text[from-1]) {
			from--
		}
		name, before := text[from:at], byte(0)
		if from > 0 {
			before = text[from-1]
		}
		at++
		rest := text[at:]
		b.WriteString(text[:at])
		text = rest
		inQuery := before == '?' || before == '&' || before == ';' || strings.HasPrefix(name, "u0026")
		name = strings.TrimPrefix(name, "u0026")
		isKey := inQuery && strings.EqualFold(name, "key")
		if !isKey && !Key(name) && !(inQuery && queryKeys[strings.ToLower(name)]) {
			continue
		}
		start, end := valueOfSign(rest)
		value := rest[start:end]
		if value == "" || pattern.MatchString(value) || harmless(value) || isKey && (len(value) < 8 || !mixed(value)) {
			continue
		}
		b.WriteString(rest[:start] + Hidden)
		text = rest[end:]
	}
	b.WriteString(text)
	return b.String()
}

func nameSign(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-' || c == '.'
}

// valueOfSign is where a value begins and ends in the text behind an equals sign, within its quotes.
func valueOfSign(text string) (start, end int) {
	for start < len(text) && text[start] == '\\' { // before a quote, in JSON
		start++
	}
	if start == len(text) || text[start] != '"' && text[start] != '\'' {
		if end = strings.IndexAny(text, " \t\r\n\"'&<>\\#;)`|]}"); end < 0 {
			end = len(text)
		}
		return 0, end
	}
	quote, escaped := text[start], start
	if start++; quote == '"' && escaped%2 == 0 && (escaped > 0 || start == len(text) || strings.IndexByte(",:}] \t\r\n", text[start]) >= 0) {
		return 0, 0 // what ends is a text in JSON, with nothing behind the sign
	}
	end = strings.IndexAny(text[start:], string(quote)+"\"\n") // a text in JSON may end before the quote does
	if end < 0 {
		return start, len(text)
	}
	for end += start; end > start && text[end-1] == '\\'; end-- {
	}
	return start, end
}
