package facts

import (
	"encoding/json"
	"fmt"
	"net/mail"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/idna"

	"weltaxis/internal/secrets"
)

// A Type says what kind of value a name holds. It is written in the catalogue and nowhere else.
type Type string

// The types of the vocabulary. What Parse takes for each is said beside it.
const (
	String   Type = "string"   // any text, "" included
	Bool     Type = "bool"     // true or false
	Int      Type = "int"      // a whole number
	Duration Type = "duration" // 30m, 8h; seconds in JSON
	Size     Type = "size"     // 8M, 512K, 100; bytes in JSON
	Zone     Type = "zone"     // a time zone's name, as stored: it may be none that exists
	Mail     Type = "mail"     // an address (RFC 5322 addr-spec), as stored
	URL      Type = "url"      // an address (RFC 3986), as stored
	Pattern  Type = "pattern"  // text with {placeholders}
	Date     Type = "date"     // 2027-03-31 or an RFC 3339 time; unix seconds inside
	Version  Type = "version"  // 2.4.1, as stored
	List     Type = "list"     // texts in order
	Words    Type = "words"    // one of the words the catalogue gives
	Secret   Type = "secret"   // never the text: only how long it is, 0 when unset
	Mode     Type = "mode"     // permission bits, 0644
)

// A Value is one value of one type. It stays what it is through JSON and back, because the type comes from the
// catalogue and not from how the value looks. The zero Value has no type and equals no other.
type Value struct {
	typ    Type
	text   string   // String, Zone, Mail, URL, Pattern, Version, Words
	number int64    // Int; Bool 0 or 1; Duration seconds; Size bytes; Date unix seconds; Secret length; Mode bits
	list   []string // List
}

// TextOf makes a value of one of the types that hold text.
func TextOf(t Type, text string) Value { return Value{typ: t, text: text} }

// NumberOf makes a value of one of the types that hold a number, in the unit the type states.
func NumberOf(t Type, number int64) Value { return Value{typ: t, number: number} }

// BoolOf makes a Bool.
func BoolOf(yes bool) Value {
	if yes {
		return Value{typ: Bool, number: 1}
	}
	return Value{typ: Bool}
}

// ListOf makes a List.
func ListOf(items ...string) Value { return Value{typ: List, list: append([]string{}, items...)} }

// SecretOf makes a Secret that remembers the length of text in characters, and not the text. What only repeats adds nothing:
// of a character or a word over and over, the length is that of one.
func SecretOf(text string) Value { return Value{typ: Secret, number: int64(unrepeated([]rune(text)))} }

// unrepeated is how many characters of a text are not a repetition of those before, with or without a sign between; of a
// text of three different characters at most, those.
func unrepeated(text []rune) int {
	different := map[rune]bool{}
	for _, r := range text {
		different[r] = true
	}
	if len(text) < 8 {
		return len(text)
	}
	if len(different) <= 3 {
		return len(different)
	}
	for _, between := range []string{"", " ", "-", "_", ".", ","} {
		whole := append(slices.Clone(text), []rune(between)...)
		for n := 1; n*2 <= len(whole); n++ {
			if repeats(whole, n) {
				return n - len([]rune(between))
			}
		}
	}
	return len(text)
}

// repeats tells whether a text is its first n characters over and over, the last time perhaps not to the end.
func repeats(text []rune, n int) bool {
	for i := n; i < len(text); i++ {
		if text[i] != text[i-n] {
			return false
		}
	}
	return true
}

// Type tells the value's type, "" for the zero Value.
func (v Value) Type() Type { return v.typ }

// Text is the text of a value of a text type, "" for others.
func (v Value) Text() string { return v.text }

// Number is the number of a value of a number type, in the unit the type states; 0 for others.
func (v Value) Number() int64 { return v.number }

// Bool is a Bool's value.
func (v Value) Bool() bool { return v.typ == Bool && v.number != 0 }

// List is a List's items.
func (v Value) List() []string { return v.list }

// Equal tells whether type and value are the same.
func (v Value) Equal(other Value) bool {
	return v.typ == other.typ && v.text == other.text && v.number == other.number && slices.Equal(v.list, other.list)
}

// String is the value as a person reads it: yes and no, 30m, 8 MiB, 0644, a secret as its length only.
func (v Value) String() string {
	switch v.typ {
	case Bool:
		if v.number != 0 {
			return "yes"
		}
		return "no"
	case Int:
		return strconv.FormatInt(v.number, 10)
	case Duration:
		return FormatDuration(time.Duration(v.number) * time.Second)
	case Size:
		return FormatSize(v.number)
	case Date:
		return formatDate(v.number)
	case Secret:
		if v.number == 0 {
			return "not set"
		}
		return fmt.Sprintf("set, %d characters", v.number)
	case Mode:
		return fmt.Sprintf("%04o", v.number)
	case List:
		return strings.Join(v.list, ", ")
	}
	return v.text
}

// FormatDuration writes 1800 seconds as 30m and 90 seconds as 1m30s.
func FormatDuration(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// FormatSize writes 8388608 bytes as 8 MiB; what is no whole number of a unit has one decimal.
func FormatSize(bytes int64) string {
	units := []string{"bytes", "KiB", "MiB", "GiB", "TiB"}
	amount, unit := float64(bytes), 0
	for amount >= 1024 && unit < len(units)-1 {
		amount, unit = amount/1024, unit+1
	}
	return strings.TrimSuffix(strconv.FormatFloat(amount, 'f', 1, 64), ".0") + " " + units[unit]
}

func formatDate(seconds int64) string {
	at := time.Unix(seconds, 0).UTC()
	if at.Equal(at.Truncate(24 * time.Hour)) {
		return at.Format(time.DateOnly)
	}
	return at.Format(time.RFC3339)
}

// MarshalJSON writes text types as strings, Bool as a boolean, numbers as numbers (durations in seconds, sizes
// in bytes), Mode as "0644", Date as its text, List as a list, Secret as {"set": true, "length": 40}.
func (v Value) MarshalJSON() ([]byte, error) {
	switch v.typ {
	case Bool:
		return json.Marshal(v.number != 0)
	case Int, Duration, Size:
		return json.Marshal(v.number)
	case Mode, Date:
		return json.Marshal(v.String())
	case List:
		return json.Marshal(v.list)
	case Secret:
		return json.Marshal(secretJSON{v.number > 0, v.number})
	case "":
		return []byte("null"), nil
	}
	return json.Marshal(v.text)
}

type secretJSON struct {
	Set    bool  `json:"set"`
	Length int64 `json:"length"`
}

// FromJSON reads what MarshalJSON wrote for a value of this type. The zero Value comes back from null.
func (t Type) FromJSON(raw []byte) (Value, error) {
	if string(raw) == "null" {
		return Value{}, nil
	}
	v, into := Value{typ: t}, any(nil)
	var yes bool
	var secret secretJSON
	switch t {
	case Bool:
		into = &yes
	case Int, Duration, Size:
		into = &v.number
	case List:
		into = &v.list
	case Secret:
		into = &secret
	default:
		into = &v.text
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return Value{}, fmt.Errorf("%s is no %s", raw, t)
	}
	switch t {
	case Bool:
		return BoolOf(yes), nil
	case List:
		return ListOf(v.list...), nil
	case Secret:
		return NumberOf(Secret, secret.Length), nil
	case Mode, Date:
		return t.Parse(v.text)
	}
	return v, nil
}

// Parse reads a value of this type from text as a configuration or a site file holds it. Text types take
// anything; a secret keeps only its length. The error says what was expected and never quotes a secret.
func (t Type) Parse(text string) (Value, error) {
	trimmed := strings.TrimSpace(text)
	wrong := func(what string) (Value, error) {
		return Value{}, fmt.Errorf("%q is not %s", Shorten(text, 60), what)
	}
	switch t {
	case Secret:
		return SecretOf(text), nil
	case Bool:
		switch strings.ToLower(trimmed) {
		case "true", "yes", "on", "1":
			return BoolOf(true), nil
		case "false", "no", "off", "0", "":
			return BoolOf(false), nil
		}
		return wrong("a yes or no")
	case Int:
		n, err := strconv.ParseInt(trimmed, 10, 64)
		if err != nil {
			return wrong("a whole number")
		}
		return NumberOf(Int, n), nil
	case Mode:
		n, err := strconv.ParseUint(trimmed, 8, 16)
		if err != nil || n > 0o7777 {
			return wrong("a mode such as 0644")
		}
		return NumberOf(Mode, int64(n)), nil
	case Duration:
		d, err := time.ParseDuration(trimmed)
		if err != nil || d%time.Second != 0 {
			return wrong("a duration such as 30m or 8h")
		}
		return NumberOf(Duration, int64(d/time.Second)), nil
	case Size:
		n, ok := parseSize(trimmed)
		if !ok {
			return wrong("a size such as 8M")
		}
		return NumberOf(Size, n), nil
	case Date:
		for _, layout := range []string{time.DateOnly, time.RFC3339, time.DateTime, "2006-01-02 15:04"} {
			if at, err := time.Parse(layout, trimmed); err == nil {
				return NumberOf(Date, at.Unix()), nil
			}
		}
		return wrong("a date such as 2027-03-31")
	case List:
		items := []string{}
		for item := range strings.SplitSeq(text, ",") {
			if item = strings.TrimSpace(item); item != "" {
				items = append(items, item)
			}
		}
		return ListOf(items...), nil
	}
	return TextOf(t, text), nil
}

var sizeShape = regexp.MustCompile(`^(\d{1,15})\s*([KMGkmg]?)(i?[Bb])?$`)

// parseSize reads bytes with an optional K, M or G, which are powers of 1024 as in php.ini and nginx.
func parseSize(text string) (int64, bool) {
	m := sizeShape.FindStringSubmatch(text)
	if m == nil {
		return 0, false
	}
	n, _ := strconv.ParseInt(m[1], 10, 64)
	shift := map[string]uint{"": 0, "K": 10, "M": 20, "G": 30}[strings.ToUpper(m[2])]
	if n<<shift>>shift != n {
		return 0, false
	}
	return n << shift, true
}

// IsMail tells whether text is one bare address (RFC 5322 §3.4.1) with a dot in its domain.
func IsMail(text string) bool {
	at, err := mail.ParseAddress(text)
	return err == nil && at.Address == text && strings.Contains(MailDomain(text), ".")
}

// MailDomain is what stands after the last @, in lower case; "" when there is none.
func MailDomain(text string) string {
	at := strings.LastIndexByte(text, '@')
	if at < 0 {
		return ""
	}
	return strings.ToLower(text[at+1:])
}

// Mapped are the addresses that a name is mapped to: one, or several with commas between them, as a name has several.
func Mapped(to string) (all []string) {
	for one := range strings.SplitSeq(to, ",") {
		all = append(all, strings.TrimSpace(one))
	}
	return all
}

// AsSent is a host name as it is sent and looked up (RFC 5890 §2.3.2.1); one that is none as it is.
func AsSent(host string) string {
	if sent, err := idna.ToASCII(host); err == nil {
		return sent
	}
	return host
}

// URLHost is the host name of an absolute http or https address, in lower case and without port; "" when the
// text is no such address.
func URLHost(text string) string {
	u, err := url.Parse(text)
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") {
		return ""
	}
	return strings.ToLower(u.Hostname())
}

// SameAddress tells whether two addresses are one after the normalisation of RFC 3986 §6.2: case of scheme and
// host, default port, and an empty path for "/". A slash at the end of a longer path is not looked at either.
func SameAddress(a, b string) bool {
	x, y := normalAddress(a), normalAddress(b)
	return x != "" && x == y
}

func normalAddress(text string) string {
	u, err := url.Parse(strings.TrimSpace(text))
	if err != nil || u.Host == "" {
		return ""
	}
	host := strings.ToLower(u.Host)
	switch scheme := strings.ToLower(u.Scheme); scheme {
	case "http":
		host = strings.TrimSuffix(host, ":80")
	case "https":
		host = strings.TrimSuffix(host, ":443")
	}
	return strings.ToLower(u.Scheme) + "://" + host + strings.TrimRight(u.EscapedPath(), "/") + prefixed("?", u.RawQuery)
}

// LastSegment is the last part of an address's path, without slashes, query and fragment: the page's own name.
func LastSegment(address string) string {
	address, _, _ = strings.Cut(address, "#")
	address, _, _ = strings.Cut(address, "?")
	address = strings.TrimRight(address, "/")
	return address[strings.LastIndexByte(address, '/')+1:]
}

// Shorten cuts text to at most limit characters, with an ellipsis for what is left out. A secret is taken out before, since half of one is not
// known for one any more.
func Shorten(text string, limit int) string {
	if len(text) <= limit {
		return text
	}
	if runes := []rune(secrets.Shown(text)); len(runes) > limit {
		return string(runes[:limit-1]) + "…"
	}
	return text
}

// CompareVersions compares two versions part by part, numbers as numbers: 2.10 is later than 2.9, and 2.0-beta
// earlier than 2.0. It is below 0 when a is the earlier one.
func CompareVersions(a, b string) int {
	x, y := versionParts(a), versionParts(b)
	for i := range max(len(x), len(y)) {
		p, q := "", ""
		if i < len(x) {
			p = x[i]
		}
		if i < len(y) {
			q = y[i]
		}
		if c := compareParts(p, q); c != 0 {
			return c
		}
	}
	return 0
}

var versionPart = regexp.MustCompile(`\d+|[A-Za-z]+`)

func versionParts(version string) []string {
	version, _, _ = strings.Cut(version, "+")
	return versionPart.FindAllString(strings.TrimPrefix(version, "v"), -1)
}

// compareParts: a word, as in 2.0-beta, is earlier than nothing, and nothing is 0.
func compareParts(p, q string) int {
	m, errP := strconv.Atoi(p)
	n, errQ := strconv.Atoi(q)
	wordP, wordQ := p != "" && errP != nil, q != "" && errQ != nil
	switch {
	case wordP && wordQ:
		return strings.Compare(p, q)
	case wordP:
		return -1
	case wordQ:
		return 1
	}
	return m - n
}
