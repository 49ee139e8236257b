package live

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhereFormsPost(t *testing.T) {
	for markup, want := range map[string][]string{
		`<form method="post" action="/send">x</form>`:                                                {"https://site.example/send"},
		`<form method=POST>x</form>`:                                                                 {"https://site.example/contact/?a=b"},
		`<form method="post" action="">x</form>`:                                                     {"https://site.example/contact/?a=b"},
		`<base href="https://www.site.example/x/"><form method="post" action="send">x</form>`:        {"https://www.site.example/x/send"},
		`<base href="https://www.site.example/x/"><form method="post">x</form>`:                      {"https://site.example/contact/?a=b"},
		`<form method="post" action="http://site.example/send#there">x</form>`:                       {"http://site.example/send"},
		`<form method="post" action="//pay.example/buy">x</form><form method="post" action="/send">`: {"https://pay.example/buy", "https://site.example/send"},
		`<form><input type="submit" formmethod="post" formaction="/other"></form>`:                   {"https://site.example/other", "https://site.example/contact/?a=b"},
		`<form method="post" action="/send"><button formaction="/draft">Keep</button></form>`:        {"https://site.example/draft", "https://site.example/send"},
		`<form method="get" action="/search">x</form><form action="/find">x</form>`:                  nil,
		`<form method="dialog" action="/x">x</form>`:                                                 nil,
		`<form method="post" action="mailto:a@site.example">x</form>`:                                nil,
		`<form method="post" action="javascript:send()">x</form><button formaction="/x">y</button>`:  nil,
	} {
		at, err := url.Parse("https://site.example/contact/?a=b#top")
		require.NoError(t, err)
		assert.Equal(t, want, analyse(at, []byte(markup), "text/html; charset=utf-8", sought{}).postsTo, markup)
	}
}

func TestWhatIsMadeForOneVisit(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	for f, is := range map[hidden]bool{
		{"check", "9f86d081884c7d659a2feaa0c55ad015"}:       true,
		{"x", "Zm9vYmFyMTIzNDU2Nzg5MGFiY2RlZg=="}:           true,
		{"csrf", "a81f3c"}:                                  true,
		{"_nonce", "3f9a01bc22"}:                            true,
		{"made", "1789999990"}:                              true,
		{"made", "1789999990123"}:                           true,
		{"x", "5b1e2d3c-44aa-4f0e-9c7b-2f6f0f3d1a77"}:       true,
		{"form", "contact"}:                                 false,
		{"id", "42"}:                                        false,
		{"year", "1066"}:                                    false,
		{"since", "1500000000"}:                             false,
		{"to", "/about/the-lamp-works-and-its-12-puppets/"}: false,
		{"subject", "A letter to the theatre in 2026"}:      false,
		{"kind", "a-long-name-of-a-kind-of-form"}:           false,
		{"token", ""}:                                       false,
		{"colour", "aaaaaaaaaaaaaaaa1111111111111"}:         false,
	} {
		assert.Equal(t, is, f.once(now), "%+v", f)
	}
}
