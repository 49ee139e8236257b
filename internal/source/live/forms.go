package live

import (
	"bytes"
	"regexp"
	"strings"

	"weltaxis/internal/facts"
)

// An openForm is a form whose end has not come yet.
type openForm struct {
	there, sends            bool
	called                  string // what it and its fields are called
	passwords               int
	newPassword, mail, area bool
	trapped                 bool // it has a field that people do not get to
}

func newForm(attributes map[string]string) openForm {
	return openForm{there: true, sends: strings.EqualFold(attributes["method"], "post"),
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
	a.asksMail = a.asksMail || f.sends && f.mail && !f.area && !toSubscribe.MatchString(f.called)
	if toChange.MatchString(f.called) {
		return
	}
	a.registers = a.registers || f.passwords > 1 && f.mail || f.newPassword && f.passwords > 0 || f.passwords > 0 && f.mail && toRegister.MatchString(f.called) ||
		f.sends && f.mail && !f.area && toRegister.MatchString(f.called) && !toSubscribe.MatchString(f.called)
}

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
