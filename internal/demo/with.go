package demo

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/fcgi"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"weltaxis/internal/identity"
	"weltaxis/internal/orders"
)

// Fronts are the kinds of real web servers that the demo can put before its stand-ins.
var Fronts = []string{frontNginx, frontApache}

// A running is a real web server before a site.
type running struct {
	kind    string
	site    *installation
	folder  string // of its configuration
	private string // its own folder, gone with it
	program string
	command *exec.Cmd
	ended   chan struct{}
	asked   net.Listener // where it asks the stand-in
	reached bool         // whoever its workers are gets to its files
}

// apacheFolder is where Debian has the modules of Apache.
const apacheFolder = "/usr/lib/apache2/modules"

// programs are what each kind is started with.
var programs = map[string][]string{frontNginx: {"nginx", "/usr/sbin/nginx"}, frontApache: {"apache2", "/usr/sbin/apache2", "httpd"}}

// program finds the program of a kind.
func program(kind string) (string, error) {
	for _, name := range programs[kind] {
		if path, err := orders.Program(name); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("%s is not installed, so the demo cannot be served with it; install it (on Debian: apt-get install %s), or leave --with out", kind, map[string]string{frontNginx: "nginx-light", frontApache: "apache2"}[kind])
}

// With puts a real web server before every site that has a configuration of one: it serves the files, and asks the stand-in
// for the rest, as a runtime behind FastCGI.
func (s *Server) With(kind string) error {
	path, err := program(kind)
	if err != nil {
		return err
	}
	for _, site := range s.sites {
		if site.front == nil {
			continue
		}
		if err := s.put(kind, path, site); err != nil {
			return fmt.Errorf("serving %s with %s: %w", site.folder, kind, err)
		}
	}
	return nil
}

func (s *Server) put(kind, program string, site *installation) error {
	folder, err := filepath.Abs(filepath.Dir(filepath.Join(s.dir, site.folder, frontFile(kind))))
	if err != nil {
		return err
	}
	r := &running{kind: kind, site: site, folder: folder, ended: make(chan struct{})}
	if r.private, err = os.MkdirTemp(orders.TempDir(), "weltaxis-front-"); err != nil {
		return err
	}
	s.fronts = append(s.fronts, r)
	if os.Getuid() == 0 { // its workers are somebody else
		for _, dir := range []string{s.dir, r.private} {
			if err := os.Chmod(dir, 0o755); err != nil {
				return err
			}
		}
	}
	if r.asked, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	handler := http.Handler(s.standIns[site.folder])
	if site.before != nil {
		handler = site.before(handler)
	}
	go func() { _ = fcgi.Serve(r.asked, handler) }()
	p := ports{system: r.asked.Addr().String(), extra: map[string]string{kind: r.extra()}}
	p.certificate, p.key = filepath.Join(r.private, pairFile), filepath.Join(r.private, pairKey)
	if err := writePair(r.private, s.certificate); err != nil {
		return err
	}
	for _, port := range []*string{&p.http, &p.https} {
		if *port, err = freeAddress(); err != nil {
			return err
		}
	}
	if _, err := site.front.connect(kind, folder, p); err != nil {
		return err
	}
	if err := listens(r.runtime(), p); err != nil {
		return err
	}
	if err := r.start(program, p.https); err != nil {
		return err
	}
	for _, host := range site.hosts {
		s.connect[site.folder][host+":443"], s.connect[site.folder][host+":80"] = p.https, p.http
	}
	return nil
}

// runtime is the folder of what the language runtime is told, beside that of the server.
func (r *running) runtime() string {
	return filepath.Join(filepath.Dir(r.folder), filepath.Base(runtimeFolder))
}

// freeAddress is one that a server which is started later can take: below the ports that systems hand out by themselves, where nobody's
// connection gets it meanwhile.
func freeAddress() (string, error) {
	for range 100 {
		if listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(20000+rand.IntN(12000)))); err == nil {
			return listener.Addr().String(), listener.Close()
		}
	}
	return "", errors.New("none of 100 ports of 127.0.0.1 between 20000 and 32000 is free")
}

// extra are lines that only the demo needs: folders of its own instead of the system's.
func (r *running) extra() string {
	in := func(name string) string { return filepath.Join(r.private, name) }
	if r.kind == frontNginx {
		var lines strings.Builder
		for _, kind := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
			fmt.Fprintf(&lines, "%s_temp_path %s;\n", kind, in(kind))
		}
		return lines.String()
	}
	var lines strings.Builder
	for _, module := range apacheModules {
		fmt.Fprintf(&lines, "LoadModule %s_module %s/mod_%s.so\n", module, apacheFolder, module)
	}
	fmt.Fprintf(&lines, "PidFile %q\nErrorLog %q\nDefaultRuntimeDir %q\nMutex \"file:%s\"\n", in("pid"), in("error.log"), r.private, r.private)
	if os.Getuid() == 0 {
		lines.WriteString("User www-data\nGroup www-data\n")
	}
	return lines.String()
}

// pid is the line by which nginx says, and is told, where it notes which process it is.
func (r *running) pid() string { return "pid " + filepath.Join(r.private, "pid") + ";" }

// reload is what a site file says of how it is told to read its configuration again; Apache, as one process, is not.
func (r *running) reload() string {
	if r.kind == frontApache && !r.reached {
		return ""
	}
	if r.kind == frontApache {
		return fmt.Sprintf(`, reload: [%q, "-d", %q, "-f", %q, "-k", "graceful"]`, r.program, r.folder, filepath.Join(r.folder, r.kind+".conf"))
	}
	return fmt.Sprintf(`, reload: [%q, "-p", %q, "-c", %q, "-g", %q, "-s", "reload"]`, r.program, r.private, filepath.Join(r.folder, r.kind+".conf"), r.pid())
}

// othersReach tells whether everybody gets to a folder.
func othersReach(folder string) bool {
	for ; folder != "/" && folder != "."; folder = filepath.Dir(folder) {
		if stat, err := os.Stat(folder); err != nil || stat.Mode()&0o001 == 0 {
			return false
		}
	}
	return true
}

// start starts the server and waits until it listens.
func (r *running) start(program, address string) error {
	main := filepath.Join(r.folder, r.kind+".conf")
	r.program = program
	r.reached = os.Getuid() != 0 || othersReach(r.folder)
	arguments := []string{"-X", "-d", r.folder, "-f", main} // one process, which stays who started it
	if r.reached {
		arguments = []string{"-D", "FOREGROUND", "-d", r.folder, "-f", main}
	}
	if r.kind == frontNginx {
		global := "daemon off; " + r.pid()
		if os.Getuid() == 0 {
			global += " user root;"
		}
		arguments = []string{"-p", r.private, "-c", main, "-e", filepath.Join(r.private, "error.log"), "-g", global}
	}
	var says bytes.Buffer
	r.command = exec.Command(program, arguments...)
	r.command.Stderr, r.command.Stdout = &says, &says
	if identity.Caller() == 0 {
		r.command.Env = identity.Environment(0)
	}
	if err := r.command.Start(); err != nil {
		return err
	}
	go func() { _ = r.command.Wait(); close(r.ended) }()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		select {
		case <-r.ended:
			return fmt.Errorf("it does not start: %s", strings.Join(strings.Fields(says.String()), " "))
		default:
		}
		if connection, err := net.Dial("tcp", address); err == nil {
			return connection.Close()
		}
	}
	return errors.New("it does not listen within ten seconds")
}

// close stops the server, and has its configuration say again where it would listen on a machine of its own.
func (r *running) close() {
	if r.command != nil && r.command.Process != nil {
		_ = r.command.Process.Signal(os.Interrupt)
		select {
		case <-r.ended:
		case <-time.After(3 * time.Second):
			_ = r.command.Process.Kill()
		}
	}
	if r.asked != nil {
		_ = r.asked.Close()
	}
	_, _ = r.site.front.connect(r.kind, r.folder, asInstalled)
	_ = listens(r.runtime(), asInstalled)
	_ = os.RemoveAll(r.private)
}
