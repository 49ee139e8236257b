package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"weltaxis/internal/facts"
)

const (
	maxFetch  = 1 << 30 // bytes
	fetchTime = 2 * time.Minute
)

// IsAddress tells whether a place is an address rather than a file or folder.
func IsAddress(place string) bool {
	return strings.HasPrefix(place, "https://") || strings.HasPrefix(place, "http://")
}

// Fetch brings what is at an address into a folder, as a file of its own name, in at most two minutes and of at most a gibibyte. Without
// encryption only this machine is asked: whoever sits in between could say that all is well.
func Fetch(ctx context.Context, address, folder string) (file string, err error) {
	wrong := func(err error) (string, error) {
		return "", fmt.Errorf("%s could not be fetched: %w", address, err)
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return wrong(errors.New("it is no address"))
	}
	if !safe(u) {
		return wrong(errors.New("it is not encrypted; write https://"))
	}
	client := &http.Client{Timeout: fetchTime, CheckRedirect: func(request *http.Request, via []*http.Request) error {
		if len(via) > 5 || !safe(request.URL) {
			return errors.New("it leads on too often, or to what is not encrypted")
		}
		return nil
	}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return wrong(err)
	}
	request.Header.Set("User-Agent", "weltaxis")
	response, err := client.Do(request)
	if err != nil {
		var of *url.Error
		if errors.As(err, &of) {
			err = of.Err
		}
		return wrong(err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return wrong(errors.New("it answers " + response.Status))
	}
	name := path.Base(u.Path)
	if !filepath.IsLocal(name) || name == "." || name == "/" {
		name = "list"
	}
	into, err := os.Create(filepath.Join(folder, name))
	if err != nil {
		return wrong(err)
	}
	n, err := io.Copy(into, io.LimitReader(response.Body, maxFetch+1))
	switch closed := into.Close(); {
	case err != nil:
		return wrong(err)
	case closed != nil:
		return wrong(closed)
	case n > maxFetch:
		return wrong(errors.New("it is larger than a gibibyte"))
	}
	return into.Name(), nil
}

func safe(u *url.URL) bool {
	return u.Scheme == "https" || u.Scheme == "http" && facts.IsThisMachine(u.Hostname())
}
