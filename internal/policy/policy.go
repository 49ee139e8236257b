// Package policy says what a browser makes of the headers by which a site limits what others may do with it. It works nothing out of
// a site and judges nothing. It imports nothing of this program.
package policy

import (
	"net/http"
	"regexp"
	"slices"
	"strings"
)

// Framing tells whether an answer keeps others from showing it in a frame, and by what. A policy's frame-ancestors counts before
// X-Frame-Options (Content Security Policy Level 3 §6.4.2); of that, several values that differ refuse as well (HTML, "check a
// navigation response's adherence to X-Frame-Options").
func Framing(header http.Header) (by string, limits bool) {
	said := false
	for _, policy := range header.Values("Content-Security-Policy") {
		for _, one := range strings.Split(policy, ",") {
			sources, there := directive(one, "frame-ancestors")
			if !there {
				continue
			}
			said = true
			if by = "frame-ancestors " + strings.Join(sources, " "); !open(sources) {
				return by, true
			}
		}
	}
	if said {
		return by, false
	}
	values := list(header.Values("X-Frame-Options"))
	if len(values) == 0 {
		return "", false
	}
	by = "X-Frame-Options: " + strings.Join(values, ", ")
	for i := range values {
		values[i] = strings.ToLower(values[i])
	}
	known := slices.Contains(values, "deny") || slices.Contains(values, "sameorigin")
	distinct := slices.Compact(slices.Sorted(slices.Values(values)))
	if len(distinct) > 1 {
		return by, known || slices.Contains(values, "allowall")
	}
	return by, known
}

// anyHost is a source that names no host: of any scheme that pages have, with or without a port (Content Security Policy Level 3 §2.3.1).
var anyHost = regexp.MustCompile(`^(https?:|(https?://)?\*(:(\*|\d+))?/?)$`)

// open tells whether a list of sources, in lower case, lets anybody in.
func open(sources []string) bool { return slices.ContainsFunc(sources, anyHost.MatchString) }

// directive is the sources of a directive of a policy; there is false where the policy does not have it. Of several the first counts.
func directive(policy, name string) (sources []string, there bool) {
	for _, part := range strings.Split(policy, ";") {
		if words := strings.Fields(strings.ToLower(part)); len(words) > 0 && words[0] == name {
			return words[1:], true
		}
	}
	return nil, false
}

// list are the values of a header that may hold several.
func list(lines []string) (values []string) {
	for _, line := range lines {
		for _, value := range strings.Split(line, ",") {
			if value = strings.TrimSpace(value); value != "" {
				values = append(values, value)
			}
		}
	}
	return values
}

// Sniffing tells whether an answer keeps browsers from guessing what it is, and what it says. The first value counts (Fetch, "determine
// nosniff").
func Sniffing(header http.Header) (says string, stops bool) {
	values := list(header.Values("X-Content-Type-Options"))
	return strings.Join(values, ", "), len(values) > 0 && strings.EqualFold(values[0], "nosniff")
}

// policies are the words of Referrer-Policy, and whether each keeps the path of an address to the site itself.
var policies = map[string]bool{"no-referrer": true, "same-origin": true, "origin": true, "strict-origin": true, "origin-when-cross-origin": true, "strict-origin-when-cross-origin": true,
	"no-referrer-when-downgrade": false, "unsafe-url": false}

// formerly are words that a tag of a page may say besides, and what they mean (HTML §4.2.5.1, "referrer").
var formerly = map[string]string{"never": "no-referrer", "default": "strict-origin-when-cross-origin", "always": "unsafe-url", "origin-when-crossorigin": "origin-when-cross-origin"}

// Referrer tells whether an answer keeps browsers from telling other sites the whole address that somebody comes from, and what it says;
// tag is what a meta tag of the page says, which counts last. Of several words the last that is known counts (Referrer Policy §8.1).
func Referrer(header http.Header, tag string) (says string, limits bool) {
	words := list(header.Values("Referrer-Policy"))
	if tag != "" {
		words = append(words, tag)
	}
	if means, is := formerly[strings.ToLower(tag)]; is {
		limits = policies[means]
		return strings.Join(words, ", "), limits
	}
	for _, word := range words {
		if keeps, known := policies[strings.ToLower(word)]; known {
			limits = keeps
		}
	}
	return strings.Join(words, ", "), limits
}
