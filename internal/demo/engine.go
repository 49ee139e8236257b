package demo

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
)

// An engine stands in for a search engine that is told of addresses by the IndexNow protocol: it looks at the key as one does, and refuses what
// one refuses. What it has been told it shows to whoever asks.
type engine struct {
	sites    *Server
	listener net.Listener

	mu    sync.Mutex
	told  []string
	since time.Time // of the messages that are counted
	count int
}

// The bounds of the stand-in.
const (
	engineMost   = 10000 // addresses at once
	engineBody   = 8 << 20
	engineMinute = 30 // messages in a minute
)

// startEngine has the engine listen on a free port.
func (s *Server) startEngine() error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s.engine = &engine{sites: s, listener: listener}
	server := &http.Server{Handler: s.engine, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	s.servers = append(s.servers, server)
	go func() { _ = server.Serve(listener) }()
	return nil
}

// Engine is where the stand-in for a search engine listens.
func (s *Server) Engine() string { return s.engine.listener.Addr().String() }

func (e *engine) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.URL.Path != "/indexnow":
		e.show(w)
	case r.Method != http.MethodPost:
		http.Error(w, "A message is posted here.", http.StatusMethodNotAllowed)
	default:
		status, says := e.take(r)
		if status == http.StatusTooManyRequests {
			w.Header().Set("Retry-After", "60")
		}
		w.WriteHeader(status)
		fmt.Fprintln(w, says)
	}
}

// show lists what the engine has been told.
func (e *engine) show(w http.ResponseWriter) {
	e.mu.Lock()
	defer e.mu.Unlock()
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	fmt.Fprintf(w, "This engine is invented. It has been told of %d addresses.\n", len(e.told))
	for _, address := range e.told {
		fmt.Fprintln(w, address)
	}
}

// take takes one message, and says what is wrong with it.
func (e *engine) take(r *http.Request) (status int, says string) {
	if !e.spare() {
		return http.StatusTooManyRequests, "That is enough for this minute."
	}
	var message struct {
		Host        string   `json:"host"`
		Key         string   `json:"key"`
		KeyLocation string   `json:"keyLocation"`
		URLList     []string `json:"urlList"`
	}
	if err := json.NewDecoder(io.LimitReader(r.Body, engineBody)).Decode(&message); err != nil || message.Host == "" || len(message.URLList) == 0 || len(message.URLList) > engineMost {
		return http.StatusBadRequest, "That is no message."
	}
	if !e.shows(message.Host, message.KeyLocation, message.Key) {
		return http.StatusForbidden, "The key is not there."
	}
	for _, address := range message.URLList {
		if u, err := url.Parse(address); err != nil || u.Host != message.Host {
			return http.StatusUnprocessableEntity, "An address is of another host."
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.told = append(e.told, message.URLList...)
	return http.StatusOK, "Taken."
}

// spare tells whether the engine still listens this minute.
func (e *engine) spare() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	if now := time.Now(); now.Sub(e.since) > time.Minute {
		e.since, e.count = now, 0
	}
	e.count++
	return e.count <= engineMinute
}

// shows tells whether a site shows the key where the message says.
func (e *engine) shows(host, location, key string) bool {
	u, err := url.Parse(location)
	if err != nil || u.Host != host {
		return false
	}
	for _, site := range e.sites.sites {
		if !slices.Contains(site.hosts, host) || !strings.Contains(site.options["public_url"], host) {
			continue
		}
		answer := httptest.NewRecorder()
		e.sites.standIns[site.folder].ServeHTTP(answer, httptest.NewRequest(http.MethodGet, location, nil))
		if answer.Code == http.StatusOK && strings.TrimSpace(answer.Body.String()) == key {
			return true
		}
	}
	return false
}
