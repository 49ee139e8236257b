package live

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/servertest"
)

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
	listening := servertest.FreeAddress(t)
	servertest.Nginx(t, listening, manual)
	home := "http://" + listening
	o := options(home)
	o.MaxPages, o.patience = 300, 20*time.Second
	s := look(t, o)
	require.GreaterOrEqual(t, len(s.Pages), 250)
	var addresses []string
	for _, page := range s.Pages {
		addresses = append(addresses, page.Address)
	}

	browser := servertest.Chromium(t, home+"/")
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
		d := analyse(address(t, page.Address), body, "text/html", sought{})
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
