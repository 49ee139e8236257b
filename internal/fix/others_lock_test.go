package fix

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
	what "weltaxis/internal/source/server/answer"
	"weltaxis/internal/steps"
)

// Pieces of hosts that somebody has locked by hand: how they ask, and what else stands there.
var (
	lockedBy = map[string][]string{
		"nginx": {"auth_basic \"Stage\"; auth_basic_user_file DIR/users;", "satisfy all; auth_basic \"Stage\"; auth_basic_user_file DIR/users;"},
		"apache": {"<Location \"/\">\nAuthType Basic\nAuthName Stage\nAuthUserFile DIR/users\nRequire valid-user\n</Location>",
			"<Directory DIR/www>\nAuthType Basic\nAuthName Stage\nAuthUserFile DIR/users\nRequire valid-user\n</Directory>",
			"<Directory DIR/www>\nAuthType Basic\nAuthName Stage\nAuthUserFile DIR/users\n<Limit GET POST>\nRequire valid-user\n</Limit>\n</Directory>"},
	}
	besides = map[string][]string{
		"nginx": {"", "location /uploads/ { auth_basic off; }", "location = /robots.txt { auth_basic off; }", "location /.well-known/acme-challenge/ { auth_basic off; }", "location ^~ /.well-known/acme-challenge/ { auth_basic off; try_files $uri =404; }",
			"location = /r { return 200 \"" + inside + "\"; }", "location ^~ /feed.xml { satisfy any; allow all; }", "location = /secret.html { satisfy any; deny all; }", "rewrite ^/old$ /new redirect;", "location ~ \\.css$ { auth_basic off; }", "location /x/ { alias DIR/media/; }", "location ~* ^/robots\\.txt { auth_basic off; }"},
		"apache": {"", "<Location /posters>\nRequire all granted\n</Location>", "<LocationMatch \"^/robots\\.txt$\">\nRequire all granted\n</LocationMatch>", "<Directory DIR/www/uploads>\nRequire all granted\n</Directory>", "<Location /.well-known/acme-challenge>\nRequire all granted\n</Location>",
			"<Files style.css>\nRequire all granted\n</Files>", "RedirectMatch 302 ^/old$ /new", "Alias /x DIR/media", "<LocationMatch \"^/robots\">\nRequire all granted\n</LocationMatch>"},
	}
)

// TestLocksOfOthersAreTold: of hosts that somebody has locked, by the configuration alone it is told whether a stranger gets something, as the real server shows it, and each spelling as it answers. There are 5 hosts of
// each server, and 28 in the long runs.
func TestLocksOfOthersAreTold(t *testing.T) {
	t.Parallel()
	hosts := 5
	if os.Getenv("WELTAXIS_SOAK") != "" {
		hosts = 28
	}
	for _, kind := range []string{"nginx", "apache"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			open, told, spellings := 0, 0, 0
			for seed := range hosts {
				r := rand.New(rand.NewPCG(uint64(seed), 11))
				lines := lockedBy[kind][r.IntN(len(lockedBy[kind]))] + "\n"
				for range 1 + r.IntN(2) {
					if piece := besides[kind][r.IntN(len(besides[kind]))]; !strings.Contains(lines, piece) {
						lines += piece + "\n"
					}
				}
				files := spelledFiles(kind)
				delete(files, "www/uploads/.htaccess")
				files["users"] = "preview:{SHA}VBPuJHI7uixaa6LQGWx4s+5GKNE=\n"
				s := toldSitesWith(t, kind, spelledHosts[kind]+lines, files)
				loaded, err := site.Load(filepath.Join(s.dir, "weltaxis.yaml"))
				require.NoError(t, err)
				result, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{Tool: "test", Offline: true})
				require.NoError(t, err)
				if how, known := result.Snapshot.Is(facts.ServerShut.Term); !known || how.Text() != "lock" {
					t.Errorf("%d: it is locked, and told to be %q\n%s", seed, how.Text(), lines)
					continue
				}
				is, known := result.Snapshot.Is(facts.ServerShutOpen.Term)
				if !known {
					continue // which is said, with why
				}
				told++
				places := []string{"/secret.html", "/uploads/x.txt", "/posters/a.jpg", "/style.css", "/media/m.html", "/feed.xml"}
				_, passed := s.passes(t, places)
				maps.DeleteFunc(passed, func(target string, _ int) bool { return strings.HasPrefix(target, "OPTIONS /robots.txt/") }) // of robots.txt, by which nothing is shown
				for _, target := range []string{"/r", "/x/m.html"} {
					if status, _ := s.asks(t, http.MethodGet, target); status == 200 {
						passed[target] = status
					}
				}
				if len(passed) > 0 {
					open++
				}
				assert.Equal(t, len(passed) > 0, len(is.List()) > 0, "%d: %s\nreally %.400v\ntold %v", seed, lines, passed, is.List())
				src, _ := steps.ServersWith(nil, loaded)
				assert.Equal(t, filepath.Join(s.dir, "www"), src.Root(), "the folder is known behind the lock")
				for _, place := range places[:2] {
					for _, target := range spelt(place) {
						u, err := url.Parse(strings.TrimSuffix(loaded.Address(), "/") + target)
						if !strings.HasPrefix(target, "/") || err != nil {
							continue
						}
						real, _ := s.asks(t, http.MethodGet, target)
						if status := src.Work(u).Get(what.Status); status.Known() {
							spellings++
							assert.Equal(t, fmt.Sprint(real), status.Text(), "%d: %s\n%s", seed, target, lines)
						}
					}
				}
			}
			assert.Positive(t, spellings)
			assert.Positive(t, told)
			t.Logf("%d hosts, %d told, %d of them open; %d spellings", hosts, told, open, spellings)
		})
	}
}

// TestGeneratedHostsAreShut: of generated hosts a lock and a notice of this program's stand before everything, however it is written, or what is in the way is named. There are 3 hosts of each server, and 28 in the long
// runs.
func TestGeneratedHostsAreShut(t *testing.T) {
	t.Parallel()
	hosts := 3
	if os.Getenv("WELTAXIS_SOAK") != "" {
		hosts = 28
	}
	for _, kind := range []string{"nginx", "apache"} {
		for how, shutting := range spelledHow {
			t.Run(kind+" "+how, func(t *testing.T) {
				t.Parallel()
				shut, refused := 0, 0
				for seed := range hosts {
					r := rand.New(rand.NewPCG(uint64(seed), 13))
					lines := ""
					for range 1 + r.IntN(3) {
						if piece := besides[kind][r.IntN(len(besides[kind]))]; !strings.Contains(lines, piece) {
							lines += piece + "\n"
						}
					}
					s := toldSitesWith(t, kind, spelledHosts[kind]+lines, spelledFiles(kind))
					loaded, before := s.audit(t)
					w, err := WishesFor(loaded, before, audit.Options{Tool: "test"}, nil)
					require.NoError(t, err)
					require.NoError(t, shutting.Into(&w, loaded, before.Snapshot))
					plan, err := New(t.Context(), w)
					require.NoError(t, err)
					require.NotEmpty(t, plan.Changes)
					if why := plan.Changes[0].Cannot; why != "" {
						assert.Contains(t, why, "server.conf", "%d: what is in the way is named by its line: %s", seed, lines)
						refused++
						continue
					}
					s.closes(t, shutting)
					_, passed := s.passes(t, []string{"/secret.html", "/style.css", "/media/m.html", "/feed.xml"})
					for _, target := range []string{"/r", "/x/m.html", "/posters/a.jpg", "/uploads/x.txt"} {
						if status, body := s.asks(t, http.MethodGet, target); status == 200 || strings.Contains(body, inside) {
							passed[target] = status
						}
					}
					assert.Empty(t, passed, "%d: %s", seed, lines)
					shut++
				}
				t.Logf("%d hosts: %d shut, %d refused with what is in the way", hosts, shut, refused)
			})
		}
	}
}
