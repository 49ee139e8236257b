package servertest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// An Authority signs certificates for tests.
type Authority struct {
	of  *x509.Certificate
	key *ecdsa.PrivateKey
}

// NewAuthority makes one that nobody knows yet.
func NewAuthority(t *testing.T) *Authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "an authority of tests"}, NotBefore: time.Now().AddDate(-1, 0, 0), NotAfter: time.Now().AddDate(10, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	require.NoError(t, err)
	of, err = x509.ParseCertificate(der)
	require.NoError(t, err)
	return &Authority{of, key}
}

// PEM is its certificate, for whoever is to trust it.
func (a *Authority) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.of.Raw})
}

// Certify makes a certificate for hosts, good from 60 days ago until then.
func (a *Authority) Certify(t *testing.T, until time.Time, hosts ...string) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: time.Now().AddDate(0, 0, -60), NotAfter: until, DNSNames: hosts, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, leaf, a.of, &key.PublicKey, a.key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// Certificate writes one of an authority of its own for hosts, good for 60 days more, with its key: NAME.pem and NAME.key in a folder.
func Certificate(t *testing.T, dir, name string, hosts ...string) (file, key string) {
	t.Helper()
	of := NewAuthority(t).Certify(t, time.Now().AddDate(0, 0, 60), hosts...)
	der, err := x509.MarshalPKCS8PrivateKey(of.PrivateKey)
	require.NoError(t, err)
	file, key = filepath.Join(dir, name+".pem"), filepath.Join(dir, name+".key")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: of.Certificate[0]}), 0o644))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
	return file, key
}
