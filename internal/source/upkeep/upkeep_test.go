package upkeep

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/tree"
)

func sign(n int) int { return max(-1, min(n, 1)) }

// Each ecosystem's own published order, every version of a row with every other.
func TestVersionsAreOrderedAsTheirEcosystemsSay(t *testing.T) {
	data, err := os.ReadFile(filepath.Join("testdata", "orders.txt"))
	require.NoError(t, err)
	compared := 0
	for line := range strings.Lines(string(data)) {
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(line, "#") {
			continue
		}
		for i, these := range fields[1:] {
			for j, those := range fields[1:] {
				for a := range strings.SplitSeq(these, "=") {
					for b := range strings.SplitSeq(those, "=") {
						order, known := Compare(fields[0], a, b)
						require.True(t, known, "%s: %s, %s", fields[0], a, b)
						assert.Equal(t, sign(i-j), sign(order), "%s: %s, %s", fields[0], a, b)
						compared++
					}
				}
			}
		}
	}
	assert.Greater(t, compared, 2*200, "each way")
	t.Logf("%d comparisons", compared)
}

func TestWhatIsInNoOrderIsNotCompared(t *testing.T) {
	for _, c := range [][3]string{{"Playbills", "1", "2"}, {"", "1", "2"}, {"Packagist", "dev-main", "1.0"}, {"Packagist", "2.x-dev", "1.0"}, {"npm", "", "1.0.0"}, {"npm", "latest", "1.0.0"},
		{"PyPI", "1.0-what", "1.0"}, {"Debian", "no version at all", "1"}, {"RubyGems", "!", "1"}, {"npm", strings.Repeat("1", 300), "1.0.0"}} {
		_, known := Compare(c[0], c[1], c[2])
		assert.False(t, known, "%q", c)
	}
	_, known := Compare("Debian:12", "1.0-1", "1.0-2")
	assert.True(t, known, "a release of a distribution has its order")
}

// generated are versions as they occur, and some that do not.
func generated(r *rand.Rand, words, joins []string) string {
	s := fmt.Sprint(r.IntN(4))
	for range r.IntN(4) {
		if s += joins[r.IntN(len(joins))]; r.IntN(3) == 0 {
			s += words[r.IntN(len(words))]
		} else {
			s += fmt.Sprint(r.IntN(12))
		}
	}
	return s
}

// The real runtime compares versions the same way.
func TestVersionCompareIsTheRuntimesOwn(t *testing.T) {
	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("no php here; scripts/test installs it")
	}
	r := rand.New(rand.NewPCG(7, 20))
	var program strings.Builder
	var pairs [][2]string
	program.WriteString("<?php ")
	for range 2000 {
		pair := [2]string{generated(r, []string{"alpha", "beta", "b", "a", "RC", "rc", "dev", "pl", "p", "patch", "x", "final"}, []string{".", "-", "+", "", "_"}), ""}
		pair[1] = generated(r, []string{"alpha1", "beta", "RC2", "dev", "pl", "p3", "what"}, []string{".", "-", "", "_"})
		pairs = append(pairs, pair)
		fmt.Fprintf(&program, "echo version_compare('%s','%s'),\"\\n\";", pair[0], pair[1])
	}
	command := exec.CommandContext(t.Context(), php)
	command.Stdin = strings.NewReader(program.String())
	out, err := command.Output()
	require.NoError(t, err)
	said := strings.Fields(string(out))
	require.Len(t, said, len(pairs))
	for i, pair := range pairs {
		assert.Equal(t, said[i], fmt.Sprint(sign(VersionCompare(pair[0], pair[1]))), "%q", pair)
	}
}

// The real package manager does as well.
func TestDebianVersionsAreOrderedAsDpkgDoes(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("no dpkg here")
	}
	r := rand.New(rand.NewPCG(3, 9))
	for range 150 {
		a := generated(r, []string{"~rc1", "a", "+dfsg", "~", "b2", "ubuntu1"}, []string{".", "-", "+", "~"})
		b := generated(r, []string{"~rc1", "a", "+dfsg", "~", "b2"}, []string{".", "-", "+", "~"})
		order, known := Compare("Debian", a, b)
		if !known {
			continue
		}
		word := map[int]string{-1: "lt", 0: "eq", 1: "gt"}[sign(order)]
		assert.NoError(t, exec.CommandContext(t.Context(), "dpkg", "--compare-versions", a, word, b).Run(), "%s %s %s", a, word, b)
	}
}

func listOf(t *testing.T, text string) (*Versions, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "newest.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return ReadVersions(file)
}

func TestAListOfVersionsIsRefusedWithWhatIsWrong(t *testing.T) {
	for text, says := range map[string]string{
		"components: {}\n": "as_of: is missing",
		"as_of: 2026-11-01\ncomponents: {a: {newest: 1.0.0, branches: {\"1\": {newest: 1.0.0}}}}\n":                   "say the same in three ways",
		"as_of: 2026-11-01\ncomponents: {a: {branches: {\"1\": {until: 2026-01-01}}}}\n":                              "branches: 1: newest: is missing",
		"as_of: 2026-11-01\norder: composer\ncomponents: {a: {newest: 1.0.0}}\n":                                      "known are Debian, Go, Hex",
		"as_of: 2026-11-01\ncomponents: {a: {newest: 1.0.0}, A: {newest: 1.0.1}}\n":                                   "stands in",
		"as_of: 2026-11-01\ncomponents: {a: {newest: 1.10}}\n":                                                        "quotes",
		"as_of: 2026-11-01\ncomponents: {a: {latest: 1.1.0}}\n":                                                       "latest",
		"{\"as_of\": \"2026-11-01\", \"order\": \"npm\", \"components\": {\"a\": {\"newest\": \"1.0.0\"}}, \"x\": 1}": "x",
	} {
		_, err := listOf(t, text)
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), says, text)
		}
	}
	v, err := listOf(t, `{"as_of": "2026-11-01", "order": "npm", "components": {"a": {"newest": "1.0.0"}}}`)
	require.NoError(t, err, "JSON is YAML")
	assert.True(t, v.StateOf([]string{"A"}, "0.9.0", "", time.Now()).Behind)
	_, err = ReadVersions(t.TempDir())
	assert.ErrorContains(t, err, "there is none")
}

func TestTheNearestBranchThatIsMendedIsTheOneToHave(t *testing.T) {
	v, err := listOf(t, `as_of: 2026-11-01
order: npm
components:
  a:
    branches:
      "1": {newest: 1.9.0, released: 2024-01-01, until: 2025-01-01}
      "2": {newest: 2.4.0, released: 2026-03-01, until: 2027-01-01}
      "3": {newest: 3.0.1, released: 2026-10-01}
`)
	require.NoError(t, err)
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	for version, want := range map[string]string{"1.9.0": "behind 2.4.0 unsupported", "1.2.0": "behind 2.4.0 unsupported", "2.3.0": "behind 2.4.0", "2.4.0": "2.4.0", "3.0.0": "behind 3.0.1", "0.9.0": "behind 2.4.0 unsupported", "4.0.0": "untold"} {
		s := v.StateOf([]string{"a"}, version, "", now)
		got := s.Newest
		switch {
		case !s.Told:
			got = "untold"
		case s.Behind:
			got = "behind " + got
		}
		if s.Told && !s.Supported {
			got += " unsupported"
		}
		assert.Equal(t, want, got, version)
	}
	assert.Equal(t, "2026-10-01", v.StateOf([]string{"a"}, "2.4.0", "", now).LastRelease.Format(time.DateOnly))
	assert.False(t, v.StateOf([]string{"b"}, "1.0.0", "", now).Listed)
}

const scored = `{"id": "X-%d", "modified": "2026-11-0%[1]dT00:00:00Z", "severity": [{"type": "CVSS", "score": %[2]q}], "affected": [{"package": {"ecosystem": "npm", "name": "lamp"}, "versions": ["1.0.0"]}]}`

func TestAdvisoriesInAFolderAndInAnArchiveAreTheSame(t *testing.T) {
	folder := t.TempDir()
	archived, err := os.Create(filepath.Join(t.TempDir(), "all.zip"))
	require.NoError(t, err)
	archive := zip.NewWriter(archived)
	for i, score := range []string{"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", "CVSS:3.0/AV:N/AC:H/PR:N/UI:N/S:U/C:N/I:L/A:N", "CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N", "AV:N/AC:L/Au:N/C:P/I:P/A:P", "5.0", "nonsense"} {
		text := fmt.Sprintf(scored, i+1, score)
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("%d.json", i)), []byte(text), 0o600))
		into, err := archive.Create(fmt.Sprintf("npm/%d.json", i))
		require.NoError(t, err)
		_, err = into.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	require.NoError(t, archived.Close())
	for _, place := range []string{folder, archived.Name()} {
		found, err := Advise(t.Context(), place, []Package{{"npm", "lamp", "1.0.0"}, {"npm", "wick", "1.0.0"}})
		require.NoError(t, err)
		assert.Equal(t, 6, found.Looked)
		assert.Equal(t, "2026-11-06", found.Newest.Format(time.DateOnly))
		var severities []string
		for _, f := range found.Flaws {
			severities = append(severities, f.Severity)
		}
		assert.Equal(t, []string{"critical", "low", "critical", "high", "medium", ""}, severities, place)
	}
	_, err = Advise(t.Context(), t.TempDir(), nil)
	assert.ErrorContains(t, err, "there is none")
	broken := filepath.Join(t.TempDir(), "x.zip")
	require.NoError(t, os.WriteFile(broken, []byte("PK no"), 0o600))
	_, err = Advise(t.Context(), broken, nil)
	assert.ErrorContains(t, err, "is no archive that can be read")
}

func TestOneFlawUnderTwoNamesIsToldOnce(t *testing.T) {
	folder := t.TempDir()
	for id, alias := range map[string]string{"A-1": "B-1", "B-1": "A-1", "C-1": ""} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, id+".json"), fmt.Appendf(nil, `{"id": %q, "aliases": [%q], "database_specific": {"severity": "MODERATE"}, "affected": [{"package": {"ecosystem": "PyPI", "name": "Old.Lamp_works"}, "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "1.2"}, {"fixed": "1.1"}]}]}]}`, id, alias), 0o600))
	}
	found, err := Advise(t.Context(), folder, []Package{{"PyPI", "old-lamp-works", "1.0"}})
	require.NoError(t, err)
	require.Len(t, found.Flaws, 2)
	assert.Equal(t, "A-1", found.Flaws[0].ID)
	assert.Equal(t, "medium", found.Flaws[0].Severity, "the database's own word, where nobody scored it")
	assert.Equal(t, "1.1", found.Flaws[0].Fixed, "the earliest")
}

func nobody(string) bool { return false }

func held(t *testing.T, root, list string) *Held {
	t.Helper()
	file := filepath.Join(t.TempDir(), "list")
	require.NoError(t, os.WriteFile(file, []byte(list), 0o600))
	sums, err := ReadSums(file, "lamp", "1.0.0")
	require.NoError(t, err)
	below, err := tree.Open(root)
	require.NoError(t, err)
	defer below.Close()
	h, err := sums.Hold(t.Context(), below, ".", false, nobody, nobody, func(name string) bool { return strings.HasSuffix(name, ".php") })
	require.NoError(t, err)
	return h
}

func TestFilesAreHeldAgainstTheirChecksums(t *testing.T) {
	root := t.TempDir()
	for name, text := range map[string]string{"a/same.php": "same", "a/changed.php": "now", "a/more.php": "more", "a/more.txt": "more", "a/b/ends.php": "one\r\ntwo\r\n", "a/with\nline.php": "odd"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o600))
	}
	require.NoError(t, os.Symlink("same.php", filepath.Join(root, "a", "link.php")))
	sum := func(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }
	h := held(t, root, sum("same")+"  a/same.php\n"+sum("then")+" *a/changed.php\n"+sum("x")+"  ./a/missing.php\n"+sum("one\ntwo\n")+"  a/b/ends.php\n\\"+sum("odd")+"  a/with\\nline.php\n# a remark\nnot a line\n")
	var states []string
	for _, a := range h.Altered {
		states = append(states, a.State+" "+a.Path)
	}
	assert.Equal(t, []string{"changed a/changed.php", "missing a/missing.php", "added a/more.php"}, states)
	assert.Len(t, h.Same, 3)
	assert.Equal(t, 1, h.LineEnds)
	assert.Empty(t, h.Unread)

	require.NoError(t, os.Symlink("/etc", filepath.Join(root, "out")))
	h = held(t, root, sum("x")+"  out/passwd\n"+sum("same")+"  a/same.php\n")
	assert.Len(t, h.Unread, 1, "what a link leads out to is not read")
}

func TestAListOfChecksumsIsRefusedWithWhatIsWrong(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	for text, says := range map[string]string{"": "there is none", "hello\n": "there is none", sum + "  /etc/passwd\n": "is no path below the root", sum + "  ../x\n": "is no path below the root",
		strings.Repeat("ab", 25) + "  a\n": "of no kind that is known", sum + "  a/../..\n": "is no path below the root", strings.Repeat("x", 100_000): "too long"} {
		file := filepath.Join(t.TempDir(), "list")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := ReadSums(file, "", "")
		if assert.Error(t, err) {
			assert.Contains(t, err.Error(), says)
		}
	}
	folder := t.TempDir()
	for _, name := range []string{"lamp-1.0.sha256", "lamp-1.0.0.1.sha256", "lamps-1.0.0.sha256", "Lamp_v1.0.0.sums"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(sum+"  a\n"), 0o600))
	}
	found, err := ReadSums(folder, "lamp", "1.0.0")
	require.NoError(t, err)
	assert.Equal(t, "Lamp_v1.0.0.sums", filepath.Base(found.File))
	_, err = ReadSums(folder, "lamp", "1.0.2")
	require.ErrorIs(t, err, ErrNone)
	_, err = ReadSums(folder, "lamp", "")
	assert.ErrorIs(t, err, ErrNone)
}

func TestListsAreFetchedWithinBounds(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/newest.yaml":
			fmt.Fprint(w, "as_of: 2026-11-01\ncomponents: {}\n")
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		case "/out":
			http.Redirect(w, r, "http://192.0.2.1/", http.StatusFound)
		default:
			http.NotFound(w, r)
		}
	}))
	defer server.Close()
	file, err := Fetch(t.Context(), server.URL+"/newest.yaml", t.TempDir())
	require.NoError(t, err)
	_, err = ReadVersions(file)
	require.NoError(t, err)
	assert.Equal(t, "newest.yaml", filepath.Base(file))
	for path, says := range map[string]string{"/none": "404", "/round": "leads on too often", "/out": "not encrypted"} {
		_, err := Fetch(t.Context(), server.URL+path, t.TempDir())
		assert.ErrorContains(t, err, says, path)
	}
	_, err = Fetch(t.Context(), "http://192.0.2.1/newest.yaml", t.TempDir())
	require.ErrorContains(t, err, "not encrypted")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Fetch(ended, server.URL+"/newest.yaml", t.TempDir())
	assert.Error(t, err)
}

func FuzzAdvisories(f *testing.F) {
	f.Add([]byte(fmt.Sprintf(scored, 1, "9.8")))
	f.Add([]byte(`{"id":"a","affected":[{"package":{"ecosystem":"npm","name":"lamp"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"},{"fixed":"x"}]}]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		s := &searching{wanted: map[string][]Package{"npm lamp": {{"npm", "lamp", "1.0.0"}}}, names: map[string]bool{"lamp": true}}
		s.look("x", data)
		for _, flaw := range s.Flaws {
			assert.NotEmpty(t, flaw.ID)
		}
	})
}

func FuzzCompare(f *testing.F) {
	f.Add("1.0.0", "1.0.0-rc1")
	f.Add("1:2~rc1-3", "v2.x")
	f.Fuzz(func(t *testing.T, a, b string) {
		for _, ecosystem := range Ecosystems() {
			if order, known := Compare(ecosystem, a, b); known {
				back, known := Compare(ecosystem, b, a)
				assert.True(t, known)
				assert.Equal(t, sign(order), -sign(back), "%s: %q, %q", ecosystem, a, b)
			}
		}
	})
}

func FuzzSums(f *testing.F) {
	f.Add("d41d8cd98f00b204e9800998ecf8427e  a/b\n")
	f.Add("SHA256 (a) = " + strings.Repeat("0", 64))
	f.Fuzz(func(t *testing.T, text string) {
		s := &Sums{files: map[string]sum{}, dirs: map[string][]string{}}
		for i, line := range strings.Split(text, "\n") {
			if s.line(line, i+1) != nil {
				return
			}
		}
		for name := range s.files {
			assert.True(t, filepath.IsLocal(name), name)
			assert.True(t, slices.Contains(s.dirs[filepath.Dir(name)], filepath.Base(name)))
		}
	})
}
