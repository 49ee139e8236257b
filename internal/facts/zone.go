package facts

import (
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // the zones must be the same on every machine, and some have none
)

// fixedZones are names of the database, and of the machine, that are offsets, or no places.
var fixedZones = []string{"", "Local", "UTC", "UCT", "Universal", "Zulu", "Greenwich", "EST", "MST", "HST", "Factory"}

// IsZone tells whether text names a zone of the IANA database, and a place rather than a fixed offset: UTC and
// its other names, Etc/GMT+1 and EST are offsets; GB and Singapore are places, under the names they had before.
func IsZone(text string) bool {
	if slices.Contains(fixedZones, text) || strings.HasPrefix(text, "Etc/") || strings.HasPrefix(text, "GMT") {
		return false
	}
	_, err := time.LoadLocation(text)
	return err == nil
}

// SameZone tells whether two names are one zone under two names, as the links of the IANA database make them:
// same offset and same abbreviation on every third day from 1970 to 2037.
func SameZone(a, b string) bool {
	if a == b {
		return true
	}
	x, err := time.LoadLocation(a)
	if err != nil || a == "" {
		return false
	}
	y, err := time.LoadLocation(b)
	if err != nil || b == "" {
		return false
	}
	last := time.Date(2037, time.December, 31, 0, 0, 0, 0, time.UTC)
	for at := time.Unix(0, 0); at.Before(last); at = at.Add(72 * time.Hour) {
		nameX, offsetX := at.In(x).Zone()
		nameY, offsetY := at.In(y).Zone()
		if nameX != nameY || offsetX != offsetY {
			return false
		}
	}
	return true
}
