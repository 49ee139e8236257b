package directives

import (
	"strings"
)

// Apache knows a module by its identifier, which LoadModule names, and by the name of its source, which stands in the module itself. The
// second mostly follows from the first.

// builtIn are the modules that are part of the program itself, as Debian and the makers build it, by their identifiers.
var builtIn = []string{"core", "so", "http", "unixd", "log_config", "logio", "version", "watchdog"}

// sources are those of modules whose source is not called mod_IDENTIFIER.c.
var sources = map[string]string{
	"core": "core.c", "http": "http_core.c", "mpm_event": "event.c", "mpm_prefork": "prefork.c", "mpm_worker": "worker.c", "ldap": "util_ldap.c",
}

// named are the modules of Apache itself, and such others as many have, whose source is called mod_IDENTIFIER.c.
var named = strings.Fields(`
access_compat actions alias allowhandlers allowmethods asis auth_basic auth_digest auth_form authn_anon authn_core authn_dbd authn_dbm authn_file
authn_socache authnz_fcgi authnz_ldap authz_core authz_dbd authz_dbm authz_groupfile authz_host authz_owner authz_user autoindex brotli
bucketeer buffer cache cache_disk cache_socache case_filter case_filter_in cern_meta cgi cgid charset_lite data dav dav_fs dav_lock dbd deflate dialup dir dumpio
echo env expires ext_filter file_cache filter headers heartbeat heartmonitor http2 ident imagemap include info
lbmethod_bybusyness lbmethod_byrequests lbmethod_bytraffic lbmethod_heartbeat log_config log_debug log_forensic logio lua macro md mime mime_magic
negotiation privileges proxy proxy_ajp proxy_balancer proxy_connect proxy_express proxy_fcgi proxy_fdpass proxy_ftp proxy_hcheck proxy_html proxy_http proxy_http2
proxy_scgi proxy_uwsgi proxy_wstunnel ratelimit reflector remoteip reqtimeout request rewrite sed session session_cookie session_crypto session_dbd setenvif
slotmem_plain slotmem_shm so socache_dbm socache_dc socache_memcache socache_redis socache_shmcb speling ssl status substitute suexec systemd unique_id unixd userdir
usertrack version vhost_alias watchdog xml2enc php php7 php5 fcgid wsgi perl security2 dav_svn authz_svn`)

// sourceOf is how the source of a module is called; "" when nobody here knows.
func sourceOf(identifier string) string {
	short := strings.TrimSuffix(identifier, "_module")
	if source, other := sources[short]; other {
		return source
	}
	for _, name := range named {
		if name == short {
			return "mod_" + short + ".c"
		}
	}
	return ""
}

// load notes that a module is there, and from where.
func (t *Tree) load(identifier, place string) {
	t.Modules[identifier] = place
	if source := sourceOf(identifier); source != "" {
		t.Modules[source] = place
	} else {
		t.foreign++
	}
}

// hasModule tells whether a module is loaded that is asked for by a name. Known is false where it may be one whose source nobody here
// knows by name.
func (t *Tree) hasModule(name string) (loaded, known bool) {
	if _, loaded = t.Modules[name]; loaded {
		return true, true
	}
	return false, t.foreign == 0 || !strings.HasSuffix(name, ".c") || isSource(name)
}

// isSource tells whether the source of a module that is known here is called so.
func isSource(name string) bool {
	short := strings.TrimSuffix(strings.TrimPrefix(name, "mod_"), ".c")
	if sourceOf(short) == name {
		return true
	}
	for _, source := range sources {
		if source == name {
			return true
		}
	}
	return false
}
