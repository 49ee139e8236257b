package facts

import (
	"fmt"
	"regexp"
	"strings"
)

// former gives the present names of names in the catalogue that have been changed. What people wrote with the old
// ones is still understood, and they are told.
var former = map[string]string{
	"settings.listing.attachment_indexed": "settings.listing.file_indexed",
	"settings.notify.update_services":     "settings.notify.new_posts",
}

// Present is the name under which something is known now, and whether that is another.
func Present(name string) (now string, changed bool) {
	if now, changed = former[name]; changed {
		return now, true
	}
	return name, false
}

// PresentSetting is Present for a setting without its source.
func PresentSetting(name string) (now string, changed bool) {
	now, changed = Present(Settings.Name(name))
	return strings.TrimPrefix(now, Settings.All()), changed
}

// formerKind is a kind of page by its former word, as a condition compares it.
var formerKind = regexp.MustCompile(`(\.kind\s*(?:==|!=|in)[^&|]*)"attachment"`)

// PresentSource gives the source of an expression with present names, and a sentence for each that was changed.
func PresentSource(source string) (now string, renamed []string) {
	now = source
	for old, is := range former {
		whole := regexp.MustCompile(`\b` + regexp.QuoteMeta(old) + `\b`)
		if whole.MatchString(now) {
			now = whole.ReplaceAllString(now, is)
			renamed = append(renamed, Renamed(old, is))
		}
	}
	for formerKind.MatchString(now) {
		now = formerKind.ReplaceAllString(now, `$1"file"`)
		renamed = append(renamed, Renamed(`"attachment"`, `"file"`))
	}
	return now, renamed
}

// Renamed is the sentence for somebody who wrote a former name.
func Renamed(old, now string) string { return fmt.Sprintf("%s is now called %s", old, now) }
