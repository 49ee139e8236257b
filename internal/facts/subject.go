package facts

import (
	"net/url"
	"slices"
	"strings"
	"unicode"

	"github.com/bmatcuk/doublestar/v4"
)

// isAbout tells whether a deviation is wholly about what somebody wrote as its subject: everything (*), the subject as it is
// reported, or a path with wildcards, in which * stands for a part of a name and ** for any folders.
func (d Deviation) isAbout(subject string) bool {
	if subject == "*" || subject == d.Subject {
		return true
	}
	switch item := d.Item.(type) {
	case *Class:
		return item.liesIn(strings.TrimPrefix(subject, "./"))
	case *Page:
		return matches(subject, item.Path)
	}
	if u, err := url.Parse(d.Subject); err == nil && u.Host != "" {
		return matches(subject, d.Subject) || matches(subject, u.RequestURI())
	}
	return matches(subject, d.Subject)
}

func matches(pattern, name string) bool {
	is, err := doublestar.Match(pattern, name)
	return err == nil && is
}

// liesIn tells whether all entries of a class match a pattern. Of many only the first few are known by name, and the folder
// that all lie in or below: a pattern that ends in /** is held against that.
func (c *Class) liesIn(pattern string) bool {
	if len(c.Paths) == 0 || slices.ContainsFunc(c.Paths, func(name string) bool { return !matches(pattern, name) }) {
		return false
	}
	if c.Count <= len(c.Paths) {
		return true
	}
	if pattern == "**" {
		return true
	}
	folder, deep := strings.CutSuffix(pattern, "/**")
	return deep && (matches(folder, c.Under) || matches(pattern, c.Under))
}

// AcceptAs is what one writes as subject of an acceptance to mean this deviation.
func (d Deviation) AcceptAs() string {
	if c, is := d.Item.(*Class); is && !c.Single && c.Under != "" && c.Under != "." && c.Count > 1 {
		return c.Under + "/**"
	}
	if c, is := d.Item.(*Class); is && c.Count == 1 && len(c.Paths) == 1 {
		return c.Paths[0]
	}
	return d.Subject
}

// Squashed is a name's letters and digits in lower case, for comparing names that are spelt otherwise.
func Squashed(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// IsService tells whether a service is one of those that somebody has named. Hosts are the same letter by letter, in whatever case, or lie
// below one that was named; other names may be spelt otherwise. An address counts as its host.
func IsService(service string, named []string) bool {
	if strings.Contains(service, "://") {
		service = URLHost(service)
	}
	return slices.ContainsFunc(named, func(name string) bool {
		if strings.Contains(service, ".") {
			return name != "" && strings.HasSuffix("."+strings.ToLower(service), "."+strings.ToLower(name))
		}
		return Squashed(service) != "" && Squashed(service) == Squashed(name)
	})
}

// IsOwnHost tells whether a host is that of an address, with or without www, or lies below it.
func IsOwnHost(host, address string) bool {
	own := strings.TrimPrefix(strings.ToLower(URLHost(address)), "www.")
	return own != "" && strings.HasSuffix("."+strings.ToLower(host), "."+own)
}
