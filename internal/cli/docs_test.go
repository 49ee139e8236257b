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

// TestTheDialectGuideIsTrue writes every file of docs/dialects.md that has a name, runs every command, and compares
// what is printed with what stands there. With REWRITE_GUIDE set it writes down what is printed instead.
func TestTheDialectGuideIsTrue(t *testing.T) {
	guide, err := os.ReadFile("../../docs/dialects.md")
	require.NoError(t, err)
	dir, bin := t.TempDir(), build(t)
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
			command := exec.Command("sh", "-c", strings.TrimPrefix(line, "$ "))
			command.Dir = dir
			command.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "COLUMNS=80", "NO_COLOR=1")
			out, _ := command.CombinedOutput() // some of them fail, as the guide says
			got := regexp.MustCompile(`looked at on .*`).ReplaceAllString(string(out), "looked at on TODAY")
			if os.Getenv("REWRITE_GUIDE") != "" {
				rewritten = strings.Replace(rewritten, block[0], "```console\n"+line+"\n"+trimmedLines(got)+"\n```", 1)
			} else {
				assert.Equal(t, trimmedLines(want), trimmedLines(got), line)
			}
			ran++
		}
	}
	assert.GreaterOrEqual(t, ran, 5)
	if rewritten != string(guide) {
		require.NoError(t, os.WriteFile("../../docs/dialects.md", []byte(rewritten), 0o644))
	}
}

// trimmedLines is a text without the white space at the ends of lines.
func trimmedLines(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n "), "\n")
	for i, line := range lines {
		lines[i] = strings.TrimRight(line, " ")
	}
	return strings.Join(lines, "\n")
}
