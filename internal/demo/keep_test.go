package demo

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
	"weltaxis/internal/report"
	"weltaxis/internal/site"
)

// keptInFront is the theatre's twin behind a real nginx that keeps what the content system answers, by some lines.
func keptInFront(t *testing.T, lines string) *audit.Result {
	t.Helper()
	if _, err := program(frontNginx); err != nil {
		t.Skip(err)
	}
	dir := t.TempDir()
	for parent := dir; parent != "/" && parent != os.TempDir(); parent = filepath.Dir(parent) {
		_ = os.Chmod(parent, 0o755)
	}
	in := lanternLaneAligned()
	in.set("cache", "no", "cache_warm", "no")
	in.front.amend = func(text string) string {
		text = strings.Replace(text, "    charset utf-8;", "    charset utf-8;\n    fastcgi_cache_path "+dir+"/kept keys_zone=kept:1m;\n    log_format none '';", 1)
		text = strings.Replace(text, "            fastcgi_pass system;", "            fastcgi_cache kept;\n            "+lines+"\n            add_header X-Stage-Cache $upstream_cache_status always;\n            add_header X-Content-Type-Options nosniff always;\n            add_header X-Frame-Options SAMEORIGIN always;\n            add_header Referrer-Policy strict-origin-when-cross-origin always;\n            add_header Strict-Transport-Security $transport always;\n            add_header Content-Security-Policy \"default-src 'self'; object-src 'none'; base-uri 'self'\" always;\n            add_header Permissions-Policy \"camera=()\" always;\n            fastcgi_pass system;", 1)
		return text
	}
	_, err := in.write(dir)
	require.NoError(t, err)
	s, err := serve(dir, []*installation{in}, 0)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.With(frontNginx))
	require.NoError(t, s.Announce())
	loaded, err := site.Load(filepath.Join(dir, in.folder))
	require.NoError(t, err)
	r, err := audit.Run(t.Context(), loaded, time.Now(), audit.Options{})
	require.NoError(t, err)
	return r
}

func severityOf(r *audit.Result, rule string) string {
	for _, d := range r.Deviations {
		if d.Rule == rule {
			return d.Severity.String()
		}
	}
	return ""
}

const keyed = "fastcgi_cache_key $scheme$host$request_uri; "

// TestARealServersCache: what the real nginx keeps is seen from outside, and what is wrong with its configuration where it does harm.
func TestARealServersCache(t *testing.T) {
	t.Run("in order", func(t *testing.T) {
		r := keptInFront(t, keyed+"fastcgi_cache_valid 200 10m; fastcgi_cache_valid 404 1m; fastcgi_cache_bypass $cookie_stagedoor; fastcgi_no_cache $cookie_stagedoor;")
		require.Equal(t, []string{"caching.page-on"}, deviating(r))
		require.Equal(t, "note", severityOf(r, "caching.page-on"), "another cache answers")
		way, err := report.CacheOf(r, "/about/")
		require.NoError(t, err)
		require.Equal(t, "the server cache answers", way.Visits[1].Says)
		require.Equal(t, report.Part{Label: "server", Says: "up to 10m; emptied by removing its folder's files, or waiting"}, way.OldPages[0])
		require.Contains(t, way.Visits[3].Says, "$cookie_stagedoor")
		home := r.Snapshot.Repeats[0]
		require.Equal(t, home.Asks, home.Hits)
		require.Contains(t, home.Says, "X-Stage-Cache: HIT")
		require.Equal(t, "a query of its own", home.Around)
	})
	t.Run("one answer for all addresses", func(t *testing.T) {
		r := keptInFront(t, "fastcgi_cache_valid 200 10m;")
		require.Equal(t, "critical", severityOf(r, "caching.key"), "%v", deviating(r))
	})
	t.Run("the key is the program that all addresses are handed to", func(t *testing.T) {
		r := keptInFront(t, "fastcgi_cache_valid 200 10m; fastcgi_cache_key $scheme$host$uri;")
		require.Equal(t, "critical", severityOf(r, "caching.key"), "%v", deviating(r))
		titles := map[string]bool{}
		for _, page := range r.Snapshot.Pages {
			if page.Kind == "content" {
				titles[page.Title] = true
			}
		}
		require.LessOrEqual(t, len(titles), 1, "the real one gives the page that came first for all of them")
	})
	t.Run("what sets cookies is kept", func(t *testing.T) {
		r := keptInFront(t, keyed+"fastcgi_cache_valid any 1h; fastcgi_ignore_headers Set-Cookie Cache-Control;")
		noticed := noticing(r)
		for _, rule := range []string{"caching.private-configured", "caching.errors-brief"} {
			assert.Contains(t, noticed, rule)
		}
		var signIn *facts.Repeat
		for i := range r.Snapshot.Repeats {
			if r.Snapshot.Repeats[i].SignIn {
				signIn = &r.Snapshot.Repeats[i]
			}
		}
		require.NotNil(t, signIn)
		require.Positive(t, signIn.Hits, "the page that begins a session is given to everybody")
	})
}
