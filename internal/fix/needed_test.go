package fix

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/servertest"
	"weltaxis/internal/source/files"
)

// TestNobodyLosesWhatHeNeeds: of generated owners, groups, modes and users no change that is called safe takes writing from whom the web server runs as where
// things are put, nor from whoever has put something there, as processes of these users see it. There are 60 sets, and 400 in the long runs.
func TestNobodyLosesWhatHeNeeds(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files to others")
	}
	sets := 60
	if os.Getenv("WELTAXIS_SOAK") != "" {
		sets = 400
	}
	names := []string{"www-data", "daemon", "backup", "games", "nobody"}
	safe, disruptive := 0, 0
	for seed := range sets {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		one := func() (uid, gid uint32, name string) {
			name = names[r.IntN(len(names))]
			account, known := identity.Accounts().Named(name)
			require.True(t, known, name)
			return account.UID, account.GID, name
		}
		root := servertest.Public(t)
		folder := filepath.Join(root, "uploads")
		require.NoError(t, os.Mkdir(folder, 0o700))
		uid, _, owner := one()
		_, gid, group := one()
		var put []string
		for i := range r.IntN(3) {
			file := filepath.Join(folder, fmt.Sprint("x", i, ".jpg"))
			require.NoError(t, os.WriteFile(file, []byte("\xff\xd8\xff"), 0o644))
			by, of, name := one()
			require.NoError(t, os.Chown(file, int(by), int(of)))
			put = append(put, name)
		}
		from := []uint32{0o777, 0o775, 0o757, 0o770, 0o773, 0o1777}[r.IntN(6)]
		to := from &^ []uint32{0o002, 0o022, 0o020, 0o007, 0o005, 0o075, 0o001}[r.IntN(7)]
		require.NoError(t, os.Chown(folder, int(uid), int(gid)))
		require.NoError(t, syscall.Chmod(folder, from))
		if setfacl, err := exec.LookPath("setfacl"); err == nil && r.IntN(3) == 0 {
			require.NoError(t, exec.Command(setfacl, "-m", "u:"+names[r.IntN(len(names))]+":"+[]string{"rwx", "r-x", "-wx", "---"}[r.IntN(4)], folder).Run())
			stat, err := os.Stat(folder)
			require.NoError(t, err)
			from = from&^0o777 | uint32(stat.Mode().Perm())
			to &= from
		}
		web := append(names, "")[r.IntN(len(names)+1)]
		seen, err := (&files.Source{Root: root}).Gather(t.Context())
		require.NoError(t, err)
		at := slices.IndexFunc(seen.Classes, func(c facts.Class) bool { return c.Kind == "folder" && c.Role == "uploads" })
		require.GreaterOrEqual(t, at, 0)
		class := seen.Classes[at]
		d := facts.Deviation{Rule: "permissions.folders", Subject: class.Subject(), Item: &class, Fix: facts.Proposal{Kind: facts.KindMode, Risk: facts.Safe, Mode: &facts.ModeTarget{From: bits(int64(from)), To: bits(int64(to)), Origin: class.Origin()}}}
		p, err := New(t.Context(), Wishes{Deviations: []facts.Deviation{d}, FilesRoot: root, WebUser: web})
		require.NoError(t, err)
		if len(p.Changes) == 0 || from == to {
			continue
		}
		may, reads := map[string]bool{}, map[string]bool{}
		who := slices.Compact(slices.Sorted(slices.Values(append(put, web))))
		for _, name := range who {
			may[name], reads[name] = writes(t, name, folder), name == web && lists(name, folder)
		}
		if p.Changes[0].Risk != facts.Safe {
			disruptive++
			continue
		}
		safe++
		require.NoError(t, syscall.Chmod(folder, to))
		for _, name := range who {
			if reads[name] {
				assert.True(t, lists(name, folder), "%d: %04o to %04o of %s:%s was called safe (%s), and %s could read there", seed, from, to, owner, group, p.Changes[0].Because, name)
			}
			if name != "" && may[name] {
				assert.True(t, writes(t, name, folder), "%d: %04o to %04o of %s:%s was called safe (%s), and %s could write there; the web server is %q", seed, from, to, owner, group, p.Changes[0].Because, name, web)
			}
		}
	}
	assert.Positive(t, safe)
	assert.Positive(t, disruptive)
	t.Logf("%d safe, %d not", safe, disruptive)
}

// writes tells whether a process of a user can put a file into a folder.
func writes(t *testing.T, name, folder string) bool {
	t.Helper()
	account, known := identity.Accounts().Named(name)
	if !known || name == "" {
		return false
	}
	file := filepath.Join(folder, "tried-"+name)
	command := exec.Command("sh", "-c", `: >"$1"`, "sh", file)
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: account.UID, Gid: account.GID, Groups: []uint32{account.GID}}}
	err := command.Run()
	_ = os.Remove(file)
	return err == nil
}

// lists tells whether a process of a user can list a folder, and enter it.
func lists(name, folder string) bool {
	account, known := identity.Accounts().Named(name)
	if !known {
		return false
	}
	command := exec.Command("sh", "-c", `cd -- "$1" && ls . >/dev/null`, "sh", folder)
	command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: account.UID, Gid: account.GID, Groups: []uint32{account.GID}}}
	return command.Run() == nil
}
