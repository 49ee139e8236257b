package access

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed is a list as Linux keeps it.
func packed(items ...Item) []byte {
	raw := binary.LittleEndian.AppendUint32(nil, 2)
	for _, item := range items {
		raw = binary.LittleEndian.AppendUint16(raw, item.Tag)
		raw = binary.LittleEndian.AppendUint16(raw, uint16(item.Rights))
		raw = binary.LittleEndian.AppendUint32(raw, item.ID)
	}
	return raw
}

func TestLists(t *testing.T) {
	list, err := ParseList(packed(Item{tagUserObject, Read | Write, 7}, Item{tagUser, Read | Write, 33}, Item{tagGroupObject, Read, 0}, Item{tagGroup, Write, 100}, Item{tagMask, Read, 0}, Item{tagOther, 0, 0}))
	require.NoError(t, err)
	name := func(id uint32) string { return map[uint32]string{33: "web", 100: "users"}[id] }
	assert.Equal(t, "user:web:rw-,group::r--,group:users:-w-,mask::r--", list.Text(name, name))
	users, groups := list.Named(Read)
	assert.Equal(t, []uint32{33}, users)
	assert.Empty(t, groups, "the mask leaves nothing of what it may")
	users, _ = list.Named(Write)
	assert.Empty(t, users)
	for _, wrong := range [][]byte{nil, {2, 0, 0}, {1, 0, 0, 0}, {2, 0, 0, 0, 1}, packed(Item{0x40, 1, 1})} {
		_, err := ParseList(wrong)
		assert.ErrorIs(t, err, ErrList)
	}
}

// TestAccess: the order in which the system asks (acl(5)), and what a mount takes.
func TestAccess(t *testing.T) {
	owner, member, web, root, other := Account{UID: 1, Groups: []uint32{1}}, Account{UID: 2, Groups: []uint32{2, 50}}, Account{UID: 33, Groups: []uint32{33}}, Account{}, Account{UID: 9, Groups: []uint32{9}}
	plain := Entry{Mode: 0o604, UID: 1, GID: 50}
	assert.Equal(t, []Rights{Read | Write, 0, Read, Read | Write, Read}, []Rights{plain.Of(owner), plain.Of(member), plain.Of(web), plain.Of(root), plain.Of(other)}, "who is in the group gets what the group gets, even if that is less")
	listed := Entry{Mode: 0o660, UID: 1, GID: 50, List: List{{tagUserObject, Read | Write, 0}, {tagUser, Read | Write | Run, 33}, {tagGroupObject, Write, 0}, {tagMask, Read | Write, 0}, {tagOther, 0, 0}}}
	assert.Equal(t, []Rights{Read | Write, Write, Read | Write, 0}, []Rights{listed.Of(owner), listed.Of(member), listed.Of(web), listed.Of(other)})
	assert.Equal(t, Write, listed.Group(), "the mode shows the mask in its place")
	folder := Entry{Mode: 0o755, UID: 1, Folder: true, ReadOnly: true, NoRun: true}
	assert.Equal(t, Read|Run, folder.Of(root), "nothing is written, and folders are entered all the same")
	run := Entry{Mode: 0o755, UID: 1, NoRun: true}
	assert.Equal(t, Read|Write, run.Of(root))
	assert.Equal(t, Read, run.Others())
	assert.Equal(t, "rw-", (Read | Write).String())
	assert.Equal(t, Read|Write, Entry{Mode: 0o600, UID: 1}.Of(root), "what nobody may run, the superuser does not either")
}

func TestAccounts(t *testing.T) {
	a := ReadAccounts([]byte("root:x:0:0::/:/bin/sh\nweb:x:33:33::/:/bin/sh\nada:x:1000:100::/:/bin/sh\nnonsense\nbad:x:no:1::/:\n"), []byte("users:x:100:web,ghost\nsite:x:50:ada\n\nbad:x:no:\n"))
	web, known := a.Named("web")
	require.True(t, known)
	assert.Equal(t, []uint32{33, 100}, web.Groups)
	ada, known := a.Named("1000")
	require.True(t, known)
	assert.Equal(t, []uint32{50, 100}, ada.Groups)
	in, known := a.In(100)
	assert.True(t, known)
	assert.Len(t, in, 2)
	_, known = a.In(4711)
	assert.False(t, known, "nobody knows who is in a group that the machine does not have")
	assert.Equal(t, "4711", a.Of(4711).Name)
	assert.Equal(t, "site", a.Group(50))
	_, known = a.Named("nobody-of-that-name")
	assert.False(t, known)
}

func FuzzList(f *testing.F) {
	f.Add(packed(Item{tagUser, Read, 33}, Item{tagMask, Read, 0}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		list, err := ParseList(raw)
		if err == nil && len(list) != (len(raw)-4)/8 {
			t.Fatal("entries were lost")
		}
		entry := Entry{Mode: 0o750, UID: 1, GID: 2, List: list}
		if entry.Of(Account{UID: 3, Groups: []uint32{2}})&^7 != 0 {
			t.Fatal("more rights than there are")
		}
	})
}

func FuzzAccounts(f *testing.F) {
	f.Add([]byte("root:x:0:0::/:/bin/sh\n"), []byte("users:x:100:root\n"))
	f.Fuzz(func(t *testing.T, passwd, group []byte) {
		for _, account := range ReadAccounts(passwd, group).users {
			if account.Name == "" || len(account.Groups) == 0 {
				t.Fatalf("an account without a name or a group: %+v", account)
			}
		}
	})
}
