package dialect

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

// A Translation says how a stored value and a neutral one become each other.
type Translation struct {
	Inverted bool   `yaml:"inverted"` // stored yes means no
	Unit     string `yaml:"unit"`     // of stored numbers
	// Words translates stored words to neutral ones, and Placeholders the marks in a pattern.
	Words        map[string]string `yaml:"words"`
	Placeholders map[string]string `yaml:"placeholders"`
	Split        string            `yaml:"split"`   // what separates the items of a list; a comma when empty
	Wrapped      string            `yaml:"wrapped"` // text around the value: max-age={value}
	// Contains makes yes or no of a stored list: whether this word is in it. IsSet makes it of whether anything is stored.
	Contains string `yaml:"contains"`
	IsSet    bool   `yaml:"is_set"`
}

var units = map[facts.Type][]string{
	facts.Duration: {"seconds", "minutes", "hours", "days"},
	facts.Size:     {"bytes", "KiB", "MiB"},
	facts.Date:     {"seconds"},
}

// perUnit is how many seconds or bytes a unit has.
var perUnit = map[string]int64{
	"": 1, "seconds": 1, "minutes": 60, "hours": 3600, "days": 86400,
	"bytes": 1, "KiB": 1 << 10, "MiB": 1 << 20,
}

// Value translates what is stored for the setting.
func (s Setting) Value(stored any) (facts.Value, error) {
	return s.Translation.Value(s.entry(), stored)
}

// Stored is what to store for a neutral value of the setting.
func (s Setting) Stored(v facts.Value, like Like) (any, error) {
	return s.Translation.Stored(s.entry(), v, like)
}

func (s Setting) entry() facts.Term {
	if s.Entry.Type == "" {
		s.Entry, _ = facts.Lookup(facts.Settings.Name(s.Name))
	}
	return s.Entry
}

// Value translates what is stored (nil, bool, int64, float64, string or []any) into the neutral value. The error
// says what was expected, and quotes nothing of a secret.
func (t Translation) Value(entry facts.Term, stored any) (facts.Value, error) {
	if items, ok := stored.([]any); ok && entry.Type == facts.List {
		return facts.ListOf(texts(items)...), nil
	}
	if t.Contains != "" && entry.Type == facts.Bool {
		_, there := t.containing(stored)
		return facts.BoolOf(there != t.Inverted), nil
	}
	if items, ok := stored.([]any); ok && t.IsSet {
		return facts.BoolOf(len(items) > 0 != t.Inverted), nil
	}
	text, ok := Text(stored)
	if !ok {
		if entry.Type == facts.Bool {
			return facts.Value{}, fmt.Errorf("what is stored is a list; write contains: WORD for whether a word is in it, or is_set: yes")
		}
		return facts.Value{}, fmt.Errorf("what is stored is no single value")
	}
	if t.IsSet && entry.Type == facts.Bool {
		return facts.BoolOf(strings.TrimSpace(text) != "" != t.Inverted), nil
	}
	if before, after, wrapped := strings.Cut(t.Wrapped, "{value}"); wrapped && text != "" {
		inner, starts := strings.CutPrefix(text, before)
		inner, ends := strings.CutSuffix(inner, after)
		if !starts || !ends {
			return facts.Value{}, fmt.Errorf("%s is expected around it", t.Wrapped)
		}
		text = inner
	}
	if neutral, ok := t.Words[text]; ok {
		return entry.Type.Parse(neutral)
	}
	switch entry.Type {
	case facts.Words:
		if v := facts.TextOf(facts.Words, text); len(t.Words) == 0 && entry.Check(v) {
			return v, nil
		}
		if len(t.Words) > 0 {
			return facts.Value{}, fmt.Errorf("%q is a word the dialect does not translate", facts.Shorten(text, 40))
		}
		return facts.Value{}, fmt.Errorf("%q is none of %s", facts.Shorten(text, 40), strings.Join(entry.Words, ", "))
	case facts.Duration, facts.Size:
		return t.quantity(entry.Type, text)
	case facts.Date:
		if n, err := strconv.ParseInt(text, 10, 64); err == nil && t.Unit != "" {
			return facts.NumberOf(facts.Date, n), nil
		}
	case facts.Bool:
		v, err := entry.Type.Parse(text)
		switch {
		case err != nil:
			err = fmt.Errorf("%w; write words: {STORED: yes, ...} for what each word means, contains: WORD for a word in a list, or is_set: yes for anything at all", err)
		case t.Inverted:
			v = facts.BoolOf(!v.Bool())
		}
		return v, err
	case facts.Pattern:
		return facts.TextOf(facts.Pattern, replaceAll(text, t.Placeholders)), nil
	case facts.List:
		return facts.ListOf(splitList(text, t.Split)...), nil
	}
	return entry.Type.Parse(text)
}

// quantity reads a number in the dialect's unit, or a text with a unit of its own.
func (t Translation) quantity(typ facts.Type, text string) (facts.Value, error) {
	n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
	if err != nil {
		return typ.Parse(text)
	}
	unit := perUnit[t.Unit]
	if n*unit/unit != n {
		return facts.Value{}, fmt.Errorf("%d %s is out of range", n, t.Unit)
	}
	return facts.NumberOf(typ, n*unit), nil
}

// Like is what a value to be stored should look like: what is stored now, and how the store spells yes and no.
type Like struct {
	Old   any
	Typed bool     // the store keeps yes, no and numbers as such
	YesNo []string // two words, or none
}

// ErrSecret says that a secret has no neutral text to store.
var ErrSecret = errors.New("a secret is not translated; a person sets it")

// Stored translates a neutral value into what to store: nil, bool, int64, string or []any. It has been translated
// back, and was the same.
func (t Translation) Stored(entry facts.Term, v facts.Value, like Like) (any, error) {
	if v.Type() != entry.Type {
		return nil, fmt.Errorf("a %s is expected, not a %s", entry.Type, v.Type())
	}
	if entry.Type == facts.Secret {
		return nil, ErrSecret
	}
	if why := t.Unspelt(entry, v, like); why != "" {
		return nil, errors.New("it can be read and not written: " + why)
	}
	stored, err := t.spell(entry, v, like)
	if err != nil {
		return nil, err
	}
	back, err := t.Value(entry, stored)
	if spelt := facts.TextOf(entry.Type, like.tagged(entry, v.Text())); err == nil && entry.Name == facts.SiteLanguage.Name && back.Equal(spelt) {
		return stored, nil // the same language in the spelling of the place
	}
	if err != nil || !back.Equal(v) {
		return nil, fmt.Errorf("%q cannot be spelt in this dialect", v)
	}
	return stored, nil
}

func (t Translation) spell(entry facts.Term, v facts.Value, like Like) (any, error) {
	switch {
	case t.Contains != "" && entry.Type == facts.Bool:
		return t.withWord(v.Bool() != t.Inverted, like), nil
	case t.IsSet && entry.Type == facts.Bool:
		if v.Bool() != t.Inverted {
			return nil, errors.New("what is to stand there only a person can say")
		}
		return "", nil
	}
	if text, ok := t.word(entry, v); ok {
		return like.shape(t.wrap(text)), nil
	}
	switch entry.Type {
	case facts.Bool:
		return t.yesNo(v.Bool() != t.Inverted, like), nil
	case facts.List:
		if _, isList := like.Old.([]any); isList || like.Old == nil && like.Typed {
			items := []any{}
			for _, item := range v.List() {
				items = append(items, item)
			}
			return items, nil
		}
		return strings.Join(v.List(), t.joint(like)), nil
	case facts.Pattern:
		return t.wrap(replaceAll(v.Text(), reversed(t.Placeholders))), nil
	case facts.Duration, facts.Size:
		return t.amount(v, like)
	case facts.Int, facts.Date:
		if entry.Type == facts.Date && t.Unit == "" {
			return v.String(), nil
		}
		return like.shape(t.wrap(strconv.FormatInt(v.Number(), 10))), nil
	}
	return t.wrap(like.tagged(entry, v.Text())), nil
}

// containing is a stored list, and whether the word is in it, in whatever case.
func (t Translation) containing(stored any) (items []string, there bool) {
	if list, isList := stored.([]any); isList {
		items = texts(list)
	} else if text, ok := Text(stored); ok {
		items = splitList(text, t.between(text))
	}
	return items, slices.ContainsFunc(items, func(item string) bool { return strings.EqualFold(item, t.Contains) })
}

// between is what separates the items of a stored list: as the dialect says, or commas where there are any, or blanks.
func (t Translation) between(text string) string {
	if t.Split != "" || strings.Contains(text, ",") {
		return t.Split
	}
	return " "
}

// withWord is a stored list with the word in it, or without; the other items stay.
func (t Translation) withWord(wanted bool, like Like) any {
	items, there := t.containing(like.Old)
	switch {
	case wanted && !there:
		items = append(items, t.Contains)
	case !wanted && there:
		items = slices.DeleteFunc(items, func(item string) bool { return strings.EqualFold(item, t.Contains) })
	}
	if _, isList := like.Old.([]any); isList {
		list := []any{}
		for _, item := range items {
			list = append(list, item)
		}
		return list
	}
	old, _ := Text(like.Old)
	if between := t.between(old); between == " " {
		return strings.Join(items, between)
	}
	return strings.Join(items, t.joint(like))
}

// posixLocale is a language as POSIX and the C library spell it: en_GB.UTF-8@euro (POSIX.1-2024, 8.2).
var posixLocale = regexp.MustCompile(`^([A-Za-z]{2,3})(?:([_-])([A-Za-z]{2}|[0-9]{3}))?(\.[A-Za-z0-9-]+)?(@[A-Za-z0-9]+)?$`)

// tagged spells a language tag (RFC 5646) as the old one is spelt: en_GB.UTF-8 after en_US.UTF-8, en_gb after en_us. What
// is no language, or no plain one, stays as it is.
func (l Like) tagged(entry facts.Term, text string) string {
	stored, _ := Text(l.Old)
	old, now := posixLocale.FindStringSubmatch(stored), posixLocale.FindStringSubmatch(text)
	if entry.Name != facts.SiteLanguage.Name || old == nil || now == nil {
		return text
	}
	if old[2] == "" && old[4] == "" || now[4]+now[5] != "" {
		return text
	}
	language, between, region := now[1], cmp.Or(old[2], "_"), now[3]
	if region != "" {
		if old[3] != "" && old[3] == strings.ToLower(old[3]) {
			region = strings.ToLower(region)
		}
		region = between + region
	}
	return language + region + old[4]
}

func (t Translation) wrap(text string) string {
	if t.Wrapped == "" {
		return text
	}
	return strings.Replace(t.Wrapped, "{value}", text, 1)
}

// word finds the stored word for a neutral value; of several the first in the alphabet.
func (t Translation) word(entry facts.Term, v facts.Value) (string, bool) {
	for _, stored := range slices.Sorted(maps.Keys(t.Words)) {
		if neutral, err := entry.Type.Parse(t.Words[stored]); err == nil && neutral.Equal(v) {
			return stored, true
		}
	}
	return "", false
}

// joint is what the items of a list are joined with: the separator, and a blank after a comma as in the old text.
func (t Translation) joint(like Like) string {
	if t.Split != "" && t.Split != "," {
		return t.Split
	}
	if old, _ := Text(like.Old); strings.Contains(old, ",") && !strings.Contains(old, ", ") {
		return ","
	}
	return ", "
}

// pairs are the usual spellings of yes and no.
var pairs = [][2]string{{"yes", "no"}, {"on", "off"}, {"true", "false"}, {"1", "0"}, {"Yes", "No"}, {"On", "Off"}, {"True", "False"}, {"YES", "NO"}, {"ON", "OFF"}, {"TRUE", "FALSE"}}

func (t Translation) yesNo(yes bool, like Like) any {
	pick := func(pair [2]string) string {
		if yes {
			return t.wrap(pair[0])
		}
		return t.wrap(pair[1])
	}
	switch old := like.Old.(type) {
	case bool:
		return yes
	case int64:
		return map[bool]int64{true: 1}[yes]
	case string:
		for _, pair := range pairs {
			if old == t.wrap(pair[0]) || old == t.wrap(pair[1]) {
				return pick(pair)
			}
		}
	}
	switch {
	case len(like.YesNo) == 2:
		return pick([2]string(like.YesNo))
	case like.Typed && t.Wrapped == "":
		return yes
	}
	return pick([2]string{"1", "0"})
}

// amount spells a duration or a size in the dialect's unit, or with a unit of its own where the old text had one.
func (t Translation) amount(v facts.Value, like Like) (any, error) {
	old, _ := Text(like.Old)
	if _, err := strconv.ParseInt(strings.TrimSpace(old), 10, 64); err != nil && old != "" && t.Unit == "" && t.Wrapped == "" {
		if v.Type() == facts.Duration {
			return v.String(), nil
		}
		for unit, letter := range map[int64]string{1 << 20: "M", 1 << 10: "K"} {
			if v.Number()%unit == 0 && strings.HasSuffix(strings.ToUpper(old), letter) {
				return strconv.FormatInt(v.Number()/unit, 10) + old[len(old)-1:], nil
			}
		}
	}
	unit := perUnit[t.Unit]
	if v.Number()%unit != 0 {
		return nil, fmt.Errorf("%s is no whole number of %s", v, t.Unit)
	}
	return like.shape(t.wrap(strconv.FormatInt(v.Number()/unit, 10))), nil
}

// shape gives a text the type of what is stored now.
func (l Like) shape(text string) any {
	_, wasText := l.Old.(string)
	if wasText || !l.Typed && l.Old == nil {
		return text
	}
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && strconv.FormatInt(n, 10) == text {
		return n
	}
	if _, wasBool := l.Old.(bool); wasBool && (text == "true" || text == "false") {
		return text == "true"
	}
	return text
}

// reversed swaps keys and values; of several keys with one value the first in the alphabet stays.
func reversed(words map[string]string) map[string]string {
	back := map[string]string{}
	for _, key := range slices.Sorted(maps.Keys(words)) {
		if _, taken := back[words[key]]; !taken {
			back[words[key]] = key
		}
	}
	return back
}

// IsFactory tells whether what is stored is one of the values the install came with. Letter case and white space
// around it do not matter.
func (s Setting) IsFactory(stored any) bool {
	text, ok := Text(stored)
	return ok && slices.ContainsFunc(s.Factory, func(f string) bool {
		return strings.EqualFold(strings.TrimSpace(f), strings.TrimSpace(text))
	})
}

// Text is a stored value as text; false for a list or a map.
func Text(stored any) (string, bool) {
	switch v := stored.(type) {
	case nil:
		return "", true
	case string:
		return v, true
	case []byte:
		return string(v), true
	case bool:
		return strconv.FormatBool(v), true
	case int64:
		return strconv.FormatInt(v, 10), true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	}
	return "", false
}

func texts(items []any) []string {
	list := []string{}
	for _, item := range items {
		if text, ok := Text(item); ok {
			list = append(list, text)
		}
	}
	return list
}

func splitList(text, separator string) []string {
	if separator == "" {
		separator = ","
	}
	list := []string{}
	for item := range strings.SplitSeq(text, separator) {
		if item = strings.TrimSpace(item); item != "" {
			list = append(list, item)
		}
	}
	return list
}

// replaceAll replaces the longest marks first, so that none is taken for the start of another.
func replaceAll(text string, pairs map[string]string) string {
	olds := slices.SortedFunc(maps.Keys(pairs), func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	var flat []string
	for _, old := range olds {
		flat = append(flat, old, pairs[old])
	}
	return strings.NewReplacer(flat...).Replace(text)
}
