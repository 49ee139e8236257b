package servertest

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// OpenPage serves a page and has the browser open it: as wide as a telephone, a tablet and a desk it is no wider than the
// screen, folded or not, whatever can be focused has a name, and nothing but the page itself is asked for.
func OpenPage(t *testing.T, browser context.Context, name, markup string) {
	t.Helper()
	var mu sync.Mutex
	asked, served := []string{}, []string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		served = append(served, r.URL.Path)
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, markup)
	}))
	defer server.Close()
	address := server.URL + "/" + name
	listening, stop := context.WithCancel(browser)
	defer stop()
	require.NoError(t, chromedp.Listen(listening, func(event any) {
		if sent, is := event.(*network.EventRequestWillBeSent); is && !strings.HasPrefix(sent.Request.URL, "data:") {
			mu.Lock()
			defer mu.Unlock()
			asked = append(asked, sent.Request.URL)
		}
	}))
	_, err := chromedp.Call(browser, network.Enable, network.EnableParams{})
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(browser, chromedp.Navigate(address)), name)
	for _, width := range []int64{360, 768, 1280} {
		require.NoError(t, chromedp.Do(browser, chromedp.EmulateViewport(width, 800)))
		for _, unfold := range []string{"false", "true"} {
			wide, err := chromedp.Run(browser, chromedp.Evaluate[int64]("document.querySelectorAll('details').forEach((d) => { d.open = "+unfold+" }), document.documentElement.scrollWidth"))
			require.NoError(t, err)
			assert.LessOrEqual(t, wide, width, "%s at %d, unfolded: %s", name, width, unfold)
		}
	}
	nodes, err := chromedp.Call(browser, accessibility.GetFullAXTree, accessibility.GetFullAXTreeParams{})
	require.NoError(t, err)
	focusable := 0
	for _, node := range nodes.Nodes {
		for _, p := range node.Properties {
			if p.Name != "focusable" || node.Role == nil || string(node.Role.Value) == `"RootWebArea"` {
				continue
			}
			focusable++
			require.NotNil(t, node.Name, "%s: %s", name, node.Role.Value)
			assert.NotEqual(t, `""`, string(node.Name.Value), "%s: %s", name, node.Role.Value)
		}
	}
	assert.Greater(t, focusable, 5, name)
	mu.Lock()
	assert.Equal(t, []string{address}, asked, "only the page itself is asked for")
	assert.Equal(t, []string{"/" + name}, served)
	mu.Unlock()
	fold := "document.querySelectorAll('details').forEach((d) => { d.open = false }), 0" // as it was
	_, err = chromedp.Run(browser, chromedp.Evaluate[int64](fold))
	require.NoError(t, err)
}

// Paper is a size of paper, in inches.
type Paper struct{ Width, Height float64 }

// The papers that people print on.
var (
	A4     = Paper{8.27, 11.69}
	Letter = Paper{8.5, 11}
)

var pagesOf = regexp.MustCompile(`(?m)^Pages:\s+(\d+)$`)

// PrintPage prints the page that is open, and tells on how many sheets, and what can be read on them.
func PrintPage(t *testing.T, browser context.Context, paper Paper) (sheets int, text string) {
	t.Helper()
	printed, err := chromedp.Call(browser, page.PrintToPDF, page.PrintToPDFParams{PaperWidth: paper.Width, PaperHeight: paper.Height, PrintBackground: new(true)})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "page.pdf")
	require.NoError(t, os.WriteFile(file, printed.Data, 0o600))
	said, err := exec.Command("pdfinfo", file).Output()
	require.NoError(t, err, "pdfinfo is not installed; scripts/test installs it")
	found := pagesOf.FindSubmatch(said)
	require.NotNil(t, found, string(said))
	sheets, err = strconv.Atoi(string(found[1]))
	require.NoError(t, err)
	read, err := exec.Command("pdftotext", "-raw", file, "-").Output()
	require.NoError(t, err)
	return sheets, string(read)
}
