package baseline

import (
	"fmt"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// noticedBy says who notices a change of these settings, by their rows. What is safe is noticed by nobody outside.
func noticedBy(risk facts.Risk, settings []string) []facts.Who {
	who := []facts.Who{}
	for _, name := range settings {
		term, _ := facts.Setting(name)
		who = append(who, term.SeenBy...)
	}
	return NoticedAt(risk, who)
}

// NoticedAt puts those who notice in order, each once. Visitors and search engines do not notice what is safe, or it
// would not be.
func NoticedAt(risk facts.Risk, who []facts.Who) []facts.Who {
	who = slices.DeleteFunc(slices.Clone(who), func(w facts.Who) bool {
		return risk == facts.Safe && (w == facts.Visitors || w == facts.Engines)
	})
	slices.Sort(who)
	return append([]facts.Who{}, slices.Compact(who)...)
}

// WhoNotices says who notices what a fix does: those it names, or those who notice the settings that it changes, or
// those who notice anything of that risk.
func (f *Fix) WhoNotices() []facts.Who {
	switch names := f.names(); {
	case f.Noticed != nil:
		return NoticedAt(f.Risk, f.Noticed)
	case len(names) > 0:
		return noticedBy(f.Risk, names)
	case f.Risk == facts.Disruptive:
		return []facts.Who{facts.Visitors, facts.Engines}
	}
	return NoticedAt(f.Risk, []facts.Who{facts.Visitors, facts.Engines})
}

// opens tells whether putting the rule right lets search engines in.
func (r *Rule) opens() bool {
	for _, f := range r.Fix {
		for name, value := range f.Set {
			if term, _ := facts.Setting(name); term.Opens && value == facts.BoolOf(true).String() {
				return true
			}
		}
	}
	return false
}

// A ModeChange is a change of the permissions of entries that are alike.
type ModeChange struct {
	From, To uint32 // permission bits
	Runnable bool   // the permission to run means something: they are folders, or programs
	Owner    string // user:group
	WebUser  string // whom the web server runs as, "" when nobody said
	ACL      bool   // one of them has an access control list
	Filled   bool   // people and programs put things there
}

// ModeChangeOf is the change of a class's entries from one mode to another.
func ModeChangeOf(class *facts.Class, from, to facts.Value, webUser string) ModeChange {
	runnable := class.Kind == "folder" || slices.Contains([]string{"program", "command"}, class.Content)
	return ModeChange{uint32(from.Number()), uint32(to.Number()), runnable, class.Owner + ":" + class.Group, webUser, class.List != "",
		slices.Contains([]string{"uploads", "cache", "temporary"}, class.Role)}
}

const setIDBits = 0o6000

// Risk works out from who loses which access what the change can break, why, and who notices.
func (m ModeChange) Risk() (risk facts.Risk, because string, noticed []facts.Who) {
	lost := m.From &^ m.To
	if !m.Runnable {
		lost &^= 0o111
	}
	user, group, _ := strings.Cut(m.Owner, ":")
	webIsOwner := m.WebUser != "" && m.WebUser == user
	visitors, staff := []facts.Who{facts.Visitors}, []facts.Who{facts.Staff}
	if m.ACL && m.From&^m.To&0o070 != 0 {
		return facts.Disruptive, "there is an access control list, whose entries lose what the group loses (POSIX.1e)", staff
	}
	switch ownerLoses, othersLose := lost>>6&7, (lost>>3|lost)&7; {
	case lost&setIDBits != 0:
		return facts.Disruptive, "whoever starts it, or puts a file into it, gets the rights of its owner or group no more, and somebody has meant that", staff
	case ownerLoses&^2 != 0 && (webIsOwner || m.WebUser == ""):
		return facts.Disruptive, fmt.Sprintf("%s loses %s, and the web server may run as that user", user, accessWords(ownerLoses)), visitors
	case othersLose&^2 != 0 && m.WebUser == "":
		return facts.Visible, fmt.Sprintf("others lose %s, and nobody has said whom the web server runs as (intent.web_user)", accessWords(othersLose)), visitors
	case othersLose&^2 != 0 && !webIsOwner && (group != m.WebUser || lost&0o070 != 0):
		return facts.Disruptive, fmt.Sprintf("others lose %s, and the web server, as %s, is one of them", accessWords(othersLose), m.WebUser), visitors
	case m.Filled && othersLose&2 != 0 && m.WebUser != "" && m.WebUser != "root" && !webIsOwner && (group != m.WebUser || lost&0o020 != 0):
		return facts.Disruptive, fmt.Sprintf("others lose writing where things are put, and the web server, as %s, may be one of them", m.WebUser), visitors
	case m.Runnable && lost&0o111 != 0:
		return facts.Visible, "what may be run or entered now may not any more, by all whom it concerns", visitors
	case ownerLoses&2 != 0:
		return facts.Safe, "nobody can change it by accident; whoever may will unlock it first", []facts.Who{}
	case othersLose != 0:
		return facts.Safe, fmt.Sprintf("only users of this server besides %s lose %s", user, accessWords(othersLose)), []facts.Who{}
	}
	return facts.Safe, "nobody loses access", []facts.Who{}
}

// accessWords are the words of permission bits.
func accessWords(bits uint32) string {
	var words []string
	for _, access := range []struct {
		bit  uint32
		word string
	}{{1, "entering or running"}, {4, "reading"}, {2, "writing"}} {
		if bits&access.bit != 0 {
			words = append(words, access.word)
		}
	}
	return strings.Join(words, " and ")
}
