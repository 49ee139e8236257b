package demo

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The engine refuses what one refuses, and shows what it has been told.
func TestTheEngineRefusesWhatOneRefuses(t *testing.T) {
	dir := t.TempDir()
	b := hollin()
	_, err := b.write(dir)
	require.NoError(t, err)
	server, err := serve(dir, []*installation{b}, 0)
	require.NoError(t, err)
	defer server.Close()
	require.NoError(t, os.WriteFile(filepath.Join(dir, b.folder, "site", "plot", "key-of-hollin.txt"), []byte("key-of-hollin\n"), 0o644))
	send := func(text string) int {
		response, err := http.Post("http://"+server.Engine()+"/indexnow", "application/json", strings.NewReader(text))
		require.NoError(t, err)
		response.Body.Close()
		return response.StatusCode
	}
	const host, at = "www.hollinbees.example", "https://www.hollinbees.example"
	message := func(host, key, location, addresses string) string {
		return fmt.Sprintf(`{"host": %q, "key": %q, "keyLocation": %q, "urlList": [%s]}`, host, key, location, addresses)
	}
	for name, c := range map[string]struct {
		text string
		want int
	}{
		"as it should be":            {message(host, "key-of-hollin", at+"/key-of-hollin.txt", `"`+at+`/honey/"`), 200},
		"no message":                 {`what`, 400},
		"no addresses":               {message(host, "key-of-hollin", at+"/key-of-hollin.txt", ""), 400},
		"too many":                   {message(host, "key-of-hollin", at+"/key-of-hollin.txt", strings.TrimSuffix(strings.Repeat(`"`+at+`/",`, engineMost+1), ",")), 400},
		"another key":                {message(host, "another-key", at+"/key-of-hollin.txt", `"`+at+`/"`), 403},
		"a key that is not there":    {message(host, "key-of-nobody", at+"/key-of-nobody.txt", `"`+at+`/"`), 403},
		"a key on another host":      {message(host, "key-of-hollin", "https://other.example/key-of-hollin.txt", `"`+at+`/"`), 403},
		"a site that nobody serves":  {message("other.example", "key-of-hollin", "https://other.example/key-of-hollin.txt", `"https://other.example/"`), 403},
		"an address of another host": {message(host, "key-of-hollin", at+"/key-of-hollin.txt", `"https://other.example/"`), 422},
	} {
		assert.Equal(t, c.want, send(c.text), name)
	}
	response, err := http.Get("http://" + server.Engine() + "/")
	require.NoError(t, err)
	defer response.Body.Close()
	shown, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Equal(t, "This engine is invented. It has been told of 1 addresses.\n"+at+"/honey/\n", string(shown))
	status := 0
	for range engineMinute {
		status = send("what")
	}
	assert.Equal(t, http.StatusTooManyRequests, status)
}
