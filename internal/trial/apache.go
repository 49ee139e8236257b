package trial

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/apache"
)

// What of Apache names a file, a host or a program, and what becomes of it in a copy.
var (
	apacheWrites = strings.Fields("PidFile ErrorLog CustomLog TransferLog GlobalLog ForensicLog CookieLog ScriptLog ScriptSock Mutex ScoreBoardFile DefaultRuntimeDir RewriteLog SSLSessionCache SSLStaplingCache CoreDumpDirectory")
	// trusts are files of certificates, which a test only looks for.
	apacheTrusts  = strings.Fields("SSLCertificateChainFile SSLCACertificateFile SSLCADNRequestFile SSLCARevocationFile SSLProxyCACertificateFile SSLProxyCARevocationFile SSLProxyMachineCertificateFile SSLProxyMachineCertificateChainFile SSLSessionTicketKeyFile")
	apacheFolders = strings.Fields("DocumentRoot SSLCACertificatePath SSLCADNRequestPath SSLCARevocationPath SSLProxyCACertificatePath SSLProxyCARevocationPath SSLProxyMachineCertificatePath")
	// runs are those that have a program run, or load one, while a configuration is read, or ask others.
	apacheRuns = strings.Fields("SSLPassPhraseDialog SSLCryptoDevice SecRemoteRules LuaPackagePath LuaPackageCPath WSGIImportScript")
	apacheDoor = strings.Fields("Listen VirtualHost NameVirtualHost RemoteIPTrustedProxy RemoteIPInternalProxy")
)

// apacheWhole copies a whole configuration of Apache.
func (c *copied) apacheWhole(tree *directives.Tree) {
	root := c.dir
	for _, n := range tree.Root {
		if n.Is("ServerRoot") && n.Arg(0) != "" {
			root = n.Arg(0)
		}
	}
	c.prefix = root
	c.line(place{}, fmt.Sprintf("ServerRoot %q\nPidFile %q\nErrorLog %q\nDefaultRuntimeDir %q", c.setting.dir, c.setting.dir+"/pid", c.setting.dir+"/log", c.setting.dir))
	c.apache(tree.Root)
	c.replace(ownFiles)
}

func (c *copied) apache(body []*directives.Node) {
	certificates, keys := []string{}, []string{}
	for _, n := range body {
		at := place{n.File, n.Line}
		switch {
		case n.Hole != "", n.Skipped != "", n.Is("Include", "IncludeOptional", "ServerRoot", "Define", "UnDefine"):
			continue
		case n.Is(apacheWrites...):
			continue
		case n.Is("IfModule", "IfDefine", "IfVersion", "IfFile"): // decided while it was read
			c.apache(n.Body)
			continue
		case n.Is(apacheRuns...), strings.HasPrefix(strings.ToLower(n.Name), "perl"):
			c.leave(n.Name + " (" + n.Place() + "), which would be run")
			continue
		case n.Is("SSLCertificateFile"):
			certificates = append(certificates, c.apacheFile(n.Arg(0)))
		case n.Is("SSLCertificateKeyFile"):
			keys = append(keys, c.apacheFile(n.Arg(0)))
		}
		rest := c.apacheRest(n)
		if strings.ContainsAny(rest, "\x00\n") || strings.HasSuffix(rest, `\`) {
			c.fail("%s cannot be put into one line", n.Place())
			continue
		}
		if !n.Block {
			c.line(at, n.Name+" "+rest)
			continue
		}
		c.line(at, "<"+n.Name+" "+rest+">")
		c.apache(n.Body)
		c.line(at, "</"+n.Name+">")
	}
	for i, name := range certificates {
		p := pair{certificate: name}
		if i < len(keys) {
			p.key = keys[i]
		} else if len(keys) == 0 { // it may hold its key itself
			p.key = name
		}
		c.pairs = append(c.pairs, p)
	}
}

func (c *copied) apacheFile(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(c.prefix, name)
}

// apacheRest is what stands behind the name of a directive in the copy.
func (c *copied) apacheRest(n *directives.Node) string {
	args := slices.Clone(n.Args)
	switch {
	case len(args) == 0:
		return n.Rest
	case n.Is("LoadModule") && len(args) == 2:
		args[1] = c.module(n, args[1], c.prefix)
	case n.Is("LoadFile"):
		for i := range args {
			args[i] = c.module(n, args[i], c.prefix)
		}
	case n.Is("SSLCertificateFile"):
		args[0] = c.cert
		c.replace(ownPair)
	case n.Is("SSLCertificateKeyFile"):
		args[0] = c.key
		c.replace(ownPair)
	case n.Is(apacheTrusts...):
		c.pairs = append(c.pairs, pair{file: c.apacheFile(args[0])})
		args[0] = c.cert
		c.replace(ownPair)
	case n.Is(apacheFolders...):
		args[0] = c.setting.dir
		c.replace(ownFolders)
	case n.Is("RewriteMap") && len(args) > 1 && !strings.HasPrefix(args[1], "int:"):
		args[1] = "int:tolower"
		c.leave("the table of " + n.String() + " (" + n.Place() + ")")
	case n.Is(apacheDoor...):
		for i := range args {
			if i == 0 || n.Is("VirtualHost") {
				args[i] = c.here(args[i])
			}
		}
	default:
		return n.Rest
	}
	words := make([]string, len(args))
	for i, arg := range args {
		words[i] = plainly(arg)
	}
	return strings.Join(words, " ")
}

// override puts an override file into a section of its folder: directives by the names that are known here to be allowed in one, and the
// words that were read of them. Anything else, and what could not be read, is not handed over.
func (c *copied) override(name string, tree *directives.Tree) {
	if len(tree.Gaps) > 0 {
		c.fail("not all of an override file could be read: %w", tree.Gaps[0])
		return
	}
	c.line(place{name, 1}, "<Directory "+quoted(filepath.Dir(name))+">")
	c.permitted(tree, tree.Root)
	c.line(place{name, 1}, "</Directory>")
}

func (c *copied) permitted(tree *directives.Tree, body []*directives.Node) {
	for _, n := range body {
		at := place{n.File, n.Line}
		known, may := apache.InOverride(n, tree)
		switch {
		case n.Skipped != "":
			continue
		case n.Hole != "" || !may || n.Unresolved != "" || strings.ContainsAny(n.Rest, "\x00\n\r") || strings.HasSuffix(n.Rest, `\`):
			c.fail("%s: %s is not known here as what may stand in an override file", n.Place(), n.Name)
			return
		case n.Is("IfModule", "IfDefine", "IfVersion", "IfFile"): // decided while it was read, and what it holds comes next
			continue
		case !n.Block:
			c.line(at, known+" "+n.Rest)
			continue
		}
		c.line(at, "<"+known+" "+n.Rest+">")
		c.permitted(tree, n.Body)
		c.line(at, "</"+known+">")
	}
}

// plainly is a word as Apache takes it, in quotes only where it needs them.
func plainly(w string) string {
	if w != "" && !strings.ContainsAny(w, " \t\"'<>\\") {
		return w
	}
	return quoted(w)
}

func quoted(w string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(w) + `"`
}
