package policy

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asked are the policies that a browser is asked about: headers, and what stands in a meta of the page.
var asked = []struct {
	headers []string
	meta    string
}{
	{},
	{headers: []string{"default-src 'self'; object-src 'none'; base-uri 'self'"}},
	{headers: []string{"default-src *"}},
	{headers: []string{"default-src * 'unsafe-inline' 'unsafe-eval' data:"}},
	{headers: []string{"script-src 'self' 'unsafe-inline'"}},
	{headers: []string{"script-src 'self' 'unsafe-eval'; object-src 'none'"}},
	{headers: []string{"script-src https:; object-src 'self'"}},
	{headers: []string{"script-src 'self' data:"}},
	{headers: []string{"script-src 'nonce-abc' 'strict-dynamic' https: 'unsafe-inline'; object-src 'none'; base-uri 'none'"}},
	{headers: []string{"script-src 'nonce-abc'; object-src 'none'"}},
	{headers: []string{"script-src-elem 'self'; script-src-attr 'unsafe-inline'; object-src 'none'"}},
	{headers: []string{"default-src 'none'; script-src 'nonce-abc' 'unsafe-inline' 'unsafe-eval'; base-uri 'self'"}},
	{headers: []string{"default-src *", "script-src 'self'; base-uri 'none'"}},
	{headers: []string{"default-src 'self' 'unsafe-inline', object-src 'none'"}},
	{headers: []string{"upgrade-insecure-requests"}},
	{headers: []string{"sandbox allow-same-origin"}},
	{headers: []string{"SCRIPT-SRC 'SELF' 'Unsafe-Inline'; script-src *"}},
	{meta: "script-src 'self'; object-src 'none'; base-uri 'self'"},
	{headers: []string{"object-src 'self'; script-src 'unsafe-inline' 'sha256-AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA='"}},
}

// ran is what a browser let run.
type ran struct{ Host, Data, Inline, Text, Base bool }

// TestAPolicyLetsRunWhatABrowserDoes holds what is said of policies against what Chromium does with a page that tries everything.
func TestAPolicyLetsRunWhatABrowserDoes(t *testing.T) {
	if _, err := exec.LookPath("chromium"); err != nil {
		t.Skip("chromium is not installed; scripts/test installs it")
	}
	var mu sync.Mutex
	objects := map[string]bool{}
	other := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/object.svg": // what is embedded is of another host, and runs a script of its own
			w.Header().Set("Content-Type", "image/svg+xml")
			fmt.Fprintf(w, `<svg xmlns="http://www.w3.org/2000/svg"><script>fetch("/ran?%s")</script></svg>`, r.URL.RawQuery)
		case "/ran":
			mu.Lock()
			objects[r.URL.RawQuery] = true
			mu.Unlock()
		default:
			w.Header().Set("Content-Type", "text/javascript")
			fmt.Fprintf(w, "window.ran_%s = true\n", strings.TrimSuffix(strings.TrimPrefix(r.URL.Path, "/"), ".js"))
		}
	}))
	defer other.Close()
	var own *httptest.Server
	own = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/own.js" {
			w.Header().Set("Content-Type", "text/javascript")
			fmt.Fprint(w, "try { eval('window.ran_text = true') } catch (refused) {}\n")
			return
		}
		n, err := strconv.Atoi(strings.TrimPrefix(r.URL.Path, "/"))
		if err != nil || n >= len(asked) {
			http.NotFound(w, r)
			return
		}
		for _, policy := range asked[n].headers {
			w.Header().Add("Content-Security-Policy", policy)
		}
		meta := ""
		if asked[n].meta != "" {
			meta = `<meta http-equiv="Content-Security-Policy" content="` + asked[n].meta + `">`
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, `<!doctype html><head>%[1]s<base href="%[2]s/"><title>%[4]d</title></head><body>
<script nonce="abc" src="%[3]s/own.js"></script>
<script src="%[2]s/host.js"></script>
<script src="data:text/javascript,window.ran_data=true"></script>
<script>window.ran_inline = true</script>
<details open ontoggle="window.ran_handler = true"><summary>x</summary>y</details>
<script nonce="abc" src="base.js"></script>
<object data="%[2]s/object.svg?%[4]d" type="image/svg+xml"></object>
</body>`, meta, other.URL, own.URL, n)
	}))
	defer own.Close()

	flags := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(t.TempDir()), chromedp.Flag("ignore-certificate-errors", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true))
	allocator, stop := chromedp.NewExecAllocator(t.Context(), flags...)
	defer stop()
	browser, quit := chromedp.NewContext(allocator)
	defer quit()
	patient, cancel := context.WithTimeout(browser, 2*time.Minute)
	defer cancel()
	for n, policy := range asked {
		require.NoError(t, chromedp.Do(patient, chromedp.Navigate(fmt.Sprintf("%s/%d", own.URL, n))))
		time.Sleep(150 * time.Millisecond) // what is loaded late
		did, err := chromedp.Run(patient, chromedp.Evaluate[ran](`({Host: !!window.ran_host, Data: !!window.ran_data, Inline: !!(window.ran_inline || window.ran_handler), Text: !!window.ran_text, Base: !!window.ran_base})`))
		require.NoError(t, err)
		header := http.Header{"Content-Security-Policy": policy.headers}
		var metas []string
		if policy.meta != "" {
			metas = []string{policy.meta}
		}
		_, lets := Scripts(header, metas...)
		says := func(what string) bool { return slices.Contains(lets, what) }
		label := fmt.Sprintf("%d: %q %q", n, policy.headers, policy.meta)
		assert.Equal(t, did.Host, says(AnyHost), "scripts of another host, %s", label)
		assert.Equal(t, did.Data, says(FromData), "data:, %s", label)
		assert.Equal(t, did.Inline, says(Inline), "inline, %s", label)
		if did.Text { // whether a text is taken for a script shows only where a script of the site's own runs
			assert.True(t, says(FromText), "eval, %s", label)
		}
		mu.Lock()
		assert.Equal(t, objects[strconv.Itoa(n)], says(AnyObject), "objects, %s", label)
		mu.Unlock()
		if !says(AnyHost) { // where any host will do, the base matters no more
			assert.Equal(t, did.Base, says(AnyBase), "the base, %s", label)
		}
	}
}
