package servertest

import (
	"context"
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

// OpenPage writes a page into a folder and has the browser open it: as wide as a telephone, a tablet and a desk it is no wider than the
// screen, folded or not, whatever can be focused has a name, and nothing but the page itself is asked for.
func OpenPage(t *testing.T, browser context.Context, name, markup string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), name+".html")
	require.NoError(t, os.WriteFile(file, []byte(markup), 0o600))
	var mu sync.Mutex
	asked := []string{}
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
	require.NoError(t, chromedp.Do(browser, chromedp.Navigate("file://"+file)), name)
	mu.Lock()
	assert.Equal(t, []string{"file://" + file}, asked, "only the page itself is asked for")
	mu.Unlock()
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
	require.NoError(t, chromedp.Do(browser, chromedp.Navigate("file://"+file)), name) // folded as it was
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
