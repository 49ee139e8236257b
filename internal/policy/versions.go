package policy

import (
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"
)

var (
	// tellsProgram are names of headers that say which program made an answer.
	tellsProgram = regexp.MustCompile(`(?i)^server$|powered|generator|engine|software|platform|version`)
	// tellsOther are those of them that say which form of an interface is spoken.
	tellsOther = regexp.MustCompile(`(?i)\bapi\b|^sec-|^upgrade|protocol|websocket`)
	// hasVersion is a number with a part after it, behind a name, a slash, a sign or the word for it.
	hasVersion = regexp.MustCompile(`(?i)[a-z)][/ _=-]v?\d+(\.\d+)+|\bv?\d+\.\d+\.\d+\b|/\d+\b`)
)

// Versions are the headers that name the version of a program.
func Versions(header http.Header) (found []string) {
	for _, name := range slices.Sorted(maps.Keys(header)) {
		for _, value := range header[name] {
			if tellsProgram.MatchString(name) && !tellsOther.MatchString(name) && (hasVersion.MatchString(value) || strings.Contains(strings.ToLower(name), "version") && strings.ContainsAny(value, "0123456789")) {
				found = append(found, name+": "+value)
			}
		}
	}
	return found
}

// NamesVersion tells whether a text that names programs tells the version of one.
func NamesVersion(text string) bool { return hasVersion.MatchString(text) }
