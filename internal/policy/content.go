package policy

import (
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/dunglas/httpsfv"
)

// Transport is what Strict-Transport-Security says, and for how many seconds browsers are to come encrypted: -1 when it says nothing that counts.
// Only the first field counts, and one that is not as it ought to be counts for nothing (RFC 6797 §6.1, §8.1).
func Transport(header http.Header) (says string, seconds int64) {
	fields := header.Values("Strict-Transport-Security")
	if len(fields) == 0 {
		return "", -1
	}
	seconds = -1
	seen := map[string]bool{}
	for _, part := range strings.Split(fields[0], ";") {
		name, value, _ := strings.Cut(part, "=")
		name = strings.ToLower(strings.TrimSpace(name))
		if name == "" {
			continue
		}
		if seen[name] {
			return fields[0], -1
		}
		seen[name] = true
		if name == "max-age" {
			n, err := strconv.ParseUint(strings.Trim(strings.TrimSpace(value), `"`), 10, 62)
			if err != nil {
				return fields[0], -1
			}
			seconds = int64(n)
		}
	}
	return fields[0], seconds
}

// What a policy may let run, the worst first.
const (
	AnyHost   = "scripts of any host"
	FromData  = "scripts in data: addresses"
	Inline    = "scripts written into the page"
	FromText  = "text that is taken for a script"
	AnyObject = "embedded objects of any host"
	AnyBase   = "another base for the addresses of its scripts"
)

var nonceOrHash = regexp.MustCompile(`^'(nonce-|sha256-|sha384-|sha512-)`)

// Scripts is what Content-Security-Policy says, in headers and in the metas of a page, and what it lets run besides what the site means to, the worst
// first: everything without a policy. Of several policies all must let it (Content Security Policy Level 3 §2.2, §3.3, §6.7). One that only reports
// is none.
func Scripts(header http.Header, metas ...string) (says string, lets []string) {
	lets = []string{AnyHost, FromData, Inline, FromText, AnyObject, AnyBase}
	var policies []string
	for _, field := range slices.Concat(header.Values("Content-Security-Policy"), metas) {
		for _, policy := range strings.Split(field, ",") {
			if strings.TrimSpace(policy) == "" {
				continue
			}
			policies = append(policies, strings.TrimSpace(policy))
			allowed := letsRun(policy)
			lets = slices.DeleteFunc(lets, func(what string) bool { return !slices.Contains(allowed, what) })
		}
	}
	return strings.Join(policies, ", "), lets
}

// letsRun is what one policy lets run.
func letsRun(policy string) (lets []string) {
	if boxed, there := directive(policy, "sandbox"); there && !slices.Contains(boxed, "allow-scripts") {
		return nil // then nothing runs (HTML Standard, sandboxed scripts browsing context flag)
	}
	first := func(names ...string) ([]string, bool) {
		for _, name := range names {
			if sources, there := directive(policy, name); there {
				return sources, true
			}
		}
		return nil, false
	}
	scripts, limited := first("script-src-elem", "script-src", "default-src")
	strict := slices.Contains(scripts, "'strict-dynamic'")
	if !limited || !strict && open(scripts) {
		lets = append(lets, AnyHost)
	}
	if !limited || !strict && slices.Contains(scripts, "data:") {
		lets = append(lets, FromData)
	}
	handlers, alsoLimited := first("script-src-attr", "script-src", "default-src") // what stands in attributes, as onclick
	if !limited || !alsoLimited || letsInline(scripts) || letsInline(handlers) {
		lets = append(lets, Inline)
	}
	evaluated, bounded := first("script-src", "default-src")
	if !bounded || slices.Contains(evaluated, "'unsafe-eval'") {
		lets = append(lets, FromText)
	}
	if objects, bounded := first("object-src", "default-src"); !bounded || open(objects) {
		lets = append(lets, AnyObject)
	}
	// A base that an attacker sets matters where scripts are trusted by a nonce, whatever address they come from (CSP Level 3 §6.3.1).
	if _, bounded := first("base-uri"); !bounded && (!limited || slices.ContainsFunc(scripts, func(s string) bool { return strings.HasPrefix(s, "'nonce-") })) {
		lets = append(lets, AnyBase)
	}
	return lets
}

// letsInline tells whether a list of sources lets run what is written into the page (Content Security Policy Level 3 §6.7.3.2).
func letsInline(sources []string) bool {
	return slices.Contains(sources, "'unsafe-inline'") && !slices.Contains(sources, "'strict-dynamic'") && !slices.ContainsFunc(sources, nonceOrHash.MatchString)
}

// Features is what Permissions-Policy says, and how many features it keeps from other sites' frames, or from all: 0 when it is no
// dictionary (Permissions Policy §5.2, RFC 9651 §3.2), for then it counts for nothing.
func Features(header http.Header) (says string, limited int) {
	fields := header.Values("Permissions-Policy")
	if len(fields) == 0 {
		return "", 0
	}
	says = strings.Join(fields, ", ")
	dictionary, err := httpsfv.UnmarshalDictionary(fields)
	if err != nil {
		return says, 0
	}
	for _, name := range dictionary.Names() {
		member, _ := dictionary.Get(name)
		list, _ := member.(httpsfv.InnerList)
		open := false
		for _, item := range list.Items {
			open = open || item.Value == httpsfv.Token("*")
		}
		if item, is := member.(httpsfv.Item); is {
			open = item.Value != httpsfv.Token("self")
		}
		if !open {
			limited++
		}
	}
	return says, limited
}
