package fix

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// whyRisk says in one line what a change can break.
func whyRisk(risk facts.Risk, setting facts.Term) string {
	if why := cmp.Or(setting.Danger, setting.Noticed); why != "" {
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
func modeRisk(from, to uint32, runnable bool, owner, webUser string) (risk facts.Risk, because string) {
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
	case lost&setIDBits != 0:
		return facts.Disruptive, "whoever starts it, or puts a file into it, gets the rights of its owner or group no more, and somebody has meant that"
	case ownerLoses&^2 != 0 && (webIsOwner || webUser == ""):
		return facts.Disruptive, fmt.Sprintf("%s loses %s, and the web server may run as that user", user, access(ownerLoses))
	case othersLose&^2 != 0 && webUser == "":
		return facts.Visible, fmt.Sprintf("others lose %s, and nobody has said whom the web server runs as (intent.web_user)", access(othersLose))
	case othersLose&^2 != 0 && !webIsOwner:
		return facts.Disruptive, fmt.Sprintf("others lose %s, and the web server, as %s, is one of them", access(othersLose), webUser)
	case runnable && lost&0o111 != 0:
		return facts.Visible, "what may be run or entered now may not any more, by all whom it concerns"
	case ownerLoses&2 != 0:
		return facts.Safe, "nobody can change it by accident; whoever may will unlock it first"
	case othersLose != 0:
		return facts.Safe, fmt.Sprintf("only users of this server besides %s lose %s", user, access(othersLose))
	}
	return facts.Safe, "nobody loses access"
}
