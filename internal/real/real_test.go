package real

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
)

// trees are the documentation packages that scripts/test installs.
var trees = map[string]string{
	"postgresql-doc-15": "/usr/share/doc/postgresql-doc-15/html",
	"git-doc":           "/usr/share/doc/git-doc",
	"python3-doc":       "/usr/share/doc/python3*/html",
	"sqlite3-doc":       "/usr/share/doc/sqlite3",
}

// pages is how many pages of each are looked at.
const pages = 120

// TestRealPages audits each by its address, served by nginx, and compares what deviates with the table that was looked through.
func TestRealPages(t *testing.T) {
	for name, pattern := range trees {
		t.Run(name, func(t *testing.T) {
			found, err := filepath.Glob(pattern + "/index.html")
			require.NoError(t, err)
			if len(found) == 0 {
				t.Skip(name + " is not installed; scripts/test installs it")
			}
			address := servertest.FreeAddress(t)
			servertest.Nginx(t, address, filepath.Dir(found[0]))
			s, err := site.Bare("http://" + address)
			require.NoError(t, err)
			most, fast := pages, 0
			s.Sources.Live.Pages, s.Sources.Live.Rate, s.Sources.Live.Concurrency = &most, &fast, intOf(1)
			r, err := audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test"})
			require.NoError(t, err)
			got := strings.ReplaceAll(table(r), "http://"+address, "http://HOST")
			golden := filepath.Join("testdata", name+".txt")
			if os.Getenv("REWRITE_GUIDE") != "" {
				require.NoError(t, os.WriteFile(golden, []byte(got), 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}

// told are packages that are audited with all that their keeper would say: the web server's configuration, and the files.
var told = map[string]struct{ root, brand string }{
	"postfix-doc": {"/usr/share/doc/postfix/html", "Postfix"},
	"bind9-doc":   {"/usr/share/doc/bind9-doc/arm", "BIND 9"},
}

// TestRealTrees audits each as a site of one's own: served by nginx, whose configuration is read, with its files.
func TestRealTrees(t *testing.T) {
	for name, of := range told {
		t.Run(name, func(t *testing.T) {
			if _, err := os.Stat(of.root + "/index.html"); err != nil {
				t.Skip(name + " is not installed; scripts/test installs it")
			}
			address := servertest.FreeAddress(t)
			config := servertest.Nginx(t, address, of.root)
			dir := t.TempDir()
			file := filepath.Join(dir, "weltaxis.yaml")
			require.NoError(t, os.WriteFile(file, []byte(fmt.Sprintf(`site: %s
intent: {address: "http://docs.example", stage: live, audience: public, purpose: brochure, brand: %q, web_user: %s}
sources:
  live: {own: true, rate: 0, pages: %d, concurrency: 1, connect: {"docs.example:80": %q}}
  server: {nginx: %q}
  files: {root: %q}
`, name, of.brand, servertest.User(), pages, address, config, of.root)), 0o600))
			s, err := site.Load(file)
			require.NoError(t, err)
			r, err := audit.Run(t.Context(), s, time.Now(), audit.Options{Tool: "test"})
			require.NoError(t, err)
			got := strings.NewReplacer(address, "ADDRESS", config, "CONFIG").Replace(table(r))
			golden := filepath.Join("testdata", name+".txt")
			if os.Getenv("REWRITE_GUIDE") != "" {
				require.NoError(t, os.WriteFile(golden, []byte(got), 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}

func intOf(n int) *int { return &n }

// table says of each rule that deviates how bad it is, how often, and what of the first few.
func table(r *audit.Result) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d pages, %d rules hold\n", len(r.Snapshot.Pages), len(r.Held))
	count := map[string]int{}
	for _, d := range r.Deviations {
		count[fmt.Sprint(d.Severity, d.Rule)]++
	}
	var shown []string
	for _, d := range r.Deviations {
		key := fmt.Sprint(d.Severity, d.Rule)
		if !slices.Contains(shown, key) {
			fmt.Fprintf(&b, "%s %s ×%d\n", d.Severity, d.Rule, count[key])
		}
		if shown = append(shown, key); occurrences(shown, key) <= 3 {
			fmt.Fprintf(&b, "    %s\n", facts.Shorten(d.Says, 200))
		}
	}
	return b.String()
}

func occurrences(list []string, word string) (n int) {
	for _, item := range list {
		if item == word {
			n++
		}
	}
	return n
}
