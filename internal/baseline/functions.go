package baseline

import (
	"html"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"golang.org/x/text/width"

	"weltaxis/internal/facts"
)

// The functions that rules have besides those of CEL and its string extension. Each is one row: the name, what it
// takes and gives, and the Go that does it. None looks at anything but its arguments.
func functions() []cel.EnvOption {
	str, num, yes, list := cel.StringType, cel.IntType, cel.BoolType, cel.ListType(cel.StringType)
	return []cel.EnvOption{
		// A mode has no bit that another lacks; a mode without the bits of another; octal digits as a mode.
		method2("within", num, num, yes, func(a, b int64) bool { return a&^b == 0 }),
		method2("without", num, num, num, func(a, b int64) int64 { return a &^ b }),
		function1("octal", str, num, func(s string) int64 { v, _ := facts.Mode.Parse(s); return v.Number() }),

		// Below 0 when the first version is the earlier one, 0 when they are the same: part by part, numbers as numbers.
		function2("compare_versions", str, str, num, func(a, b string) int64 { return int64(facts.CompareVersions(a, b)) }),
		function1("as_day", cel.TimestampType, str, func(at time.Time) string { return at.UTC().Format("2 January 2006") }),
		function1("as_size", num, str, facts.FormatSize),
		function1("is_mail", str, yes, facts.IsMail),
		function1("mail_domain", str, str, facts.MailDomain),
		// The mail addresses in a text; whether one is a person's, as far as its name and the names of people tell.
		function1("mailboxes", str, list, mailboxes),
		function2("is_persons", str, list, yes, isPersons),
		// A notice's words: it says when, or whom to ask.
		function1("tells_when_or_whom", str, yes, tellsWhenOrWhom),
		// A host is that of an address, with or without www; the small words of a language; whether a sign of its script is a word.
		function1("is_night", str, yes, night.MatchString),
		function2("is_spelling", str, str, yes, isSpelling),
		function1("stop_words", str, list, func(language string) []string { return stopWords[mainLanguage(language)] }),
		function1("wide_script", str, yes, func(language string) bool {
			return slices.Contains([]string{"zh", "ja", "ko", "th"}, mainLanguage(language))
		}),
		function1("url_host", str, str, facts.URLHost),
		function2("same_address", str, str, yes, facts.SameAddress),
		function1("is_zone", str, yes, facts.IsZone),
		function2("same_zone", str, str, yes, facts.SameZone),
		function1("is_host", str, yes, func(s string) bool { return hostShape.MatchString(s) }),
		function1("columns", str, num, func(s string) int64 { return int64(columns(s)) }),
		function1("spaced", str, str, func(s string) string { return strings.Join(strings.Fields(html.UnescapeString(s)), " ") }),
		function1("is_sign_in_name", str, yes, func(s string) bool { return signInName.MatchString(strings.TrimSpace(s)) }),
		function1("has_markup", str, yes, func(s string) bool { return strings.ContainsAny(s, `<>"'`) }),
		// A language range holds for a tag (RFC 4647 §3.3.1), or the tag for the range: en and en-GB go together.
		function2("language_matches", str, str, yes, languageMatches),
		// A home title as a pattern: groups of words in order, the brand last, as many as fit.
		cel.Function("home_title", cel.Overload("home_title", []*cel.Type{list, str, str, num}, str,
			cel.FunctionBinding(func(args ...ref.Val) ref.Val {
				words, err := args[0].ConvertToNative(reflect.TypeFor[[]string]())
				if err != nil {
					return types.WrapErr(err)
				}
				return types.String(homeTitle(words.([]string), native[string](args[1]), native[string](args[2]), int(native[int64](args[3]))))
			}))),
		// Letters and digits only, in lower case: for comparing names.
		function1("squashed", str, str, facts.Squashed),
		// Whether a service or a host is one of those that somebody has named; whether a host is that of an address, or below it.
		function2("is_service", str, list, yes, func(service string, named []string) bool { return facts.IsService(service, named) }),
		function2("is_own_host", str, str, yes, facts.IsOwnHost),
		// The separators in a title, each once; and whether one stands loose: first, last or doubled.
		function1("separators", str, list, separators),
		function1("has_loose_separator", str, yes, hasLooseSeparator),
		// The separator that stands last: that before the site's part, since a dash in a page's own words is none.
		function1("last_separator", str, str, lastSeparator),
		function2("begins_with_brand", str, str, yes, beginsWithBrand),
		cel.Function("filled", cel.MemberOverload("pattern_filled_string", []*cel.Type{str, str, str, str}, str,
			cel.FunctionBinding(func(args ...ref.Val) ref.Val {
				text := make([]string, len(args))
				for i, arg := range args {
					text[i], _ = arg.Value().(string)
				}
				return types.String(filled(text[0], text[1], text[2], text[3]))
			}))),
	}
}

// Functions says of each of these functions what it gives.
var Functions = map[string]string{
	"within":              "mode.within(other): the mode has no permission that the other lacks",
	"without":             "mode.without(other): the mode without the permissions of the other",
	"octal":               "octal(\"0644\"): the mode that octal digits say",
	"compare_versions":    "compare_versions(a, b): below 0 when the first version is the earlier one, 0 when both are the same: part by part, numbers as numbers",
	"as_day":              "as_day(date): the day of a date as people write it: 2 September 2026",
	"as_size":             "as_size(bytes): a size as people write it: 8M",
	"is_mail":             "is_mail(text): it is a mail address",
	"mail_domain":         "mail_domain(address): what stands after the @, in lower case",
	"mailboxes":           "mailboxes(text): the mail addresses in it, each once",
	"tells_when_or_whom":  "tells_when_or_whom(text): it says when something will be, or whom to ask: a time, a day, a span, a mailbox, a telephone",
	"is_persons":          "is_persons(mailbox, names): it is a person's own rather than an office's, as far as it and the names of people tell",
	"is_night":            "is_night(text): an hour between ten in the evening and six in the morning",
	"is_spelling":         "is_spelling(host, address): the host is that of the address, or the same host, with or without www",
	"stop_words":          "stop_words(language): the smallest words of a language; none where this program does not know it",
	"wide_script":         "wide_script(language): it is written in a script of which one sign may be a word",
	"url_host":            "url_host(address): the host of an address; nothing when it is none",
	"same_address":        "same_address(a, b): the same address, but for the case of the host and a slash at the end",
	"is_zone":             "is_zone(text): a time zone of the IANA database",
	"same_zone":           "same_zone(a, b): both zones have the same hour all year round",
	"is_host":             "is_host(text): a host and nothing else, with or without a scheme",
	"columns":             "columns(text): its characters, of which those of wide scripts count two, since half as many fit",
	"spaced":              "spaced(text): the text with one space wherever there is white space, and entities as what they stand for",
	"is_sign_in_name":     "is_sign_in_name(text): it looks like a name to sign in with: one word in lower case, or a mail address",
	"has_markup":          "has_markup(text): it has angle brackets or quotation marks in it",
	"language_matches":    "language_matches(range, tag): the tag is of that language, or the range of the tag's (RFC 4647 §3.3.1)",
	"home_title":          "home_title(words, brand, separator, most): a pattern of words and brand, as many as fit into so many characters",
	"is_service":          "is_service(name, names): a service or a host is one of those names, or lies below one of them",
	"is_own_host":         "is_own_host(host, address): the host is that of the address, with or without www, or lies below it",
	"squashed":            "squashed(text): its letters and digits in lower case, for comparing names",
	"separators":          "separators(title): the separators in it, each once",
	"last_separator":      "last_separator(title): the one that stands last, before the site's part; nothing where there is none",
	"begins_with_brand":   "begins_with_brand(title, brand): the brand is the title's first part, and not the beginning of the page's own words",
	"has_loose_separator": "has_loose_separator(title): one stands first, last or doubled",
	"filled":              "pattern.filled(site, tagline, separator): a title pattern with these put in",
}

func isSpelling(host, address string) bool {
	return bareHost(host) != "" && bareHost(host) == bareHost(address)
}

// bareHost is the host of an address, or a host as people write it, without www, port and the dot of the root, in letters that are sent (RFC 5891 §4).
func bareHost(text string) string {
	text = strings.TrimSpace(text)
	if !strings.Contains(text, "://") {
		text = "https://" + text
	}
	return facts.AsSent(strings.TrimPrefix(strings.TrimSuffix(facts.URLHost(text), "."), "www."))
}

// night is an hour between ten in the evening and six in the morning: as 03:40, 0340, 3:40 am or 11:15 pm, with or without a zone, as cron has it, or
// in a word. Of a line of cron all hours are.
var night = regexp.MustCompile(`(?i)^\s*((?:(?:daily|every (?:day|night)|nightly)?\s*at\s+|t)?(?:(2[23]|0?[0-5])[:.][0-5]\d([:.][0-5]\d)?|(2[23]|0[0-5])[0-5]\d|24[:.]00|(12|0?[1-5])([:.][0-5]\d)? *a\.?m\.?|1[01]([:.][0-5]\d)? *p\.?m\.?)` +
	`(?: *(?:z|utc|gmt|cet|cest|[+-]\d\d:?\d\d|[a-z]+/[a-z_/]+))?|[\d,*/-]+ +` + nightHours + `(?:,` + nightHours + `)*( +\S+){3}|@daily|@?midnight|nightly|every night|at night)\s*$`)

// nightHours are one hour of cron, or several after each other, within the night.
const nightHours = `(?:0?[0-5]-0?[0-5]|2[23]-2[23]|2[23]|0?[0-5])`

// mainLanguage is the language of a tag, without region and script (RFC 5646 §2.2.1).
func mainLanguage(tag string) string {
	main, _, _ := strings.Cut(strings.ToLower(tag), "-")
	return main
}

// stopWords are the smallest words of languages: articles, prepositions and what joins sentences.
var stopWords = map[string][]string{
	"en": strings.Fields("the and of a an in to for on at is"),
	"de": strings.Fields("der die das und in den von zu mit ein eine"),
	"fr": strings.Fields("le la les de des et un une à en du"),
	"es": strings.Fields("el la los las de y en un una que del"),
	"it": strings.Fields("il la lo i le di e in un una che"),
	"nl": strings.Fields("de het een en van in op te met voor"),
	"pt": strings.Fields("o a os as de e em um uma que do"),
	"da": strings.Fields("og i at en et den det til på med"),
	"sv": strings.Fields("och i att en ett den det till på med"),
	"nb": strings.Fields("og i å en et den det til på med"),
	"no": strings.Fields("og i å en et den det til på med"),
	"fi": strings.Fields("ja on ei se että tai kun niin myös"),
	"pl": strings.Fields("i w na z do o że się nie to"),
	"cs": strings.Fields("a v na s z do o že se to"),
	"cy": strings.Fields("y yr a ac o i yn ar am gan"),
}

// mailbox is a mail address as it stands in a text.
var mailbox = regexp.MustCompile(`[\p{L}\p{N}._%+-]{1,64}@[\p{L}\p{N}-]+(?:\.[\p{L}\p{N}-]+)+`)

func mailboxes(text string) (found []string) {
	for _, address := range mailbox.FindAllString(text, 100) {
		if address = strings.Trim(address, ".-"); !slices.Contains(found, address) {
			found = append(found, address)
		}
	}
	return found
}

// offices are words in the name of a mailbox that more than one person reads.
var offices = strings.Fields("office box info information post mail hello hi contact contactus service services support help helpdesk desk team staff shop store sales orders order admin administration press news tickets ticket booking bookings reservations reception enquiries enquiry questions feedback webmaster hostmaster postmaster noreply no-reply web site events club society library museum theatre school secretary treasurer accounts billing buero bureau kontakt service-client contacto contatto informatie hallo bonjour ciao verwaltung sekretariat")

// isPersons tells whether a mailbox is a person's own: it carries the name of one of those, or looks like a first and a last name.
func isPersons(address string, names []string) bool {
	local, _, _ := strings.Cut(strings.ToLower(address), "@")
	words := strings.FieldsFunc(local, func(r rune) bool { return !unicode.IsLetter(r) })
	for _, name := range names {
		for _, part := range strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return !unicode.IsLetter(r) }) {
			if utf8.RuneCountInString(part) >= 3 && slices.Contains(words, part) && !slices.Contains(offices, part) {
				return true
			}
		}
	}
	if slices.ContainsFunc(words, func(word string) bool { return slices.Contains(offices, word) }) {
		return false
	}
	return firstAndLast.MatchString(local)
}

// whenOrWhom are the ways to say when or whom, in the languages this was tried in. A year alone is neither.
var whenOrWhom = []*regexp.Regexp{
	regexp.MustCompile(`@\p{L}`),
	regexp.MustCompile(`(?i)(?:\+|\b0)\d[\d ()/.-]{5,}\d`), // a telephone
	regexp.MustCompile(`(?i)\b\d{1,2}(?:[:.h]\d{2}\b| ?(?:h|am|pm|a\.m\.|p\.m\.|uhr|o['’]clock)\b)`),                                   // a time
	regexp.MustCompile(`(?i)\b\d{4}-\d{2}-\d{2}\b|\b\d{1,2}[./]\d{1,2}\.?(?:\d{2,4})?(?:\b|$)|\b\d{1,2}(?:st|nd|rd|th|\.)? \p{L}{3,}`), // a day
	regexp.MustCompile(`(?i)\b(?:january|february|march|april|june|july|august|september|october|november|december)\b`),
	regexp.MustCompile(`(?i)\b(?:hours?|minutes?|days?|weeks?|today|tonight|tomorrow|noon|midnight|mon|tues|wednes|thurs|fri|satur|sun)(?:day)?\b|\b(?:this|next|in the|by) (?:morning|evening|afternoon|week)\b`),
	regexp.MustCompile(`(?i)\b(?:at|by|until|till|before|after|from) (?:half past |a quarter (?:to|past) )?(?:one|two|three|four|five|six|seven|eight|nine|ten|eleven|twelve)\b`),
	regexp.MustCompile(`(?i)\b(?:call|phone|telephone|ring|write to|mail us|ask|stunden?|minuten?|heute|morgen|montag|dienstag|mittwoch|donnerstag|freitag|samstag|sonntag|uhr|heures?|aujourd|demain|lundi|mardi|horas?|hoy|mañana|ore|oggi|domani|uur|vandaag|morgen|anrufen|telefon|téléphone|teléfono|telefono|telefoon)\b`),
}

func tellsWhenOrWhom(text string) bool {
	return slices.ContainsFunc(whenOrWhom, func(way *regexp.Regexp) bool { return way.MatchString(text) })
}

// firstAndLast is how the name of a person's own mailbox often looks.
var firstAndLast = regexp.MustCompile(`^\p{L}+[._]\p{L}{2,}$`)

func languageMatches(wanted, tag string) bool {
	wanted, tag = strings.ToLower(wanted), strings.ToLower(tag)
	return wanted != "" && tag != "" && (strings.HasPrefix(tag+"-", wanted+"-") || strings.HasPrefix(wanted+"-", tag+"-"))
}

// signInName is how names to sign in with look.
var signInName = regexp.MustCompile(`^[a-z0-9][a-z0-9._@+-]*$`)

// columns counts characters, those of wide scripts (UAX #11) as two.
func columns(text string) int {
	n := 0
	for _, r := range text {
		n++
		if kind := width.LookupRune(r).Kind(); kind == width.EastAsianWide || kind == width.EastAsianFullwidth {
			n++
		}
	}
	return n
}

func homeTitle(words []string, brand, separator string, most int) string {
	var parts []string
	taken := utf8.RuneCountInString(brand)
	for _, group := range words {
		if group == "" {
			continue
		}
		more := utf8.RuneCountInString(group) + utf8.RuneCountInString(separator) + 2
		if taken+more > most {
			break
		}
		taken += more
		first, size := utf8.DecodeRuneInString(group)
		parts = append(parts, string(unicode.ToUpper(first))+group[size:])
	}
	return strings.Join(append(parts, "{site}"), " {separator} ")
}

var hostShape = regexp.MustCompile(`^(https?://)?([a-z0-9-]+\.)+[a-z]{2,}/?$`)

// filled puts site, tagline and separator into a title pattern, and a word for what differs from page to page.
func filled(pattern, site, tagline, separator string) string {
	return strings.NewReplacer("{site}", site, "{tagline}", tagline, "{separator}", separator, "{page}", "Page", "{listing}", "Listing").Replace(pattern)
}

// titleSeparators are the signs that stand between the parts of a title, with white space around them.
var titleSeparators = []string{"|", "¦", "❘", "｜", "│", "┃", "‖", "||", "-", "--", "---", "‐", "‑", "‒", "–", "—", "―", "−", "－", "·", "•", "⋅", "∙", "●", "▪", "*", "»", "«", "›", "‹", ">", "<", "→", "←", "/", "\\", ":", "::", "~", "+", "★", "◆"}

// bars part a title even without white space around them: no word has one in it.
var bars = regexp.MustCompile(`\s*([|¦❘｜│┃‖]+)\s*`)

// titleWords are the words and signs of a title.
func titleWords(title string) []string { return strings.Fields(bars.ReplaceAllString(title, " $1 ")) }

func separators(title string) []string {
	found := []string{}
	for _, word := range titleWords(title) {
		if slices.Contains(titleSeparators, word) && !slices.Contains(found, word) {
			found = append(found, word)
		}
	}
	return found
}

func hasLooseSeparator(title string) bool {
	before := true // the start counts as a separator, and so does the end
	for _, word := range append(titleWords(title), "|") {
		is := slices.Contains(titleSeparators, word)
		if is && before {
			return true
		}
		before = is
	}
	return false
}

func native[T any](v ref.Val) T {
	t, _ := v.Value().(T)
	return t
}

func function1[A, R any](name string, a, r *cel.Type, f func(A) R) cel.EnvOption {
	return cel.Function(name, cel.Overload(name, []*cel.Type{a}, r, cel.UnaryBinding(func(x ref.Val) ref.Val {
		return types.DefaultTypeAdapter.NativeToValue(f(native[A](x)))
	})))
}

func binding2[A, B, R any](f func(A, B) R) cel.OverloadOpt {
	return cel.BinaryBinding(func(x, y ref.Val) ref.Val {
		return types.DefaultTypeAdapter.NativeToValue(f(native[A](x), native[B](y)))
	})
}

func function2[A, B, R any](name string, a, b, r *cel.Type, f func(A, B) R) cel.EnvOption {
	return cel.Function(name, cel.Overload(name, []*cel.Type{a, b}, r, binding2(f)))
}

func method2[A, B, R any](name string, a, b, r *cel.Type, f func(A, B) R) cel.EnvOption {
	return cel.Function(name, cel.MemberOverload(name, []*cel.Type{a, b}, r, binding2(f)))
}

// lastSeparator is the separator that stands last in a title.
func lastSeparator(title string) string {
	last := ""
	for _, word := range titleWords(title) {
		if slices.Contains(titleSeparators, word) {
			last = word
		}
	}
	return last
}

// beginsWithBrand tells whether the brand is the first part of a title: all of it, or followed by a separator. Where other
// words follow, they and the brand are the page's own.
func beginsWithBrand(title, brand string) bool {
	title, brand = strings.ToLower(strings.Join(strings.Fields(title), " ")), strings.ToLower(strings.Join(strings.Fields(brand), " "))
	rest, is := strings.CutPrefix(title, brand)
	if !is || brand == "" {
		return false
	}
	if rest == "" || strings.HasPrefix(rest, ":") {
		return true
	}
	words := titleWords(rest)
	apart := rest[0] == ' ' || bars.MatchString(words[0])
	return apart && len(words) > 0 && slices.Contains(titleSeparators, words[0])
}
