//go:build linux

package orders

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/identity"
	"weltaxis/internal/ordinary"
)

// kestrel and wren are users that this machine does not have, in groups that it does not have.
const kestrel, wren = 61001, 61002

// A place is a folder in which something lies that may give orders, or may not.
type place struct {
	*testing.T
	dir string
}

func (p place) do(errs ...error) {
	p.Helper()
	for _, err := range errs {
		require.NoError(p, err)
	}
}

func (p place) at(name string) string { return filepath.Join(p.dir, name) }

// given makes folders and files, all kestrel's: name, mode; a folder ends in a slash.
func (p place) given(entries ...string) {
	p.Helper()
	for _, name := range entries {
		if folder, is := strings.CutSuffix(name, "/"); is {
			p.do(os.MkdirAll(p.at(folder), 0o755))
		} else {
			p.do(os.MkdirAll(filepath.Dir(p.at(name)), 0o755), os.WriteFile(p.at(name), []byte("orders"), 0o644))
		}
		for at := strings.TrimSuffix(name, "/"); at != "."; at = filepath.Dir(at) {
			p.do(os.Lchown(p.at(at), kestrel, kestrel))
		}
	}
}

func (p place) list(name, entry string) {
	p.Helper()
	out, err := exec.Command("setfacl", "-m", entry, p.at(name)).CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		p.Skip("setfacl is not installed; scripts/test installs it")
	}
	require.NoError(p, err, string(out))
}

// TestWhoMayGiveOrders: wrong owners, groups, modes, lists, folders and links, and what looks like them and does no harm.
func TestWhoMayGiveOrders(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	const file = "a/b/site.yaml"
	for name, c := range map[string]struct {
		make func(p place)
		name string // what is opened; site.yaml below two folders when empty
		says string // "" where it may
	}{
		"all his own":                         {func(p place) {}, "", ""},
		"a file of root's":                    {func(p place) { p.do(os.Chown(p.at(file), 0, 0)) }, "", ""},
		"folders of root's":                   {func(p place) { p.do(os.Chown(p.at("a"), 0, 0), os.Chown(p.at("a/b"), 0, 0)) }, "", ""},
		"a file of another":                   {func(p place) { p.do(os.Chown(p.at(file), wren, wren)) }, "", "a/b/site.yaml belongs to 61002"},
		"a folder of another":                 {func(p place) { p.do(os.Chown(p.at("a/b"), wren, wren)) }, "", "a/b belongs to 61002"},
		"a folder further up":                 {func(p place) { p.do(os.Chown(p.at("a"), wren, wren)) }, "", "a belongs to 61002"},
		"nobody's file":                       {func(p place) { p.do(os.Chown(p.at(file), 65534, 65534)) }, "", "belongs to nobody"},
		"a file for everybody":                {func(p place) { p.do(os.Chmod(p.at(file), 0o646)) }, "", "may be written to by everybody"},
		"a folder for everybody":              {func(p place) { p.do(os.Chmod(p.at("a/b"), 0o757)) }, "", "a/b may be written to by everybody"},
		"a folder for everybody further up":   {func(p place) { p.do(os.Chmod(p.at("a"), 0o777)) }, "", "a may be written to by everybody"},
		"his folder for everybody, sticky":    {func(p place) { p.do(os.Chmod(p.at("a"), 0o777|fs.ModeSticky)) }, "", "a may be written to by everybody"},
		"root's folder for everybody, sticky": {func(p place) { p.do(os.Chown(p.at("a"), 0, 0), os.Chmod(p.at("a"), 0o777|fs.ModeSticky)) }, "", ""},
		"root's folder for everybody":         {func(p place) { p.do(os.Chown(p.at("a"), 0, 0), os.Chmod(p.at("a"), 0o777)) }, "", "a may be written to by everybody"},
		"root's folder for a group, sticky":   {func(p place) { p.do(os.Chown(p.at("a"), 0, wren), os.Chmod(p.at("a"), 0o775|fs.ModeSticky)) }, "", ""},
		"another's name for it in such a folder": {func(p place) {
			p.do(os.Chown(p.at("a/b"), 0, 0), os.Chmod(p.at("a/b"), 0o777|fs.ModeSticky), os.Link(p.at(file), p.at("elsewhere")))
		}, "", "has another name elsewhere"},
		"another name where only he may write":       {func(p place) { p.do(os.Link(p.at(file), p.at("elsewhere"))) }, "", ""},
		"a group that nobody knows":                  {func(p place) { p.do(os.Chown(p.at(file), kestrel, wren), os.Chmod(p.at(file), 0o664)) }, "", "may be written to by the group 61002, in which nobody here knows who is"},
		"a group with somebody in it":                {func(p place) { p.do(os.Chown(p.at(file), kestrel, 33), os.Chmod(p.at(file), 0o664)) }, "", "may be written to by the group www-data, in which www-data is"},
		"a group that may only read":                 {func(p place) { p.do(os.Chown(p.at(file), kestrel, 33), os.Chmod(p.at(file), 0o640)) }, "", ""},
		"a group of root alone":                      {func(p place) { p.do(os.Chown(p.at(file), kestrel, 0), os.Chmod(p.at(file), 0o664)) }, "", ""},
		"a folder for a group with somebody in it":   {func(p place) { p.do(os.Chown(p.at("a/b"), kestrel, 33), os.Chmod(p.at("a/b"), 0o775)) }, "", "a/b may be written to by the group www-data"},
		"such a folder with the group's bit set":     {func(p place) { p.do(os.Chown(p.at("a"), kestrel, 33), os.Chmod(p.at("a"), 0o775|fs.ModeSetgid)) }, "", "a may be written to by the group www-data"},
		"a list that lets another write":             {func(p place) { p.list(file, "u:www-data:rw") }, "", "may be written to by www-data, as its list of access says"},
		"a list of a folder that lets another write": {func(p place) { p.list("a", "u:www-data:rwx") }, "", "a may be written to by www-data, as its list"},
		"a list that lets a group write":             {func(p place) { p.list(file, "g:www-data:rw") }, "", "may be written to by the group www-data"},
		"a list that lets another read":              {func(p place) { p.list(file, "u:www-data:r") }, "", ""},
		"a list whose mask leaves nothing":           {func(p place) { p.list(file, "u:www-data:rw"); p.list(file, "m::r") }, "", ""},
		"a list that lets root write":                {func(p place) { p.list(file, "u:root:rw"); p.do(os.Chown(p.at(file), kestrel, 0)) }, "", ""},
		"a list for what is made in a folder":        {func(p place) { p.list("a/b", "d:u:www-data:rwx") }, "", ""},
		"a link of his own": {func(p place) {
			p.do(os.Symlink("a/b/site.yaml", p.at("link")), os.Lchown(p.at("link"), kestrel, kestrel))
		}, "link", ""},
		"a link of root's":              {func(p place) { p.do(os.Symlink(p.at(file), p.at("link"))) }, "link", ""},
		"a link of another":             {func(p place) { p.do(os.Symlink("a/b/site.yaml", p.at("link")), os.Lchown(p.at("link"), wren, wren)) }, "link", "link belongs to 61002"},
		"a link to a folder of another": {func(p place) { p.given("c/x"); p.do(os.Chown(p.at("c"), wren, wren), os.Symlink("c/x", p.at("link"))) }, "link", "c belongs to 61002"},
		"a link in a folder for everybody": {func(p place) {
			p.given("c/")
			p.do(os.Chmod(p.at("c"), 0o777), os.Symlink("../a/b/site.yaml", p.at("c/link")))
		}, "c/link", "c may be written to by everybody"},
		"a link by way of a folder for everybody": {func(p place) {
			p.given("c/d/")
			p.do(os.Chmod(p.at("c"), 0o777), os.Symlink("c/d/../../a/b/site.yaml", p.at("link")))
		}, "link", "c may be written to by everybody"},
		"a chain of links": {func(p place) {
			p.do(os.Symlink("two", p.at("one")), os.Symlink(p.at("three"), p.at("two")), os.Symlink("a/./b/../b/site.yaml", p.at("three")))
		}, "one", ""},
		"a link to itself":           {func(p place) { p.do(os.Symlink("link", p.at("link"))) }, "link", "too many levels of symbolic links"},
		"a link to nothing":          {func(p place) { p.do(os.Symlink("nothing", p.at("link"))) }, "link", "no such file"},
		"nothing":                    {func(place) {}, "a/nothing", "no such file"},
		"a file taken for a folder":  {func(place) {}, file + "/x", "not a directory"},
		"a folder":                   {func(place) {}, "a/b", "it is no ordinary file but a folder"},
		"a named pipe":               {func(p place) { p.do(syscall.Mkfifo(p.at("pipe"), 0o600), os.Chown(p.at("pipe"), kestrel, kestrel)) }, "pipe", "a named pipe"},
		"by way of the folder above": {func(place) {}, "a/b/../b/./site.yaml", ""},
		"above what is no folder":    {func(place) {}, file + "/../site.yaml", "not a directory"},
	} {
		t.Run(name, func(t *testing.T) {
			p := place{t, t.TempDir()}
			p.given(file)
			c.make(p)
			opened := c.name
			if opened == "" {
				opened = file
			}
			data, err := In(kestrel).Read(p.dir+"/"+opened, 1<<10)
			if c.says == "" {
				require.NoError(t, err)
				assert.Equal(t, "orders", string(data))
			} else {
				require.ErrorContains(t, err, c.says)
				var fault *Fault
				if errors.As(err, &fault) {
					assert.ErrorContains(t, err, "may be changed by root and 61001 alone")
				}
			}
			if _, checked := In(kestrel).Check(p.dir + "/" + opened); err == nil || errors.As(err, new(*Fault)) {
				assert.Equal(t, err, checked, "by its name alone")
			}
			t.Chdir(p.dir)
			t.Setenv("PWD", "/")
			_, relative := In(kestrel).Read(opened, 1<<10)
			assert.Equal(t, err == nil, relative == nil, "by a name from where one is")
		})
	}
}

// What is exchanged between two looks at a name is caught: each part is looked up in the folder that was held against the rule.
func TestRootsOrdersAreRootsAlone(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	p := place{t, t.TempDir()}
	p.given("a/site.yaml")
	_, err := In(0).Read(p.at("a/site.yaml"), 1<<10)
	var fault *Fault
	require.ErrorAs(t, err, &fault)
	assert.Equal(t, kestrel, fault.Owner)
	assert.Equal(t, p.at("a"), fault.At)
	assert.Equal(t, p.at("a")+" belongs to 61001, and what gives orders may be changed by root alone, like each folder above it", err.Error())
	_, err = In(0).Read(p.at("a/site.yaml")+"\x00", 1<<10)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	p.do(os.WriteFile(p.at("large"), make([]byte, 2000), 0o600))
	_, err = In(0).Read(p.at("large"), 1<<10)
	var is *ordinary.Error
	assert.ErrorAs(t, err, &is)
}

// TestKept: what this program keeps is looked for in folders that hold, and nothing in them is a link or another's.
func TestKept(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	for name, c := range map[string]struct {
		make  func(p place)
		base  string
		found bool
		says  string
		path  string
	}{
		"nothing there yet":         {func(place) {}, "home/state", true, "", "home/state/weltaxis/site"},
		"all his own":               {func(p place) { p.given("home/state/weltaxis/site/undo/1.json", "home/state/weltaxis/history.db") }, "home/state", true, "", "home/state/weltaxis/site"},
		"a home that is not there":  {func(place) {}, "away/state", true, "", "away/state/weltaxis/site"},
		"a home of another":         {func(p place) { p.do(os.Chown(p.at("home"), wren, wren)) }, "home/state", true, "home belongs to 61002", ""},
		"a home of another, deeper": {func(p place) { p.do(os.Chown(p.at("home"), wren, wren)) }, "home/a/b/c/state", true, "home belongs to 61002", ""},
		"a state folder of another": {func(p place) { p.given("home/state/"); p.do(os.Chown(p.at("home/state"), wren, wren)) }, "home/state", true, "state belongs to 61002", ""},
		"our folder of another": {func(p place) {
			p.given("home/state/weltaxis/")
			p.do(os.Chown(p.at("home/state/weltaxis"), wren, wren))
		}, "home/state", true, "weltaxis belongs to 61002", ""},
		"the site's folder of another": {func(p place) {
			p.given("home/state/weltaxis/site/")
			p.do(os.Chown(p.at("home/state/weltaxis/site"), wren, wren))
		}, "home/state", true, "site belongs to 61002", ""},
		"the site's folder for everybody": {func(p place) {
			p.given("home/state/weltaxis/site/")
			p.do(os.Chmod(p.at("home/state/weltaxis/site"), 0o777))
		}, "home/state", true, "site may be written to by everybody", ""},
		"a link found by the environment": {func(p place) { p.given("real/"); p.do(os.Symlink(p.at("real"), p.at("home/state"))) }, "home/state", true, "state is a link", ""},
		"his own link above it": {func(p place) {
			p.given("real/")
			p.do(os.Symlink(p.at("real"), p.at("link")), os.Lchown(p.at("link"), kestrel, kestrel))
		}, "link/state", true, "link is a link", ""},
		"root's link above it":       {func(p place) { p.do(os.Symlink("home", p.at("link"))) }, "link/state", true, "", "home/state/weltaxis/site"},
		"a link that somebody named": {func(p place) { p.given("real/"); p.do(os.Symlink(p.at("real"), p.at("link"))) }, "link", false, "", "real/weltaxis/site"},
		"our folder is a link": {func(p place) {
			p.given("home/state/", "real/")
			p.do(os.Symlink(p.at("real"), p.at("home/state/weltaxis")))
		}, "home/state", false, "weltaxis is a link", ""},
		"the site's folder is a link": {func(p place) {
			p.given("home/state/weltaxis/", "real/")
			p.do(os.Symlink(p.at("real"), p.at("home/state/weltaxis/site")))
		}, "home/state", true, "site is a link", ""},
		"undo is a link": {func(p place) {
			p.given("home/state/weltaxis/site/", "real/")
			p.do(os.Symlink(p.at("real"), p.at("home/state/weltaxis/site/undo")))
		}, "home/state", true, "undo is a link", ""},
		"the journal is a link": {func(p place) {
			p.given("home/state/weltaxis/site/", "real")
			p.do(os.Symlink(p.at("real"), p.at("home/state/weltaxis/site/journal.jsonl")))
		}, "home/state", true, "journal.jsonl is a link", ""},
		"the lock is a link": {func(p place) {
			p.given("home/state/weltaxis/site/")
			p.do(os.Symlink("/nowhere", p.at("home/state/weltaxis/site/lock")))
		}, "home/state", true, "lock is a link", ""},
		"what undo needs is another's": {func(p place) {
			p.given("home/state/weltaxis/site/undo/1.json")
			p.do(os.Chown(p.at("home/state/weltaxis/site/undo/1.json"), wren, wren))
		}, "home/state", true, "1.json belongs to 61002", ""},
		"the journal for a group": {func(p place) {
			p.given("home/state/weltaxis/site/journal.jsonl")
			p.do(os.Chown(p.at("home/state/weltaxis/site/journal.jsonl"), kestrel, 33), os.Chmod(p.at("home/state/weltaxis/site/journal.jsonl"), 0o660))
		}, "home/state", true, "journal.jsonl may be written to by the group www-data", ""},
		"a file where a folder ought to be": {func(p place) { p.given("home/state") }, "home/state", true, "not a directory", ""},
	} {
		t.Run(name, func(t *testing.T) {
			p := place{t, t.TempDir()}
			p.given("home/")
			c.make(p)
			got, err := In(kestrel).Kept(p.at(c.base), c.found, "weltaxis", "site")
			if err == nil {
				err = In(kestrel).Within(got)
			}
			if c.says != "" {
				assert.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, p.at(c.path), got)
		})
	}
}

// A program is started that nobody else could have put there; root finds one in the system's folders alone.
func TestPrograms(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make what belongs to others")
	}
	p := place{t, t.TempDir()}
	p.given("bin/cat", "bin/own")
	p.do(os.Chmod(p.at("bin/cat"), 0o755), os.Chmod(p.at("bin/own"), 0o755))
	t.Setenv("PATH", p.at("bin")+":"+os.Getenv("PATH"))
	found, err := Program("cat")
	require.NoError(t, err)
	assert.NotContains(t, found, p.dir)
	_, err = Program("own")
	assert.ErrorIs(t, err, ErrNoProgram)
	_, err = Program(p.at("bin/own"))
	assert.ErrorContains(t, err, "is not started: "+p.at("bin")+" belongs to 61001")
	t.Setenv("LD_PRELOAD", "/x.so")
	t.Setenv("LANG", "C.UTF-8")
	t.Setenv("LC_ALL", "../../x")
	env := strings.Join(identity.Environment(0), "\n")
	assert.Contains(t, env, "LANG=C.UTF-8")
	assert.NotContains(t, env, "LD_PRELOAD")
	assert.NotContains(t, env, "LC_ALL")
	assert.NotContains(t, env, p.dir)
	t.Chdir(p.at("bin"))
	command, err := Command(t.Context(), []string{"pwd"})
	require.NoError(t, err)
	out, err := command.Output()
	require.NoError(t, err)
	assert.Equal(t, "/\n", string(out), "what lies where one stands is another's")
}
