package live

import (
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

var (
	// tellsProgram are names of headers that say which program made an answer.
	tellsProgram = regexp.MustCompile(`(?i)^server$|powered|generator|engine|software|platform|version`)
	// tellsOther are those of them that say which form of an interface is spoken.
	tellsOther = regexp.MustCompile(`(?i)\bapi\b|^sec-|^upgrade|protocol|websocket`)
	// hasVersion is a number with a part after it, behind a name, a slash, a sign or the word for it.
	hasVersion = regexp.MustCompile(`(?i)[a-z)][/ _=-]v?\d+(\.\d+)+|\bv?\d+\.\d+\.\d+\b|/\d+\b`)
	// saysMade is how a comment begins that tells what made a page.
	saysMade = regexp.MustCompile(`(?i)(generated|powered|built|made|optimi[sz]ed|running)\b[^0-9]{0,80}\bv?\d+(\.\d+)+|\bversion:?\s+v?\d+(\.\d+)+`)
)

// maxComment is how much of a comment is looked at.
const maxComment = 2000

// versionsIn are the headers that name the version of a program.
func versionsIn(header http.Header) (found []string) {
	for _, name := range slices.Sorted(maps.Keys(header)) {
		for _, value := range header[name] {
			if tellsProgram.MatchString(name) && !tellsOther.MatchString(name) && (hasVersion.MatchString(value) || strings.Contains(strings.ToLower(name), "version") && strings.ContainsAny(value, "0123456789")) {
				found = append(found, name+": "+facts.Shorten(value, 80))
			}
		}
	}
	return found
}

// versionIn is what a comment of a page tells of what made it, "" for nothing.
func versionIn(comment string) string {
	if found := saysMade.FindString(comment); found != "" {
		return facts.Shorten(strings.Join(strings.Fields(found), " "), 80)
	}
	return ""
}
