package nginx

// A class says of a directive what is made of it here.
type class int

const (
	unheard   class = iota // not in the table: it may touch everything
	evaluated              // it is carried out here
	harmless               // it touches nothing that is told
	decides                // it decides whether a request goes on, and is not evaluated
	answers                // it makes the answer, and is not evaluated
	heads                  // it changes headers, and is not evaluated
	bodies                 // it changes the body, and with it what tells versions of it apart
	cookies                // it sets cookies
)

// classes is the table of directives.
var classes = map[string]class{}

func classOf(name string) class { return classes[name] }

// classWords say what is made of a directive of each class.
var classWords = map[class]string{evaluated: "carried out", harmless: "touches nothing that is told", decides: "not carried out; whether a request goes on is then not told", answers: "not carried out; the answer is then not told",
	heads: "not carried out; headers are then not told", bodies: "not carried out; ETag and Last-Modified are then not told", cookies: "not carried out; Set-Cookie is then not told"}

// Directives are all that the table has, with what is made of each.
func Directives() map[string]string {
	all := map[string]string{}
	for name, kind := range classes {
		all[name] = classWords[kind]
	}
	return all
}

func init() {
	for kind, names := range map[class][]string{
		evaluated: {"http", "server", "location", "listen", "server_name", "root", "alias", "index", "try_files", "return", "rewrite", "if", "set", "break", "internal", "error_page", "recursive_error_pages",
			"autoindex", "autoindex_format", "auth_basic", "satisfy", "allow", "deny", "add_header", "expires", "map", "etag", "charset", "charset_types", "gzip", "gzip_types", "gzip_min_length", "gzip_vary", "gzip_disable", "gzip_proxied",
			"server_tokens", "client_max_body_size", "absolute_redirect", "server_name_in_redirect", "port_in_redirect", "merge_slashes", "types", "default_type", "include",
			"fastcgi_pass", "fastcgi_param", "fastcgi_index", "fastcgi_split_path_info", "fastcgi_intercept_errors", "fastcgi_hide_header", "fastcgi_pass_header",
			"fastcgi_cache", "fastcgi_cache_key", "fastcgi_cache_min_uses", "fastcgi_cache_methods", "fastcgi_cache_use_stale", "fastcgi_cache_valid", "fastcgi_cache_bypass", "fastcgi_no_cache", "fastcgi_ignore_headers",
			"proxy_pass", "proxy_set_header", "proxy_intercept_errors", "proxy_hide_header", "proxy_pass_header",
			"proxy_cache", "proxy_cache_key", "proxy_cache_min_uses", "proxy_cache_methods", "proxy_cache_use_stale", "proxy_cache_valid", "proxy_cache_bypass", "proxy_no_cache", "proxy_ignore_headers",
			"uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass", "upstream", "limit_req", "disable_symlinks", "stub_status", "empty_gif", "ssl", "ssl_protocols"},
		harmless: {"user", "worker_processes", "worker_connections", "worker_rlimit_nofile", "worker_cpu_affinity", "worker_priority", "worker_shutdown_timeout", "pid", "error_log", "daemon", "master_process", "load_module", "events", "use", "multi_accept", "accept_mutex", "env", "pcre_jit", "thread_pool", "timer_resolution", "lock_file", "debug_connection", "working_directory",
			"access_log", "log_format", "log_not_found", "log_subrequest", "open_log_file_cache", "rewrite_log", "uninitialized_variable_warn",
			"sendfile", "sendfile_max_chunk", "tcp_nopush", "tcp_nodelay", "aio", "aio_write", "directio", "directio_alignment", "output_buffers", "postpone_output", "read_ahead", "send_lowat", "open_file_cache", "open_file_cache_valid", "open_file_cache_min_uses", "open_file_cache_errors",
			"keepalive_timeout", "keepalive_requests", "keepalive_time", "keepalive_disable", "lingering_close", "lingering_time", "lingering_timeout", "reset_timedout_connection", "send_timeout", "client_body_timeout", "client_header_timeout", "resolver", "resolver_timeout",
			"client_body_buffer_size", "client_body_temp_path", "client_body_in_file_only", "client_body_in_single_buffer", "client_header_buffer_size", "large_client_header_buffers", "connection_pool_size", "request_pool_size", "subrequest_output_buffer_size", "ignore_invalid_headers", "underscores_in_headers", "max_ranges", "chunked_transfer_encoding", "limit_rate", "limit_rate_after", "server_names_hash_bucket_size", "server_names_hash_max_size", "types_hash_max_size", "types_hash_bucket_size", "variables_hash_max_size", "variables_hash_bucket_size", "map_hash_max_size", "map_hash_bucket_size", "msie_padding", "msie_refresh",
			"autoindex_exact_size", "autoindex_localtime", "auth_basic_user_file", "auth_delay", "gzip_comp_level", "gzip_buffers", "gzip_http_version", "gunzip_buffers", "override_charset", "source_charset", "charset_map", "if_modified_since",
			"ssl_certificate", "ssl_certificate_key", "ssl_ciphers", "ssl_prefer_server_ciphers", "ssl_session_cache", "ssl_session_timeout", "ssl_session_tickets", "ssl_session_ticket_key", "ssl_stapling", "ssl_stapling_verify", "ssl_stapling_file", "ssl_stapling_responder", "ssl_trusted_certificate", "ssl_dhparam", "ssl_ecdh_curve", "ssl_buffer_size", "ssl_early_data", "ssl_conf_command", "ssl_password_file", "ssl_crl", "ssl_client_certificate", "ssl_verify_depth", "http2_max_concurrent_streams", "http2_chunk_size", "http2_body_preread_size", "http2_push_preload", "http2",
			"limit_req_zone", "limit_req_status", "limit_req_log_level", "limit_req_dry_run", "limit_conn_zone", "limit_conn_log_level", "limit_conn_status", "limit_conn_dry_run", "limit_conn",
			"geo", "split_clients", "geoip_country", "geoip_city", "geoip2", "valid_referers", "referer_hash_max_size", "secure_link", "secure_link_md5", "secure_link_secret", "realip_header",
			"add_trailer", "mirror_request_body", "mirror", "push_stream_ping_message_interval", "mail", "stream", "autoindex_footer", "status_zone", "zone", "least_conn", "ip_hash", "hash", "random", "keepalive",
			"fastcgi_buffers", "fastcgi_buffer_size", "fastcgi_buffering", "fastcgi_busy_buffers_size", "fastcgi_temp_path", "fastcgi_temp_file_write_size", "fastcgi_max_temp_file_size", "fastcgi_read_timeout", "fastcgi_send_timeout", "fastcgi_connect_timeout", "fastcgi_keep_conn", "fastcgi_cache_path", "fastcgi_cache_lock", "fastcgi_cache_lock_timeout", "fastcgi_cache_lock_age", "fastcgi_cache_background_update", "fastcgi_cache_revalidate", "fastcgi_next_upstream", "fastcgi_next_upstream_tries", "fastcgi_next_upstream_timeout", "fastcgi_ignore_client_abort", "fastcgi_pass_request_headers", "fastcgi_pass_request_body", "fastcgi_request_buffering", "fastcgi_socket_keepalive", "fastcgi_catch_stderr", "fastcgi_limit_rate", "fastcgi_bind",
			"proxy_buffers", "proxy_buffer_size", "proxy_buffering", "proxy_busy_buffers_size", "proxy_temp_path", "proxy_temp_file_write_size", "proxy_max_temp_file_size", "proxy_read_timeout", "proxy_send_timeout", "proxy_connect_timeout", "proxy_http_version", "proxy_cache_path", "proxy_cache_lock", "proxy_cache_lock_timeout", "proxy_cache_lock_age", "proxy_cache_background_update", "proxy_cache_revalidate", "proxy_cache_convert_head", "proxy_cache_max_range_offset", "proxy_next_upstream", "proxy_next_upstream_tries", "proxy_next_upstream_timeout", "proxy_ignore_client_abort", "proxy_pass_request_headers", "proxy_pass_request_body", "proxy_request_buffering", "proxy_socket_keepalive", "proxy_headers_hash_max_size", "proxy_headers_hash_bucket_size", "proxy_ssl_server_name", "proxy_ssl_verify", "proxy_ssl_name", "proxy_ssl_protocols", "proxy_ssl_ciphers", "proxy_ssl_trusted_certificate", "proxy_ssl_session_reuse", "proxy_ssl_verify_depth", "proxy_limit_rate", "proxy_bind",
			"proxy_redirect", "uwsgi_temp_path", "scgi_temp_path", "uwsgi_param", "uwsgi_read_timeout", "scgi_param", "disable_symlinks_from"},
		decides: {"auth_request", "auth_request_set", "auth_jwt", "limit_except", "set_real_ip_from", "real_ip_header", "real_ip_recursive", "perl_set", "js_set", "js_content", "js_access", "lua_package_path",
			"access_by_lua_block", "access_by_lua_file", "rewrite_by_lua_block", "rewrite_by_lua_file", "set_by_lua_block", "ssl_verify_client", "ssl_reject_handshake", "modsecurity", "modsecurity_rules", "modsecurity_rules_file", "postpone_gzipping"},
		answers: {"content_by_lua_block", "content_by_lua_file", "perl", "dav_methods", "random_index", "flv", "mp4", "image_filter", "gzip_static", "brotli_static", "fancyindex", "echo", "push_stream_publisher", "proxy_method"},
		heads:   {"more_set_headers", "more_clear_headers", "header_filter_by_lua_block", "js_header_filter", "brotli", "zstd", "proxy_cookie_path", "proxy_cookie_domain", "proxy_cookie_flags", "slice", "gunzip"},
		bodies:  {"sub_filter", "sub_filter_once", "sub_filter_types", "sub_filter_last_modified", "ssi", "addition_types", "add_before_body", "add_after_body", "body_filter_by_lua_block", "xslt_stylesheet", "xml_entities"},
		cookies: {"userid", "sticky"},
	} {
		for _, name := range names {
			classes[name] = kind
		}
	}
}
