package cli

import (
	"database/sql"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var fence = regexp.MustCompile("(?ms)^```(\\w+)(?: (\\S+))?\n(.*?)^```$")

// TestTheDocumentsAreTrue writes every file of a document that has a name, runs every command, and compares what is
// printed with what stands there. With REWRITE_GUIDE set it writes down what is printed instead.
func TestTheDocumentsAreTrue(t *testing.T) {
	bin := build(t)
	for _, c := range []struct {
		file  string
		demo  bool // it speaks of the demo's folder
		least int  // commands
	}{{"docs/dialects.md", false, 5}, {"README.md", true, 6}} {
		t.Run(c.file, func(t *testing.T) {
			guide, err := os.ReadFile("../../" + c.file)
			require.NoError(t, err)
			dir := t.TempDir()
			run := func(line string) string {
				command := exec.Command("sh", "-c", line)
				command.Dir = dir
				command.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "COLUMNS=80", "NO_COLOR=1", "XDG_STATE_HOME="+filepath.Join(dir, "kept"))
				out, _ := command.CombinedOutput() // some of them fail, as the guide says
				return regexp.MustCompile(`\d{1,2} \w+ 20\d\d, \d\d:\d\d UTC`).ReplaceAllString(string(out), "TODAY")
			}
			if c.demo {
				require.Empty(t, run("weltaxis demo --into . --quiet"))
			}
			ran, rewritten := 0, string(guide)
			for _, block := range fence.FindAllStringSubmatch(string(guide), -1) {
				language, name, text := block[1], block[2], block[3]
				switch {
				case language == "sql":
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
					db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, name))
					require.NoError(t, err)
					_, err = db.Exec(text)
					require.NoError(t, err)
					require.NoError(t, db.Close())
				case name != "":
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
				case language == "console":
					line, want, _ := strings.Cut(text, "\n")
					got := trimmedLines(run(strings.TrimPrefix(line, "$ ")))
					if os.Getenv("REWRITE_GUIDE") != "" {
						rewritten = strings.Replace(rewritten, block[0], "```console\n"+line+"\n"+got+"\n```", 1)
					} else {
						assert.Equal(t, trimmedLines(want), got, line)
					}
					ran++
				}
			}
			assert.GreaterOrEqual(t, ran, c.least)
			if rewritten != string(guide) {
				require.NoError(t, os.WriteFile("../../"+c.file, []byte(rewritten), 0o644))
			}
		})
	}
}

var (
	// commandLine is a command in a document: in a line of its own, or in a cell of a table.
	commandLine = regexp.MustCompile(`(?m)^(?:    |\$ |  )(weltaxis [a-z].*)$`)
	comment     = regexp.MustCompile(` +# .*$`)
)

// TestEveryCommandInTheDocumentsIsOne asks the program for the help of each command as it stands, options included.
func TestEveryCommandInTheDocumentsIsOne(t *testing.T) {
	bin, ran := build(t), 0
	for _, file := range []string{"README.md", "docs/dialects.md", "docs/rules.md", "docs/commands.md", "docs/history.md"} {
		text, err := os.ReadFile("../../" + file)
		require.NoError(t, err)
		for _, m := range commandLine.FindAllStringSubmatch(string(text), -1) {
			line := strings.Replace(comment.ReplaceAllString(m[1], "")+" --help", "--on-new", "--help --on-new", 1) // after that it is another program's
			command := exec.Command("sh", "-c", line)
			command.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"))
			out, err := command.CombinedOutput()
			assert.NoError(t, err, "%s: %s: %s", file, m[1], out)
			assert.Contains(t, string(out), "Usage:", m[1])
			ran++
		}
	}
	assert.Greater(t, ran, 30)
}

// trimmedLines is a text without the white space at the ends of lines.
func trimmedLines(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n "), "\n")
	for i, line := range lines {
		lines[i] = strings.TrimRight(line, " ")
	}
	return strings.Join(lines, "\n")
}

// TestEveryPromiseHasItsTest holds docs/promises.md to the tests that it names: each is there, and no line has none.
func TestEveryPromiseHasItsTest(t *testing.T) {
	text, err := os.ReadFile("../../docs/promises.md")
	require.NoError(t, err)
	there := map[string]bool{}
	require.NoError(t, filepath.WalkDir("../..", func(path string, _ os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		for _, m := range testName.FindAllStringSubmatch(string(source), -1) {
			there[m[1]] = true
		}
		return err
	}))
	promises := 0
	for line := range strings.Lines(string(text)) {
		if !strings.HasPrefix(line, "- ") {
			continue
		}
		promises++
		named := regexp.MustCompile(`Test[A-Za-z0-9]+`).FindAllString(line, -1)
		assert.NotEmpty(t, named, line)
		for _, name := range named {
			assert.True(t, there[name], "%s is no test: %s", name, line)
		}
	}
	assert.Greater(t, promises, 30)
}

var testName = regexp.MustCompile(`(?m)^func (Test[A-Za-z0-9]+)\(`)
