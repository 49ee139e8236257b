package live

import (
	"regexp"
	"strings"

	"weltaxis/internal/facts"
)

var (
	// saysMade is how a comment begins that tells what made a page.
	saysMade = regexp.MustCompile(`(?i)(generated|powered|built|made|optimi[sz]ed|running)\b[^0-9]{0,80}\bv?\d+(\.\d+)+|\bversion:?\s+v?\d+(\.\d+)+`)
)

// maxVersion is how much of a header that names a version is shown.
const maxVersion = 100

// maxComment is how much of a comment is looked at.
const maxComment = 2000

// versionIn is what a comment of a page tells of what made it, "" for nothing.
func versionIn(comment string) string {
	if found := saysMade.FindString(comment); found != "" {
		return facts.Shorten(strings.Join(strings.Fields(found), " "), 80)
	}
	return ""
}
