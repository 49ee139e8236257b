package demo

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"time"
)

// caName is the file, in the demo's folder, with the certificate that the stand-ins' own are signed by.
const caName = "demo-ca.pem"

// A Server answers for the demo's sites on loopback, over HTTP and TLS, for every spelling of their names.
type Server struct {
	dir       string
	sites     []*installation
	announced bool
	servers   []*http.Server
	standIns  map[string]*standIn
	connect   map[string]map[string]string
	failed    chan error

	certificate tls.Certificate
	fronts      []*running // real web servers before the stand-ins
	engine      *engine    // that is told of addresses
}

// Serve starts the stand-ins for the sites in dir and writes the certificate to trust beside them. They listen on
// free ports, or on port and those after it; Connect says where, and Announce writes it into the site files.
func Serve(dir string, port int) (*Server, error) {
	s, err := serve(dir, sites(), port)
	if err == nil {
		for _, in := range s.standIns {
			in.takes = uncachedDemo
		}
	}
	return s, err
}

func serve(dir string, sites []*installation, port int) (*Server, error) {
	s := &Server{dir: dir, sites: sites, standIns: map[string]*standIn{}, connect: map[string]map[string]string{}, failed: make(chan error, 2*len(sites))}
	authority, certificate, err := certify(sites)
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, caName), authority, 0o644)
	}
	if err != nil {
		return nil, err
	}
	s.certificate = certificate
	for _, site := range sites {
		for _, of := range []string{"443", "80"} {
			if err := s.start(site, of, certificate, port); err != nil {
				s.Close()
				return nil, err
			}
			if port > 0 {
				port++
			}
		}
	}
	if err := s.startEngine(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// start has a site answer for one of the two usual ports.
func (s *Server) start(site *installation, of string, certificate tls.Certificate, port int) error {
	in := s.standIns[site.folder]
	if in == nil {
		var err error
		if in, err = newStandIn(site, filepath.Join(s.dir, site.folder, "site")); err != nil {
			return err
		}
		s.standIns[site.folder], s.connect[site.folder] = in, map[string]string{}
	}
	address := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("the demo's site %s is to listen on %s: %w; choose another --port, or leave it out", site.folder, address, errors.Unwrap(err))
	}
	for _, host := range site.hosts {
		at := listener.Addr().String()
		if site.leads != nil {
			at = site.leads(host, at)
		}
		s.connect[site.folder][host+":"+of] = at
	}
	handler := http.Handler(in)
	if site.options["browser_headers"] != "no" {
		handler = asBehindServer(handler)
	}
	if site.before != nil {
		handler = site.before(handler)
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	serve := server.Serve
	if of == "443" {
		if site.options["http2"] == "no" {
			server.Protocols = new(http.Protocols)
			server.Protocols.SetHTTP1(true)
		}
		server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}
		if site.options["old_tls"] == "yes" {
			server.TLSConfig.MinVersion = tls.VersionTLS10
		}
		serve = func(l net.Listener) error { return server.ServeTLS(l, "", "") } // HTTP/2 as well
	}
	s.servers = append(s.servers, server)
	go func() {
		if err := serve(listener); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
	return nil
}

// contentPolicy is what the pages of the demo may load and run: what is their own.
const contentPolicy = "default-src 'self'; object-src 'none'; base-uri 'self'"

// asBehindServer has a stand-in that answers by itself say what the web server before it would add.
func asBehindServer(inner http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("X-Frame-Options", "SAMEORIGIN")
		w.Header().Set("Referrer-Policy", "strict-origin-when-cross-origin")
		if r.TLS != nil {
			w.Header().Set("Strict-Transport-Security", "max-age=15552000")
		}
		w.Header().Set("Content-Security-Policy", contentPolicy)
		w.Header().Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		inner.ServeHTTP(w, r)
	})
}

// Sites lists the folders of the sites that are served.
func (s *Server) Sites() []string {
	var folders []string
	for _, site := range s.sites {
		folders = append(folders, site.folder)
	}
	return folders
}

// Announce writes into the site files where the server listens. Lines that somebody has changed are left.
func (s *Server) Announce() error {
	for _, site := range s.sites {
		if err := s.say(site, false, func(name, _ string) string { return s.connect[site.folder][name] }); err != nil {
			return err
		}
	}
	s.announced = true
	return nil
}

// withdraw takes back what Announce wrote, where it still stands.
func (s *Server) withdraw() error {
	for _, site := range s.sites {
		err := s.say(site, true, func(name, says string) string {
			if says == s.connect[site.folder][name] {
				return nobody
			}
			return says
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// connectLine is a line of a site file as the demo writes it: a name with its port, and where it is reached.
var connectLine = regexp.MustCompile(`(?m)^( +"([a-z.]+:(?:443|80))": )"(127\.0\.0\.1:\d+)"$`)

// engineLine is the line of a site file that names where search engines are told, as the demo writes it.
var engineLine = regexp.MustCompile(`(?m)^announce: \{endpoint: "http://127\.0\.0\.1:\d+/indexnow"\}$`)

func announceLine(address string) string {
	return fmt.Sprintf("announce: {endpoint: \"http://%s/indexnow\"}", address)
}

// serverLine is the line of a site file that names the web server's configuration, as the demo writes it.
var serverLine = regexp.MustCompile(`(?m)^  server: +\{(?:nginx|apache): [^}]*\}`)

// before has a site file name the configuration of the server that stands before the site.
func (s *Server) before(text []byte, site *installation, withdrawn bool) []byte {
	kind, reload := frontNginx, ""
	for _, r := range s.fronts {
		if r.site == site && !withdrawn {
			kind, reload = r.kind, r.reload()
		}
	}
	return serverLine.ReplaceAllLiteral(text, fmt.Appendf(nil, "  server:   {%s: %s%s}", kind, filepath.ToSlash(frontFile(kind)), reload))
}

// say has the lines of a site file that name its hosts say something else.
func (s *Server) say(site *installation, withdrawn bool, instead func(name, says string) string) error {
	name := filepath.Join(s.dir, site.folder, "weltaxis.yaml")
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	changed := connectLine.ReplaceAllStringFunc(string(text), func(line string) string {
		part := connectLine.FindStringSubmatch(line)
		if _, ours := s.connect[site.folder][part[2]]; !ours {
			return line
		}
		return fmt.Sprintf("%s%q", part[1], instead(part[2], part[3]))
	})
	engine := s.Engine()
	if withdrawn {
		engine = nobody
	}
	changed = engineLine.ReplaceAllLiteralString(changed, announceLine(engine))
	named := s.before([]byte(changed), site, withdrawn)
	if bytes.Equal(named, text) {
		return nil
	}
	return os.WriteFile(name, named, 0o644)
}

// Connect is the map of names to addresses under which a site of the demo is reached.
func (s *Server) Connect(folder string) map[string]string { return s.connect[folder] }

// Wait waits until the context ends or a server fails.
func (s *Server) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-s.failed:
		return err
	}
}

// Close stops all servers, and has the site files say that nobody listens where they said it.
func (s *Server) Close() {
	if s.announced {
		if err := s.withdraw(); err != nil {
			slog.Warn("the demo's site files still say where it listened", "error", err)
		}
	}
	for _, front := range s.fronts {
		front.close()
	}
	for _, server := range s.servers {
		_ = server.Close()
	}
	for _, in := range s.standIns {
		in.close()
	}
}

// certify makes an authority on the spot, whose certificate it gives as a file, and signs one for all names with it. The authority's key is
// not kept.
func certify(sites []*installation) (file []byte, signed tls.Certificate, err error) {
	authorityKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, signed, err
	}
	authority := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "Weltaxis demo"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: Clock().Add(-time.Hour), NotAfter: Clock().AddDate(0, 3, 0), KeyUsage: x509.KeyUsageCertSign}
	authorityDER, err := x509.CreateCertificate(rand.Reader, authority, authority, &authorityKey.PublicKey, authorityKey)
	if err != nil {
		return nil, signed, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, signed, err
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano() + 1), Subject: pkix.Name{CommonName: sites[0].hosts[0]},
		NotBefore: authority.NotBefore, NotAfter: authority.NotAfter, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, site := range sites {
		if site.certified > 0 { // one of ninety days, of which so much is left
			leaf.NotAfter = Clock().Add(site.certified)
			leaf.NotBefore = leaf.NotAfter.AddDate(0, 0, -90)
		}
		leaf.DNSNames = append(leaf.DNSNames, slices.DeleteFunc(slices.Clone(site.hosts), func(host string) bool { return host == site.unsigned })...)
	}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, authority, &key.PublicKey, authorityKey)
	if err != nil {
		return nil, signed, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authorityDER}), tls.Certificate{Certificate: [][]byte{leafDER}, PrivateKey: key}, nil
}

// writePair writes a certificate and its key into a folder.
func writePair(folder string, certificate tls.Certificate) error {
	private, is := certificate.PrivateKey.(*ecdsa.PrivateKey)
	if !is {
		return errors.New("the demo's key is of a kind that is not written down")
	}
	der, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, pairFile), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate.Certificate[0]}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, pairKey), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}), 0o600)
}
