package servertest

import (
	"context"
	"os/exec"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Chromium starts a browser without a window that opens a page, and is gone with the test. The test is skipped where there is none.
func Chromium(t *testing.T, page string) context.Context {
	t.Helper()
	if _, err := exec.LookPath("chromium"); err != nil {
		t.Skip("chromium is not installed; scripts/test installs it")
	}
	flags := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(t.TempDir()),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true))
	allocator, stop := chromedp.NewExecAllocator(t.Context(), flags...)
	t.Cleanup(stop)
	browser, quit := chromedp.NewContext(allocator)
	t.Cleanup(quit)
	require.NoError(t, chromedp.Do(browser, chromedp.Navigate(page)))
	return browser
}
