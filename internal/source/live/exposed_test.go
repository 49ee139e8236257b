package live

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
)

// certificate makes a key and a certificate for 127.0.0.1, and the files of both.
func certificate(t *testing.T, dir string) (trust []byte, file, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "a test"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, IsCA: true, BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, leaf, leaf, &private.PublicKey, private)
	require.NoError(t, err)
	keyDER, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	file, key = filepath.Join(dir, "certificate.pem"), filepath.Join(dir, "key.pem")
	trust = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	require.NoError(t, os.WriteFile(file, trust, 0o644))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), 0o600))
	return trust, file, key
}

const someHome = "<!doctype html><html lang=en><title>A house</title><h1>A house</h1><p>It stands.</p>"

// TestTheVersionsThatARealServerOffers, with what leaks and who is to be told, behind the real nginx and the real Apache.
func TestTheVersionsThatARealServerOffers(t *testing.T) {
	for name, c := range map[string]struct {
		nginx, apache string
		want          []string
	}{
		"old ones": {"TLSv1 TLSv1.1 TLSv1.2", "-all +TLSv1 +TLSv1.1 +TLSv1.2", []string{"TLS 1.0", "TLS 1.1", "TLS 1.2"}},
		"new ones": {"TLSv1.2 TLSv1.3", "-all +TLSv1.2 +TLSv1.3", []string{"TLS 1.2", "TLS 1.3"}},
		"one":      {"TLSv1.3", "-all +TLSv1.3", []string{"TLS 1.3"}},
	} {
		for _, kind := range []string{"nginx", "apache2"} {
			t.Run(kind+" "+name, func(t *testing.T) {
				program := servertest.Program(t, kind)
				dir := servertest.Public(t)
				trust, file, key := certificate(t, dir)
				root := filepath.Join(dir, "root")
				for path, text := range map[string]string{"index.html": someHome, "dump.sql": "INSERT INTO a VALUES (1);\n", ".git/HEAD": "ref: refs/heads/main\n", ".env": "# nothing is said here\n",
					".well-known/security.txt": "Contact: mailto:a@b.example\nExpires: 2099-01-01T00:00:00Z\n"} {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(root, path), []byte(text), 0o644))
				}
				address := servertest.FreeAddress(t)
				user := ""
				if os.Getuid() == 0 {
					user = "user root;"
				}
				config := fmt.Sprintf(`%[1]s daemon off; pid %[2]s/pid; worker_processes 1; events {}
http { access_log off; client_body_temp_path %[2]s/a; proxy_temp_path %[2]s/b; fastcgi_temp_path %[2]s/c; uwsgi_temp_path %[2]s/d; scgi_temp_path %[2]s/e;
types { text/html html; text/plain txt; } default_type application/octet-stream;
server { listen %[3]s ssl; root %[4]s; index index.html; ssl_certificate %[5]s; ssl_certificate_key %[6]s; ssl_protocols %[7]s; ssl_ciphers DEFAULT:@SECLEVEL=0; } }`,
					user, dir, address, root, file, key, c.nginx)
				command := exec.Command(program, "-p", dir, "-c", filepath.Join(dir, "conf"), "-e", filepath.Join(dir, "error.log"))
				if kind == "apache2" {
					modules, user := "/usr/lib/apache2/modules/mod_", ""
					if os.Getuid() == 0 {
						user = "User www-data\nGroup www-data\n"
					}
					for _, module := range []string{"mpm_event", "authz_core", "dir", "mime", "ssl", "socache_shmcb"} {
						user += fmt.Sprintf("LoadModule %s_module %s%s.so\n", module, modules, module)
					}
					types := filepath.Join(dir, "types")
					require.NoError(t, os.WriteFile(types, []byte("text/html html\ntext/plain txt\n"), 0o644))
					config = fmt.Sprintf("ServerRoot %[1]q\nServerName x\n%[2]sTypesConfig %[8]q\nPidFile \"%[1]s/pid\"\nErrorLog \"%[1]s/error.log\"\nDefaultRuntimeDir %[1]q\nListen %[3]s\nDocumentRoot %[4]q\nDirectoryIndex index.html\n<Directory %[4]q>\nRequire all granted\n</Directory>\nSSLEngine on\nSSLCertificateFile %[5]q\nSSLCertificateKeyFile %[6]q\nSSLProtocol %[7]s\nSSLCipherSuite DEFAULT:@SECLEVEL=0\n",
						dir, user, address, root, file, key, c.apache, types)
					command = exec.Command(program, "-X", "-d", dir, "-f", filepath.Join(dir, "conf"))
				}
				require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), []byte(config), 0o644))
				servertest.Begin(t, address, command)

				o := options("https://" + address)
				o.Trust, o.Own = trust, true
				s := look(t, o)
				offered, known := s.Is(facts.LiveTLSVersions.Term)
				require.True(t, known, "%v", s.Gaps)
				assert.Equal(t, c.want, offered.List())
				there, _ := s.Is(facts.LiveContactThere.Term)
				problem, _ := s.Is(facts.LiveContactProblem.Term)
				assert.True(t, there.Bool())
				assert.Empty(t, problem.Text())

				seen, err := Leaks(t.Context(), o, nil, nil)
				require.NoError(t, err)
				var paths []string
				for _, leak := range seen.Leaks {
					paths = append(paths, fmt.Sprint(leak.Path, " ", leak.Kind, " ", leak.Status))
				}
				assert.Equal(t, []string{"/.git/HEAD version control 206", "/dump.sql dump 206"}, paths)
			})
		}
	}
}

// TestWhatCannotBeTriedIsNotPassed: a server that does not speak, one that hangs, one that turns us away.
func TestWhatCannotBeTriedIsNotPassed(t *testing.T) {
	refusing := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" {
			fmt.Fprint(w, someHome)
			return
		}
		w.WriteHeader(http.StatusTooManyRequests)
	}))
	defer refusing.Close()
	o := options(refusing.URL)
	o.Own, o.Trust = true, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: refusing.Certificate().Raw})
	seen, err := Leaks(t.Context(), o, nil, nil)
	require.NoError(t, err)
	for _, name := range []string{facts.ListLeaks, facts.LiveInstaller.Name} {
		assert.True(t, slices.ContainsFunc(seen.Gaps, func(g facts.Gap) bool { return g.Leaves(name) }), "that it turns us away is no answer: %s, %v", name, seen.Gaps)
	}

	o.Own = false
	seen, err = Leaks(t.Context(), o, nil, nil)
	require.NoError(t, err)
	assert.Nil(t, seen.Leaks)
	assert.Contains(t, seen.Gaps[0].Because, "own: true")

	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	o = options("https://" + silent.Addr().String())
	o.patience = 300 * time.Millisecond
	v, err := newVisit(o)
	require.NoError(t, err)
	defer v.client.close()
	go func() {
		for {
			connection, err := silent.Accept()
			if err != nil {
				return
			}
			defer connection.Close()
		}
	}()
	v.offered(t.Context())
	_, known := v.seen.Is(facts.LiveTLSVersions.Term)
	assert.False(t, known)
	assert.NotEmpty(t, v.seen.Gaps)
}

// TestHowManyAreAsked: what is asked for is bounded, on a rate, and each once.
func TestHowManyAreAsked(t *testing.T) {
	asked := map[string]int{}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked[r.URL.Path]++
		if r.URL.Path == "/" {
			fmt.Fprint(w, someHome)
			return
		}
		http.NotFound(w, r)
	}))
	defer site.Close()
	o := options(site.URL)
	o.Own, o.Concurrency = true, 1
	var lying []Leaky
	for i := range 200 {
		lying = append(lying, Leaky{Path: fmt.Sprintf("/a%d.sql", i), Head: []byte("x")})
	}
	seen, err := Leaks(t.Context(), o, lying, []string{"etc/config.ini"})
	require.NoError(t, err)
	assert.Empty(t, seen.Leaks)
	assert.NotNil(t, seen.Leaks)
	total := 0
	for path, times := range asked {
		if path != "/" {
			assert.Equal(t, 1, times, path)
		}
		total += times
	}
	assert.Less(t, total, 92+maxLeaky)
	assert.Equal(t, 1, asked["/config.ini.bak"])
}

func TestSecurityContact(t *testing.T) {
	for text, problem := range map[string]string{
		"Contact: mailto:a@b.example\nExpires: 2099-01-01T00:00:00Z\n":                      "",
		"contact:  https://b.example/\r\nEXPIRES: 2099-01-01t00:00:00z\r\n":                 "",
		"\ufeff# a comment\nContact: tel:+1\nExpires: 2099-01-01T00:00:00+01:00\nPolicy: x": "",
		"Expires: 2099-01-01T00:00:00Z\n":                                                   "it names no contact",
		"Contact: mailto:a@b.example\n":                                                     "it does not say until when it is good",
		"Contact: a@b.example\nExpires: 2099-01-01T00:00:00Z\n":                             "its contact is no address with mailto:, https: or tel: before it: a@b.example",
		"Contact: mailto:a@b.example\nExpires: soon\n":                                      "the time at which it expires is none: soon",
		"": "it names no contact",
		strings.Repeat("# much\n", 10000) + "Contact: mailto:a@b.example\n": "it is longer than 32 KiB",
	} {
		assert.Equal(t, problem, parseContact([]byte(text)).problem, facts.Shorten(text, 80))
	}
}

func FuzzContact(f *testing.F) {
	f.Add([]byte("Contact: mailto:a@b.example\nExpires: 2099-01-01T00:00:00Z\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if c := parseContact(data); c.problem == "" && c.expires.IsZero() {
			t.Fatalf("nothing is wrong, and it says no time: %q", data)
		}
	})
}

func TestFailuresOfPrograms(t *testing.T) {
	for text, shown := range map[string]bool{
		"<b>Warning</b>:  include(a.php): failed in <b>/srv/a.php</b> on line <b>3</b>":             true,
		"PHP Parse error: syntax error, unexpected end of file in C:\\site\\a.php on line 12":       true,
		"Traceback (most recent call last):\n File \"a.py\"":                                        true,
		"org.example.store.StoreException: gone\n\tat org.example.store.Store.open(Store.java:3)":   true,
		"You have an error in your SQL syntax; check the manual":                                    true,
		"ERROR:  syntax error at or near \"FORM\"":                                                  true,
		"<pre>Warning: a in /srv/a.php on line 3</pre>":                                             false,
		"<!-- Warning: a in /srv/a.php on line 3 -->":                                               false,
		"Warning: the road is closed. Your place in line: we are on line 3.":                        false,
		"An Exception to the rule: see the stack trace of hay.":                                     false,
		"<script>var a = 'SQLSTATE[HY000]'</script>":                                                false,
		"Uncaught PDOException: SQLSTATE[HY000] [1045] Access denied":                               true,
		"Notice: the office in /our/house is closed on line 3 of the calendar, on line 4 it is not": false,
		"Warning: Undefined variable in /srv/a.php(3) : eval()'d code on line 1":                    true,
	} {
		assert.Equal(t, shown, failureIn([]byte(text)) != "", text)
	}
	assert.LessOrEqual(t, len([]rune(failureIn([]byte("Warning: "+strings.Repeat("a", 300)+" in /srv/"+strings.Repeat("b", 200)+".php on line 3")))), maxFailure+1)
}

// TestAFileIsKnownByHowItBegins: a long one by its first bytes, a short one as a whole.
func TestAFileIsKnownByHowItBegins(t *testing.T) {
	long := bytes.Repeat([]byte("INSERT;"), 100)
	for _, c := range []struct {
		head, body []byte
		leaks      bool
	}{
		{long[:HeadBytes], long, true}, {long[:HeadBytes], long[:HeadBytes-1], false}, {[]byte("A=1\n"), []byte("A=1\n"), true},
		{[]byte("\n"), []byte("\n<!doctype html>"), false}, {nil, []byte("x"), false}, {[]byte("<?php\n$a"), []byte("<!doctype html>"), false},
	} {
		_, leaks := probe{known: &Leaky{Head: c.head}}.told(c.body)
		assert.Equal(t, c.leaks, leaks, "%q %q", c.head[:min(len(c.head), 20)], c.body[:min(len(c.body), 20)])
	}
}
