package fix

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"weltaxis/internal/audit"
	"weltaxis/internal/site"
	"weltaxis/internal/source/live"
)

// Ask asks addresses of the site, with GET, and gives what each answers in the end, 0 for nothing.
func Ask(ctx context.Context, s *site.Site, now time.Time, addresses []string, options audit.Options) (map[string]int, error) {
	ways, err := audit.Live(s, now, options)
	if err != nil {
		return nil, err
	}
	return live.Ask(ctx, ways, addresses)
}

// Fetch asks for one path of the site, with GET, follows nothing, and gives what it answers with the beginning of what it holds.
func Fetch(ctx context.Context, s *site.Site, now time.Time, path string, options audit.Options) (status int, body []byte, err error) {
	ways, err := audit.Live(s, now, options)
	if err != nil {
		return 0, nil, err
	}
	return live.Fetch(ctx, ways, path)
}

// Call asks a path of the site with POST, by the ways of the live source, and takes any answer that is no error.
func Call(ctx context.Context, s *site.Site, path string, options audit.Options) error {
	client, err := audit.Client(s, s.Address(), options)
	if err != nil {
		return err
	}
	client.Timeout = 30 * time.Second
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimRight(s.Address(), "/")+path, nil)
	if err != nil {
		return err
	}
	response, err := client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		return fmt.Errorf("%s answers %s", path, response.Status)
	}
	return nil
}
