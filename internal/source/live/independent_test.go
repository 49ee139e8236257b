package live

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// nginxOf starts nginx on loopback with a private folder of its own, serving a folder of files, and gives its
// address.
func nginxOf(t *testing.T, root string) string {
	t.Helper()
	nginx, err := exec.LookPath("nginx")
	if err != nil {
		t.Skip("nginx is not installed; scripts/test installs it")
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := listener.Addr().String()
	require.NoError(t, listener.Close())
	dir := t.TempDir()
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	config := fmt.Sprintf(`%s daemon off; pid %[2]s/pid; error_log %[2]s/error.log; worker_processes 1; events {}
http { access_log off; client_body_temp_path %[2]s/a; proxy_temp_path %[2]s/b; fastcgi_temp_path %[2]s/c; uwsgi_temp_path %[2]s/d; scgi_temp_path %[2]s/e;
types { text/html html; text/css css; image/png png; } default_type application/octet-stream; gzip on; gzip_types text/css;
server { listen %[3]s; root %[4]s; index index.html; } }`, user, dir, address, root)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(config), 0o600))
	command := exec.Command(nginx, "-p", dir, "-c", filepath.Join(dir, "nginx.conf"), "-e", filepath.Join(dir, "error.log"))
	require.NoError(t, command.Start())
	t.Cleanup(func() { _ = command.Process.Signal(os.Interrupt); _ = command.Wait() })
	for range 100 {
		if connection, err := net.Dial("tcp", address); err == nil {
			connection.Close()
			return "http://" + address
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("nginx does not listen")
	return ""
}

// manual is a few hundred pages of markup that nobody here wrote (Debian's postgresql-doc-15).
const manual = "/usr/share/doc/postgresql-doc-15/html"

// A domReading is what a browser's own parser makes of a page.
type domReading struct {
	Title        string   `json:"title"`
	Descriptions []string `json:"descriptions"`
	Canonicals   []string `json:"canonicals"`
	Robots       []string `json:"robots"`
	Headings     int      `json:"headings"`
	Images       int      `json:"images"`
	Links        []string `json:"links"`
}

const domScript = `(async (addresses) => {
  const out = {};
  for (const address of addresses) {
    const d = new DOMParser().parseFromString(await (await fetch(address)).text(), 'text/html');
    const all = (s, f) => [...d.querySelectorAll(s)].map(f);
    out[address] = {
      title: d.title, headings: all('h1', x => x).length, images: all('img:not([role=presentation]):not([aria-hidden=true])', x => x).length,
      descriptions: all('meta[name=description i]', m => m.content.trim()), robots: all('meta[name=robots i]', m => m.content.trim().toLowerCase()),
      canonicals: all('link[rel~=canonical i]', l => l.getAttribute('href').trim()),
      links: all('a[href], area[href]', a => a.getAttribute('href').trim()).filter(h => h && !h.startsWith('#')).map(h => new URL(h, address)).filter(u => /^https?:$/.test(u.protocol)).map(u => { u.hash = ''; return u.href }),
    };
  }
  return out;
})(%s)`

func TestThePageTableAgreesWithABrowser(t *testing.T) {
	if _, err := os.Stat(manual); err != nil {
		t.Skip("postgresql-doc-15 is not installed; scripts/test installs it")
	}
	if _, err := exec.LookPath("chromium"); err != nil {
		t.Skip("chromium is not installed; scripts/test installs it")
	}
	home := nginxOf(t, manual)
	o := options(home)
	o.MaxPages, o.patience = 300, 20*time.Second
	s := look(t, o)
	require.GreaterOrEqual(t, len(s.Pages), 250)
	var addresses []string
	for _, page := range s.Pages {
		addresses = append(addresses, page.Address)
	}

	flags := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true))
	allocator, stop := chromedp.NewExecAllocator(t.Context(), flags...)
	defer stop()
	browser, quit := chromedp.NewContext(allocator)
	defer quit()
	require.NoError(t, chromedp.Do(browser, chromedp.Navigate(home+"/")))
	patient, cancel := context.WithTimeout(browser, 2*time.Minute)
	defer cancel()
	list := `["` + strings.Join(addresses, `","`) + `"]`
	dom, err := chromedp.Run(patient, chromedp.Evaluate[map[string]domReading](fmt.Sprintf(domScript, list),
		func(p *runtime.EvaluateParams) { p.AwaitPromise = new(true) }))
	require.NoError(t, err)

	links := 0
	for _, page := range s.Pages {
		saw := dom[page.Address]
		body := fetchBody(t, page.Address)
		d := analyse(address(t, page.Address), body, "text/html", "")
		assert.Equal(t, strings.Join(strings.Fields(saw.Title), " "), page.Title, page.Address)
		assert.Equal(t, len(saw.Descriptions), page.Descriptions, page.Address)
		assert.Equal(t, strings.Join(saw.Robots, "; "), page.RobotsTag, page.Address)
		assert.Equal(t, len(saw.Canonicals), page.Canonicals, page.Address)
		assert.Equal(t, saw.Headings, page.Headings, page.Address)
		assert.Equal(t, saw.Images, page.Images, page.Address)
		slices.Sort(saw.Links)
		slices.Sort(d.links)
		assert.Equal(t, slices.Compact(saw.Links), slices.Compact(append([]string{}, d.links...)), page.Address)
		links += len(d.links)
	}
	t.Logf("%d pages and %d links read alike", len(s.Pages), links)
}

func fetchBody(t *testing.T, at string) []byte {
	t.Helper()
	c, err := newClient(Options{}, address(t, at))
	require.NoError(t, err)
	defer c.close()
	r, err := c.get(t.Context(), address(t, at))
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, r.status)
	return r.body
}
