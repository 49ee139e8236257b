package demo

import (
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
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"
)

// caName is the file, in the demo's folder, with the certificate that the stand-ins' own are signed by.
const caName = "demo-ca.pem"

// A served is one site of the demo with where it listens: these addresses stand in its site file.
type served struct {
	folder      string
	hosts       []string
	https, http string
	system      system
	database    *databaseServer
}

var servedSites = []served{
	{folder: "lantern-lane", hosts: lanternLaneHosts, https: "127.0.0.1:8443", http: "127.0.0.1:8080", system: brindle{}},
	{folder: "lantern-lane-aligned", hosts: lanternLaneHosts, https: "127.0.0.1:8444", http: "127.0.0.1:8081", system: brindle{}},
	{folder: "saltmarsh", hosts: hostsOf("saltmarshseeds.example"), https: "127.0.0.1:8445", http: "127.0.0.1:8082", system: ostler{}},
	{folder: "hollin", hosts: hostsOf("hollinbees.example"), https: "127.0.0.1:8446", http: "127.0.0.1:8083", system: ostler{}},
	{folder: "copperbeck", hosts: hostsOf("copperbeck.example", "shop.copperbeck.example"), https: "127.0.0.1:8447", http: "127.0.0.1:8084", system: hobnail{}},
	{folder: "copperbeck-aligned", hosts: hostsOf("copperbeck.example", "shop.copperbeck.example"), https: "127.0.0.1:8448", http: "127.0.0.1:8085", system: hobnail{}},
}

// hostsOf are the spellings of a name.
func hostsOf(domain string, more ...string) []string {
	return append([]string{"www." + domain, domain}, more...)
}

var lanternLaneHosts = []string{"www.lanternlane.example", "lanternlane.example", "new.lanternlane.example"}

// A Server answers for the demo's sites on loopback, over HTTP and TLS, for every spelling of their names.
type Server struct {
	servers  []*http.Server
	standIns map[string]*standIn
	connect  map[string]map[string]string
	failed   chan error
}

// Serve starts the stand-ins for the sites in dir and writes the certificate to trust beside them. With anyPort
// they listen where there is room, and Connect says where; else where the site files say.
func Serve(dir string, anyPort bool) (*Server, error) { return serve(dir, servedSites, anyPort) }

func serve(dir string, sites []served, anyPort bool) (*Server, error) {
	s := &Server{standIns: map[string]*standIn{}, connect: map[string]map[string]string{}, failed: make(chan error, 2*len(sites))}
	certificate, err := certify(filepath.Join(dir, caName))
	if err != nil {
		return nil, err
	}
	for _, site := range sites {
		if err := s.start(dir, site, certificate, anyPort); err != nil {
			s.Close()
			return nil, err
		}
	}
	return s, nil
}

func (s *Server) start(dir string, site served, certificate tls.Certificate, anyPort bool) error {
	in, err := newStandIn(site, filepath.Join(dir, site.folder, "site"))
	if err != nil {
		return err
	}
	s.standIns[site.folder], s.connect[site.folder] = in, map[string]string{}
	for port, address := range map[string]string{"443": site.https, "80": site.http} {
		if anyPort {
			address = "127.0.0.1:0"
		}
		listener, err := net.Listen("tcp", address)
		if err != nil {
			return fmt.Errorf("the demo's site %s is to listen on %s: %w; is the demo served already?", site.folder, address, errors.Unwrap(err))
		}
		for _, host := range site.hosts {
			s.connect[site.folder][host+":"+port] = listener.Addr().String()
		}
		if port == "443" {
			listener = tls.NewListener(listener, &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12, NextProtos: []string{"http/1.1"}})
		}
		server := &http.Server{Handler: in, ReadHeaderTimeout: 10 * time.Second}
		s.servers = append(s.servers, server)
		go func() {
			if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
				s.failed <- err
			}
		}()
	}
	return nil
}

// Sites lists the folders of the sites that are served.
func Sites() []string {
	var folders []string
	for _, site := range servedSites {
		folders = append(folders, site.folder)
	}
	return folders
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

// Close stops all servers.
func (s *Server) Close() {
	for _, server := range s.servers {
		_ = server.Close()
	}
	for _, in := range s.standIns {
		in.close()
	}
}

// certify makes an authority on the spot, writes its certificate to a file, and signs one for all names with it.
// Neither key is kept.
func certify(file string) (tls.Certificate, error) {
	authorityKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	authority := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "Weltaxis demo"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 3, 0), KeyUsage: x509.KeyUsageCertSign}
	authorityDER, err := x509.CreateCertificate(rand.Reader, authority, authority, &authorityKey.PublicKey, authorityKey)
	if err != nil {
		return tls.Certificate{}, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, err
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano() + 1), Subject: pkix.Name{CommonName: lanternLaneHosts[0]},
		NotBefore: authority.NotBefore, NotAfter: authority.NotAfter, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, site := range servedSites {
		leaf.DNSNames = append(leaf.DNSNames, site.hosts...)
	}
	leafDER, err := x509.CreateCertificate(rand.Reader, leaf, authority, &key.PublicKey, authorityKey)
	if err != nil {
		return tls.Certificate{}, err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authorityDER})
	return tls.Certificate{Certificate: [][]byte{leafDER}, PrivateKey: key}, os.WriteFile(file, text, 0o644)
}
