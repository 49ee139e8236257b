//go:build linux

package hostile

import (
	"archive/zip"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// bomb is an archive that unpacks to so many mebibytes, in one file.
func bomb(name string, mebibytes int) func(*testing.T, string) {
	return func(t *testing.T, dir string) {
		t.Helper()
		file, err := os.Create(filepath.Join(dir, name))
		require.NoError(t, err)
		archive := zip.NewWriter(file)
		entry, err := archive.Create("../../x.json")
		require.NoError(t, err)
		for range mebibytes {
			_, err = entry.Write(make([]byte, 1<<20))
			require.NoError(t, err)
		}
		require.NoError(t, archive.Close())
		require.NoError(t, file.Close())
	}
}

// lists are lists of what others say that mean ill.
func lists() []hostile {
	const args = "audit --offline --only upkeep --full"
	upkeep := func(says string) func(*testing.T, string) {
		return write("weltaxis.yaml", "site: S\nintent: {stage: live}\nsources: {settings: {dialect: brindle, root: ./site}, files: {root: ./site}}\nupkeep: {"+says+"}\n")
	}
	sum := strings.Repeat("ab", 32)
	return []hostile{
		{name: "a list of versions that is a pipe", in: pipe("upkeep/versions.yaml"), args: args, exit: any, says: "a named pipe"},
		{name: "a list of versions that never ends", in: link("upkeep/versions.yaml", "/dev/zero"), args: args, exit: 3, says: "a device"},
		{name: "a list of versions that is nested deep", in: write("upkeep/versions.yaml", "as_of: "+strings.Repeat("[", 200_000)), args: args, exit: 3, says: "the list of versions"},
		{name: "a list of versions that is not there", in: upkeep("versions: nowhere.yaml"), args: args, exit: 2, says: "upkeep: versions: nowhere.yaml"},
		{name: "lists from somebody in between", in: upkeep("advisories: http://advisories.example/all.zip"), args: args, exit: 2, says: "write https://"},
		{name: "lists that nobody may fetch offline", in: upkeep("advisories: https://advisories.example/all.zip"), args: args, exit: any, says: "--offline keeps every request here"},
		{name: "versions that are no versions", in: write("upkeep/versions.yaml", "as_of: 2026-11-20\norder: Packagist\ncomponents: {brindle: {newest: \""+strings.Repeat("9.", 100_000)+"\"}, seating: {newest: \"\\u001b[2J\"}}\n"), args: args, exit: any, says: "does not tell how"},
		{name: "words in a list that a terminal obeys", in: write("upkeep/versions.yaml", "as_of: 2026-11-20\norder: Packagist\ncomponents: {seating: {newest: 2.3.1, withdrawn: 2026-01-01, because: \"\\e[2J\\u202e\"}}\n"), args: args, exit: any, says: `\x1b[2J`},
		{name: "an advisory that a terminal obeys", in: write("upkeep/advisories/x.json", `{"id": "\u001b[2J\u202e", "summary": "\u0007", "modified": "2026-11-20T00:00:00Z", "affected": [{"package": {"ecosystem": "Packagist", "name": "brindle-turns/seating"}, "versions": ["2.3.1"]}]}`), args: args, exit: 1, says: `\x1b[2J`},
		{name: "an advisory that is a pipe", in: pipe("upkeep/advisories/x.json"), args: args, exit: 3, says: "a named pipe"},
		{name: "an advisory with a million versions", in: write("upkeep/advisories/x.json", `{"id": "X", "modified": "2026-11-20T00:00:00Z", "affected": [{"package": {"ecosystem": "Packagist", "name": "brindle-turns/seating"}, "versions": [`+strings.TrimSuffix(many(`"%d.0",`, 300_000), ",")+`]}]}`), args: args, exit: any, says: "upkeep"},
		{name: "an advisory with a million events", in: write("upkeep/advisories/x.json", `{"id": "X", "modified": "2026-11-20T00:00:00Z", "affected": [{"package": {"ecosystem": "Packagist", "name": "brindle-turns/seating"}, "ranges": [{"type": "ECOSYSTEM", "events": [`+strings.TrimSuffix(many(`{"introduced":"%d.5"},`, 100_000), ",")+`]}]}]}`), args: args, exit: any, says: "upkeep"},
		{name: "advisories nested deep", in: write("upkeep/advisories/x.json", `{"name":"brindle-turns/seating","id":`+strings.Repeat("[", 1_000_000)), args: args, exit: 3, says: "no advisory in OSV format"},
		{name: "an archive that unpacks without end", in: both(bomb("all.zip", 700), upkeep("advisories: all.zip")), args: args, exit: any, says: "is too large"},
		{name: "an archive that is none", in: both(write("all.zip", "PK\x03\x04 no"), upkeep("advisories: all.zip")), args: args, exit: 3, says: "no archive that can be read"},
		{name: "checksums of files outside", in: write("upkeep/checksums/brindle-3.4.2.sha256", sum+"  ../../../etc/passwd\n"), args: args, exit: 3, says: "no path below the root"},
		{name: "checksums of what a link leads out to", in: both(link("site/works/out", "/etc"), write("upkeep/checksums/brindle-3.4.2.sha256", sum+"  works/out/passwd\n")), args: args, exit: 3, says: "works/out"},
		{name: "checksums of a pipe", in: both(pipe("site/works/pipe.php"), write("upkeep/checksums/brindle-3.4.2.sha256", sum+"  works/pipe.php\n")), args: args, exit: any, says: "works/pipe.php"},
		{name: "checksums of what is not there, a million times", in: write("upkeep/checksums/brindle-3.4.2.sha256", many(sum+"  works/a%d.php\n", 200_000)), args: args, exit: any, says: "seems to be of another version", mebibyte: 400, seconds: 30},
		{name: "a package manager's notes without end", in: write("site/vendor/composer/installed.json", `{"packages": [`+strings.TrimSuffix(many(`{"name":"a/b%d","version":"1.0.0"},`, 200_000), ",")+`]}`), args: args, exit: any, says: "upkeep", mebibyte: 400, seconds: 30},
		{name: "a package manager's notes that are none", in: write("site/vendor/composer/installed.json", fmt.Sprintf("%q", "\x1b[2J")), args: args, exit: any, says: "could not be read"},
	}
}
