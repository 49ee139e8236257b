package trial

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"strings"
	"time"

	"weltaxis/internal/orders"
	"weltaxis/internal/ordinary"
)

// A pair is what a server would load, looked at by this program itself: a certificate with its key, or a file that has to be there.
type pair struct{ certificate, key, file string }

// maxPEM is the largest file of certificates that is read, in bytes.
const maxPEM = 4 << 20

// wrong says what is wrong with it, "" for nothing. What cannot be told from here is left to the server, and said to be: a key that whoever runs this
// may not read, one behind a password, a kind that is not known here.
func (p pair) wrong() (says, left string) {
	if p.file != "" {
		_, says, left = read(p.file)
		return says, left
	}
	text, says, left := read(p.certificate)
	if says != "" || left != "" {
		return says, left
	}
	certificate, there := block(text, "CERTIFICATE")
	switch {
	case !there:
		return p.certificate + " holds no certificate", ""
	case p.key == "":
		return "", ""
	}
	key, says, left := read(p.key)
	if says != "" || left != "" {
		return says, left
	}
	packed, there := block(key, "PRIVATE KEY")
	if !there {
		return p.key + " holds no key", ""
	}
	untold := "whether " + p.certificate + " and its key fit"
	parsed, err := x509.ParseCertificate(certificate)
	private, known := privateKey(packed)
	if err != nil || !known {
		return "", untold
	}
	public, is := parsed.PublicKey.(interface{ Equal(crypto.PublicKey) bool })
	switch {
	case !is:
		return "", untold
	case !public.Equal(private.Public()):
		return fmt.Sprintf("the key in %s is not that of the certificate in %s", p.key, p.certificate), ""
	}
	return "", ""
}

// block is the first part of a file of a kind (RFC 7468); the words before the kind say which (RSA, EC, TRUSTED).
func block(text []byte, kind string) (data []byte, there bool) {
	for {
		var b *pem.Block
		if b, text = pem.Decode(text); b == nil {
			return nil, false
		}
		if strings.HasSuffix(b.Type, kind) {
			return b.Bytes, true
		}
	}
}

// privateKey reads a key in one of the three ways in which they are packed; known is false for others, and for one behind a password.
func privateKey(packed []byte) (key crypto.Signer, known bool) {
	if any, err := x509.ParsePKCS8PrivateKey(packed); err == nil {
		key, known = any.(crypto.Signer)
		return key, known
	}
	if rsa, err := x509.ParsePKCS1PrivateKey(packed); err == nil {
		return rsa, true
	}
	if ec, err := x509.ParseECPrivateKey(packed); err == nil {
		return ec, true
	}
	return nil, false
}

func read(name string) (data []byte, says, left string) {
	data, err := orders.ReadNamed(name, maxPEM)
	var kind *ordinary.Error
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, name + " is not there", ""
	case errors.As(err, &kind):
		return nil, name + " cannot be used: " + kind.Says, ""
	case err != nil:
		return nil, "", "what " + name + " holds, which this user may not read"
	}
	return data, "", ""
}

// makePair makes a certificate and its key, which fit and are good for nothing.
func makePair() (certificate, key []byte, err error) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	from := time.Unix(0, 0)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "made for a test"}, NotBefore: from, NotAfter: from.AddDate(200, 0, 0), IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		return nil, nil, err
	}
	packed, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: packed}), nil
}
