package demo

import (
	"compress/gzip"
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A visitor asks the stand-in of one site, over TLS it trusts, and follows no redirect.
type visitor struct {
	t      *testing.T
	client *http.Client
	dir    string
	b      *installation
}

func visit(t *testing.T, b *installation) *visitor {
	t.Helper()
	dir := t.TempDir()
	_, err := b.write(dir)
	require.NoError(t, err)
	server, err := serve(dir, []*installation{b}, 0)
	require.NoError(t, err)
	t.Cleanup(server.Close)
	authority, err := os.ReadFile(filepath.Join(dir, caName))
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(authority))
	connect := server.Connect(b.folder)
	return &visitor{t, &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}, DisableCompression: true,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, connect[address])
			}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}, dir, b}
}

// get asks for an address and gives status, headers and body.
func (v *visitor) get(address string, headers ...string) (int, http.Header, string) {
	v.t.Helper()
	if strings.HasPrefix(address, "/") {
		address = "https://www.lanternlane.example" + address
	}
	request, err := http.NewRequest(http.MethodGet, address, nil)
	require.NoError(v.t, err)
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	answer, err := v.client.Do(request)
	require.NoError(v.t, err)
	defer answer.Body.Close()
	body := io.Reader(answer.Body)
	if answer.Header.Get("Content-Encoding") == "gzip" {
		body, err = gzip.NewReader(answer.Body)
		require.NoError(v.t, err)
	}
	data, err := io.ReadAll(body)
	require.NoError(v.t, err)
	return answer.StatusCode, answer.Header, string(data)
}

// change changes settings under the running server, as the administration pages would.
func (v *visitor) change(pairs ...string) {
	v.t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(v.dir, v.b.folder, "site", brindleLore().Database.File))
	require.NoError(v.t, err)
	defer db.Close()
	v.b.set(pairs...)
	_, err = db.Exec("DELETE FROM prompt_house")
	require.NoError(v.t, err)
	require.NoError(v.t, v.b.fillPromptBook(func(table string, values ...any) error {
		_, err := db.Exec("INSERT INTO "+table+" VALUES (?, ?)", values...)
		return err
	}))
}

func TestEverySpellingLeadsToTheOneTrueAddress(t *testing.T) {
	v := visit(t, lanternLaneAligned())
	for _, spelling := range []string{"http://www.lanternlane.example", "http://lanternlane.example", "https://lanternlane.example", "https://new.lanternlane.example"} {
		status, header, _ := v.get(spelling + "/tickets/?a=b")
		assert.Equal(t, 301, status, spelling)
		assert.Equal(t, "https://www.lanternlane.example/tickets/?a=b", header.Get("Location"), spelling)
	}
	v.change("one_address", "no")
	status, _, _ := v.get("http://new.lanternlane.example/tickets/")
	assert.Equal(t, 200, status, "what the settings say wrong is served wrong")
}

func TestPagesAreMadeFromTheSettings(t *testing.T) {
	b := lanternLaneAligned()
	b.set("cache", "no")
	v := visit(t, b)
	_, _, body := v.get("/")
	assert.Contains(t, body, "<title>Puppet shows | Family theatre | Lantern Lane</title>")
	assert.NotContains(t, body, "noindex")
	v.change("hidden", "yes", "title_sep", "-", "show_maker", "yes")
	_, _, body = v.get("/")
	assert.Contains(t, body, "<title>Puppet shows - Family theatre - Lantern Lane</title>")
	assert.Contains(t, body, `<meta name="robots" content="noindex">`)
	assert.Contains(t, body, `content="Brindle 3.4.2"`)
	v.change("front", "stream")
	_, _, body = v.get("/")
	assert.Equal(t, 3, strings.Count(body, "<article>"))
}

func TestThePageCacheHitsAndGoesStale(t *testing.T) {
	v := visit(t, lanternLaneAligned())
	_, header, first := v.get("/about/")
	assert.Contains(t, header.Get("Cache-Status"), "fwd=uri-miss")
	v.change("site_title", "Another")
	_, header, second := v.get("/about/")
	assert.Equal(t, "Brindle; hit", header.Get("Cache-Status"))
	assert.Equal(t, first, second, "the old page, though the setting is new")
	v.change("cache", "no")
	_, header, third := v.get("/about/")
	assert.Empty(t, header.Get("Cache-Status"))
	assert.Contains(t, third, "About the theatre | Another")
}

func TestPermalinksOldAndNew(t *testing.T) {
	v := visit(t, lanternLaneAligned())
	status, header, _ := v.get("/?scene=2")
	assert.Equal(t, 301, status)
	assert.Equal(t, "/about/", header.Get("Location"))
	status, header, _ = v.get("/about")
	assert.Equal(t, 301, status)
	assert.Equal(t, "/about/", header.Get("Location"))
	status, _, body := v.get("/no-such-page/")
	assert.Equal(t, 404, status)
	assert.Contains(t, body, "left the stage")
	v.change("page_missing", "", "address_form", "/?scene=<id>")
	status, _, body = v.get("/about/")
	assert.Equal(t, 404, status)
	assert.NotContains(t, body, "<html")
	status, _, _ = v.get("/?scene=2")
	assert.Equal(t, 200, status)
	status, _, _ = v.get("/advent-matinees/")
	assert.Equal(t, 404, status, "scheduled is not published")
}

func TestClosedLockedAndSignIn(t *testing.T) {
	v := visit(t, lanternLaneAligned())
	status, header, body := v.get("/stage-door/")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, `type="password"`)
	assert.Contains(t, header.Get("Cache-Control"), "no-store")
	assert.Contains(t, header.Get("Set-Cookie"), "HttpOnly")

	v.change("closed", "yes")
	status, header, body = v.get("/tickets/")
	assert.Equal(t, 503, status)
	assert.NotEmpty(t, header.Get("Retry-After"))
	assert.Contains(t, body, "changing the scenery")
	status, _, _ = v.get("/stage-door/")
	assert.Equal(t, 200, status, "staff still get in")
	status, _, _ = v.get("/robots.txt")
	assert.Equal(t, 200, status)

	v.change("closed", "no", "locked", "yes")
	status, header, _ = v.get("/")
	assert.Equal(t, 401, status)
	assert.Contains(t, header.Get("WWW-Authenticate"), "Basic")
}

func TestSitemapFeedAndRobots(t *testing.T) {
	v := visit(t, lanternLaneAligned())
	_, _, body := v.get("/sitemap.xml")
	assert.Contains(t, body, "<loc>https://www.lanternlane.example/winter-wolf/</loc>")
	assert.NotContains(t, body, "stage-door")
	_, _, body = v.get("/feed.xml")
	assert.Equal(t, 3, strings.Count(body, "<item>"))
	_, _, body = v.get("/robots.txt")
	assert.Contains(t, body, "Sitemap: https://www.lanternlane.example/sitemap.xml")
	v.change("sitemap", "no", "feed_items", "1")
	status, _, _ := v.get("/sitemap.xml")
	assert.Equal(t, 404, status)
	_, _, body = v.get("/feed.xml")
	assert.Equal(t, 1, strings.Count(body, "<item>"))
}

func TestCompressionAndFiles(t *testing.T) {
	v := visit(t, lanternLaneAligned())
	_, header, _ := v.get("/", "Accept-Encoding", "gzip")
	assert.Equal(t, "gzip", header.Get("Content-Encoding"))
	assert.Equal(t, "Accept-Encoding", header.Get("Vary"))
	_, header, _ = v.get("/")
	assert.Empty(t, header.Get("Content-Encoding"))
	status, header, _ := v.get("/posters/logo.png")
	assert.Equal(t, 200, status)
	assert.Equal(t, "image/png", header.Get("Content-Type"))
	status, _, _ = v.get("/posters/../../playhouse.php")
	assert.NotEqual(t, 200, status)
	status, _, _ = v.get("/posters/..%2f..%2fplayhouse.php")
	assert.NotEqual(t, 200, status, "nothing outside the public folder")
}

func TestTheDemoSaysWhenItsPortsAreTaken(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	dir := t.TempDir()
	b := lanternLaneAligned()
	_, err = b.write(dir)
	require.NoError(t, err)
	_, err = serve(dir, []*installation{b}, listener.Addr().(*net.TCPAddr).Port)
	assert.ErrorContains(t, err, "choose another --port")
}
