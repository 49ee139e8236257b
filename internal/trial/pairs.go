package trial

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"strings"
	"time"

	"weltaxis/internal/ordinary"
)

// A pair is what a server would load, looked at by this program itself: a certificate with its key, or a file that has to be there.
type pair struct{ certificate, key, file string }

// maxPEM is the largest file of certificates that is read, in bytes.
const maxPEM = 4 << 20

// wrong says what is wrong with it, "" for nothing. A key that whoever runs this may not read is left to the server, and so is one behind a
// password: then left says so.
func (p pair) wrong() (says, left string) {
	if p.file != "" {
		_, says, left = read(p.file)
		return says, left
	}
	certificate, says, left := read(p.certificate)
	if says != "" || left != "" {
		return says, left
	}
	if p.key == "" {
		if !x509.NewCertPool().AppendCertsFromPEM(certificate) {
			return p.certificate + " holds no certificate", ""
		}
		return "", ""
	}
	key, says, left := read(p.key)
	switch {
	case says != "" || left != "":
		return says, left
	case strings.Contains(string(key), "ENCRYPTED"):
		return "", "whether " + p.certificate + " and its key fit, which a password keeps"
	}
	if _, err := tls.X509KeyPair(certificate, key); err != nil {
		return fmt.Sprintf("%s and %s are no certificate and its key: %s", p.certificate, p.key, strings.TrimPrefix(err.Error(), "tls: ")), ""
	}
	return "", ""
}

func read(name string) (data []byte, says, left string) {
	data, err := ordinary.Read(name, maxPEM)
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
