// Package policy says what a browser makes of the headers by which a site limits what others may do with it. It works nothing out of
// a site and judges nothing. It imports nothing of this program.
package policy

import (
	"net/http"
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

// open tells whether a list of sources lets anybody in: everything, or everything of a scheme.
func open(sources []string) bool {
	return slices.ContainsFunc(sources, func(s string) bool {
		return s == "*" || strings.HasSuffix(s, ":") && s != "data:" || strings.HasSuffix(s, "://*")
	})
}

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

// Referrer tells whether an answer keeps browsers from telling other sites the whole address that somebody comes from, and what it says;
// tag is what a meta tag of the page says, which counts last. Of several words the last that is known counts (Referrer Policy §8.1).
func Referrer(header http.Header, tag string) (says string, limits bool) {
	words := list(header.Values("Referrer-Policy"))
	if tag != "" {
		words = append(words, tag)
	}
	for _, word := range words {
		if keeps, known := policies[strings.ToLower(word)]; known {
			limits = keeps
		}
	}
	return strings.Join(words, ", "), limits
}
