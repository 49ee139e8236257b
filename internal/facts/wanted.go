package facts

import (
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/language"
)

// Wanted says what is wrong with a value that somebody wants a setting to have, beyond what its type is: what is read from a site may be anything, and what
// is written to one may not. "" where nothing is. Nothing at all may be wanted of a text.
func (t Term) Wanted(v Value) string {
	text := v.Text()
	switch {
	case v.Type() == Int && v.Number() < 0, v.Type() == Duration && v.Number() < 0, v.Type() == Size && v.Number() < 0:
		return fmt.Sprintf("%s is less than nothing", v)
	case v.Type() == Zone && !IsZone(text) && text != "UTC":
		return fmt.Sprintf("%q is no time zone of the IANA database; write it as Europe/London", Shorten(text, 60))
	case strings.IndexFunc(text, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r' }) >= 0:
		return "it holds a character that controls something and is not shown"
	case text == "":
		return ""
	}
	switch {
	case v.Type() == Mail:
		if address, err := mail.ParseAddress(text); err != nil || address.Address != text {
			return fmt.Sprintf("%q is no address of a mailbox; write it as post@name.example", Shorten(text, 60))
		}
	case v.Type() == URL:
		if u, err := url.Parse(text); err != nil || !strings.HasPrefix(text, "/") && (u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
			return fmt.Sprintf("%q is no address; write it as https://www.name.example", Shorten(text, 60))
		}
	case t.Name == SiteLanguage.Name:
		if _, err := language.Parse(text); err != nil {
			return fmt.Sprintf("%q is no language tag (RFC 5646); write it as en-GB", Shorten(text, 60))
		}
	}
	return ""
}

// NamesPage tells of settings that name a page of the site, by its path.
func (t Term) NamesPage() bool {
	return slices.ContainsFunc([]*Term{FrontPage.Term, PageNotFound.Term, PageError.Term, PageSearch.Term, PageLogin.Term, PageProfile.Term}, func(named *Term) bool { return named.Name == t.Name })
}
