// Package ground is what the tests of both servers' packages serve and ask: a folder of files that say their own path, a program
// behind FastCGI and a server behind a proxy that say what they were asked for, and the setting of what is told beside what a
// real server does.
//
// Only tests import it. It may import source/server/answer.
package ground

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/answer"
)

// A Ground is such a folder, and what listens.
type Ground struct {
	Dir         string // holds the folders "site" and "other", alike
	Fast, Proxy string // addresses
}

// files are those of each folder; one that ends in a slash is a folder without anything in it.
var files = []string{"index.html", "about/index.html", "about/team.html", "news/one.html", "img/sign.png", "css/site.css", "css/small.css", "js/site.js", "uploads/pic.jpg", "uploads/run.php", "uploads/deep/run.php",
	"index.php", "admin/index.php", "admin/login.html", "data/list.json", "feed.xml", ".env", "backup.zip", "empty/", "errors/404.html", "errors/50x.html", "shop/index.htm", "notes.txt", "app.php", "uploads/run.php.jpg"}

// New makes one, gone with the test.
func New(t *testing.T) *Ground {
	t.Helper()
	g := &Ground{Dir: t.TempDir()}
	for dir := g.Dir; dir != "/" && dir != os.TempDir(); dir = filepath.Dir(dir) {
		_ = os.Chmod(dir, 0o755)
	}
	g.plant(t, "site")
	g.plant(t, "other")
	g.certify(t)
	require.NoError(t, os.WriteFile(filepath.Join(g.Dir, "passwords"), []byte("mara:$apr1$abcdefgh$notarealhashatall000000\n"), 0o644))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	g.Fast = listener.Addr().String()
	go serveFastCGI(listener)
	t.Cleanup(func() { listener.Close() })
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Script", r.RequestURI)
		w.Header().Set("X-Asked-Host", r.Host)
		_, _ = io.Copy(io.Discard, r.Body)
		for name, value := range Program.Header {
			w.Header().Set(name, value)
		}
		_, _ = io.WriteString(w, programText)
	}))
	t.Cleanup(upstream.Close)
	g.Proxy = upstream.Listener.Addr().String()
	return g
}

// plant fills a folder of the ground with the files, each of which begins with its own path.
func (g *Ground) plant(t *testing.T, folder string) {
	t.Helper()
	for _, name := range files {
		path := filepath.Join(g.Dir, folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		if strings.HasSuffix(name, "/") {
			require.NoError(t, os.MkdirAll(path, 0o755))
			continue
		}
		text := "file " + path + "\n"
		if !strings.Contains(name, "small") {
			text += strings.Repeat("the lantern hangs by the door. ", 60)
		}
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("notes.txt", filepath.Join(g.Dir, folder, "linked.txt")))
}

// certify makes a certificate, which is its own authority, and its key: certificate.pem and key.pem.
func (g *Ground) certify(t *testing.T) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "lantern-lane.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, leaf, leaf, &key.PublicKey, key)
	require.NoError(t, err)
	keyDER, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(g.Dir, "certificate.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(g.Dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER}), 0o644))
}

// Program is what both programs answer.
var Program = &answer.Program{Status: 200, Header: map[string]string{"content-type": "text/html", "cache-control": "no-store", "x-powered-by": "Puppets/3"}, Length: -1}

var programText = strings.Repeat("a program made this. ", 400)

// Start runs a server until stop is called, or the test is over; it must listen on the port of 127.0.0.1.
func Start(t testing.TB, conf, port string, command *exec.Cmd) (stop func()) {
	t.Helper()
	var says strings.Builder
	command.Stderr, command.Stdout = &says, &says
	require.NoError(t, command.Start())
	ended := make(chan error, 1)
	go func() { ended <- command.Wait() }()
	deadline := time.Now().Add(20 * time.Second)
	for {
		connection, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			connection.Close()
			break
		}
		select {
		case <-ended:
			require.Fail(t, "the server does not start", "%s\n%s", says.String(), conf)
		default:
		}
		require.True(t, time.Now().Before(deadline), "the server does not listen:\n%s", conf)
		time.Sleep(3 * time.Millisecond)
	}
	stop = sync.OnceFunc(func() { _ = command.Process.Kill(); <-ended })
	t.Cleanup(stop)
	return stop
}

// A Got is what a real server answered.
type Got struct {
	Status int
	Header http.Header
	Body   string
}

var client = &http.Client{
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	Transport:     &http.Transport{DisableCompression: true, DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, // it is ours, on loopback
	Timeout:       10 * time.Second,
}

// Fetch asks a real server. The error is that of a connection that is closed without an answer.
func Fetch(t testing.TB, port string, a answer.Ask) (Got, error) {
	t.Helper()
	method := a.Method
	if method == "" {
		method = http.MethodGet
	}
	var body io.Reader
	if a.Length > 0 {
		body = strings.NewReader(strings.Repeat("x", int(a.Length)))
	}
	if a.Port != 0 {
		port = strconv.Itoa(a.Port)
	}
	request, err := http.NewRequestWithContext(context.Background(), method, a.Scheme+"://127.0.0.1:"+port+"/", body)
	require.NoError(t, err)
	request.URL.Opaque = a.Target
	request.Host = a.Host
	if a.HostPort != 0 {
		request.Host += fmt.Sprintf(":%d", a.HostPort)
	}
	for name, value := range a.Header {
		request.Header.Set(name, value)
	}
	response, err := client.Do(request)
	if err != nil {
		return Got{}, err
	}
	defer response.Body.Close()
	text, _ := io.ReadAll(response.Body)
	return Got{response.StatusCode, response.Header, string(text)}, nil
}

// Compared are the headers that are held against the real server's word for word; of Seen only whether they are there.
var (
	Compared = []string{"content-type", "content-encoding", "vary", "cache-control", "server", "www-authenticate", "x-frame-options", "x-content-type-options", "strict-transport-security", "referrer-policy", "x-powered-by", "link"}
	Seen     = []string{"etag", "last-modified", "expires"}
)

// A Tally counts fields that were told and right, told and wrong, and not told, and why.
type Tally struct {
	Right, Wrong, Untold int
	Whys                 map[string]int
}

// Add adds what another one counted.
func (s *Tally) Add(more Tally) {
	s.Right, s.Wrong, s.Untold = s.Right+more.Right, s.Wrong+more.Wrong, s.Untold+more.Untold
	if s.Whys == nil {
		s.Whys = map[string]int{}
	}
	for why, n := range more.Whys {
		s.Whys[why] += n
	}
}

// Share is a number of fields in per cent of all.
func (s *Tally) Share(n int) float64 {
	return 100 * float64(n) / float64(max(s.Right+s.Wrong+s.Untold, 1))
}

// String is the tally in words.
func (s *Tally) String() string {
	text := fmt.Sprintf("%d fields: %.3f %% right, %.3f %% wrong, %.2f %% not told", s.Right+s.Wrong+s.Untold, s.Share(s.Right), s.Share(s.Wrong), s.Share(s.Untold))
	var whys []string
	for why, n := range s.Whys {
		whys = append(whys, fmt.Sprintf("\n%6d not told: %s", n, why))
	}
	sort.Strings(whys)
	return text + strings.Join(whys, "")
}

// Hold sets an answer beside what the real server did, field by field, and gives what is wrong.
func (s *Tally) Hold(a *answer.Answer, real Got) (wrong []string) {
	if s.Whys == nil {
		s.Whys = map[string]int{}
	}
	field := func(f answer.Field, told answer.Told, is string) {
		switch {
		case !told.Known():
			s.Untold++
			s.Whys[told.Unknown.Because]++
		case told.Text() == is:
			s.Right++
		default:
			s.Wrong++
			wrong = append(wrong, fmt.Sprintf("%s: told %q (%s %s), is %q", f, told.Text(), told.Origin, told.Because, is))
		}
	}
	field(answer.Status, a.Get(answer.Status), fmt.Sprint(real.Status))
	field(answer.Location, a.Get(answer.Location), real.Header.Get("Location"))
	for _, name := range Compared {
		field(answer.Header(name), a.Get(answer.Header(name)), strings.Join(real.Header.Values(name), ", "))
	}
	for _, name := range Seen {
		is := ""
		if real.Header.Get(name) != "" {
			is = "set"
		}
		field(answer.Header(name), a.Get(answer.Header(name)), is)
	}
	if host := real.Header.Get("X-Asked-Host"); host != "" && a.Onward != nil && a.Onward.Ask.Host != "" {
		name, _, _ := strings.Cut(host, ":")
		field("onward host", answer.Told{Values: []string{a.Onward.Ask.Host}, Origin: a.Onward.Origin}, name)
	}
	file := a.Get(answer.File)
	if script := real.Header.Get("X-Script"); script != "" {
		if rest, is := strings.CutPrefix(script, "proxy:fcgi://"); is { // as Apache tells a program of FastCGI
			script = rest[strings.IndexByte(rest, '/'):]
		}
		if _, path, is := strings.Cut(file.Text(), "://"); is {
			file.Values = []string{path[max(strings.Index(path, "/"), 0):]}
		}
		field(answer.File, file, script)
	} else if path, is := strings.CutPrefix(strings.SplitN(real.Body, "\n", 2)[0], "file "); is && real.Header.Get("Content-Encoding") == "" {
		field(answer.File, file, path)
	}
	return wrong
}

// Loopback is where the tests ask from.
var Loopback = netip.MustParseAddr("127.0.0.1")

// serveFastCGI is a program that answers whatever it is told, be it ever so little. (FastCGI 1.0, sections 3 and 6)
func serveFastCGI(listener net.Listener) {
	for {
		connection, err := listener.Accept()
		if err != nil {
			return
		}
		go answerFastCGI(connection)
	}
}

func answerFastCGI(connection net.Conn) {
	defer connection.Close()
	var params bytes.Buffer
	header := make([]byte, 8)
	for {
		if _, err := io.ReadFull(connection, header); err != nil {
			return
		}
		content := make([]byte, int(binary.BigEndian.Uint16(header[4:]))+int(header[6]))
		if _, err := io.ReadFull(connection, content); err != nil {
			return
		}
		content = content[:binary.BigEndian.Uint16(header[4:])]
		if header[1] == 4 {
			params.Write(content)
		}
		if header[1] != 5 || len(content) > 0 {
			continue
		}
		var out bytes.Buffer
		fmt.Fprintf(&out, "Status: 200\r\nX-Script: %s\r\n", parameters(params.Bytes())["SCRIPT_FILENAME"])
		for name, value := range Program.Header {
			fmt.Fprintf(&out, "%s: %s\r\n", name, value)
		}
		out.WriteString("\r\n" + programText)
		record := func(kind byte, body []byte) {
			head := []byte{1, kind, header[2], header[3], 0, 0, 0, 0}
			binary.BigEndian.PutUint16(head[4:], uint16(len(body)))
			_, _ = connection.Write(append(head, body...))
		}
		record(6, out.Bytes())
		record(6, nil)
		record(3, make([]byte, 8))
		return
	}
}

func parameters(raw []byte) map[string]string {
	length := func() int {
		if raw[0] < 0x80 {
			n := int(raw[0])
			raw = raw[1:]
			return n
		}
		n := int(binary.BigEndian.Uint32(raw) &^ (1 << 31))
		raw = raw[4:]
		return n
	}
	params := map[string]string{}
	for len(raw) > 1 {
		name, value := length(), length()
		params[string(raw[:name])] = string(raw[name : name+value])
		raw = raw[name+value:]
	}
	return params
}

// OneFile is a disk with one configuration, /c/a, and a site in which every third path is a file and every third a folder.
type OneFile string

// Read gives the configuration.
func (f OneFile) Read(name string) ([]byte, error) {
	if name == "/c/a" {
		return []byte(f), nil
	}
	return nil, fs.ErrNotExist
}

// ReadBy gives the configuration.
func (f OneFile) ReadBy(name string, _ directives.By) ([]byte, error) { return f.Read(name) }

// NamesBy gives none.
func (f OneFile) NamesBy(string, directives.By) ([]string, error) { return nil, fs.ErrNotExist }

// Look goes by the length of a path.
func (f OneFile) Look(path string) answer.Entry {
	switch len(path) % 3 {
	case 0:
		return answer.Entry{Is: answer.AFolder}
	case 1:
		return answer.Entry{Is: answer.AFile, Size: 100}
	}
	return answer.Entry{}
}

// Folders gives none.
func (f OneFile) Folders(string) []string { return nil }

// Hurry has an evaluator answer for a configuration that means ill, and fails when it takes long or says nothing.
func Hurry(t *testing.T, text, target string, tell func(answer.Ask) *answer.Answer) {
	start := time.Now()
	a := tell(answer.Ask{Scheme: "http", Host: "x.example", Target: target, Header: map[string]string{}})
	require.LessOrEqual(t, time.Since(start), 30*time.Second, text)
	require.NotEmpty(t, a.Fields)
}

// Seeds are the first seed of generated configurations and how many: 200 that are always the same, unless the environment says
// WELTAXIS_SEED and WELTAXIS_SEEDS.
func Seeds() (first uint64, count int) {
	first, count = 1, 200
	if from := os.Getenv("WELTAXIS_SEED"); from != "" {
		first, _ = strconv.ParseUint(from, 10, 64)
	}
	if n := os.Getenv("WELTAXIS_SEEDS"); n != "" {
		count, _ = strconv.Atoi(n)
	}
	return first, count
}

// Ask holds what is told of requests against what the real server does.
func (s *Tally) Ask(t *testing.T, seed uint64, port string, asks []answer.Ask, tell func(answer.Ask) *answer.Answer, show string) {
	t.Helper()
	for _, a := range asks {
		real, err := Fetch(t, port, a)
		if err != nil {
			continue
		}
		if wrong := s.Hold(tell(a), real); len(wrong) > 0 {
			t.Errorf("seed %d: %d %s %s%s %v\n  %s", seed, real.Status, a.Method, a.Host, a.Target, a.Header, strings.Join(wrong, "\n  "))
			if os.Getenv("WELTAXIS_SHOW") != "" {
				t.Log(show)
			}
		}
	}
}
