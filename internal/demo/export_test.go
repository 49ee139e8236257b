package demo

import (
	"bytes"
	"context"
	"errors"
	"net"
	"net/http"
	"os"
	"path/filepath"
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

// export fetches the aligned twin page by page and writes it down as files, with the export's own address in place
// of the theatre's.
func export(t *testing.T, into, address string) {
	t.Helper()
	dir := t.TempDir()
	b := lanternLaneAligned()
	_, err := b.write(dir)
	require.NoError(t, err)
	server, err := serve(dir, []*installation{b}, 0)
	require.NoError(t, err)
	defer server.Close()
	connect := server.Connect(b.folder)
	client := &http.Client{
		Transport: &http.Transport{DialTLSContext: nil, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, connect["www.lanternlane.example:80"])
		}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	b.set("one_address", "no", "minify", "no") // what is made on the way is no file
	require.NoError(t, writeSQLite(filepath.Join(dir, b.folder, "site", brindleLore().Database.File), brindleLore().schema, func(insert inserter) error {
		return errors.Join(b.fillPromptBook(insert), b.fillLists(insert))
	}))
	for _, path := range []string{"/", "/about/", "/contact/", "/privacy/", "/tickets/", "/news/", "/winter-wolf/", "/holiday-workshop/", "/sixty-puppets/", "/join/",
		"/picture/wolf/", "/2026/11/", "/2026/10/", "/2026/09/", "/by/juniper-fold/", "/robots.txt", "/sitemap.xml", "/feed.xml",
		"/posters/icon.png", "/posters/logo.png", "/posters/card.png", "/costumes/lantern/style.css", "/props/seating/seats.js"} {
		answer, err := client.Get("http://www.lanternlane.example" + path)
		require.NoError(t, err, path)
		var body bytes.Buffer
		_, err = body.ReadFrom(answer.Body)
		require.NoError(t, err)
		answer.Body.Close()
		require.Equal(t, http.StatusOK, answer.StatusCode, path)
		name := filepath.Join(into, filepath.FromSlash(path))
		if strings.HasSuffix(path, "/") {
			name = filepath.Join(name, "index.html")
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		text := strings.ReplaceAll(body.String(), "https://www.lanternlane.example", address)
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
}

// TestAStaticExportBehindNginx looks at the twin's pages as a real web server gives them: with its own headers,
// compression, redirects and not-found page.
func TestAStaticExportBehindNginx(t *testing.T) {
	at, root := servertest.FreeAddress(t), t.TempDir()
	export(t, root, "http://"+at)
	servertest.Nginx(t, at, root)
	bare, err := site.Bare("http://" + at)
	require.NoError(t, err)
	r, err := audit.Run(t.Context(), bare, time.Now(), audit.Options{Tool: "test"})
	require.NoError(t, err)
	paths := map[string]facts.Page{}
	for _, page := range r.Snapshot.Pages {
		paths[page.Path] = page
	}
	assert.Equal(t, "Puppet shows | Family theatre | Lantern Lane", paths["/"].Title)
	assert.True(t, paths["/winter-wolf/"].Indexable)
	assert.Equal(t, 1200, paths["/winter-wolf/"].CardWidth)
	assert.Equal(t, "answers", paths["/tickets/"].CanonicalWorks)
	assert.False(t, paths["/by/juniper-fold/"].Indexable)
	assert.Equal(t, "utf-8", paths["/"].Charset)

	// The search is no file, so its link is dead; all else is as it was.
	assert.Equal(t, []string{"identity.not-found-page", "visibility.links-answer", "caching.vary", "caching.assets", "delivery.compression-assets", "delivery.minified", "hardening.https", "hardening.framing", "hardening.nosniff", "hardening.versions-hidden", "hardening.referrer", "hardening.content-policy", "hardening.permissions-policy"}, deviating(r), "and the server's own page for what is not found")
	assert.Contains(t, r.Held, "visibility.index-live")
	assert.Contains(t, r.Held, "visibility.sitemap-urls")
	assert.Contains(t, r.Held, "titles.unique")
	var unjudged []string
	for _, n := range r.NotJudged {
		unjudged = append(unjudged, n.Rule)
	}
	assert.Contains(t, unjudged, "titles.home-words", "nobody said what it wants to be found under")
}
