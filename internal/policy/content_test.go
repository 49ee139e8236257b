package policy

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTransport(t *testing.T) {
	for says, seconds := range map[string]int64{
		"max-age=15552000": 15552000, "max-age=15552000; includeSubDomains; preload": 15552000, `max-age="300"`: 300, "MAX-AGE=300": 300, " ; max-age = 300 ; ": 300, "max-age=0": 0,
		"includeSubDomains": -1, "max-age=": -1, "max-age=a": -1, "max-age=-1": -1, "max-age=300; max-age=300": -1, "max-age=300, max-age=600": -1,
	} {
		_, got := Transport(headers("Strict-Transport-Security", says))
		assert.Equal(t, seconds, got, says)
	}
	_, got := Transport(headers("Strict-Transport-Security", "max-age=300", "Strict-Transport-Security", "max-age=600"))
	assert.EqualValues(t, 300, got, "the first field counts")
	_, got = Transport(http.Header{})
	assert.EqualValues(t, -1, got)
}

func TestScripts(t *testing.T) {
	all := []string{AnyHost, FromData, Inline, FromText, AnyObject, AnyBase}
	for says, lets := range map[string][]string{
		"":                   all,
		"default-src 'self'": {},
		"default-src 'none'": {},
		"default-src *":      {AnyHost, AnyObject},
		"default-src https:": {AnyHost, AnyObject},
		"default-src 'self' 'unsafe-inline' 'unsafe-eval'": {Inline, FromText},
		"script-src 'self'":                                                                                {AnyObject},
		"script-src 'self'; object-src 'none'":                                                             {},
		"SCRIPT-SRC 'SELF'; OBJECT-SRC 'NONE'":                                                             {},
		"script-src 'self' data:; object-src 'none'":                                                       {FromData},
		"script-src 'unsafe-inline' 'nonce-abc'; object-src 'none'; base-uri 'self'":                       {},
		"script-src 'unsafe-inline' 'nonce-abc'; object-src 'none'":                                        {AnyBase},
		"script-src 'unsafe-inline' 'sha256-abc'; object-src 'none'":                                       {},
		"script-src 'strict-dynamic' 'nonce-a' https: 'unsafe-inline'; object-src 'none'; base-uri 'self'": {},
		"script-src-elem *; script-src 'self'; object-src 'none'":                                          {AnyHost},
		"frame-ancestors 'self'":                                                                           all,
		"upgrade-insecure-requests":                                                                        all,
		"default-src 'self', default-src *":                                                                {},
		"script-src https://cdn.example; object-src 'none'":                                                {},
		"script-src https://*.example.example; object-src 'none'":                                          {},
		"script-src 'self'; script-src *; object-src 'none'":                                               {},
		"script-src-elem 'self'; object-src 'none'":                                                        {Inline, FromText},
		"script-src 'self'; script-src-attr 'unsafe-inline'; object-src 'none'":                            {Inline},
		"script-src 'self' 'unsafe-inline'; script-src-elem 'self'; object-src 'none'":                     {Inline},
		"script-src *:443; object-src 'none'":                                                              {AnyHost},
		"script-src https://*:8443; object-src 'none'":                                                     {AnyHost},
		"script-src *.example:443; object-src 'none'":                                                      {},
		"sandbox allow-forms":                                                                              {},
		"sandbox allow-scripts":                                                                            all,
	} {
		header := http.Header{}
		if says != "" {
			header.Set("Content-Security-Policy", says)
		}
		_, got := Scripts(header)
		assert.ElementsMatch(t, lets, got, says)
	}
	_, got := Scripts(headers("Content-Security-Policy-Report-Only", "default-src 'none'"))
	assert.Equal(t, all, got, "one that only reports is none")
	_, got = Scripts(headers("Content-Security-Policy", "default-src *", "Content-Security-Policy", "script-src 'self'"))
	assert.Equal(t, []string{AnyObject}, got, "of several all must let it")
	_, got = Scripts(http.Header{}, "script-src 'self'", "object-src 'none'")
	assert.Empty(t, got, "a page says it as well")
}

func TestFeatures(t *testing.T) {
	for says, limited := range map[string]int{
		"": 0, "camera=()": 1, "camera=(), microphone=(self)": 2, "camera=*": 0, "camera=(*)": 0, "camera=self": 1, `geolocation=(self "https://maps.example")`: 1,
		"camera 'none'": 0, "camera": 0, "camera=(),": 0,
	} {
		header := http.Header{}
		if says != "" {
			header.Set("Permissions-Policy", says)
		}
		_, got := Features(header)
		assert.Equal(t, limited, got, says)
	}
}

func FuzzHeaders(f *testing.F) {
	f.Add("default-src 'self'; script-src 'nonce-a'", "max-age=300", "camera=()")
	f.Fuzz(func(t *testing.T, content, transport, features string) {
		header := http.Header{"Content-Security-Policy": {content}, "Strict-Transport-Security": {transport}, "Permissions-Policy": {features}}
		_, lets := Scripts(header)
		_, seconds := Transport(header)
		_, limited := Features(header)
		assert.LessOrEqual(t, len(lets), 6)
		assert.GreaterOrEqual(t, seconds, int64(-1))
		assert.GreaterOrEqual(t, limited, 0)
	})
}
