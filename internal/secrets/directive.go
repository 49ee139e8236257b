package secrets

import (
	"regexp"
	"slices"
	"strings"
)

// What may hold a secret in the configuration of a web server or a runtime is told by the place: the directive, the parameter, the header, the
// variable that it stands behind. Names are those of nginx (http://nginx.org/en/docs/dirindex.html) and Apache (mod/quickreference).

var (
	// pairs give a name and then its value.
	pairs = setOf(`fastcgi_param uwsgi_param scgi_param proxy_set_header grpc_set_header add_header add_trailer set auth_request_set set_form_input more_set_headers more_set_input_headers
		setenv header requestheader define php_value php_admin_value php_flag php_admin_flag substitute sub_filter subs_filter set_unescape_uri perl_set js_set js_var balancermember proxyset luamapset mdexternalaccountbinding sessioncookiename sessioncookiename2`)
	// own are directives whose own words are secret; a path among them is none.
	own     = setOf("secure_link_md5 secure_link_secret sessioncryptopassphrase authldapbindpassword dbdparams mdexternalaccountbinding authdigestrealmseed secret_key")
	ownLast = regexp.MustCompile(`(?i)^[a-z][a-z0-9_.]*?(?:password|passwd|passphrase|secret|secret_?key|api_?key|private_?key|token|credentials?|hmac_?key)$`)
	// rewriting gives addresses, in which a part may be a key.
	rewriting = setOf("rewrite rewriterule rewritecond location locationmatch return redirect redirectmatch redirectpermanent redirecttemp alias aliasmatch try_files proxy_pass proxypass proxypassmatch fallbackresource errordocument error_page if if_modified_since")
	// patterns hold a variable or a header against a pattern; expressions hold names and what they are compared with.
	patterns    = setOf("rewritecond setenvif setenvifnocase")
	expressions = setOf("if elseif require setenvifexpr")

	variables = regexp.MustCompile(`\$\{?[A-Za-z_0-9]+\}?|%\{[^}]*\}[a-zA-Z]?`)
	compared  = regexp.MustCompile(`((?:%\{[^}]*\}|\$\{?[A-Za-z0-9_]+\}?|\b[a-z_]+\(\s*['"][^'"]*['"]\s*\))['"]?\s*(?:!?[=~]+\*?|-(?:eq|ne|in|strmatch|strcmatch)|in|eq|ne)\s*)('[^']*'|"[^"]*"|m?[/#][^/#]*[/#][a-z]*|\{[^}]*\}|[^\s()>]+)`)
	segment   = regexp.MustCompile(`[A-Za-z0-9]{10,}`)
	scheme    = regexp.MustCompile(`(?i)\b(?:bearer|basic|digest|negotiate)\b *`)
	literal   = regexp.MustCompile(`[A-Za-z0-9]{3,}`)
)

// Directive is the words behind a directive of a web server or a runtime as they may be shown: each in its place, and in the place of a secret
// Hidden. A word that is put together keeps its variables.
func Directive(name string, args []string) []string {
	if len(args) == 0 {
		return nil
	}
	shown := slices.Clone(args)
	lower := strings.ToLower(strings.TrimLeft(name, "<"))
	if own[lower] || ownLast.MatchString(lower) && !strings.HasPrefix(args[0], "=") && !strings.HasPrefix(args[0], ":") {
		for i, arg := range args {
			if !strings.HasPrefix(arg, "/") && !strings.HasPrefix(arg, "file:") && !strings.HasPrefix(arg, "exec:") && arg != "builtin" {
				shown[i] = hiddenWord(arg)
			}
		}
	}
	if i := slices.IndexFunc(args[:min(len(args), 3)], func(arg string) bool { return Key(plainName(arg)) }); pairs[lower] && i >= 0 && i+1 < len(args) {
		switch {
		case i > 0 && strings.HasPrefix(strings.ToLower(args[i-1]), "edit"): // held against a pattern, and then what takes its place
			if i+2 < len(args) && isCookie(args[i]) {
				shown[i+2] = cookieValues(args[i+2])
			} else if i+2 < len(args) {
				shown[i+2] = hiddenWord(args[i+2])
			}
		case isCookie(args[i]) && strings.Contains(args[i+1], "="):
			shown[i+1] = cookieValues(args[i+1])
		default:
			shown[i+1] = hiddenWord(args[i+1])
		}
	}
	switch {
	case patterns[lower] && len(args) > 1:
		shown[1] = against(args[0], args[1])
	case expressions[lower] && len(args) > 2 && variables.MatchString(args[0]): // nginx: three words
		for i := 2; i < len(args); i++ {
			shown[i] = against(args[0], args[i])
		}
	case expressions[lower]:
		for i, arg := range args {
			shown[i] = compared.ReplaceAllStringFunc(arg, func(part string) string {
				m := compared.FindStringSubmatch(part)
				return m[1] + against(m[1], m[2])
			})
		}
	}
	for i, arg := range shown {
		if arg != args[i] {
			continue // there is nothing else in it
		}
		arg = Shown(arg)
		if at := strings.IndexByte(arg, ':'); at > 0 && strings.Trim(arg[:at], "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_") == "" && Key(arg[:at]) && !harmless(strings.TrimSpace(arg[at+1:])) && !strings.HasPrefix(arg[at+1:], "//") {
			arg = arg[:at+1] + blankOf(arg[at+1:]) + Hidden
		}
		if strings.HasPrefix(arg, "[") && lower == "rewriterule" {
			arg = flags(arg)
		}
		if rewriting[lower] {
			arg = inPath(arg)
		}
		shown[i] = run.ReplaceAllStringFunc(arg, hideRandom)
	}
	return shown
}

func blankOf(text string) string { return text[:len(text)-len(strings.TrimLeft(text, " "))] }

// plainName is a word that may be the name of a parameter, a header or a variable; "" for one that may not.
func plainName(word string) string {
	word = strings.Trim(word, `$"'`)
	if strings.Trim(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_.[]") != "" {
		return ""
	}
	return word
}

func isCookie(name string) bool {
	return strings.HasSuffix(strings.ToLower(strings.Trim(name, `$"'`)), "cookie")
}

// hiddenWord is a word whose literal parts are hidden, and whose variables are not; itself where it is harmless.
func hiddenWord(word string) string {
	bare := strings.Trim(word, `"'`)
	if harmless(bare) || harmless(strings.TrimSpace(variables.ReplaceAllString(bare, ""))) || patternOnly.MatchString(bare) {
		return word
	}
	var b strings.Builder
	last := 0
	put := func(text string) {
		text, quoteBefore := strings.TrimLeft(text, `"'`), text[:len(text)-len(strings.TrimLeft(text, `"'`))]
		b.WriteString(quoteBefore)
		asks := scheme.FindString(text)
		switch {
		case strings.Trim(text[len(asks):], ` :|/_-"')`) == "" && strings.HasPrefix(text, asks):
			b.WriteString(text)
		default:
			if strings.HasPrefix(text, asks) {
				b.WriteString(asks)
			}
			b.WriteString(Hidden)
			b.WriteString(text[len(strings.TrimRight(text, `)"'`)):])
		}
	}
	for _, at := range variables.FindAllStringIndex(word, -1) {
		if at[0] > last {
			put(word[last:at[0]])
		}
		b.WriteString(word[at[0]:at[1]])
		last = at[1]
	}
	if last < len(word) {
		put(word[last:])
	}
	return b.String()
}

// against is what a term is held against, as it may be shown: a text, or a pattern.
func against(term, value string) string {
	bare := strings.Trim(value, `!=<>^$"'()`)
	switch {
	case harmless(bare) || !literal.MatchString(scheme.ReplaceAllString(variables.ReplaceAllString(bare, ""), "")):
		return value
	case allCookies.MatchString(term): // what a cookie is called is no secret
		name, holds, both := strings.Cut(bare, "=")
		if !both || !literal.MatchString(holds) {
			return value
		}
		return strings.Replace(value, bare, name+"="+Hidden, 1)
	case secretTerm(term), strings.Contains(term, "$cookie_") && mixed(bare):
		return strings.Replace(value, bare, Hidden, 1)
	}
	return value
}

// pattern is how an expression begins that tells what a value looks like.
var pattern = regexp.MustCompile(`^(?:\((?:\?|\.|\[|\\)|\[[^\]"']*\][+*{?]|\.[*+]|\\[wSsd])`)

// patternOnly is an expression that says nothing of what it is to hold.
var patternOnly = regexp.MustCompile(`^[\^(]*(?:\.\*|\.\+|\[[^\]]*\][+*]|\\[wSsd][+*])[)$]*$`)

var allCookies = regexp.MustCompile(`(?i)\$http_cookie\b|HTTP_COOKIE|HTTP:\s*Cookie|\(\s*['"]Cookie['"]|^Cookie$`)

// secretTerm tells whether what is compared goes by the name of something secret: $http_x_token, %{HTTP:X-Token}, req('X-Token').
func secretTerm(text string) bool {
	text = strings.ToLower(text)
	for _, taken := range []string{"$http_", "$arg_", "$cookie_", "$sent_http_", "$upstream_http_", "%{http:", "%{env:", "%{req:", "%{"} {
		text = strings.ReplaceAll(text, taken, " ")
	}
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune(` "'(){}$%!=~,:`, r) }) {
		if Key(word) {
			return true
		}
	}
	return false
}

// flags hides what flags of a rewriting rule set: E=NAME:VALUE, CO=NAME:VALUE.
func flags(text string) string {
	words := strings.Split(strings.Trim(text, "[]"), ",")
	for i, word := range words {
		kind, rest, _ := strings.Cut(word, "=")
		name, value, both := strings.Cut(rest, ":")
		switch kind = strings.ToUpper(strings.TrimSpace(kind)); {
		case both && (kind == "E" || kind == "ENV") && Key(name) && !harmless(value):
			words[i] = kind + "=" + name + ":" + hiddenWord(value)
		case both && (kind == "CO" || kind == "COOKIE"):
			value, more, _ := strings.Cut(value, ":")
			if !harmless(value) {
				words[i] = strings.TrimSuffix(kind+"="+name+":"+hiddenWord(value)+":"+more, ":")
			}
		}
	}
	return "[" + strings.Join(words, ",") + "]"
}

// inPath hides parts of an address that look like a key, or stand behind a part that is called so.
func inPath(text string) string {
	pieces := strings.Split(text, "/")
	for i, piece := range pieces {
		bare := strings.Trim(piece, `^$()?*+\"'`)
		if i > 0 && bare != "" && Key(strings.Trim(pieces[i-1], `^$()?\"'`)) && !strings.ContainsAny(bare, `$.(`) && mixed(bare) {
			pieces[i] = strings.Replace(piece, bare, Hidden, 1)
			continue
		}
		pieces[i] = segment.ReplaceAllStringFunc(piece, func(word string) string {
			if strings.Contains(piece, ".") && len(word) < 20 && !strings.HasSuffix(piece, ".php") {
				return word // a file's name, with the digest of what it holds
			}
			if keyLike(word) {
				return Hidden
			}
			return word
		})
	}
	return strings.Join(pieces, "/")
}

// keyLike tells whether letters and digits stand among one another as in no name: not only a number at its end or beginning.
func keyLike(word string) bool {
	turns, digits, letters := 0, 0, 0
	var before rune
	for i, r := range word {
		digit := r >= '0' && r <= '9'
		if digit {
			digits++
		} else {
			letters++
		}
		if i > 0 && digit != (before >= '0' && before <= '9') {
			turns++
		}
		before = r
	}
	return digits >= 2 && letters >= 4 && turns >= 3
}

// Of is a value under a name as it may be shown.
func Of(name, value string) string {
	if Key(name) && !harmless(value) {
		return hiddenWord(value)
	}
	return Shown(value)
}

// Without is a text without the secrets that configurations hold by their places, as a server may quote them that was handed those.
func Without(text string, configurations ...string) string {
	for _, configuration := range configurations {
		for _, c := range cutsOf(configuration) {
			if word := strings.Trim(configuration[c.start:c.end], `"'`); len(word) >= 4 {
				text = strings.ReplaceAll(text, word, Hidden)
			}
		}
	}
	return Shown(text)
}

// Command is the words of a command as they may be shown: the program, its switches, and words that are names of programs, services and
// files; all others are hidden, since what a person writes there may be anything.
func Command(words []string) []string {
	shown := make([]string, len(words))
	secret := false // the word before asks for one
	for i, word := range words {
		name, value, assigns := strings.Cut(word, "=")
		switch {
		case i == 0:
			shown[i] = Shown(word)
			if assigns && !harmless(value) {
				shown[i] = name + "=" + Hidden
			}
		case secret, !plainWord.MatchString(word):
			if shown[i] = Hidden; assigns && plainSwitch.MatchString(name) {
				shown[i] = name + "=" + Hidden
			}
		default:
			shown[i] = word
		}
		secret = strings.HasPrefix(word, "-") && !assigns && (Key(word) || word == "-p" && i+1 < len(words) && !isPort(words[i+1]))
	}
	return shown
}

var (
	plainWord   = regexp.MustCompile(`^(?:--?[A-Za-z][A-Za-z-]{0,20}|/[A-Za-z0-9._/-]{1,80}|\.{0,2}/[A-Za-z0-9._/-]{1,80}|[a-z][a-z-]{0,20}(?:[0-9]{1,2}(?:\.[0-9]{1,2})?(?:-[a-z]{1,12})?)?(?:@[a-z0-9-]{1,20})?(?:\.service)?|(?:SIG)?(?:HUP|USR1|USR2|WINCH|TERM|QUIT)|[0-9]{1,5})$`)
	plainSwitch = regexp.MustCompile(`^-{0,2}[A-Za-z][A-Za-z0-9_-]{0,40}$`)
)
