package fix

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/settings"
	"weltaxis/internal/store"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// readSetting is the neutral value that is effective now.
func readSetting(ctx context.Context, site *store.Site, s dialect.Setting) (facts.Value, error) {
	readings, err := settings.Readings(ctx, site, s)
	if err != nil {
		return facts.Value{}, err
	}
	return readings[0].Value, nil
}

// dangers are the settings with which somebody may lock themselves out, or lose what others have linked to.
var dangers = map[string]string{
	"site.address":         "one wrong character here sends everybody, staff too, to an address that may not answer",
	"site.install_address": "one wrong character here may keep staff from signing in",
	"permalink.pattern":    "every address of a post changes; those that others have linked to must lead on",
	"login.path":           "staff sign in at another address from then on",
	"lock.on":              "nobody gets in without the name and password of the lock",
}

// notices are the settings that others than visitors notice.
var notices = map[string]string{
	"session.idle":         "staff are signed out after another time than they are used to",
	"site.time_zone":       "dates shift, and what is scheduled is published at another hour",
	"mail.sender_address":  "automatic mail comes from another address, which filters may not know yet",
	"registration.open":    "visitors can register, or can no more",
	"delivery.compression": "it may break pages where the host does something of the kind already; the home page is looked at afterwards",
	"delivery.minify":      "it may break styles or scripts; the home page is looked at afterwards",
}

// whyRisk says in one line what a change can break.
func whyRisk(risk, name string) string {
	if why, known := dangers[name]; known {
		return why
	}
	if why, known := notices[name]; known {
		return why
	}
	switch risk {
	case facts.Safe:
		return "nobody outside notices"
	case facts.Visible:
		return "visitors or search engines see it"
	}
	return "it can lock somebody out, or break the site"
}

// modeRisk works out from who loses which access what a change of permissions can break.
func modeRisk(from, to uint32, runnable bool, owner, webUser string) (risk, because string) {
	lost := from &^ to
	if !runnable {
		lost &^= 0o111
	}
	user, _, _ := strings.Cut(owner, ":")
	access := func(bits uint32) string {
		var words []string
		for bit, word := range map[uint32]string{4: "reading", 2: "writing", 1: "entering or running"} {
			if bits&bit != 0 {
				words = append(words, word)
			}
		}
		slices.Sort(words)
		return strings.Join(words, " and ")
	}
	webIsOwner := webUser != "" && webUser == user
	switch ownerLoses, othersLose := lost>>6&7, (lost>>3|lost)&7; {
	case ownerLoses&^2 != 0 && (webIsOwner || webUser == ""):
		return facts.Disruptive, fmt.Sprintf("%s loses %s, and the web server may run as that user", user, access(ownerLoses))
	case othersLose&^2 != 0 && webUser == "":
		return facts.Visible, fmt.Sprintf("others lose %s, and nobody has said whom the web server runs as (intent.web_user)", access(othersLose))
	case othersLose&^2 != 0 && !webIsOwner:
		return facts.Disruptive, fmt.Sprintf("others lose %s, and the web server, as %s, is one of them", access(othersLose), webUser)
	case ownerLoses&2 != 0:
		return facts.Safe, "nobody can change it by accident; whoever may will unlock it first"
	case othersLose != 0:
		return facts.Safe, fmt.Sprintf("only users of this server besides %s lose %s", user, access(othersLose))
	}
	return facts.Safe, "nobody loses access"
}
