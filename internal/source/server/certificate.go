package server

import (
	"crypto/x509"
	"encoding/pem"
	"net/url"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/answer"
)

// certified are the fields of an answer that tell of the certificate by which it comes, as far as the file says: whether that is for this host, and until
// when it is good. Whether browsers trust whoever signed it is not told by it.
func (s *Source) certified(u *url.URL, cells facts.Cells) {
	if u.Scheme != "https" {
		return
	}
	unknown := func(because string, at facts.Origin) {
		for _, field := range []string{"certificate_named", "certificate_until", "certificate_since"} {
			cells[field] = facts.Cell{Unknown: because, Origin: s.near(at)}
		}
	}
	ask := s.ask(u)
	if ask.Secure {
		unknown("something stands before this server and encrypts", facts.Origin{File: s.Servers[0].File, Line: 1})
		return
	}
	files := alone(s, func() []answer.Named { return s.Servers[0].Certificates(ask) })
	for i, file := range files {
		leaf, because := s.leafOf(file)
		if leaf == nil {
			unknown(because, file.At)
			return
		}
		at := s.near(file.At)
		if leaf.VerifyHostname(u.Hostname()) != nil {
			at.Because = "it is for " + forNames(leaf)
		}
		fits, until := leaf.VerifyHostname(u.Hostname()) == nil, leaf.NotAfter.Unix()
		if was, there := cells["certificate_named"]; i > 0 && there && (!was.Value.Bool() || fits && cells["certificate_until"].Value.Number() < until) { // the worst of several
			continue
		}
		cells["certificate_named"] = facts.Cell{Value: facts.BoolOf(fits), Origin: at}
		cells["certificate_until"] = facts.Cell{Value: facts.NumberOf(facts.Date, until), Origin: at}
		cells["certificate_since"] = facts.Cell{Value: facts.NumberOf(facts.Date, leaf.NotBefore.Unix()), Origin: at}
	}
}

// leafOf is the certificate itself, which is the first of its file; nil with why where that cannot be told.
func (s *Source) leafOf(file answer.Named) (leaf *x509.Certificate, because string) {
	if strings.ContainsAny(file.Path, "$%") || strings.HasPrefix(file.Path, "data:") || strings.HasPrefix(file.Path, "engine:") {
		return nil, "which certificate that is is decided at each request"
	}
	data, err := s.files.ReadBy(file.Path, directives.By{File: file.At.File, Main: s.Servers[0].File})
	if err != nil {
		return nil, "the certificate could not be read: " + err.Error()
	}
	for len(data) > 0 {
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			break
		}
		if block.Type == "CERTIFICATE" || block.Type == "TRUSTED CERTIFICATE" || block.Type == "X509 CERTIFICATE" {
			if leaf, err = x509.ParseCertificate(block.Bytes); err == nil {
				return leaf, ""
			}
			return nil, "the certificate could not be read: " + err.Error()
		}
	}
	return nil, "there is no certificate in the file that is named"
}

// maxFor is how much of the names of a certificate is shown.
const maxFor = 100

// forNames are the names that a certificate is for.
func forNames(leaf *x509.Certificate) string {
	if len(leaf.DNSNames) == 0 {
		return "no host name"
	}
	return facts.Shorten(strings.Join(leaf.DNSNames, ", "), maxFor)
}
