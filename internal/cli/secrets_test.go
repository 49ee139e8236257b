package cli

import (
	"database/sql"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// plant puts a marked text in the place of another in a file, whatever its mode.
func plant(t *testing.T, file, old, marked string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(data), old, file)
	require.NoError(t, os.Chmod(file, 0o644))
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), old, marked, 1)), 0o644))
}

// TestNoSecretIsShown plants marked secrets in every store of every system and looks for the mark in everything
// that the program writes: output, logs, errors, snapshots, drafts. Each command in each form is tried by TestAPlantedSecretIsShownNowhere.
func TestNoSecretIsShown(t *testing.T) {
	bin, dir := filepath.Join(build(t), "weltaxis"), filepath.Join(t.TempDir(), "demo")
	state := t.TempDir()
	run := func(args ...string) string {
		command := exec.Command(bin, args...)
		command.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
		out, _ := command.CombinedOutput() // deviations and gaps are expected
		return string(out)
	}
	run("demo", "--into", dir)
	at := func(site, file string) string { return filepath.Join(dir, site, "site", file) }
	execute := func(file, statement string) {
		db, err := sql.Open("sqlite", "file:"+file)
		require.NoError(t, err)
		defer db.Close()
		_, err = db.Exec(statement)
		require.NoError(t, err)
	}
	plant(t, at("lantern-lane", "playhouse.php"), "'seal_key' => 'knock three times and whisper the name of the cat'", "'carrier' => ['password' => 'MARKED-1'], 'seal_key' => 'MARKED-2-and-long-enough-to-be-one'")
	execute(at("lantern-lane", "understage/prompt.db"), "INSERT INTO prompt_house VALUES ('office.mailbox_password', 'MARKED-3')")
	plant(t, at("hollin", ".env"), "SHED_SECRET=", "BARROW_TRANSFER_PASSWORD=MARKED-4\nLETTERBOX_PASSWORD='MARKED-5'\nSHED_SECRET=MARKED-6-")
	plant(t, at("copperbeck", "lockbook.ini"), "transfer_password =", "transfer_password = MARKED-7")
	execute(at("copperbeck", "hold/ledger.db"), "UPDATE lading SET content = 'MARKED-8' WHERE item = 'mail.posting_password'")
	// A database that nobody answers for, and one whose password is wrong in every way.
	plant(t, at("saltmarsh", ".env"), "SHED_SECRET=", "SHED_SECRET=MARKED-9-")
	plant(t, at("copperbeck-aligned", "lockbook.ini"), "driver = sqlite", "driver = mysql\nserver = 127.0.0.1:1\nuser = somebody\npassword = \"MARKED-10\"")
	plant(t, at("lantern-lane-aligned", "playhouse.php"), "'driver' => 'sqlite'", "'driver' => 'postgresql', 'host' => '127.0.0.1', 'port' => 1, 'password' => 'MARKED-11 it\\'s'")

	speaks := map[string]string{"lantern-lane": "brindle", "lantern-lane-aligned": "brindle", "hollin": "ostler", "saltmarsh": "ostler", "copperbeck": "hobnail", "copperbeck-aligned": "hobnail"}
	looked := 0
	for site, spoken := range speaks {
		folder, root := filepath.Join(dir, site), at(site, "")
		snapshot := filepath.Join(t.TempDir(), "seen.json")
		for _, args := range [][]string{
			{"audit", folder, "--offline", "--format", "json"}, {"settings", folder, "--offline", "--format", "json"}, {"snapshot", folder, "--offline", "--output", snapshot}, {"dialect", "check", spoken, "--root", root, "--format", "json"},
			{"dialect", "discover", "--root", root, "--format", "yaml"}, {"fix", folder, "--offline"}, {"fix", folder, "--offline", "--script"},
			{"fix", folder, "--offline", "--write", "--allow", "visible", "--value", "debug.on=yes", "--value", "site.title=Another"}, {"history", "export", "--site", folder}, {"undo", folder},
		} {
			out := run(append(args, "--log", "debug")...)
			require.True(t, out != "" || args[0] == "snapshot", args)
			require.NotContains(t, out, "unknown flag", args)
			assert.NotContains(t, out, "MARKED", args)
			looked++
		}
		data, err := os.ReadFile(snapshot)
		require.NoError(t, err)
		assert.NotContains(t, string(data), "MARKED", site)
		assert.Contains(t, string(data), `"security.secret"`, site)
	}
	assert.GreaterOrEqual(t, looked, 60)
	kept := 0
	require.NoError(t, filepath.WalkDir(state, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			data, readErr := os.ReadFile(path)
			require.NoError(t, readErr)
			if filepath.Base(filepath.Dir(path)) == "undo" { // the one place that may hold an old secret
				stat, statErr := d.Info()
				require.NoError(t, statErr)
				assert.Equal(t, os.FileMode(0o600), stat.Mode(), path)
				kept++
				return nil
			}
			assert.NotContains(t, string(data), "MARKED", path)
		}
		return err
	}))
	assert.Positive(t, kept)
}
