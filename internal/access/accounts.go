package access

import (
	"slices"
	"strconv"
	"strings"
)

// Accounts are those of a machine, as its files of users and groups say (passwd(5), group(5)). Those that a directory service
// knows are not among them.
type Accounts struct {
	users  []Account
	groups map[uint32]string
}

// ReadAccounts reads both files; lines that are none are passed over, as the system does.
func ReadAccounts(passwd, group []byte) *Accounts {
	a := &Accounts{groups: map[uint32]string{}}
	members := map[string][]uint32{}
	for fields := range lines(group, 4) {
		id, err := strconv.ParseUint(fields[2], 10, 32)
		if err != nil {
			continue
		}
		a.groups[uint32(id)] = fields[0]
		for member := range strings.SplitSeq(fields[3], ",") {
			members[member] = append(members[member], uint32(id))
		}
	}
	for fields := range lines(passwd, 7) {
		uid, err := strconv.ParseUint(fields[2], 10, 32)
		gid, bad := strconv.ParseUint(fields[3], 10, 32)
		if err != nil || bad != nil {
			continue
		}
		groups := append([]uint32{uint32(gid)}, members[fields[0]]...)
		slices.Sort(groups)
		a.users = append(a.users, Account{Name: fields[0], UID: uint32(uid), Groups: slices.Compact(groups), GID: uint32(gid), Home: fields[5]})
	}
	return a
}

func lines(text []byte, fields int) func(func([]string) bool) {
	return func(yield func([]string) bool) {
		for line := range strings.Lines(string(text)) {
			if split := strings.Split(strings.TrimSuffix(line, "\n"), ":"); len(split) == fields && split[0] != "" && !yield(split) {
				return
			}
		}
	}
}

// Named is the account of a name, or of a number; false when the machine has none.
func (a *Accounts) Named(name string) (Account, bool) {
	i := slices.IndexFunc(a.users, func(u Account) bool { return u.Name == name || strconv.Itoa(int(u.UID)) == name })
	if i < 0 {
		return Account{}, false
	}
	return a.users[i], true
}

// In are the accounts of a group; known is false when the machine has no such group, so that nobody can tell.
func (a *Accounts) In(gid uint32) (in []Account, known bool) {
	for _, u := range a.users {
		if slices.Contains(u.Groups, gid) {
			in = append(in, u)
		}
	}
	_, known = a.groups[gid]
	return in, known || len(in) > 0
}

// Of is the account of a number; one without a name when the machine has none, in no group.
func (a *Accounts) Of(uid uint32) Account {
	if i := slices.IndexFunc(a.users, func(u Account) bool { return u.UID == uid }); i >= 0 {
		return a.users[i]
	}
	return Account{Name: strconv.Itoa(int(uid)), UID: uid}
}

// GroupNamed is the number of a group; false when the machine has none of that name.
func (a *Accounts) GroupNamed(name string) (gid uint32, known bool) {
	for gid, called := range a.groups {
		if called == name {
			return gid, true
		}
	}
	return 0, false
}

// Group is a group's name, or its number where it has none.
func (a *Accounts) Group(gid uint32) string {
	if name, known := a.groups[gid]; known {
		return name
	}
	return strconv.Itoa(int(gid))
}
