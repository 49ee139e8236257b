package fix

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // the driver

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/store"
)

// harm is what a value may hold that a shell, a client or a database obeys when it stands in the wrong place. FOLDER is
// where a mark would appear.
var harm = []string{
	`'`, `"`, "`", `\`, `\\`, `\'`, `''`, `'; DROP TABLE shelf; --`, `"; DROP TABLE shelf; --`, `\'; DROP TABLE shelf; #`, "');DELETE FROM other;--",
	"$(touch FOLDER/ran)", "`touch FOLDER/ran`", "; touch FOLDER/ran;", "| touch FOLDER/ran", "&& touch FOLDER/ran", "${ROOT}", "$((1+1))", "!!", "~", "*",
	"\nEND\n", "\nEND-0123456789abcdef\ntouch FOLDER/ran\n", "\nEOF\ntouch FOLDER/ran\n", "\n.shell touch FOLDER/ran\n", "\n\\! touch FOLDER/ran\n", "\nsystem touch FOLDER/ran\n", "\n.read /etc/passwd\n", "\n\\i /etc/passwd\n",
	"\nDELIMITER //\n", "/*", "*/", "/*!50000 DROP TABLE other */", "--", "#", ":name", "$1", "?", "%s", "%d%n", "\\+000041", "\\x41", "U&'x'", "E'\\''",
	"\r", "\r\n", "\t", "\v", "\x01", "\x1b[2J", "é", "日本", "🦉", "\u2028", "\u202e", " ", "", "NULL", "weltaxis_check", "COMMIT;", "ROLLBACK;", "-", "@@ -1 +1 @@", "--- a", "+++ b", "-rf", "0", "1e9",
}

func hostile(r *rand.Rand, folder string) string {
	var b strings.Builder
	for range 1 + r.IntN(6) {
		b.WriteString(harm[r.IntN(len(harm))])
	}
	return strings.ReplaceAll(b.String(), "FOLDER", folder)
}

// ran calls a script, and gives what it says when it fails.
func ran(t *testing.T, text, argument string, environment ...string) error {
	t.Helper()
	script := filepath.Join(t.TempDir(), "script.sh")
	require.NoError(t, os.WriteFile(script, []byte(text), 0o600))
	command := exec.Command("sh", script, argument)
	command.Env = append(os.Environ(), environment...)
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %.2000s", err, out)
	}
	return nil
}

// A scripted is one database with the environment that its client needs.
type scripted struct {
	driver, command string
	db              *sql.DB
	environment     []string
}

func everyDatabase(t *testing.T, root string) []scripted {
	t.Helper()
	file, err := sql.Open("sqlite", filepath.Join(root, "the base.db"))
	require.NoError(t, err)
	t.Cleanup(func() { file.Close() })
	all := []scripted{{driver: dialect.SQLite, db: file}}
	for _, s := range servertest.Databases(t) {
		all = append(all, scripted{driver: s.Driver, db: s.Database(t, "hostile")})
		at := dialect.Database{Driver: s.Driver, Host: "127.0.0.1", Port: s.Port, Name: "hostile", User: servertest.Owner}
		last := &all[len(all)-1]
		last.command = clientOf(t, at)
		last.environment = []string{"PGPASSWORD=" + servertest.OwnerPassword, "MYSQL_PWD=" + servertest.OwnerPassword}
	}
	all[0].command = clientOf(t, dialect.Database{Driver: dialect.SQLite, SQLite: "the base.db"})
	return all
}

func clientOf(t *testing.T, at dialect.Database) string {
	t.Helper()
	site := store.Installation{Dialect: &dialect.Dialect{Databases: map[string]dialect.Database{"main": at}}}
	return site.Clients()["main"].Command
}

// shelf gives every row of both tables.
func (s scripted) shelf(t *testing.T) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, table := range []string{"shelf", "other"} {
		rows, err := s.db.Query("SELECT name, text FROM " + table)
		require.NoError(t, err, s.driver)
		for rows.Next() {
			var name string
			var text sql.NullString
			require.NoError(t, rows.Scan(&name, &text))
			all[table+"/"+name] = fmt.Sprintf("%v %q", text.Valid, text.String)
		}
		require.NoError(t, rows.Err())
		rows.Close()
	}
	return all
}

// TestHostileValuesOfDatabases go through apply and undo of scripts on every database: nothing runs, nothing else changes.
func TestHostileValuesOfDatabases(t *testing.T) {
	root, marks := t.TempDir(), t.TempDir()
	values := 250
	if os.Getenv("WELTAXIS_SOAK") != "" {
		values = 1000
	}
	const together = 25
	for _, s := range everyDatabase(t, root) {
		client, _, _ := strings.Cut(s.command, " ")
		if _, err := exec.LookPath(client); err != nil {
			t.Logf("%s is not installed", client)
			continue
		}
		t.Run(s.driver, func(t *testing.T) {
			r := rand.New(rand.NewPCG(7, 7))
			put := "INSERT INTO shelf VALUES (?, ?)"
			if s.driver == dialect.PostgreSQL {
				put = "INSERT INTO shelf VALUES ($1, $2)"
			}
			for _, statement := range []string{"CREATE TABLE shelf (name VARCHAR(400) PRIMARY KEY, text TEXT)", "CREATE TABLE other (name VARCHAR(40), text TEXT)", "INSERT INTO other VALUES ('a', 'untouched')"} {
				_, err := s.db.Exec(statement)
				require.NoError(t, err)
			}
			keys := map[string]bool{}
			for n := 0; n < values; n += together {
				var edits []store.Edit
				want := s.shelf(t)
				for len(edits) < together {
					key, from, to := fmt.Sprintf("%d%s", n, hostile(r, marks)), hostile(r, marks), hostile(r, marks)
					if from == to || keys[strings.TrimRight(key, " ")] {
						continue
					}
					keys[strings.TrimRight(key, " ")] = true
					e := store.RowEdit{Kind: dialect.KindTable, Database: "main", Table: "shelf", Column: "text", Where: map[string]string{"name": key}, Old: &from, New: &to}
					switch r.IntN(4) {
					case 0:
						e.Insert, e.Old = true, nil
					case 1:
						e.Old = nil
					}
					if !e.Insert {
						_, err := s.db.Exec(put, key, e.Old)
						require.NoError(t, err)
					}
					want["shelf/"+key] = fmt.Sprintf("true %q", to)
					edits = append(edits, e)
				}
				before := s.shelf(t)
				p := &Plan{reveal: true, Discern: func(text string) string { return text }, clients: map[string]store.Client{"main": {Driver: s.driver, Command: s.command}}}
				change := Change{Kind: Setting, Name: hostile(r, marks), Rules: []string{hostile(r, marks)}, Edits: edits}
				text, err := p.Script(hostile(r, marks), root, []Change{change}, []Change{{Kind: Person, Name: hostile(r, marks), Steps: []string{hostile(r, marks)}}})
				require.NoError(t, err)
				require.NoError(t, ran(t, text, "apply", s.environment...))
				require.Equal(t, want, s.shelf(t))
				require.Error(t, ran(t, text, "apply", s.environment...), "nothing is there as it was")
				require.Equal(t, want, s.shelf(t), "so nothing changes")
				require.NoError(t, ran(t, text, "undo", s.environment...))
				require.Equal(t, before, s.shelf(t))
				left, err := os.ReadDir(marks)
				require.NoError(t, err)
				require.Empty(t, left, "nothing ran")
			}
		})
	}
}

// TestHostileTextsOfFiles go through apply and undo of scripts, in files that scripts and patches could mistake.
func TestHostileTextsOfFiles(t *testing.T) {
	if _, err := exec.LookPath("patch"); err != nil {
		t.Skip("patch is not installed")
	}
	r, marks := rand.New(rand.NewPCG(3, 3)), t.TempDir()
	root := filepath.Join(t.TempDir(), "a $(touch ran) 'root' `x`")
	require.NoError(t, os.Mkdir(root, 0o755))
	for range 100 {
		name := "it's a $file"
		lines := func() string {
			var b strings.Builder
			for range r.IntN(5) {
				b.WriteString(hostile(r, marks) + "\n")
			}
			return b.String()
		}
		head, tail := lines(), lines()+hostile(r, marks)
		before, after := head+hostile(r, marks)+"\n"+tail, head+hostile(r, marks)+"\n"+tail
		edit := store.FileEdit{File: name, Before: []byte(before), After: []byte(after)}
		made := store.FileEdit{File: "made", After: []byte(after)}
		if before == after {
			continue
		}
		at := filepath.Join(root, name)
		require.NoError(t, os.WriteFile(at, []byte(before), 0o640))
		p := &Plan{Discern: func(text string) string { return text }}
		text, err := p.Script("x", root, []Change{{Kind: Setting, Name: "a", Edits: []store.Edit{edit, made}}}, nil)
		require.NoError(t, err)
		read := func(name string) string {
			data, err := os.ReadFile(filepath.Join(root, name))
			require.NoError(t, err)
			return string(data)
		}
		require.NoError(t, ran(t, text, "apply"))
		require.Equal(t, after, read(name))
		require.Equal(t, after, read("made"))
		require.NoError(t, os.WriteFile(filepath.Join(root, "made"), []byte("theirs"), 0o644))
		require.Error(t, ran(t, text, "undo"), "somebody has changed what was made")
		require.NoError(t, os.WriteFile(filepath.Join(root, "made"), []byte(after), 0o644))
		require.NoError(t, ran(t, text, "undo"))
		require.Equal(t, before, read(name))
		require.NoFileExists(t, filepath.Join(root, "made"))
		left, err := os.ReadDir(marks)
		require.NoError(t, err)
		require.Empty(t, left)
	}
}

// TestAScriptSaysWhatItDoesNotMake: what was not chosen, and what holds a secret.
func TestAScriptSaysWhatItDoesNotMake(t *testing.T) {
	secret := "MARKED"
	p := &Plan{Discern: func(text string) string { return strings.ReplaceAll(text, secret, "*") }, clients: map[string]store.Client{}}
	row := store.RowEdit{Kind: dialect.KindTable, Database: "main", Table: "t", Column: "c", Old: &secret, New: new(string)}
	file := store.FileEdit{File: "a", After: []byte("x MARKED")}
	text, err := p.Script("x", t.TempDir(), []Change{{Kind: Setting, Edits: []store.Edit{row, file}}}, []Change{{Kind: Setting, Name: "risky", Risk: facts.Disruptive, Edits: []store.Edit{row}},
		{Kind: Person, Name: "by.hand", Steps: []string{"do it"}}, {Kind: Setting, Name: "cut", Cannot: "no way"}})
	require.NoError(t, err)
	assert.NotContains(t, text, secret)
	assert.Equal(t, 4, strings.Count(text, byHand), "both, on the way there and back")
	for _, want := range []string{"# not made: risky", "--allow and names decide", "do it", "no way"} {
		assert.Contains(t, text, want)
	}
	assert.NoError(t, ran(t, text, "apply"))
	assert.Error(t, ran(t, text, "neither"))
}

// TestWhatLooksLikeASecretIsShownNowhere though no setting is mapped there: on a changed line, around it, in a row.
func TestWhatLooksLikeASecretIsShownNowhere(t *testing.T) {
	for _, reveal := range []bool{false, true} {
		p, err := New(t.Context(), Wishes{Reveal: reveal})
		require.NoError(t, err)
		old, now := "MARKED one", "MARKED two"
		c := Change{Kind: Setting, Name: "debug.on", Edits: []store.Edit{
			store.FileEdit{File: "a.php", Before: []byte("'password' => 'MARKED',\n'debug' => true,\n'api_key' => 'MARKED',\n"), After: []byte("'password' => 'MARKED',\n'debug' => false,\n'api_key' => 'MARKED',\n")},
			store.FileEdit{File: "b.php", Before: []byte("['debug' => true, 'token' => 'MARKED']\n"), After: []byte("['debug' => false, 'token' => 'MARKED']\n")},
			store.RowEdit{Kind: dialect.KindTable, Database: "main", Table: "t", Column: "value", Where: map[string]string{"name": "smtp_password"}, Old: &old, New: &now},
		}}
		shown := p.Show(c)
		said := strings.Join(shown.Diffs, "")
		for _, cell := range shown.Cells {
			said += cell.Where + cell.From + cell.To
		}
		assert.Equal(t, reveal, strings.Contains(said, "MARKED"), said)
		assert.Contains(t, said, "'debug' => false")
		if reveal {
			continue
		}
		script, err := p.Script("x", t.TempDir(), []Change{c}, nil)
		require.NoError(t, err)
		assert.NotContains(t, script, "MARKED")
		assert.Equal(t, 4, strings.Count(script, byHand), "the line and the row that hold one, there and back")
		assert.Contains(t, script, "+'debug' => false,", "what holds none is made")
	}
}
