package policy

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
)

func headers(pairs ...string) http.Header {
	h := http.Header{}
	for i := 0; i < len(pairs); i += 2 {
		h.Add(pairs[i], pairs[i+1])
	}
	return h
}

func TestFraming(t *testing.T) {
	const options, policy = "X-Frame-Options", "Content-Security-Policy"
	for name, c := range map[string]struct {
		header http.Header
		by     string
		limits bool
	}{
		"nothing":                    {headers(), "", false},
		"deny":                       {headers(options, "DENY"), "X-Frame-Options: DENY", true},
		"the same, by another case":  {headers(options, "SameOrigin"), "X-Frame-Options: SameOrigin", true},
		"what no browser knows":      {headers(options, "ALLOW-FROM https://x.example"), "X-Frame-Options: ALLOW-FROM https://x.example", false},
		"everybody":                  {headers(options, "ALLOWALL"), "X-Frame-Options: ALLOWALL", false},
		"twice the same":             {headers(options, "SAMEORIGIN", options, "SAMEORIGIN"), "X-Frame-Options: SAMEORIGIN, SAMEORIGIN", true},
		"two that differ":            {headers(options, "SAMEORIGIN, ALLOWALL"), "X-Frame-Options: SAMEORIGIN, ALLOWALL", true},
		"a policy":                   {headers(policy, "default-src *; frame-ancestors 'self'"), "frame-ancestors 'self'", true},
		"a policy for nobody":        {headers(policy, "Frame-Ancestors 'none'"), "frame-ancestors 'none'", true},
		"a policy without a source":  {headers(policy, "frame-ancestors"), "frame-ancestors ", true},
		"a policy beats the options": {headers(policy, "frame-ancestors *", options, "DENY"), "frame-ancestors *", false},
		"every encrypted site":       {headers(policy, "frame-ancestors https:"), "frame-ancestors https:", false},
		"anybody, by a port":         {headers(policy, "frame-ancestors https://*:443"), "frame-ancestors https://*:443", false},
		"anybody, by any port":       {headers(policy, "frame-ancestors *:*"), "frame-ancestors *:*", false},
		"one's own names":            {headers(policy, "frame-ancestors https://*.x.example:443"), "frame-ancestors https://*.x.example:443", true},
		"another scheme":             {headers(policy, "frame-ancestors app:"), "frame-ancestors app:", true},
		"one of two policies":        {headers(policy, "frame-ancestors *, frame-ancestors 'self'"), "frame-ancestors 'self'", true},
		"of two in one the first":    {headers(policy, "frame-ancestors *; frame-ancestors 'self'"), "frame-ancestors *", false},
		"only reported":              {headers("Content-Security-Policy-Report-Only", "frame-ancestors 'self'"), "", false},
		"another directive":          {headers(policy, "frame-src 'self'"), "", false},
	} {
		by, limits := Framing(c.header)
		assert.Equal(t, c.by, by, name)
		assert.Equal(t, c.limits, limits, name)
	}
}

func TestSniffingAndReferrer(t *testing.T) {
	for value, stops := range map[string]bool{"nosniff": true, "NoSniff": true, "nosniff, nosniff": true, "none": false, "": false, "none, nosniff": false} {
		_, got := Sniffing(headers("X-Content-Type-Options", value))
		assert.Equal(t, stops, got, value)
	}
	for value, limits := range map[string]bool{"": false, "strict-origin": true, "unsafe-url": false, "no-referrer, unsafe-url": false, "unsafe-url, no-referrer": true, "no-referrer, nonsense": true, "no-referrer-when-downgrade": false} {
		_, got := Referrer(headers("Referrer-Policy", value), "")
		assert.Equal(t, limits, got, value)
	}
	says, limits := Referrer(headers("Referrer-Policy", "no-referrer"), "unsafe-url")
	assert.Equal(t, "no-referrer, unsafe-url", says)
	assert.False(t, limits, "the page's own tag counts last")
	for tag, limits := range map[string]bool{"never": true, "Default": true, "always": false, "origin-when-crossorigin": true, "nonsense": true} {
		_, got := Referrer(headers("Referrer-Policy", "no-referrer"), tag)
		assert.Equal(t, limits, got, tag)
	}
	_, limits = Referrer(headers("Referrer-Policy", "never"), "")
	assert.False(t, limits, "a header knows the words of today alone")
}
