package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"time"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/format"
)

// apiTime bounds one request.
const apiTime = 15 * time.Second

// openAPIs fetches the documents that the system offers over HTTP.
func (s *Installation) openAPIs(ctx context.Context) {
	for _, name := range slices.Sorted(maps.Keys(s.Dialect.Stores)) {
		st := s.Dialect.Stores[name]
		if st.Kind() != dialect.KindAPI {
			continue
		}
		data, _, err := s.fetch(ctx, st.API)
		if err == nil {
			s.documents[name], err = format.Read(st.Format, data, format.Options{})
		}
		if err != nil {
			s.trouble(Trouble{Store: name, What: s.API + st.API, Err: err})
		}
	}
}

// fetch gets one document (RFC 9110 §9.3.1) with the token (RFC 6750 §2.1), and the tag of its version.
func (s *Installation) fetch(ctx context.Context, path string) (data []byte, tag string, err error) {
	response, err := s.request(ctx, http.MethodGet, path, nil, "")
	if err != nil {
		return nil, "", err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, "", fmt.Errorf("it answers %s", http.StatusText(response.StatusCode))
	}
	data, err = io.ReadAll(io.LimitReader(response.Body, format.MaxBytes+1))
	return data, response.Header.Get("ETag"), err
}

// request makes one request that follows no redirect: a token goes to the address it was given for.
func (s *Installation) request(ctx context.Context, method, path string, body []byte, tag string) (*http.Response, error) {
	switch {
	case s.API == "" || s.Client == nil:
		return nil, facts.Refusal("the site file does not say where it is: api under sources.settings")
	case s.Offline:
		return nil, facts.Refusal("it is fetched over HTTP, and --offline lets nothing connect")
	}
	if len(s.Token) > 2 {
		s.secrets = append(s.secrets, s.Token)
	}
	client := *s.Client
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	client.Timeout = apiTime
	request, err := http.NewRequestWithContext(ctx, method, s.API+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", "application/json")
	if s.Token != "" {
		request.Header.Set("Authorization", "Bearer "+s.Token)
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if tag != "" {
		request.Header.Set("If-Match", tag)
	}
	response, err := client.Do(request)
	if err != nil {
		return nil, s.discreet(errors.Unwrap(err))
	}
	return response, nil
}
