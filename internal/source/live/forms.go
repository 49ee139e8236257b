package live

import (
	"bytes"
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/facts"
)

// An openForm is a form whose end has not come yet.
type openForm struct {
	there, sends            bool
	called                  string // what it and its fields are called
	to                      string // where it posts to, as it is written
	given                   []hidden
	passwords               int
	newPassword, mail, area bool
	trapped                 bool // it has a field that people do not get to
}

// A hidden is a field of a form that nobody fills in, with what it is given.
type hidden struct{ name, value string }

// maxGiven is how many such fields of a form are kept.
const maxGiven = 20

func newForm(attributes map[string]string) openForm {
	return openForm{there: true, sends: strings.EqualFold(attributes["method"], "post"), to: strings.Clone(attributes["action"]),
		called: strings.ToLower(attributes["action"] + " " + attributes["id"] + " " + attributes["class"] + " " + attributes["name"] + " " + attributes["aria-label"])}
}

// input takes one of its fields.
func (f *openForm) input(attributes map[string]string, hints string) {
	kind := strings.ToLower(attributes["type"])
	switch {
	case kind == "password":
		f.passwords++
		f.newPassword = f.newPassword || strings.Contains(hints, "new-password")
	case kind == "email", strings.Contains(hints, "email"), kind != "hidden" && strings.Contains(strings.ToLower(attributes["name"]), "mail"):
		f.mail = true
	case kind == "submit", kind == "hidden":
		if kind == "hidden" && len(f.given) < maxGiven && len(attributes["value"]) <= maxText {
			f.given = append(f.given, hidden{strings.Clone(attributes["name"]), strings.Clone(attributes["value"])})
		}
		f.called += " " + strings.ToLower(attributes["name"]+" "+attributes["value"])
	case attributes["tabindex"] == "-1" && (hints == "off" || attributes["aria-hidden"] == "true"):
		f.trapped = true
	}
}

var (
	// toRegister is what forms and pages to make an account with are called, in the languages this was tried in.
	toRegister = regexp.MustCompile(`(?i)(?:^|[^a-z])(?:register|registration|sign-?_?up|create-?_?account|new-?_?(?:user|account|member)|join|registrieren|registrierung|konto-?anlegen|inscription|creer-?un-?compte|registro|crear-?cuenta|iscriviti|registrati|aanmelden|registreren)(?:$|[^a-z])`)
	// toSubscribe is what forms for letters are called, which ask for a mailbox too and make no account.
	toSubscribe = regexp.MustCompile(`(?i)newsletter|subscri|mailing|abonn|rundbrief|infolettre|boletin|nieuwsbrief`)
	// toChange is what forms for another password are called.
	toChange = regexp.MustCompile(`(?i)reset|change|lost|forgot|recover|passwort-?(?:vergessen|aendern)|oublie|olvid|dimentic|vergeten`)
)

// closeForm says what the form that ends is for.
func (a *analyser) closeForm() {
	f := a.open
	a.open = openForm{}
	if !f.there {
		return
	}
	a.robotCheck = a.robotCheck || f.trapped
	if f.sends && f.area && f.passwords == 0 {
		a.letters = true
	}
	if f.sends {
		a.posts(f.to)
		a.given = append(a.given, f.given[:min(len(f.given), maxGiven-min(len(a.given), maxGiven))]...)
	}
	a.asksMail = a.asksMail || f.sends && f.mail && !f.area && !toSubscribe.MatchString(f.called)
	if toChange.MatchString(f.called) {
		return
	}
	a.registers = a.registers || f.passwords > 1 && f.mail || f.newPassword && f.passwords > 0 || f.passwords > 0 && f.mail && toRegister.MatchString(f.called) ||
		f.sends && f.mail && !f.area && toRegister.MatchString(f.called) && !toSubscribe.MatchString(f.called)
}

// maxPosts is how many addresses that forms of a page post to are kept.
const maxPosts = 20

// posts notes where a form posts to: where nothing is written, to the page itself (HTML, form submission).
func (a *analyser) posts(to string) {
	at := a.at
	if strings.TrimSpace(to) != "" {
		resolved, err := a.base.Parse(strings.TrimSpace(to))
		if err != nil || resolved.Scheme != "http" && resolved.Scheme != "https" {
			return
		}
		at = resolved
	}
	clean := *at
	clean.Fragment, clean.User = "", nil
	if address := a.short(clean.String()); !slices.Contains(a.postsTo, address) && len(a.postsTo) < maxPosts {
		a.postsTo = append(a.postsTo, address)
	}
}

// postsBy notes what a button of a form says of where and how it is sent, over what the form says.
func (a *analyser) postsBy(attributes map[string]string) {
	if strings.EqualFold(attributes["formmethod"], "post") {
		a.open.sends = a.open.there
	}
	if to, says := attributes["formaction"]; says && a.open.there && (a.open.sends || strings.EqualFold(attributes["formmethod"], "post")) {
		a.posts(to)
	}
}

var (
	// onceNamed is how fields are called that hold what was made for one visitor, or for one visit.
	onceNamed = regexp.MustCompile(`(?i)token|csrf|xsrf|nonce|authenticity|form-?_?(?:key|time|stamp|build)|challenge|one-?_?time|timestamp|state\b|\bts\b|issued|expires`)
	randomly  = regexp.MustCompile(`^[A-Za-z0-9+/=_.:|~-]+$`)
	digits    = regexp.MustCompile(`\d`)
	letters   = regexp.MustCompile(`[A-Za-z]`)
)

// fewestRandom is how long a text is at least that a machine made up, and fewestSigns of how many signs it is.
const fewestRandom, fewestSigns = 16, 8

// once tells whether what a field is given looks as made for one visitor or one visit: by what it is called, as a time of about now, or as a text that a
// machine made up.
func (f hidden) once(now time.Time) bool {
	if seconds, err := strconv.ParseInt(f.value, 10, 64); err == nil {
		if len(f.value) == 13 {
			seconds /= 1000
		}
		return now.Sub(time.Unix(seconds, 0)).Abs() < 24*time.Hour
	}
	signs := map[rune]bool{}
	for _, sign := range f.value {
		signs[sign] = true
	}
	named := onceNamed.MatchString(f.name) && len(f.value) >= 6 && digits.MatchString(f.value)
	return named || len(f.value) >= fewestRandom && len(signs) >= fewestSigns && randomly.MatchString(f.value) && digits.MatchString(f.value) && letters.MatchString(f.value) && !strings.Contains(f.value, "/")
}

// onceOnly are those that look so.
func onceOnly(all []hidden, now time.Time) []hidden {
	return slices.DeleteFunc(slices.Clone(all), func(f hidden) bool { return !f.once(now) })
}

// tellOnce says which fields of forms that are sent hold what was made for one visit: what two pages give alike was not.
func (v *visit) tellOnce() {
	pages := map[hidden]int{}
	for _, p := range v.real() {
		slices.SortFunc(p.given, func(a, b hidden) int { return cmp.Or(cmp.Compare(a.name, b.name), cmp.Compare(a.value, b.value)) })
		p.given = slices.Compact(p.given)
		for _, f := range p.given {
			pages[f]++
		}
	}
	for _, p := range v.real() {
		for _, f := range p.given {
			if name := facts.Shorten(f.name, maxOnceName); pages[f] == 1 && !slices.Contains(p.page.Once, name) {
				p.page.Once = append(p.page.Once, name)
			}
		}
	}
}

// maxOnceName is how much of the name of such a field is kept.
const maxOnceName = 60

// offersAccount tells whether one may make an account on a page: by its form, or by its address and a form that asks for a mailbox.
func offersAccount(path string, d *document) bool {
	return d.registers || d.asksMail && toRegister.MatchString(path) && !toSubscribe.MatchString(path) && !toChange.MatchString(path)
}

// What shows a failure of a program, as runtimes and databases write it.
var (
	failureMarks = [][]byte{[]byte(" on line "), []byte("Traceback (most recent call last)"), []byte("tack trace"), []byte("SQLSTATE["), []byte("error in your SQL syntax"), []byte("Exception"), []byte("ORA-0"), []byte("syntax error at or near")}
	quoted       = regexp.MustCompile(`(?is)<(pre|code|samp|textarea|script|style)\b.*?</(?:pre|code|samp|textarea|script|style)>|<!--.*?-->`)
	anyTag       = regexp.MustCompile(`<[^>]*>`)
	failures     = regexp.MustCompile(`(?s)(?:Fatal error|Parse error|Recoverable fatal error|Warning|Notice|Deprecated|Strict Standards): .{1,400}? in (?:/|[A-Za-z]:\\|phar:).{1,300}?\.[A-Za-z0-9]{1,6}(?:\(\d+\) : [^<]{1,60})? on line \d+` +
		`|Traceback \(most recent call last\):|[Ss]tack trace:\s*#0 |Uncaught (?:[A-Z]\w*\\)*\w*(?:Exception|Error): ` +
		`|SQLSTATE\[[0-9A-Z]{5}\]|You have an error in your SQL syntax|ORA-0\d{4}:|ERROR:\s+syntax error at or near` +
		`|\b(?:[a-z]\w*\.){2,}[A-Z]\w*(?:Exception|Error)\b.{0,300}?\s+at (?:[a-z]\w*\.)+`)
)

// failureIn is the failure of a program that a page shows, shortened; "" when it shows none. What a page quotes, as one about
// programs does, is none.
func failureIn(body []byte) string {
	for _, mark := range failureMarks {
		if !bytes.Contains(body, mark) {
			continue
		}
		text := anyTag.ReplaceAll(quoted.ReplaceAll(body, nil), nil)
		return facts.Shorten(strings.Join(strings.Fields(string(failures.Find(text))), " "), maxFailure)
	}
	return ""
}

// maxFailure is how much of a failure is kept to be shown.
const maxFailure = 160

// note keeps a failure that a page shows.
func (v *visit) note(at, failure string) {
	if failure != "" {
		v.failures = append(v.failures, at+": "+failure)
	}
}

// tellErrors says what the pages that were looked at show of failures, and where one may make an account.
func (v *visit) tellErrors() {
	home := v.home.String()
	for _, p := range v.real() {
		v.note(p.page.Path, p.failure)
		if p.registers && v.registers == "" {
			v.registers = p.page.Path
		}
	}
	say(v, facts.LiveErrors, few(v.failures), home)
	if v.partly && v.registers == "" {
		return
	}
	say(v, facts.LiveRegistration, v.registers, home)
}
