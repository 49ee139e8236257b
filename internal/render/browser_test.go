package render

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/servertest"
)

// TestABrowserOpensThePages has Chromium open the page of an all-hostile site, and of one with more than 500 pages: nothing is asked
// for anywhere, no script but ours runs, nothing is wider than the screen, and whoever has no mouse can do what others can.
func TestABrowserOpensThePages(t *testing.T) {
	var asked atomic.Int64
	listener := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	defer listener.Close()
	var hostileHere []string
	for _, attack := range attacks {
		hostileHere = append(hostileHere, strings.ReplaceAll(attack, "https://evil.example", listener.URL))
	}
	browser := servertest.Chromium(t, "about:blank")
	patient, cancel := context.WithTimeout(browser, time.Minute)
	defer cancel()
	hostilePage, _ := laid(t, largeReport(t, 40, hostileHere))
	clientPage, _ := clients(t, largeReport(t, 40, hostileHere))
	largePage, _ := laid(t, largeReport(t, 560, []string{"calm", "A house on the lane", strings.Repeat("long words ", 12), strings.Repeat("unbroken", 40)}))
	for _, of := range []struct{ name, page string }{{"hostile", hostilePage}, {"client", clientPage}, {"large", largePage}} {
		servertest.OpenPage(t, patient, of.name, of.page)
	}

	// By keyboard: to the head of a column, sorted by it, back, and rows picked by a word.
	require.NoError(t, chromedp.Do(patient, chromedp.Evaluate[chromedp.Void](`document.querySelector("#pages").closest("section").querySelector("input").focus()`)))
	require.NoError(t, chromedp.Do(patient, chromedp.KeyEvent("\t"), chromedp.KeyEvent("\r")))
	const sorted = `document.querySelector("#page-table th").ariaSort + " " + document.querySelector("#page-table tbody th").textContent`
	first := evaluate[string](t, patient, sorted)
	require.NoError(t, chromedp.Do(patient, chromedp.KeyEvent("\r")))
	last := evaluate[string](t, patient, sorted)
	assert.Regexp(t, `^ascending /$`, first)
	assert.Regexp(t, `^descending /559-`, last)
	require.NoError(t, chromedp.Do(patient, chromedp.Evaluate[chromedp.Void](`document.querySelector("#pages").closest("section").querySelector("input").focus()`), chromedp.KeyEvent("/55")))
	assert.Equal(t, "11 of 560", evaluate[string](t, patient, `document.querySelector("#page-table-shown").textContent`))
	assert.Equal(t, int64(11), evaluate[int64](t, patient, `[...document.querySelectorAll("#page-table tbody tr")].filter((row) => row.offsetHeight > 0).length`))

	// What the markup should not have let in would be stopped by the policy.
	evaluate[string](t, patient, `(() => {
		for (const [kind, more] of [["img", {src: "URL"}], ["script", {src: "URL"}], ["iframe", {src: "URL"}], ["link", {rel: "stylesheet", href: "URL"}], ["script", {textContent: "window.ran = 1"}]])
			document.body.append(Object.assign(document.createElement(kind), JSON.parse(JSON.stringify(more).replace("URL", "`+listener.URL+`/x"))));
		navigator.sendBeacon("`+listener.URL+`/y", "z");
		return "";
	})()`)
	refused, err := chromedp.Run(patient, chromedp.Evaluate[string](`fetch("`+listener.URL+`/f").then(() => "answered", () => "refused")`, func(p *runtime.EvaluateParams) { p.AwaitPromise = new(true) }))
	require.NoError(t, err)
	assert.Equal(t, "refused", refused)
	assert.Equal(t, "undefined", evaluate[string](t, patient, "typeof window.ran"))
	assert.Zero(t, asked.Load(), "nobody was asked for anything")
}

// evaluate is what an expression comes to in the page.
func evaluate[T any](t *testing.T, browser context.Context, expression string) T {
	t.Helper()
	value, err := chromedp.Run(browser, chromedp.Evaluate[T](expression))
	require.NoError(t, err, expression)
	return value
}
