package live

import (
	"net/http"
	"net/http/httptest"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Files that come with programs tell what a site runs on, where they say so at their head, and no page that answers for all addresses does.
func TestFilesThatComeWithProgramsAreSigns(t *testing.T) {
	own := Sign{In: "file", Match: regexp.MustCompile(`^\W*Lamplight v?(?P<version>[0-9.]+)`), Gives: "system", Name: "Lamplight", Sure: "certain"}
	for text, want := range map[string]string{
		"# Lamplight 2.4.1\n\nCopy it.\n": "Lamplight 2.4.1 certain", "=== Old Lamp v1.2 ===\nStable: 1.2\n": "Old Lamp 1.2 likely", "Old Lamp, version 1.2.3\n": "Old Lamp 1.2.3 likely",
		"<!doctype html><title>x</title><h1>Lamplight 2.4.1</h1>": "Lamplight 2.4.1 certain", "Copyright 2026 somebody. Version 3 of the licence.\n": "", "lamps since 1998.4\n": "", "": "",
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch r.URL.Path {
			case "/":
				w.Header().Set("Content-Type", "text/html")
				_, _ = w.Write([]byte("<title>Lamps</title>"))
			case "/readme.txt":
				_, _ = w.Write([]byte(text))
			default:
				http.NotFound(w, r)
			}
		}))
		seen, err := Leaks(t.Context(), Options{Address: server.URL, Own: true, MaxTime: time.Minute, Concurrency: 4, Signs: []Sign{own}}, nil, nil)
		server.Close()
		require.NoError(t, err)
		require.NotNil(t, seen.Signs)
		if want == "" {
			assert.Empty(t, seen.Signs, text)
			continue
		}
		require.NotEmpty(t, seen.Signs, text)
		sign := seen.Signs[0]
		assert.Equal(t, want, sign.Name+" "+sign.Version+" "+sign.Sure, text)
		assert.Equal(t, "file", sign.Place)
		assert.Contains(t, sign.URL, "/readme.txt")
	}
}
