package demo

import (
	"bytes"
	"embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/template"
)

//go:embed server
var frontFiles embed.FS

var frontTemplates = template.Must(template.ParseFS(frontFiles, "server/*.conf", "server/*.ini"))

// A front is the configuration of the web server that stands, or would stand, before a site's content system: one of nginx and
// one of Apache that say the same, in a folder beside the installation.
type front struct {
	story bool                // as the building weeks left it
	from  string              // whose runtime it is, as the site file says; the usual when ""
	amend func(string) string // what somebody has changed in it, or in the runtime's files; nil for nothing
}

// The kinds of servers that a site has a configuration of.
const (
	frontNginx  = "nginx"
	frontApache = "apache"
)

// frontFile is the file that the configuration of one kind begins with, below the site's folder of the demo.
func frontFile(kind string) string { return filepath.Join("server", kind, kind+".conf") }

// ports say where a front listens and asks: what it is told where nobody serves it, or while the demo does.
type ports struct {
	http, https, system string
	certificate, key    string
	extra               map[string]string // by kind: lines that only the demo needs
}

// asInstalled are those of a server on a machine of its own.
var asInstalled = ports{http: "80", https: "443", system: "127.0.0.1:9000", certificate: pairFile, key: pairKey}

// A front has its certificate and the key of it beside its configuration.
const (
	pairFile = "certificate.pem"
	pairKey  = "certificate.key"
)

// write writes the configurations of a site and returns the files, below the demo's folder.
func (f *front) write(dir string, in *installation) (written []string, err error) {
	root, err := filepath.Abs(filepath.Join(dir, in.folder, "site", in.system.lore().Public))
	if err != nil {
		return nil, err
	}
	for _, kind := range []string{frontNginx, frontApache} {
		main, others := in.hosts[0], in.hosts[1:]
		folder := filepath.Dir(filepath.Join(dir, in.folder, frontFile(kind)))
		absolute, err := filepath.Abs(folder)
		if err != nil {
			return nil, err
		}
		var text bytes.Buffer
		if err := frontTemplates.ExecuteTemplate(&text, kind+".conf", map[string]any{"Brand": in.options["site_title"], "Main": main, "Other": others[0], "Others": strings.Join(others, " "), "Hosts": strings.Join(in.hosts, " "), "Root": root, "Dir": absolute, "Story": f.story}); err != nil {
			return nil, err
		}
		files := map[string]string{kind + ".conf": text.String()}
		if f.amend != nil {
			files[kind+".conf"] = f.amend(text.String())
		}
		switch kind {
		case frontNginx:
			for _, name := range []string{"fastcgi.conf", "types.conf"} {
				data, _ := frontFiles.ReadFile("server/" + name)
				files[name] = string(data)
			}
		case frontApache:
			files["types"] = "text/html html htm\ntext/css css\ntext/plain txt\ntext/javascript js\nimage/png png\nimage/jpeg jpg jpeg\nimage/svg+xml svg\napplication/xml xml\n"
		}
		for name, text := range files {
			if err := writeFile(filepath.Join(folder, name), file{text, 0o644}); err != nil {
				return nil, err
			}
			written = append(written, filepath.Join(in.folder, filepath.Dir(frontFile(kind)), name))
		}
		more, err := f.connect(kind, folder, asInstalled)
		if err != nil {
			return nil, err
		}
		_, certificate, err := certify([]*installation{in})
		if err == nil {
			err = writePair(folder, certificate)
		}
		if err != nil {
			return nil, err
		}
		for _, name := range append(more, pairFile, pairKey) {
			written = append(written, filepath.Join(in.folder, filepath.Dir(frontFile(kind)), name))
		}
	}
	more, err := f.writeRuntime(dir, in)
	return append(written, more...), err
}

// runtimeFolder is the folder of the runtime's files, below the site's folder of the demo.
var runtimeFolder = filepath.Join("server", "php")

// writeRuntime writes what the language runtime behind both is told, and returns the files, below the demo's folder.
func (f *front) writeRuntime(dir string, in *installation) (written []string, err error) {
	folder, err := filepath.Abs(filepath.Join(dir, in.folder, runtimeFolder))
	if err != nil {
		return nil, err
	}
	says := map[string]any{"Brand": in.options["site_title"], "Dir": folder, "Site": filepath.Join(filepath.Dir(filepath.Dir(folder)), "site"), "Story": f.story}
	for name, of := range map[string]string{"php.ini": "php.ini", "php-fpm.conf": "php-fpm.conf", "pool.d/stage.conf": "pool.conf", "conf.d/20-brindle.ini": "modules.ini"} {
		var text bytes.Buffer
		if err := frontTemplates.ExecuteTemplate(&text, of, says); err != nil {
			return nil, err
		}
		content := text.String()
		if f.amend != nil {
			content = f.amend(content)
		}
		if err := writeFile(filepath.Join(folder, name), file{content, 0o644}); err != nil {
			return nil, err
		}
		written = append(written, filepath.Join(in.folder, runtimeFolder, name))
	}
	return append(written, filepath.Join(in.folder, runtimeFolder, "pool.d", "listen.conf")), listens(folder, asInstalled)
}

// listens writes the small file that says where the runtime's workers listen.
func listens(folder string, p ports) error {
	return os.WriteFile(filepath.Join(folder, "pool.d", "listen.conf"), []byte("[stage]\nlisten = "+p.system+"\n"), 0o644)
}

// connect writes the small files that say where a front listens and what it asks.
func (f *front) connect(kind, folder string, p ports) (written []string, err error) {
	files := map[string]string{}
	switch kind {
	case frontNginx:
		files["listen-http.conf"] = fmt.Sprintf("listen %s;\n", p.http)
		files["listen-https.conf"] = fmt.Sprintf("listen %s ssl http2;\nssl_certificate %s;\nssl_certificate_key %s;\nssl_protocols TLSv1.2 TLSv1.3;\n", p.https, p.certificate, p.key)
		files["served.conf"] = fmt.Sprintf("upstream system {\n    server %s;\n}\n%s", p.system, p.extra[kind])
	case frontApache:
		extra := p.extra[kind]
		if extra == "" {
			for _, module := range apacheModules {
				extra += fmt.Sprintf("LoadModule %s_module %s/mod_%s.so\n", module, apacheFolder, module)
			}
		}
		port := func(address string) string { return address[strings.LastIndexByte(address, ':')+1:] }
		files["served.conf"] = fmt.Sprintf("%sListen %s\nListen %s\nDefine HTTP %s\nDefine HTTPS %s\nDefine SYSTEM %s\nDefine CERTIFICATE %s\nDefine CERTIFICATE_KEY %s\n", extra, p.http, p.https, port(p.http), port(p.https), p.system, p.certificate, p.key)
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			return nil, err
		}
		written = append(written, name)
	}
	return written, nil
}

// apacheModules are those that the demo's configuration of Apache wants.
var apacheModules = []string{"mpm_event", "authn_core", "authn_file", "auth_basic", "authz_core", "authz_user", "alias", "dir", "autoindex", "mime", "headers", "filter", "deflate", "rewrite", "setenvif", "proxy", "proxy_fcgi", "ssl", "socache_shmcb", "http2"}
