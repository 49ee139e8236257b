package files

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/tree"
)

func gather(t *testing.T, root string, d *dialect.Dialect) *facts.Snapshot {
	t.Helper()
	seen, err := (&Source{Root: root, Dialect: d}).Gather(t.Context())
	require.NoError(t, err)
	return &facts.Snapshot{Seen: seen}
}

func put(t *testing.T, root, name string, mode os.FileMode) {
	t.Helper()
	path := filepath.Join(root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Chmod(path, mode))
}

// in finds the class that a path was counted into; it must be among the first of its class.
func in(t *testing.T, s *facts.Snapshot, path string) facts.Class {
	t.Helper()
	i := slices.IndexFunc(s.Classes, func(c facts.Class) bool { return slices.Contains(c.Paths, path) })
	require.GreaterOrEqual(t, i, 0, "%s is in no class of %+v", path, s.Classes)
	return s.Classes[i]
}

func TestClasses(t *testing.T) {
	root := t.TempDir()
	for i := range 50 {
		put(t, root, fmt.Sprintf("media/%02d.jpg", i), 0o644)
	}
	put(t, root, "media/run.php", 0o644)
	require.NoError(t, os.WriteFile(filepath.Join(root, "media/run.php"), []byte("<?php system($_GET['c']);"), 0o644))
	put(t, root, "media/51.jpg", 0o666)
	put(t, root, "config.php", 0o440)
	put(t, root, "deep/.htaccess", 0o644)
	put(t, root, "bin/tool", 0o755)
	require.NoError(t, os.Chmod(filepath.Join(root, "bin/tool"), os.ModeSetuid|0o755))
	s := gather(t, root, nil)

	pictures := in(t, s, "media/00.jpg")
	assert.Equal(t, 50, pictures.Count)
	assert.Equal(t, []string{"media/00.jpg", "media/01.jpg", "media/02.jpg"}, pictures.Paths, "the first few, the same on every walk")
	assert.Equal(t, "uploads", pictures.Role)
	assert.Equal(t, "picture", pictures.Content)
	assert.Equal(t, 1, in(t, s, "media/51.jpg").Count)
	for _, single := range []string{"media/run.php", "config.php", "deep/.htaccess", "bin/tool"} {
		assert.True(t, in(t, s, single).Single, single)
	}
	assert.Equal(t, "4755", in(t, s, "bin/tool").Mode)
	assert.NotEmpty(t, in(t, s, "config.php").Owner)
	total := 0
	for _, c := range s.Classes {
		total += c.Count
	}
	assert.Equal(t, 50+5+4, total, "every entry is counted once, the root too")
	subjects := map[string]bool{}
	for _, c := range s.Classes {
		assert.False(t, subjects[c.Subject()], c.Subject())
		subjects[c.Subject()] = true
	}
}

func TestLinksAreNotFollowedAndOddThingsNoticed(t *testing.T) {
	root, elsewhere := t.TempDir(), t.TempDir()
	put(t, elsewhere, "secret.txt", 0o666)
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(root, "out")))
	require.NoError(t, os.Symlink("out", filepath.Join(root, "loop")))
	listener, err := net.Listen("unix", filepath.Join(root, "socket"))
	require.NoError(t, err)
	defer listener.Close()
	s := gather(t, root, nil)
	assert.Equal(t, "link", in(t, s, "out").Kind)
	assert.Empty(t, in(t, s, "out").Mode, "a link's own mode means nothing")
	assert.Equal(t, "other", in(t, s, "socket").Kind)
	for _, c := range s.Classes {
		assert.NotContains(t, strings.Join(c.Paths, " "), "secret.txt")
	}
}

func TestNamesMayHoldAnything(t *testing.T) {
	root := t.TempDir()
	for _, name := range []string{"new\nline.sql", "bad\xff\xfe.sql", "esc\x1b[31m.sql", "\u202egpj.php"} {
		put(t, root, name, 0o644)
	}
	s := gather(t, root, nil)
	assert.True(t, in(t, s, "new\nline.sql").Single)
	in(t, s, `bad\xff\xfe.sql`)
	in(t, s, "esc\x1b[31m.sql")
}

func TestPublicFolderAndMissingConfiguration(t *testing.T) {
	root := t.TempDir()
	put(t, root, "public/dump.sql", 0o644)
	put(t, root, "dump.sql", 0o644)
	put(t, root, "publicity/dump.sql", 0o644)
	d := &dialect.Dialect{Public: "public", Roles: dialect.Roles{dialect.Config: {"etc/config.php"}}}
	s := gather(t, root, d)
	assert.True(t, in(t, s, "public/dump.sql").Public)
	assert.False(t, in(t, s, "dump.sql").Public)
	assert.False(t, in(t, s, "publicity/dump.sql").Public)
	require.Len(t, s.Gaps, 1)
	assert.Equal(t, "etc/config.php", s.Gaps[0].What)
}

func TestAnUnreadableFolderIsAGapAndTheRestIsSeen(t *testing.T) {
	files, err := tree.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	c := (&Source{}).counting(files)
	for i := range maxGaps + 5 {
		c.fail(fmt.Sprintf("locked/%02d", i), os.ErrPermission)
	}
	c.visit(tree.Entry{Path: "a.txt", Kind: tree.File, Mode: 0o644})
	gaps := c.gaps()
	require.Len(t, gaps, maxGaps+1)
	assert.Equal(t, facts.Refused, gaps[0].Kind)
	assert.Equal(t, "5 more entries", gaps[maxGaps].What)
	assert.Len(t, c.list(), 1)

	if os.Getuid() == 0 {
		t.Skip("nothing is unreadable to the superuser")
	}
	root := t.TempDir()
	put(t, root, "locked/in.txt", 0o644)
	require.NoError(t, os.Chmod(filepath.Join(root, "locked"), 0))
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(root, "locked"), 0o755) })
	assert.Equal(t, "locked", gather(t, root, nil).Gaps[0].What)
}

func TestSinglesAreBounded(t *testing.T) {
	files, err := tree.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	c := (&Source{}).counting(files)
	for i := range maxSingles + 100 {
		c.visit(tree.Entry{Path: fmt.Sprintf("d/%d/.htaccess", i), Kind: tree.File, Mode: 0o644})
	}
	assert.Len(t, c.classes, maxSingles+1)
}

func TestContentGoesByEveryEnding(t *testing.T) {
	for name, want := range map[string]string{
		"a.php": program, "a.PHP": program, "a.php.jpg": program, "a.phtml": program, "a.jpg": picture, "a.min.js": page,
		"a.tar.gz": data, "Makefile": data, ".htaccess": data, "a.": data, "a.svg": picture, "php": data,
	} {
		assert.Equal(t, want, contentOf(tree.Entry{Path: "d.php/" + name, Kind: tree.File}), name)
	}
	assert.Equal(t, none, contentOf(tree.Entry{Path: "a.php", Kind: tree.Folder}))
}

func TestARootThatIsGoneIsAGap(t *testing.T) {
	s := gather(t, filepath.Join(t.TempDir(), "gone"), nil)
	assert.Nil(t, s.Classes)
	require.Len(t, s.Gaps, 1)
	assert.Contains(t, s.Gaps[0].Because, "it does not exist")
}

func TestStatements(t *testing.T) {
	for text, want := range map[string]string{
		"": inert, "<?php": inert, "<?php // Nothing is to be seen here.\n": inert, "<?php exit('No.'); ?>": inert,
		"<?php http_response_code( 403 ); die();":                      inert,
		"<?php header('Location: https://www.name.example/'); exit;":   inert,
		"<?php\n/* a's */ defined('IN_SITE') or die('No.');":           inert,
		"<?php header(system($_GET[0]));":                              program,
		"<?php exit(eval($_POST['a']));":                               program,
		"<?php exit(\"$_GET[a]\");":                                    program,
		"<?php exit(`id`);":                                            program,
		"<?php //?><?=system($_GET[0])":                                program,
		"<?php # what??><?=system($_GET[0])":                           program,
		"<?php header('a/*'); system($_GET[0]); header('*/b');":        program,
		"<?php header('it\\'s //'); system($_GET[0]); exit('it\\'s');": program,
		"<?php exit; ?><script>go()</script>":                          program,
	} {
		root := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(root, "media"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "media/index.php"), []byte(text), 0o644))
		assert.Equal(t, want, in(t, gather(t, root, nil), "media/index.php").Content, text)
	}
}

func TestWhatBeginsLikeASecret(t *testing.T) {
	for text, want := range map[string]string{
		"-- lamps\n\nCREATE TABLE `lamps` (id int);\n":                 dialect.Backup,
		"SET NAMES utf8mb4;\nSET foreign_key_checks = 0;\n":            dialect.Backup,
		"# settings\nAPP_NAME=lamps\nDB_PASSWORD=MARKED\n":             dialect.Private,
		"Insert into the slot the lamp.\n":                             dialect.Other,
		"How to write INSERT INTO lamps VALUES (1);\n":                 dialect.Other,
		"Put your key where it says API_KEY = ...\nand start again.\n": dialect.Other,
		"APP_NAME=lamps\nCOLOURS=red\n":                                dialect.Other,
	} {
		assert.Equal(t, want, secretIn([]byte(text), dialect.Other), text)
	}
}

func TestOverridesThatForbidAreNoGrants(t *testing.T) {
	for text, want := range map[string]string{
		"Options -ExecCGI\nAddHandler cgi-script .php .pl\n": data,
		"Options +ExecCGI\nAddHandler cgi-script .pl\n":      program,
		"SetHandler application/x-httpd-php\n":               program,
		"#AddHandler application/x-httpd-php .jpg\n":         data,
		"RewriteRule ^ - [E=TOKEN:%1]\n":                     data,
		"RewriteRule ^ - [H=application/x-httpd-php]\n":      program,
	} {
		root := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(root, "media"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "media/.htaccess"), []byte(text), 0o644))
		assert.Equal(t, want, in(t, gather(t, root, nil), "media/.htaccess").Content, text)
	}
}
