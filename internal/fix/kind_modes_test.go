package fix

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/files"
	"weltaxis/internal/tree"
)

func bits(n int64) facts.Value { return facts.NumberOf(facts.Mode, n) }

// classed are the classes of a tree with one file of a mode and a content, besides its folders.
func classed(t *testing.T, name, content string, mode uint32) (root string, class facts.Class) {
	t.Helper()
	root = t.TempDir()
	file := filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
	require.NoError(t, syscall.Chmod(file, mode))
	return root, fileClass(t, root)
}

// fileClass is the class of the one file below a root.
func fileClass(t *testing.T, root string) (class facts.Class) {
	t.Helper()
	seen, err := (&files.Source{Root: root}).Gather(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(seen.Classes, func(c facts.Class) bool { return c.Kind == "file" })
	require.GreaterOrEqual(t, i, 0, "there is no file")
	return seen.Classes[i]
}

// modesOf plans and makes what a rule asks of the file, with what was allowed.
func modesOf(t *testing.T, root string, class facts.Class, to uint32) (s *pebbles, p *Plan) {
	t.Helper()
	from, err := facts.Mode.Parse(class.Mode)
	require.NoError(t, err)
	d := facts.Deviation{Rule: "permissions.files", Subject: class.Subject(), Item: &class, Fix: facts.Proposal{Kind: facts.KindMode, Risk: facts.Safe, Mode: &facts.ModeTarget{From: from, To: bits(int64(to)), Origin: class.Origin()}}}
	p, err = New(t.Context(), Wishes{Deviations: []facts.Deviation{d}, FilesRoot: root, WebUser: "www-data"})
	require.NoError(t, err)
	s = changing(t)
	s.options.Root = root
	return s, p
}

// TestWhatRunsIsNeverCalledSafe, by whatever sign it shows that it runs.
func TestWhatRunsIsNeverCalledSafe(t *testing.T) {
	for _, c := range []struct {
		name, content string
		runs          bool
	}{
		{"tools/tidy", "#!/bin/sh\nexit\n", true}, {"tools/tidy.txt", "#!/usr/bin/env node\n", true}, {"a.js", "#!/usr/bin/env node\n", true}, {"picture.jpg", "\x7fELF...", true},
		{"run.exe2", "MZ\x90", true}, {"bin/console", "no sign at all", true}, {".git/hooks/post-merge", "exit 0", true}, {"hooks/x", "", true}, {"cgi-bin/count", "x", true},
		{"job.sh", "exit", true}, {"index.php", "<?php", true},
		{"notes", "just text", false}, {"picture.png", "\x89PNG", false}, {"a.css", "a{}", false}, {"bin/logo.png", "\x89PNG", false}, {"cabin/notes", "just text", false},
	} {
		root, class := classed(t, c.name, c.content, 0o755)
		_, p := modesOf(t, root, class, 0o644)
		require.Len(t, p.Changes, 1, c.name)
		assert.Equal(t, c.runs, p.Changes[0].Risk > facts.Safe, "%s: %s, %s", c.name, class.Content, p.Changes[0].Because)
		_, safe := classed(t, c.name, c.content, 0o777)
		risk, _, _ := baseline.ModeChange{From: 0o777, To: 0o755, Runnable: true, Owner: safe.Owner}.Risk()
		assert.Equal(t, facts.Safe, risk, "to write to it is another thing")
	}
}

// TestTheSetUserBitIsAQuestionOfItsOwn, asked apart, never safe, and given back apart in either order.
func TestTheSetUserBitIsAQuestionOfItsOwn(t *testing.T) {
	for _, mode := range []uint32{0o6777, 0o4755, 0o2777, 0o4644} {
		for _, order := range [][]int{{1, 2}, {2, 1}} {
			t.Run(fmt.Sprintf("%04o %v", mode, order), func(t *testing.T) {
				root, class := classed(t, "tool.dat", "x", mode)
				s, p := modesOf(t, root, class, 0o644)
				is := func() uint32 {
					m, there := modeIn(root, "tool.dat")
					require.True(t, there)
					return m
				}
				last := p.Changes[len(p.Changes)-1]
				assert.Equal(t, facts.Disruptive, last.Risk)
				assert.Contains(t, last.Title(), "set-user and set-group bits of")
				chosen, rest, err := p.Gate(Consent{Upto: facts.Disruptive})
				require.NoError(t, err)
				assert.Contains(t, names(&Plan{Changes: rest}), setID, "it was not named")
				if len(chosen) > 0 {
					s.write(chosen)
					assert.Equal(t, mode&setIDBits|0o644, is(), "the rest is changed, and not that")
					s.undo(everyOne)
					assert.Equal(t, mode, is())
				}
				if len(p.Changes) < 2 {
					order = []int{1}
				}
				for _, o := range s.write(p.Changes).Outcomes {
					assert.Equal(t, Took, o.Result, o.Says)
				}
				assert.Equal(t, uint32(0o644), is())
				records, err := ReadJournal(s.state)
				require.NoError(t, err)
				for _, which := range order {
					id := records[len(records)-len(p.Changes)+which-1].ID
					undone := s.undo(Choice{ID: id})
					require.Len(t, undone.Changes, 1)
					require.True(t, undone.Changes[0].Back, undone.Changes[0].Says)
				}
				assert.Equal(t, mode, is())
			})
		}
	}
}

// modeIn is the mode of a file below a root.
func modeIn(root, name string) (uint32, bool) {
	in, err := tree.Open(root)
	if err != nil {
		return 0, false
	}
	defer in.Close()
	return modeEdit{Path: name}.mode(in)
}

// TestAScriptOfModes changes what has the permissions that it had, and nothing that a link leads to.
func TestAScriptOfModes(t *testing.T) {
	root, class := classed(t, "it's $x", "x", 0o6777)
	_, p := modesOf(t, root, class, 0o644)
	text, err := p.Script("x", root, p.Changes, nil)
	require.NoError(t, err)
	is := func() uint32 { m, _ := modeIn(root, "it's $x"); return m }
	require.NoError(t, ran(t, text, "apply"))
	assert.Equal(t, uint32(0o644), is())
	require.Error(t, ran(t, text, "apply"), "it is not as it was")
	require.NoError(t, ran(t, text, "undo"))
	assert.Equal(t, uint32(0o6777), is())
	other := filepath.Join(t.TempDir(), "other")
	require.NoError(t, os.WriteFile(other, nil, 0o600))
	require.NoError(t, syscall.Chmod(other, 0o6777))
	require.NoError(t, os.Remove(filepath.Join(root, "it's $x")))
	require.NoError(t, os.Symlink(other, filepath.Join(root, "it's $x")))
	require.Error(t, ran(t, text, "apply"))
	m, _ := modeIn(filepath.Dir(other), "other")
	assert.Equal(t, uint32(0o6777), m)
}

// TestAnAccessControlListMakesAChangeOfPermissionsDisruptive: its entries, the web server's among them, lose what the group
// does; and undo gives it back.
func TestAnAccessControlListMakesAChangeOfPermissionsDisruptive(t *testing.T) {
	if _, err := exec.LookPath("setfacl"); err != nil {
		t.Skip("setfacl is not installed")
	}
	root, _ := classed(t, "a.css", "a{}", 0o664)
	if out, err := exec.Command("setfacl", "-m", "u:33:rw", filepath.Join(root, "a.css")).CombinedOutput(); err != nil {
		t.Skipf("this file system has no access control lists: %s", out)
	}
	class := fileClass(t, root)
	list := func() string {
		out, err := exec.Command("getfacl", "-n", "-p", filepath.Join(root, "a.css")).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	before := list()
	s, p := modesOf(t, root, class, 0o644)
	require.Len(t, p.Changes, 1)
	assert.Equal(t, facts.Disruptive, p.Changes[0].Risk)
	assert.Contains(t, p.Changes[0].Because, "a.css has an access control list")
	assert.Equal(t, Took, s.write(p.Changes).Outcomes[0].Result)
	assert.Contains(t, list(), "#effective:r--")
	assert.True(t, s.undo(Choice{}).Changes[0].Back)
	assert.Equal(t, before, list())
}

// TestTheReportKnowsOfAccessControlLists as the plan does, without looking up each entry.
func TestTheReportKnowsOfAccessControlLists(t *testing.T) {
	root, plain := classed(t, "code.txt", "text", 0o664)
	assert.Empty(t, plain.List)
	if out, err := exec.Command("setfacl", "-m", "u:33:rw", filepath.Join(root, "code.txt")).CombinedOutput(); err != nil {
		t.Skipf("no access control list can be set here: %s", out)
	}
	seen, err := (&files.Source{Root: root}).Gather(t.Context())
	require.NoError(t, err)
	for _, class := range seen.Classes {
		if class.Kind != "file" {
			continue
		}
		assert.Contains(t, class.List, ":rw-")
		risk, because, _ := baseline.ModeChangeOf(&class, facts.NumberOf(facts.Mode, 0o664), facts.NumberOf(facts.Mode, 0o644), "").Risk()
		assert.Equal(t, facts.Disruptive, risk)
		assert.Contains(t, because, "access control list")
		_, p := modesOf(t, root, class, 0o644)
		assert.Equal(t, risk, p.Changes[0].Risk, "the plan says the same")
	}
}
