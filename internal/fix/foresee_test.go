package fix

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/identity"
	"weltaxis/internal/servertest"
	"weltaxis/internal/site"
)

// Sites of which the rules alone call a change of modes less than it is. Each row: what is done to the folder of the site, and the site file's words.
var foreseen = []struct {
	name, intent, sources string
	prepare               func(t *testing.T, dir string)
	rule                  string
	risk                  facts.Risk
	because               string
}{
	{"nobody said whom the web server runs as, and others put files there", "", "", func(t *testing.T, dir string) {
		upload(t, dir, "games")
	}, "permissions.not-world-writable", facts.Disruptive, "games"},
	{"whom the web server runs as puts files there", ", web_user: games", "", func(t *testing.T, dir string) {
		upload(t, dir, "root")
	}, "permissions.not-world-writable", facts.Disruptive, "the web server, as games"},
	{"a pool of the runtime runs as somebody", "", "  server: {nginx: etc/nginx.conf}\n  runtime: {php: etc}\n", func(t *testing.T, dir string) {
		upload(t, dir, "root")
		write(t, dir, "etc/php-fpm.conf", "[box]\nuser = games\ngroup = games\nlisten = /run/box.sock\npm = static\n")
		write(t, dir, "etc/nginx.conf", "events {}\nhttp { server { listen 80; server_name stage-door.example; root "+dir+"/www; location ~ \\.php$ { fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name; fastcgi_pass unix:/run/box.sock; } } }\n")
		write(t, dir, "etc/php.ini", "expose_php = Off\n")
	}, "permissions.not-world-writable", facts.Disruptive, "games"},
	{"the owner puts them there, as is said", ", web_user: games", "", func(t *testing.T, dir string) {
		upload(t, dir, "games")
		games, _ := identity.Accounts().Named("games")
		require.NoError(t, os.Chown(filepath.Join(dir, "www/uploads"), int(games.UID), int(games.GID)))
	}, "permissions.not-world-writable", facts.Safe, ""},
}

func write(t *testing.T, dir, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
}

// upload has a folder that everybody may write to, with something in it that somebody has put there.
func upload(t *testing.T, dir, by string) {
	t.Helper()
	write(t, dir, "www/uploads/poster.jpg", "\xff\xd8\xff")
	account, known := identity.Accounts().Named(by)
	require.True(t, known, by)
	require.NoError(t, os.Chown(filepath.Join(dir, "www/uploads/poster.jpg"), int(account.UID), int(account.GID)))
	require.NoError(t, os.Chmod(filepath.Join(dir, "www/uploads"), 0o777))
}

// TestAnAuditTellsTheRiskOfThePlan: of each deviation that a change settles the audit tells at least the risk that the plan tells, and of what servers are told that it is the least there is.
func TestAnAuditTellsTheRiskOfThePlan(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files to others")
	}
	for _, c := range foreseen {
		t.Run(c.name, func(t *testing.T) {
			dir := servertest.Public(t)
			write(t, dir, "www/index.html", "<title>Stage door</title>")
			c.prepare(t, dir)
			write(t, dir, "weltaxis.yaml", "site: Stage door\nintent: {address: https://stage-door.example/, brand: Stage door"+c.intent+"}\nsources:\n  files: {root: ., public: www}\n"+c.sources)
			loaded, err := site.Load(filepath.Join(dir, "weltaxis.yaml"))
			require.NoError(t, err)
			options := audit.Options{Tool: "test", Offline: true}
			r, err := audit.Run(t.Context(), loaded, time.Now(), options)
			require.NoError(t, err)
			w, err := WishesFor(loaded, r, options, nil)
			require.NoError(t, err)
			plan, err := New(t.Context(), w)
			require.NoError(t, err)

			require.NoError(t, Foresee(t.Context(), loaded, r, options))
			found := false
			for _, d := range r.Deviations {
				for _, change := range plan.Changes {
					if d.Fix.Wish != nil || change.Kind == Person || !strings.Contains(change.Subject, d.Subject) || !strings.Contains(strings.Join(change.Rules, " "), d.Rule) {
						continue
					}
					assert.GreaterOrEqual(t, d.Fix.Risk, change.Risk, "%s %s: the plan says %s", d.Rule, d.Subject, change.Because)
					assert.False(t, d.Fix.Least(), d.Rule)
				}
				if d.Fix.Wish != nil {
					assert.Equal(t, d.Fix.Risk < facts.Disruptive, d.Fix.Least(), d.Rule)
				}
				if d.Rule == c.rule && d.Fix.Mode != nil {
					found = true
					assert.Equal(t, c.risk, d.Fix.Risk, d.Fix.Because)
					assert.Contains(t, d.Fix.Because, c.because)
				}
			}
			assert.True(t, found, "%s deviates", c.rule)
		})
	}
}
