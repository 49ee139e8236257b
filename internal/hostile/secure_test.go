package hostile

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"strings"
	"time"
)

// certificate is one that a server made for itself.
func certificate(change func(*x509.Certificate)) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: "127.0.0.1"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	change(c)
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		panic(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

func plainly(*x509.Certificate) {}

// odd are servers that are odd about encryption, and pages that hold what grows when it is unpacked.
func odd() []hostile {
	page := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<title>Home of it all</title>")
	}
	many := certificate(plainly)
	for range 200 {
		many.Certificate = append(many.Certificate, many.Certificate[0])
	}
	names := certificate(func(c *x509.Certificate) {
		for i := range 3000 {
			c.DNSNames = append(c.DNSNames, fmt.Sprintf("n%d.%s.example", i, strings.Repeat("a", 50)))
		}
	})
	bomb := `<?xml version="1.0"?><!DOCTYPE svg [<!ENTITY a "aaaaaaaaaa">` + func() (text string) {
		for i := 'b'; i < 'm'; i++ {
			text += fmt.Sprintf(`<!ENTITY %c "%s">`, i, strings.Repeat(fmt.Sprintf("&%c;", i-1), 10))
		}
		return text
	}() + `]><svg xmlns="http://www.w3.org/2000/svg"><text>&l;</text></svg>`
	drawn := func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, ".svg") {
			w.Header().Set("Content-Type", "image/svg+xml")
			fmt.Fprint(w, bomb)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, `<title>Home of it all</title><link rel="icon" href="/i.svg"><meta property="og:image" content="/c.svg"><img src="/p.svg" alt="">`)
	}
	return []hostile{
		{name: "a handshake that stalls", secure: &many, raw: func(c net.Conn) { time.Sleep(20 * time.Second) }, exit: any, says: "too long"},
		{name: "a handshake that drips", secure: &many, raw: func(c net.Conn) {
			for _, err := c.Write([]byte{22, 3, 3, 64, 0}); err == nil; _, err = c.Write([]byte{2}) {
				time.Sleep(50 * time.Millisecond)
			}
		}, exit: any, says: "too long"},
		{name: "no encryption where it was promised", secure: &many, raw: func(c net.Conn) { _, _ = c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n")) }, exit: any, says: "It does not answer"},
		{name: "an alert", secure: &many, raw: func(c net.Conn) { _, _ = c.Write([]byte{21, 3, 3, 0, 2, 2, 40}) }, exit: any, says: "handshake"},
		{name: "a record without an end", secure: &many, raw: func(c net.Conn) {
			_, _ = c.Write([]byte{22, 3, 3, 64, 0, 2, 255, 255, 255})
			_, _ = io.CopyN(c, rand.Reader, 1<<20)
		}, exit: any, says: "It does not answer"},
		{name: "two hundred certificates", secure: &many, serve: page, exit: any, says: "certificate"},
		{name: "a certificate with three thousand names", secure: &names, serve: page, exit: any, says: "certificate"},
		{name: "a certificate that has ended", secure: ended(), serve: page, exit: any, says: "certificate"},
		{name: "a certificate that ends in ten thousand years", secure: late(), serve: page, exit: any, says: "certificate"},
		{name: "a picture in letters that grow", serve: drawn, exit: any, says: "Hostile"},
		{name: "packed in a way that nobody asked for", serve: func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "br")
			_, _ = w.Write([]byte{0x81, 0xff, 0x3f, 0x3f, 0xff, 0x20, 0x10, 0xfe})
		}, exit: any, says: "br"},
		{name: "packed a hundred times", serve: func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Encoding", strings.TrimSuffix(strings.Repeat("gzip, ", 100), ", "))
			fmt.Fprint(w, "<title>T</title>")
		}, exit: any, says: "gzip"},
	}
}

func ended() *tls.Certificate {
	c := certificate(func(c *x509.Certificate) { c.NotAfter = time.Now().Add(-time.Minute) })
	return &c
}

func late() *tls.Certificate {
	c := certificate(func(c *x509.Certificate) { c.NotAfter = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC) })
	return &c
}
