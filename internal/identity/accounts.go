// Package identity is as whom this program does something. Mostly that is whoever started it. Started by root on what belongs to somebody
// else it acts as that user: all threads take the user's effective identity, groups and all, so that whatever is opened, followed, connected
// to or changed is what the user could have opened, followed, connected to or changed, and no check before it is needed; only what is
// done through AsCaller is done as root. The process stays root's (its real and saved user are), so that the user can neither stop it nor
// look into it.
//
// It also knows the accounts of this machine. It may import access and ordinary.
package identity

import (
	"os"
	"strings"
	"sync"

	"weltaxis/internal/access"
	"weltaxis/internal/ordinary"
)

// Accounts are those of this machine, as its own files of users and groups have them, read once.
var Accounts = sync.OnceValue(func() *access.Accounts {
	const most = 8 << 20
	passwd, _ := ordinary.Read("/etc/passwd", most) // where there is none, nobody is known
	group, _ := ordinary.Read("/etc/group", most)
	return access.ReadAccounts(passwd, group)
})

// GroupsElsewhere tells whether this machine asks others as well who is in a group, as a directory service (nsswitch.conf(5)).
var GroupsElsewhere = sync.OnceValue(func() bool {
	text, err := ordinary.Read("/etc/nsswitch.conf", 1<<20)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		line, _, _ = strings.Cut(line, "#")
		database, services, _ := strings.Cut(strings.TrimSpace(line), ":")
		if database != "passwd" && database != "group" && database != "initgroups" {
			continue
		}
		for _, service := range strings.Fields(services) {
			if service != "files" && service != "compat" && service != "systemd" && !strings.HasPrefix(service, "[") {
				return true
			}
		}
	}
	return false
})

// Name is what a user is called on this machine, or the number.
func Name(uid int) string { return Accounts().Of(uint32(uid)).Name }

// ActingName is what the user is called that root has this program act as; "" where it acts as its caller.
func ActingName() string {
	if uid, is := Acting(); is {
		return Name(uid)
	}
	return ""
}

// nogroup is the group of a user that the machine's files do not have.
const nogroup = 65534

// groups are the primary group of a user and all of his groups. One that the machine's files do not have is in the group of the same number,
// if they do not have that either.
func groups(uid int) (gid int, all []int) {
	account := Accounts().Of(uint32(uid))
	if len(account.Groups) == 0 {
		if _, known := Accounts().In(uint32(uid)); !known {
			return uid, []int{uid}
		}
		return nogroup, []int{nogroup}
	}
	for _, group := range account.Groups {
		all = append(all, int(group))
	}
	return int(account.GID), all
}

// Home is the home folder of a user, "/" for one that the machine's files do not have.
func Home(uid int) string {
	if home := Accounts().Of(uint32(uid)).Home; strings.HasPrefix(home, "/") {
		return home
	}
	return "/"
}

// Environment is what a user finds who signs in anew, with the caller's language and kind of terminal: nothing that names a file or a program.
func Environment(uid int) []string {
	path := "/usr/local/bin:/usr/bin:/bin"
	if uid == 0 {
		path = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	}
	name := Name(uid)
	env := []string{"PATH=" + path, "HOME=" + Home(uid), "USER=" + name, "LOGNAME=" + name, "SHELL=/bin/sh"}
	for _, pair := range os.Environ() {
		name, value, _ := strings.Cut(pair, "=")
		switch {
		case strings.ContainsAny(value, "/%"): // neither a path nor what names one
		case name == "LANG", name == "TERM", name == "COLORTERM", name == "NO_COLOR", name == "COLUMNS", strings.HasPrefix(name, "LC_"):
			env = append(env, pair)
		}
	}
	return env
}
