package runtime

import (
	"strconv"
	"strings"

	"weltaxis/internal/facts"
)

// Where a directive may be set: the runtime's own bits (PHP manual, "Where a configuration setting may be set").
const (
	byScript = 1 // while a program runs
	byFolder = 2 // for a folder: .user.ini, an override file, a line of the web server
	bySystem = 4 // php.ini, the pool's and the web server's administrative lines
)

// A directive of the runtime, as far as anything follows from it.
type directive struct {
	initial string // when nothing says otherwise
	may     int
	// refuses tells that the runtime does not take a value, and keeps the one before.
	refuses func(string) bool
	only    string // the module that it belongs to, where that may be missing
	built   string // what Debian's packages were made with, where that decides what it is at first
}

// directives are those that are worked out. What is not here is not looked at.
var directives = map[string]directive{
	"display_errors":          {initial: "1", may: 7},
	"display_startup_errors":  {initial: "1", may: 7},
	"html_errors":             {initial: "1", may: 7},
	"log_errors":              {initial: "0", may: 7},
	"error_log":               {may: 7},
	"error_reporting":         {may: 7},
	"expose_php":              {initial: "1", may: 4},
	"allow_url_fopen":         {initial: "1", may: 4},
	"allow_url_include":       {initial: "0", may: 4},
	"file_uploads":            {initial: "1", may: 4},
	"upload_max_filesize":     {initial: "2M", may: 6},
	"post_max_size":           {initial: "8M", may: 6},
	"max_file_uploads":        {initial: "20", may: 6},
	"memory_limit":            {initial: "128M", may: 7},
	"max_execution_time":      {initial: "30", may: 7},
	"max_input_time":          {initial: "-1", may: 6},
	"max_input_vars":          {initial: "1000", may: 6},
	"auto_prepend_file":       {may: 6},
	"auto_append_file":        {may: 6},
	"open_basedir":            {may: 7},
	"disable_functions":       {may: 4},
	"enable_dl":               {initial: "1", may: 4},
	"cgi.fix_pathinfo":        {initial: "1", may: 4}, // by which Limits go
	"user_ini.filename":       {initial: ".user.ini", may: 4},
	"user_ini.cache_ttl":      {initial: "300", may: 4},
	"session.name":            {initial: "PHPSESSID", may: 7, refuses: noSessionName},
	"session.cookie_httponly": {initial: "0", may: 7},
	"session.cookie_secure":   {initial: "0", may: 7},
	"session.cookie_samesite": {may: 7},
	"session.cookie_lifetime": {initial: "0", may: 7, refuses: noLifetime},
	"session.use_strict_mode": {initial: "0", may: 7},
	// The two below say whether a session may stand in an address, where others read it.
	"session.use_only_cookies":    {initial: "1", may: 7},
	"session.use_trans_sid":       {initial: "0", may: 7},
	"session.gc_maxlifetime":      {initial: "1440", may: 7},
	"session.save_path":           {may: 7, built: "/var/lib/php/sessions"},
	"zlib.output_compression":     {initial: "0", may: 7},
	"output_buffering":            {initial: "0", may: 6},
	"default_charset":             {initial: "UTF-8", may: 7},
	"short_open_tag":              {initial: "1", may: 6},
	"zend.exception_ignore_args":  {initial: "0", may: 7},
	"opcache.enable":              {initial: "1", may: 7, only: "Zend OPcache"},
	"opcache.memory_consumption":  {initial: "128", may: 4, only: "Zend OPcache"},
	"opcache.validate_timestamps": {initial: "1", may: 7, only: "Zend OPcache"},
	"opcache.revalidate_freq":     {initial: "2", may: 7, only: "Zend OPcache"},
}

func noSessionName(value string) bool {
	_, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
	return value == "" || err == nil
}

func noLifetime(value string) bool { return leadingNumber(value) < 0 }

// yes is what the runtime makes of a value that means yes or no.
func yes(value string) bool {
	switch strings.ToLower(value) {
	case "true", "yes", "on":
		return true
	}
	return leadingNumber(value) != 0
}

// showing is what the runtime makes of display_errors, which may also say where to: to a visitor in any case, unless there is
// none.
func showing(value string) bool {
	switch strings.ToLower(value) {
	case "stderr", "stdout":
		return true
	}
	return yes(value)
}

// quantity is a size as the runtime reads it: digits with a sign, in the notation that a prefix says, white space, and a letter
// for a power of 1024. Of what is more or other than that it takes what it can; wrong says what.
func quantity(value string) (n int64, wrong string) {
	text := strings.Trim(value, " \t\n\r\v\f")
	if text == "" {
		return 0, ""
	}
	rest, negative := text, false
	if rest[0] == '-' || rest[0] == '+' {
		negative, rest = rest[0] == '-', rest[1:]
	}
	base := 10
	if len(rest) > 1 && rest[0] == '0' {
		switch rest[1] {
		case 'x', 'X':
			base, rest = 16, rest[2:]
		case 'o', 'O':
			base, rest = 8, rest[2:]
		case 'b', 'B':
			base, rest = 2, rest[2:]
		default:
			if rest[1] >= '0' && rest[1] <= '9' {
				base = 8
			}
		}
	}
	end := 0
	for end < len(rest) && digit(rest[end]) < base {
		end++
	}
	if end == 0 {
		return 0, "it has no digits at its beginning"
	}
	u, err := strconv.ParseUint(rest[:end], base, 64)
	if err != nil {
		wrong = "it is too large"
	}
	n = int64(u)
	if negative {
		n = -n
	}
	unit := strings.TrimLeft(rest[end:], " \t\n\r\v\f")
	if unit == "" {
		return n, wrong
	}
	shift, last := 0, unit[len(unit)-1]
	switch last {
	case 'k', 'K':
		shift = 10
	case 'm', 'M':
		shift = 20
	case 'g', 'G':
		shift = 30
	default:
		return n, "it ends in no K, M or G"
	}
	if len(unit) > 1 {
		wrong = "something stands between the digits and the letter"
	}
	return n << shift, wrong
}

func digit(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return 99
}

// typed is a value of a directive as the catalogue has it, and what is wrong with the spelling.
func typed(field facts.Field, directive, value string) (v facts.Value, wrong string) {
	switch field.Type {
	case facts.Bool:
		if directive == "display_errors" || directive == "display_startup_errors" {
			return facts.BoolOf(showing(value)), ""
		}
		return facts.BoolOf(yes(value)), ""
	case facts.Size, facts.Int, facts.Duration:
		n, wrong := quantity(value)
		return facts.NumberOf(field.Type, n), wrong
	}
	return facts.TextOf(facts.String, value), ""
}
