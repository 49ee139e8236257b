package demo

import (
	"crypto/tls"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
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
	"weltaxis/internal/site"
	answered "weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
	"weltaxis/internal/steps"
)

// TestTheWebServersOfTheTheatre: by the configuration of either server the twin is in order, and the site as it is is not.
func TestTheWebServersOfTheTheatre(t *testing.T) {
	dir := t.TempDir()
	for _, in := range []*installation{lanternLane(), lanternLaneAligned()} {
		_, err := in.write(dir)
		require.NoError(t, err)
		for _, kind := range Fronts {
			t.Run(in.folder+" "+kind, func(t *testing.T) {
				s, err := site.Load(filepath.Join(dir, in.folder))
				require.NoError(t, err)
				s.Sources.Live = nil
				s.Sources.Server.Chain = []site.ServerFile{{Nginx: frontFile(kind)}}
				if kind == frontApache {
					s.Sources.Server.Chain = []site.ServerFile{{Apache: frontFile(kind)}}
				}
				result, err := audit.Run(t.Context(), s, time.Now(), audit.Options{})
				require.NoError(t, err)
				assert.False(t, result.Snapshot.Partial(), "%v", result.Gaps)
				noticed := noticing(result)
				for _, rule := range []string{"hardening.upload-inert", "hardening.listing-off", "hardening.firewall-loaded", "runtime.errors-hidden", "runtime.upload-limits", "runtime.lines-work"} {
					assert.Equal(t, in.front.story, assert.ObjectsAreEqual(true, contains(noticed, rule)), "%s: %v", rule, noticed)
				}
				assert.Equal(t, in.front.story, len(result.Snapshot.Shadowed) > 1, "%v", result.Snapshot.Shadowed)
			})
		}
	}
}

func contains(list []string, word string) bool {
	for _, other := range list {
		if other == word {
			return true
		}
	}
	return false
}

// TestBehindRealServers: six hundred addresses of the theatre behind the real nginx and the real Apache, each field that is told
// of them as the server gives it, and nothing to report of the twin.
func TestBehindRealServers(t *testing.T) {
	for _, kind := range Fronts {
		t.Run(kind, func(t *testing.T) {
			if _, err := program(kind); err != nil {
				t.Skip(err)
			}
			dir := t.TempDir()
			for parent := dir; parent != "/" && parent != os.TempDir(); parent = filepath.Dir(parent) {
				_ = os.Chmod(parent, 0o755)
			}
			all := []*installation{lanternLane(), lanternLaneAligned()}
			for _, in := range all {
				_, err := in.write(dir)
				require.NoError(t, err)
			}
			s, err := serve(dir, all, 0)
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.With(kind))
			require.NoError(t, s.Announce())
			var tally ground.Tally
			for _, in := range all {
				tally.Add(askAround(t, dir, in, s.Connect(in.folder)))
			}
			t.Log(tally.String())
			assert.Zero(t, tally.Wrong)
			twin, err := site.Load(filepath.Join(dir, "lantern-lane-aligned"))
			require.NoError(t, err)
			result, err := audit.Run(t.Context(), twin, time.Now(), audit.Options{})
			require.NoError(t, err)
			assert.Empty(t, deviating(result))
			assert.Empty(t, slices.DeleteFunc(result.NotJudged, ofTime))
		})
	}
}

// askAround asks for three hundred addresses of a site, and holds what is told of them against the answers.
func askAround(t *testing.T, dir string, in *installation, connect map[string]string) (tally ground.Tally) {
	t.Helper()
	s, err := site.Load(filepath.Join(dir, in.folder))
	require.NoError(t, err)
	servers, gaps := steps.Servers(s)
	require.Empty(t, gaps)
	random := rand.New(rand.NewPCG(4, 2))
	one := func(of ...string) string { return of[random.IntN(len(of))] }
	for range 300 {
		host, scheme := one(in.hosts...), one("http", "https", "https")
		path := one("", "/posters", "/costumes", "/costumes/lantern", "/lamplit", "/posters/winter", "/nowhere") +
			one("/", "", "/index.php", "/icon.png", "/style.css", "/lamp.js", "/.htaccess", "/wolf.txt", "/upload-test.php", "/x.phtml", "/dump.sql", "/lanternlane-2026-09-02.sql", "/about/", "/robots.txt", "/x.jpeg", "/index.php/more", "/front.html", "/?scene=1")
		u, err := url.Parse(scheme + "://" + host + path)
		require.NoError(t, err)
		if u.Path == "" {
			u.Path = "/"
		}
		real := fetch(t, u, connect)
		is := servers.Work(u)
		delete(is.Fields, answered.Header("server"))
		for f, field := range is.Fields { // what is added to a program's answer may stand beside the program's own
			if name, header := f.IsHeader(); header && strings.Contains(field.Because, "program") && strings.Contains(strings.Join(real.Header.Values(name), ", "), field.Text()) {
				field.Values = real.Header.Values(name)
				is.Fields[f] = field
			}
		}
		real.Header.Del("Server")
		for _, wrong := range tally.Hold(is, real) {
			t.Errorf("%s %s: %s", in.folder, u, wrong)
		}
	}
	return tally
}

// fetch asks a server for an address, wherever that is.
func fetch(t *testing.T, u *url.URL, connect map[string]string) ground.Got {
	t.Helper()
	port := map[string]string{"http": "80", "https": "443"}[u.Scheme]
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DisableKeepAlives: true, DisableCompression: true, TLSClientConfig: &tls.Config{ServerName: u.Hostname(), InsecureSkipVerify: true}}} // it is ours, on loopback
	request, err := http.NewRequest(http.MethodGet, fmt.Sprintf("%s://%s%s", u.Scheme, connect[u.Host+":"+port], u.RequestURI()), nil)
	require.NoError(t, err)
	request.Host = u.Host
	request.Header.Set("Accept-Encoding", "gzip")
	response, err := client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	body, _ := io.ReadAll(response.Body)
	return ground.Got{Status: response.StatusCode, Header: response.Header, Body: string(body)}
}

// TestWhatFollowsAnAddress: the way of one address, and how its fields stand from both sides.
func TestWhatFollowsAnAddress(t *testing.T) {
	dir := t.TempDir()
	_, err := lanternLane().write(dir)
	require.NoError(t, err)
	s, err := site.Load(filepath.Join(dir, "lantern-lane"))
	require.NoError(t, err)
	f, err := audit.Follow(t.Context(), s, "/posters/winter/upload-test.php", audit.Options{Offline: true})
	require.NoError(t, err)
	runs, known := f.Answer.Field("runs_code")
	require.True(t, known)
	assert.Equal(t, "yes", runs.String(), "the place inside another shields nothing")
	assert.Equal(t, facts.Origin{File: "server/nginx/nginx.conf", Line: f.Answer.OriginOf("runs_code").Line}, f.Answer.OriginOf("runs_code"))
	assert.NotEmpty(t, f.Way)
	_, err = audit.Follow(t.Context(), s, "ftp://x", audit.Options{})
	assert.ErrorContains(t, err, "no address of the site")
}
