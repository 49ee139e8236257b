package trial

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Pairs as people have them: whether a key is that of a certificate is told as openssl tells it, or said not to be known.
func TestPairs(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Skip("openssl is not installed")
	}
	dir := t.TempDir()
	openssl := func(args ...string) {
		command := exec.Command("openssl", args...)
		command.Dir = dir
		out, err := command.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	at := func(name string) string { return filepath.Join(dir, name) }
	for name, key := range map[string][]string{
		"rsa": {"genpkey", "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048"}, "other": {"genpkey", "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048"},
		"ec": {"genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-384"}, "ed": {"genpkey", "-algorithm", "ED25519"},
	} {
		openssl(append(key, "-out", name+".key")...)
		openssl("req", "-x509", "-key", name+".key", "-subj", "/CN=www.lanternlane.example", "-days", "30", "-out", name+".pem")
	}
	openssl("rsa", "-in", "rsa.key", "-traditional", "-out", "old.key")
	openssl("pkcs8", "-topk8", "-in", "rsa.key", "-passout", "pass:open", "-out", "shut.key")
	openssl("ecparam", "-name", "secp256k1", "-genkey", "-noout", "-out", "odd.key")
	openssl("req", "-x509", "-key", "odd.key", "-subj", "/CN=www.lanternlane.example", "-days", "30", "-out", "odd.pem")
	for name, parts := range map[string][]string{"chain.pem": {"rsa.pem", "ec.pem"}, "both.pem": {"ec.key", "ec.pem"}} {
		var all []byte
		for _, part := range parts {
			data, err := os.ReadFile(at(part))
			require.NoError(t, err)
			all = append(all, data...)
		}
		require.NoError(t, os.WriteFile(at(name), all, 0o600))
	}
	for _, c := range []struct{ name, certificate, key, says, left string }{
		{"an RSA pair", "rsa.pem", "rsa.key", "", ""},
		{"an elliptic pair", "ec.pem", "ec.key", "", ""},
		{"an Edwards pair", "ed.pem", "ed.key", "", ""},
		{"a key as it was packed formerly", "rsa.pem", "old.key", "", ""},
		{"a chain", "chain.pem", "rsa.key", "", ""},
		{"both in one file", "both.pem", "both.pem", "", ""},
		{"no key is named", "rsa.pem", "", "", ""},
		{"another key of the kind", "rsa.pem", "other.key", "is not that of the certificate", ""},
		{"a key of another kind", "rsa.pem", "ec.key", "is not that of the certificate", ""},
		{"the chain begins with another", "chain.pem", "ec.key", "is not that of the certificate", ""},
		{"a key behind a password", "rsa.pem", "shut.key", "", "whether " + at("rsa.pem") + " and its key fit"},
		{"a curve that is not known here", "odd.pem", "odd.key", "", "whether " + at("odd.pem") + " and its key fit"},
		{"a key for a certificate", "rsa.key", "rsa.key", "holds no certificate", ""},
		{"a certificate for a key", "rsa.pem", "rsa.pem", "holds no key", ""},
		{"nothing there", "none.pem", "rsa.key", "is not there", ""},
		{"no key there", "rsa.pem", "none.key", "is not there", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := pair{certificate: at(c.certificate)}
			if c.key != "" {
				p.key = at(c.key)
			}
			says, left := p.wrong()
			assert.Contains(t, says, c.says)
			assert.Equal(t, c.says == "", says == "", says)
			assert.Equal(t, c.left, left)
		})
	}
}
