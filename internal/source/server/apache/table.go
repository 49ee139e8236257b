package apache

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
)

// A class says of a directive what is made of it here.
type class int

const (
	unheard   class = iota // not in the table: it may touch everything
	evaluated              // it is carried out here
	harmless               // it touches nothing that is told
	decides                // it decides whether a request goes on, or what it is for, and is not evaluated
	heads                  // it changes headers, and is not evaluated
	bodies                 // it changes the body
	cookies                // it sets cookies
)

// A row is what is known of a directive.
type row struct {
	name   string // as it is usually written
	kind   class
	permit string // what AllowOverride must allow for it in an override file, | between two of which one is enough; "" when it may not stand there at all
	module string // that brings it, as IfModule takes it
}

// rows is the table of directives, by names in lower case.
var rows = map[string]row{}

// classWords say what is made of a directive of each class.
var classWords = map[class]string{evaluated: "carried out", harmless: "touches nothing that is told", decides: "not carried out; what becomes of a request is then not told",
	heads: "not carried out; headers are then not told", bodies: "not carried out; ETag and Last-Modified are then not told", cookies: "not carried out; Set-Cookie is then not told"}

// Directives are all that the table has, as they are usually written, with what is made of each.
func Directives() map[string]string {
	all := map[string]string{}
	for _, r := range rows {
		all[r.name] = classWords[r.kind]
	}
	return all
}

func classOf(name string) class { return rows[strings.ToLower(name)].kind }

// classOfNode is the class of a directive as it stands there: what is done to a header of the request matters where the server
// itself goes by that.
func classOfNode(n *directives.Node) class {
	if !n.Is("RequestHeader") {
		return classOf(n.Name)
	}
	name := strings.ToLower(strings.TrimSuffix(n.Arg(1), ":"))
	switch {
	case !slices.Contains([]string{"accept-encoding", "accept", "range", "host", "authorization", "cookie", "user-agent", "referer"}, name) && !strings.HasPrefix(name, "if-"):
		return harmless
	case strings.EqualFold(n.Arg(len(n.Args)-1), "early"):
		return decides
	}
	return heads
}

func init() {
	for _, group := range []struct {
		kind           class
		permit, module string
		names          string
	}{
		{evaluated, "", "core.c", "VirtualHost ServerName ServerAlias ServerRoot DocumentRoot Directory DirectoryMatch Location LocationMatch AllowOverride AllowOverrideList AccessFileName ServerTokens TraceEnable AllowEncodedSlashes MergeSlashes Define UnDefine Include IncludeOptional UseCanonicalName"},
		{evaluated, "All", "core.c", "Files FilesMatch If ElseIf Else IfModule IfDefine IfVersion IfFile"},
		{evaluated, "AuthConfig|Limit", "core.c", "Limit LimitExcept"},
		{evaluated, "Options", "core.c", "Options"},
		{evaluated, "FileInfo", "core.c", "SetHandler AddDefaultCharset FileETag ErrorDocument AcceptPathInfo ForceType SetOutputFilter"},
		{evaluated, "All", "core.c", "LimitRequestBody"},
		{evaluated, "AuthConfig", "mod_authz_core.c", "Require RequireAny RequireAll RequireNone AuthMerging"},
		{evaluated, "AuthConfig", "mod_authn_core.c", "AuthType AuthName"},
		{evaluated, "AuthConfig", "mod_access_compat.c", "Satisfy"},
		{evaluated, "Limit", "mod_access_compat.c", "Order Allow Deny"},
		{evaluated, "Indexes", "mod_dir.c", "DirectoryIndex FallbackResource DirectorySlash DirectoryIndexRedirect"},
		{evaluated, "Indexes", "mod_autoindex.c", "IndexIgnore IndexIgnoreReset"},
		{evaluated, "Indexes", "mod_expires.c", "ExpiresActive ExpiresDefault ExpiresByType"},
		{evaluated, "FileInfo", "mod_headers.c", "Header"},
		{evaluated, "FileInfo", "mod_filter.c", "AddOutputFilterByType"},
		{evaluated, "FileInfo", "mod_rewrite.c", "RewriteEngine RewriteRule RewriteCond RewriteBase RewriteOptions"},
		{evaluated, "FileInfo", "mod_alias.c", "Redirect RedirectMatch RedirectPermanent RedirectTemp"},
		{evaluated, "", "mod_alias.c", "Alias AliasMatch ScriptAlias ScriptAliasMatch"},
		{evaluated, "FileInfo", "mod_mime.c", "AddType AddHandler AddCharset AddEncoding RemoveHandler RemoveType"},
		{evaluated, "", "mod_mime.c", "TypesConfig"},
		{evaluated, "Options", "mod_php.c", "php_value php_flag"},
		{evaluated, "", "mod_php.c", "php_admin_value php_admin_flag"},
		{harmless, "", "mod_php.c", "PHPINIDir"},
		{evaluated, "", "mod_ssl.c", "SSLEngine SSLProtocol"},

		{harmless, "", "core.c", "Listen ListenBacklog User Group ServerAdmin ErrorLog ErrorLogFormat LogLevel PidFile Timeout KeepAlive KeepAliveTimeout MaxKeepAliveRequests HostnameLookups LoadModule LoadFile Mutex DefaultRuntimeDir MaxRequestWorkers MaxClients MaxConnectionsPerChild MaxRequestsPerChild StartServers MinSpareServers MaxSpareServers MinSpareThreads MaxSpareThreads ThreadsPerChild ThreadLimit ServerLimit AsyncRequestWorkerFactor ThreadStackSize CoreDumpDirectory GracefulShutdownTimeout SendBufferSize ReceiveBufferSize ScoreBoardFile EnableExceptionHook LimitInternalRecursion LimitRequestFields LimitRequestFieldSize LimitRequestLine MaxMemFree MaxRanges MaxRangeOverlaps MaxRangeReversals AcceptFilter UseCanonicalPhysicalPort NameVirtualHost Protocols ProtocolsHonorOrder HttpProtocolOptions StrictHostCheck ExtendedStatus FlushMaxPipelined FlushMaxThreshold ReadBufferSize RegexDefaultOptions MergeTrailers ServerPath"},
		{harmless, "All", "core.c", "Error LimitXMLRequestBody ServerSignature"},
		{harmless, "AuthConfig", "core.c", "CGIPassAuth"},
		{harmless, "Options", "core.c", "ContentDigest"},
		{harmless, "FileInfo", "core.c", "EnableMMAP EnableSendfile QualifyRedirectURL"},
		{harmless, "", "mod_log_config.c", "CustomLog LogFormat TransferLog GlobalLog BufferedLogs ForensicLog"},
		{harmless, "FileInfo", "mod_setenvif.c", "SetEnvIf SetEnvIfNoCase SetEnvIfExpr BrowserMatch BrowserMatchNoCase"},
		{harmless, "FileInfo", "mod_env.c", "SetEnv UnsetEnv PassEnv"},
		{harmless, "Indexes", "mod_autoindex.c", "IndexOptions IndexOrderDefault IndexStyleSheet IndexHeadInsert AddIcon AddIconByEncoding AddIconByType AddAlt AddAltByEncoding AddAltByType AddDescription DefaultIcon HeaderName ReadmeName"},
		{harmless, "AuthConfig", "mod_auth_basic.c", "AuthBasicProvider AuthBasicAuthoritative AuthBasicFake AuthBasicUseDigestAlgorithm"},
		{harmless, "AuthConfig", "mod_authn_file.c", "AuthUserFile AuthDigestProvider"},
		{harmless, "AuthConfig", "mod_authz_groupfile.c", "AuthGroupFile"},
		{harmless, "FileInfo", "mod_mime.c", "AddLanguage DefaultLanguage AddInputFilter RemoveEncoding RemoveCharset RemoveLanguage RemoveOutputFilter RemoveInputFilter"},
		{harmless, "", "mod_mime.c", "ModMimeUsePathInfo"},
		{harmless, "FileInfo", "mod_negotiation.c", "LanguagePriority ForceLanguagePriority"},
		{harmless, "", "mod_negotiation.c", "CacheNegotiatedDocs"},
		{harmless, "", "mod_deflate.c", "DeflateCompressionLevel DeflateFilterNote DeflateMemLevel DeflateWindowSize DeflateBufferSize DeflateAlterETag"},
		{harmless, "", "mod_ssl.c", "SSLCertificateFile SSLCertificateKeyFile SSLCertificateChainFile SSLCARevocationFile SSLHonorCipherOrder SSLCompression SSLSessionTickets SSLSessionCache SSLSessionCacheTimeout SSLRandomSeed SSLPassPhraseDialog SSLUseStapling SSLStaplingCache SSLStaplingResponderTimeout SSLStaplingReturnResponderErrors SSLOpenSSLConfCmd SSLStrictSNIVHostCheck SSLInsecureRenegotiation SSLProxyEngine SSLCryptoDevice SSLFIPS"},
		{harmless, "Options", "mod_ssl.c", "SSLOptions"},
		{harmless, "AuthConfig", "mod_ssl.c", "SSLCACertificateFile SSLCACertificatePath SSLCipherSuite SSLVerifyDepth"},
		{harmless, "", "mod_proxy.c", "ProxyRequests ProxyPreserveHost ProxyTimeout ProxyVia ProxyBadHeader ProxyIOBufferSize ProxyReceiveBufferSize ProxyAddHeaders ProxyStatus BalancerMember ProxySet"},
		{harmless, "FileInfo", "mod_proxy_fcgi.c", "ProxyFCGIBackendType ProxyFCGISetEnvIf"},
		{harmless, "", "mod_reqtimeout.c", "RequestReadTimeout"},
		{harmless, "", "mod_status.c", "SeeRequestTail"},
		{harmless, "", "mod_http2.c", "H2Direct H2MinWorkers H2MaxWorkers H2MaxSessionStreams H2ModernTLSOnly H2WindowSize H2StreamMaxMemSize H2PushPriority H2EarlyHints H2MaxWorkerIdleSeconds H2Padding H2PushDiarySize H2SerializeHeaders H2TLSCoolDownSecs H2TLSWarmUpSize"},
		{harmless, "AuthConfig", "mod_http2.c", "H2Push H2Upgrade"},
		{harmless, "FileInfo", "mod_http2.c", "H2CopyFiles"},
		{harmless, "", "mod_cgid.c", "ScriptSock CGIDScriptTimeout ScriptLog ScriptLogLength ScriptLogBuffer"},
		{harmless, "", "mod_userdir.c", "UserDir"},
		{harmless, "FileInfo", "mod_headers.c", "RequestHeader"},

		{decides, "FileInfo", "mod_mime.c", "AddOutputFilter SetInputFilter MultiviewsMatch"},
		{decides, "FileInfo", "mod_actions.c", "Action"},
		{decides, "", "mod_actions.c", "Script"},
		{decides, "AuthConfig", "mod_authz_core.c", "AuthzSendForbiddenOnFailure"},
		{decides, "", "mod_authz_core.c", "AuthzProviderAlias"},
		{decides, "AuthConfig", "mod_auth_form.c", "AuthFormLoginRequiredLocation AuthFormProvider"},
		{harmless, "", "mod_cache_disk.c", "CacheRoot CacheDirLevels CacheDirLength CacheMaxFileSize CacheMinFileSize CacheReadSize CacheReadTime"},
		{harmless, "", "mod_dav_fs.c", "DAVLockDB"},
		{harmless, "", "mod_proxy_ftp.c", "ProxyFtpDirCharset ProxyFtpEscapeWildcards ProxyFtpListOnWildcard"},
		{heads, "", "mod_mime_magic.c", "MIMEMagicFile"},
		{bodies, "", "mod_proxy_html.c", "ProxyHTMLLinks ProxyHTMLEvents ProxyHTMLURLMap ProxyHTMLEnable ProxyHTMLDocType ProxyHTMLExtended ProxyHTMLFixups ProxyHTMLInterp ProxyHTMLMeta ProxyHTMLStripComments ProxyHTMLBufSize ProxyHTMLCharsetOut"},
		{evaluated, "", "mod_proxy.c", "ProxyPass"},
		{decides, "", "mod_proxy.c", "ProxyPassMatch Proxy ProxyMatch ProxyRemote ProxyBlock NoProxy ProxyErrorOverride"},
		{decides, "", "mod_rewrite.c", "RewriteMap"},
		{decides, "Options", "mod_speling.c", "CheckSpelling CheckCaseOnly"},
		{decides, "", "mod_vhost_alias.c", "VirtualDocumentRoot VirtualScriptAlias"},
		{decides, "", "mod_remoteip.c", "RemoteIPHeader RemoteIPTrustedProxy RemoteIPInternalProxy RemoteIPProxyProtocol"},
		{decides, "", "mod_security2.c", "SecRuleEngine SecRule SecAction"},
		{decides, "AuthConfig", "mod_ssl.c", "SSLVerifyClient SSLRequireSSL SSLRequire"},
		{decides, "", "mod_cache.c", "CacheEnable CacheDisable CacheQuickHandler"},
		{heads, "", "mod_proxy.c", "ProxyPassReverse ProxyPassReverseCookieDomain ProxyPassReverseCookiePath"},
		{heads, "Indexes", "mod_cern_meta.c", "MetaFiles MetaDir MetaSuffix"},
		{bodies, "FileInfo", "mod_substitute.c", "Substitute SubstituteMaxLineLength SubstituteInheritBefore"},
		{bodies, "Options", "mod_include.c", "XBitHack"},
		{bodies, "Limit", "mod_include.c", "SSILegacyExprParser"},
		{cookies, "FileInfo", "mod_usertrack.c", "CookieTracking CookieName CookieExpires CookieDomain CookieStyle"},
	} {
		for _, name := range strings.Fields(group.names) {
			rows[strings.ToLower(name)] = row{name, group.kind, group.permit, group.module}
		}
	}
}

// overriding is what override files may do in a folder.
type overriding struct {
	groups []string // AuthConfig, FileInfo, ...; nil for none
	list   []string // single directives
	soft   []string // what is only passed over where it is not allowed
	node   *directives.Node
	listed *directives.Node
}

// with is it after a directive AllowOverride or AllowOverrideList.
func (o overriding) with(n *directives.Node) overriding {
	if n.Is("AllowOverrideList") {
		o.list, o.listed = nil, n
		if !strings.EqualFold(n.Arg(0), "None") {
			o.list = n.Args
		}
		return o
	}
	o.groups, o.soft, o.node = nil, nil, n
	for _, word := range n.Args {
		name, value, _ := strings.Cut(strings.ToLower(word), "=")
		switch name {
		case "none":
		case "all":
			o.groups = append(o.groups, "AuthConfig", "FileInfo", "Indexes", "Limit", "Options")
		case "authconfig", "fileinfo", "indexes", "limit":
			o.groups = append(o.groups, map[string]string{"authconfig": "AuthConfig", "fileinfo": "FileInfo", "indexes": "Indexes", "limit": "Limit"}[name])
		case "options":
			o.groups = append(o.groups, "Options")
			_ = value
		case "nonfatal":
			o.soft = append(o.soft, value)
		}
	}
	return o
}

func (o overriding) none() bool { return len(o.groups) == 0 && len(o.list) == 0 }

// says is where it is said.
func (o overriding) says() string {
	if o.node == nil {
		return "AllowOverride is None unless something says otherwise"
	}
	return o.node.String() + " in " + at(o.node).String()
}

// A refusal is why a directive of an override file takes the folder down.
type refusal struct {
	at      *directives.Node
	because string
	softly  string // by which word of Nonfatal it is only passed over; "" for none
}

// forbids is why a directive may not stand in an override file, and takes the folder down; nil when it may.
func (o overriding) forbids(n *directives.Node, server *directives.Tree) *refusal {
	if n.Hole != "" {
		return nil
	}
	refused := func(softly, format string, args ...any) *refusal {
		return &refusal{n, fmt.Sprintf(format, args...) + ", so everything in this folder and below it answers 500", softly}
	}
	known, is := rows[strings.ToLower(n.Name)]
	switch {
	case !is && strings.ContainsFunc(n.Name, func(r rune) bool { return r <= ' ' || r >= 0x7f }):
		return refused("unknown", "%s is no directive of any module", strconv.Quote(n.Name))
	case !is:
		return nil
	case server.Modules[known.module] == "" && known.module != "core.c":
		return refused("unknown", "%s is a directive of %s, which is not loaded", n.Name, known.module)
	case known.permit == "":
		return refused("override", "%s may not stand in an override file", n.Name)
	case known.permit == "All" && len(o.groups) == 0 && !o.lists(n), known.permit != "All" && !o.has(known.permit) && !o.lists(n):
		return refused("override", "%s in an override file needs AllowOverride %s, and %s", n.Name, strings.ReplaceAll(known.permit, "|", " or "), o.says())
	case n.Is("Error"):
		return refused("", "%s says that it is one", n.Name)
	case n.Is("Header") && tooMany(n.Args):
		return refused("", "%s has more words than it takes", n.Name)
	}
	_, why := o.permitted(n.Body, server)
	return why
}

// permitted are the directives that count where not all may stand, and why the first of the others takes the folder down; nil when they
// are only passed over.
func (o overriding) permitted(nodes []*directives.Node, server *directives.Tree) (count []*directives.Node, down *refusal) {
	for _, n := range nodes {
		switch why := o.forbids(n, server); {
		case why == nil && len(n.Body) > 0:
			within := *n
			within.Body, _ = o.permitted(n.Body, server)
			count = append(count, &within)
		case why == nil:
			count = append(count, n)
		case why.softly == "" || !slices.Contains(o.soft, "all") && !slices.Contains(o.soft, why.softly):
			return nil, &refusal{why.at, why.because, ""}
		}
	}
	return count, nil
}

// InOverride tells whether a directive is known here as one that may stand in an override file of a server, by some AllowOverride, and how it
// is usually written.
func InOverride(n *directives.Node, server *directives.Tree) (name string, may bool) {
	known, is := rows[strings.ToLower(n.Name)]
	return known.name, is && known.permit != "" && !n.Is("Error") && (server.Modules[known.module] != "" || known.module == "core.c")
}

// has tells whether one of some groups is allowed.
func (o overriding) has(permit string) bool {
	return slices.ContainsFunc(strings.Split(permit, "|"), func(group string) bool { return slices.Contains(o.groups, group) })
}

// lists tells whether AllowOverrideList names a directive: a section with the sign that it begins with.
func (o overriding) lists(n *directives.Node) bool {
	name := n.Name
	if n.Block {
		name = "<" + name
	}
	return slices.ContainsFunc(o.list, func(listed string) bool { return strings.EqualFold(listed, name) })
}

// tooMany tells whether Header has more words than it takes: a condition, what is done, the name, a value, another for edits, and when.
func tooMany(words []string) bool {
	if len(words) > 0 && (strings.EqualFold(words[0], "always") || strings.EqualFold(words[0], "onsuccess")) {
		words = words[1:]
	}
	most := 3
	if len(words) > 0 && strings.HasPrefix(strings.ToLower(words[0]), "edit") {
		most = 4
	}
	if last := len(words) - 1; last >= 0 && (strings.EqualFold(words[last], "early") || strings.HasPrefix(words[last], "env=") || strings.HasPrefix(words[last], "expr=")) {
		most++
	}
	return len(words) > most
}

// unknownDirective is why it cannot be told what a directive of an override file does.
func unknownDirective(n *directives.Node) *facts.Reason {
	if _, known := rows[strings.ToLower(n.Name)]; known || n.Hole != "" {
		return nil
	}
	return &facts.Reason{Because: n.Name + " is not known here: when no module of the server has it, everything below answers 500", Origin: at(n)}
}
