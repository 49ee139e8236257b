package trial

import (
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
)

// What of nginx names a file, a host or a program, and what becomes of it in a copy.
var (
	// writes are the directives whose first word is a file or folder that it writes.
	nginxWrites = strings.Fields("error_log access_log lock_file client_body_temp_path proxy_temp_path fastcgi_temp_path uwsgi_temp_path scgi_temp_path proxy_cache_path fastcgi_cache_path uwsgi_cache_path scgi_cache_path ssl_key_log")
	// trusts are those whose first word is a file of certificates that it trusts.
	nginxTrusts = strings.Fields("ssl_trusted_certificate ssl_client_certificate proxy_ssl_trusted_certificate grpc_ssl_trusted_certificate uwsgi_ssl_trusted_certificate")
	// secrets are files with what only a server may read, or what a made pair does not fit.
	nginxSecrets = strings.Fields("ssl_crl ssl_dhparam ssl_password_file ssl_session_ticket_key ssl_stapling_file proxy_ssl_crl proxy_ssl_password_file grpc_ssl_crl grpc_ssl_password_file uwsgi_ssl_crl uwsgi_ssl_password_file")
	// runs are those that have a program run, or load one, while a configuration is read.
	nginxRuns = strings.Fields("perl_modules perl_require perl_set perl js_import js_include js_path js_preload_object js_set js_content js_access js_header_filter js_body_filter js_periodic ssl_engine")
	// passes are those whose first word says who answers.
	nginxPasses = strings.Fields("proxy_pass fastcgi_pass uwsgi_pass scgi_pass grpc_pass memcached_pass auth_http ssl_stapling_responder")
)

// temporary are the folders that nginx makes while it reads a configuration, whatever that says.
var temporary = []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"}

// nginxWhole copies a whole configuration of nginx.
func (c *copied) nginxWhole(tree *directives.Tree) {
	directives.Walk(tree.Root, func(n *directives.Node) bool {
		if n.Is("upstream") {
			c.hosts = append(c.hosts, n.Arg(0))
		}
		return true
	})
	c.line(place{}, fmt.Sprintf("pid %s/pid; error_log %s/log;", c.setting.dir, c.setting.dir))
	c.nginx(tree.Root, "")
	c.replace(ownFiles)
}

func (c *copied) nginx(body []*directives.Node, outer string) {
	certificates, keys := map[string][]string{}, map[string][]string{}
	for _, n := range body {
		at := place{n.File, n.Line}
		if n.Hole != "" || n.Is("include") || outer == "" && n.Is("pid", "user") {
			continue
		}
		args, stays := c.nginxWords(n, outer)
		if !stays {
			continue
		}
		if use, is := strings.CutSuffix(n.Name, "ssl_certificate"); is {
			certificates[use] = append(certificates[use], n.Arg(0))
		} else if use, is := strings.CutSuffix(n.Name, "ssl_certificate_key"); is {
			keys[use] = append(keys[use], n.Arg(0))
		}
		text := n.Name
		if outer == "types" || outer == "map" || outer == "geo" || outer == "split_clients" {
			text = directives.NginxWord(n.Name)
		}
		if n.Is("if") && len(args) > 0 { // its words stand in brackets
			text += " " + strings.Join(bracketed(args), " ")
		} else {
			for _, arg := range args {
				text += " " + directives.NginxWord(arg)
			}
		}
		if !n.Block {
			c.line(at, text+";")
			continue
		}
		c.line(at, text+" {")
		if n.Is("http") && outer == "" {
			c.usual(n)
		}
		c.nginx(n.Body, n.Name)
		c.line(at, "}")
	}
	for use, names := range certificates {
		for i, name := range names {
			if p := (pair{certificate: c.file(name)}); !strings.ContainsAny(name, "$:") {
				if i < len(keys[use]) && !strings.ContainsAny(keys[use][i], "$:") {
					p.key = c.file(keys[use][i])
				}
				c.pairs = append(c.pairs, p)
			}
		}
	}
}

// usual says where those files are that nginx writes whatever a configuration says, as far as it does not.
func (c *copied) usual(http *directives.Node) {
	says := func(name string) bool {
		return slices.ContainsFunc(http.Body, func(n *directives.Node) bool { return n.Is(name) })
	}
	if !says("access_log") {
		c.line(place{}, fmt.Sprintf("access_log %s;", c.own()))
	}
	for _, name := range temporary {
		if !says(name+"_temp_path") && !slices.Contains(c.lacks, name) {
			c.line(place{}, fmt.Sprintf("%s_temp_path %s;", name, c.own()))
		}
	}
}

// file is a file that nginx reads, whose name is relative to the folder of the configuration.
func (c *copied) file(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(c.dir, name)
}

// nginxWords are the words of a directive in the copy, and whether it stays there.
func (c *copied) nginxWords(n *directives.Node, outer string) (args []string, stays bool) {
	args = slices.Clone(n.Args)
	if strings.HasSuffix(n.Name, "_by_lua_block") || strings.HasSuffix(n.Name, "_by_lua_file") || strings.HasSuffix(n.Name, "_by_lua") || n.Is(nginxRuns...) {
		c.leave(n.Name + " (" + n.Place() + "), which would be run")
		return nil, false
	}
	if len(args) == 0 {
		return args, true
	}
	variable := strings.Contains(args[0], "$")
	switch {
	case n.Is("error_log", "access_log") && (args[0] == "off" || args[0] == "stderr"):
	case n.Is("ssl_certificate", "ssl_certificate_key") && variable:
		c.leave("certificates that are found with each request (" + n.Place() + ")")
	case strings.HasSuffix(n.Name, "ssl_certificate"), n.Is(nginxTrusts...):
		if n.Is(nginxTrusts...) {
			c.pairs = append(c.pairs, pair{certificate: c.file(args[0])})
		}
		args[0] = c.cert
		c.replace(ownPair)
	case strings.HasSuffix(n.Name, "ssl_certificate_key"):
		if strings.Contains(args[0], ":") {
			c.leave("a key that is not in a file (" + n.Place() + ")")
		}
		args[0] = c.key
		c.replace(ownPair)
	case n.Is(nginxSecrets...):
		c.pairs = append(c.pairs, pair{file: c.file(args[0])})
		c.leave(n.Name + " (" + n.Place() + ") but for its being there")
		return nil, false
	case n.Is(nginxWrites...):
		args[0] = c.own()
	case n.Is("load_module"):
		args[0] = c.module(n, args[0], c.prefix)
	case n.Is("listen"):
		args = c.nginxListen(args)
	case n.Is("server") && outer == "upstream", n.Is("set_real_ip_from"):
		args[0] = c.nginxHost(args[0])
	case n.Is("resolver"):
		for i, arg := range args {
			if !strings.Contains(arg, "=") {
				args[i] = c.here(arg)
			}
		}
	case n.Is(nginxPasses...) && !variable:
		args[0] = c.nginxPass(args[0])
	}
	return args, true
}

// nginxHost is an address of a host in the copy; the socket of a file stays as it is, since nobody asks there.
func (c *copied) nginxHost(address string) string {
	if strings.HasPrefix(address, "unix:") || strings.Contains(address, "/") {
		return address
	}
	return c.here(address)
}

// nginxPass is who answers, in the copy: a host by name is this machine, unless it is a group of servers that the configuration names.
func (c *copied) nginxPass(to string) string {
	scheme, rest, is := strings.Cut(to, "://")
	if !is {
		if slices.Contains(c.hosts, to) {
			return to
		}
		return c.nginxHost(to)
	}
	u, err := url.Parse(to)
	if err != nil || u.Host == "" || strings.HasPrefix(rest, "unix:") || slices.Contains(c.hosts, u.Host) {
		return to
	}
	return scheme + "://" + c.here(u.Host) + strings.TrimPrefix(rest, u.Host)
}

// plainListen are the words of listen that mean the same at a socket of the copy's own.
var plainListen = []string{"default_server", "default", "ssl", "http2", "spdy", "proxy_protocol"}

// nginxListen is where the copy listens. Where addresses cannot be had, the same one is the same socket.
func (c *copied) nginxListen(args []string) []string {
	if c.apart && !strings.HasPrefix(args[0], "unix:") {
		args[0] = c.here(args[0])
		return args
	}
	c.replace(ownDoors)
	name := strings.NewReplacer("/", "_", ":", "_", "[", "", "]", "", "*", "0.0.0.0").Replace(strings.TrimPrefix(args[0], "unix:"))
	if strings.Trim(name, "0123456789") == "" {
		name = "0.0.0.0_" + name
	}
	kept := []string{fmt.Sprintf("unix:%s/s%s", c.setting.dir, name)}
	for _, word := range args[1:] {
		if slices.Contains(plainListen, word) {
			kept = append(kept, word)
		} else {
			c.leave("listen: " + word)
		}
	}
	return kept
}

// bracketed are the words of an if as nginx takes them.
func bracketed(args []string) []string {
	out := make([]string, len(args))
	for i, arg := range args {
		lead, tail := "", ""
		if i == 0 && strings.HasPrefix(arg, "(") {
			lead, arg = "(", arg[1:]
		}
		if i == len(args)-1 && strings.HasSuffix(arg, ")") {
			tail, arg = ")", strings.TrimSuffix(arg, ")")
		}
		if arg != "" && (i > 1 || strings.ContainsAny(arg, " \t;{}\"'")) { // the variable and the sign stand without quotes
			arg = directives.NginxWord(arg)
		}
		out[i] = lead + arg + tail
	}
	if !strings.HasPrefix(out[0], "(") {
		out[0] = "(" + out[0]
		out[len(out)-1] += ")"
	}
	return out
}
