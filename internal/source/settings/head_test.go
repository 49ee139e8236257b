package settings

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestHostsInCode(t *testing.T) {
	for code, hosts := range map[string][]string{
		"": {},
		`<script src="/a.js"></script><!-- see a.example for b.example -->`:                         {},
		`<script async src="https://Count.Webworks.example:8443/c.js?x=//not.example"></script>`:    {"count.webworks.example"},
		`<script>load("//figures.example/a"); var b = 'https:\/\/other.example\/b'</script>`:        {"figures.example", "other.example"},
		`<style>@import url(//fonts.example/a.css); a{background:url(https://b.example/c)}</style>`: {"b.example", "fonts.example"},
		`<link rel=preconnect href=//a.example><link rel=preconnect href=//a.example>`:              {"a.example"},
		`<meta http-equiv="refresh" content="0; url=https://elsewhere.example/">`:                   {"elsewhere.example"},
		`<!--[if lt IE 9]><script src="https://old.example/x.js"></script><![endif]-->`:             {"old.example"},
		`<script>a / b // c.d`:                                  {},
		`<script>new WebSocket("wss://talk.example/")</script>`: {"talk.example"},
		`<script src="https://` + strings.Repeat("a", 3000):     {},
	} {
		assert.Equal(t, hosts, hostsIn(code), code)
	}
}

func TestObscuredCode(t *testing.T) {
	for code, hides := range map[string]bool{
		`eval (x)`: true, `window["eval"]`: false, `setTimeout(atob('YQ=='))`: true, `String.fromCharCode(97,98)`: true, `new Function("a")`: true, `unescape('%61')`: true,
		`<script src="data:text/javascript,alert(1)">`: true, `x='\x68\x74\x74\x70\x73\x3a\x2f\x2f'`: true, `'%68%74%74%70%73%3a%2f%2f%61%62%63%64%65%66%67%68'`: true,
		`function (a) { return medieval(a) }`: false, `new FunctionList()`: false, `"\u00e9t\u00e9"`: false, `data:image/png;base64,AAAA`: false,
	} {
		assert.Equal(t, hides, obscured.MatchString(code), code)
	}
}

func FuzzHostsInCode(f *testing.F) {
	f.Add(`<script src="//a.example"></script>`)
	f.Fuzz(func(t *testing.T, code string) {
		for _, host := range hostsIn(code) {
			if !strings.Contains(host, ".") || host != strings.ToLower(host) {
				t.Fatalf("%q is no host", host)
			}
		}
	})
}
