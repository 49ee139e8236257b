package live

import (
	"bytes"
	"regexp"
	"slices"
	"strings"
)

// An Owned says whose assets lie at addresses of a site, as a dialect knows it.
type Owned struct {
	Path string // with {name} for one part of it
	Of   string // theme, extension, uploads or system
	Used string // what stands in the markup of a page that uses it, with {name}; "" when nobody says
}

// part is where the name of a theme or an extension stands in a path.
const part = "{name}"

// owns tells whether a path is one of those, and the name in it.
func (o Owned) owns(path string) (name string, is bool) {
	before, after, named := strings.Cut(o.Path, part)
	rest, is := strings.CutPrefix(path, before)
	if !is || !named {
		return "", is
	}
	end := strings.IndexByte(rest, '/')
	return rest[:max(end, 0)], end > 0 && strings.HasPrefix(rest[end:], after)
}

// ownerOf is whose an asset at a path is: site when nobody says.
func ownerOf(path string, owners []Owned) string {
	for _, o := range owners {
		if name, is := o.owns(path); is {
			return strings.TrimSpace(o.Of + " " + name)
		}
	}
	return "site"
}

// unusedIn are the styles and scripts of extensions that a page pulls, and that by its markup it does not use.
func unusedIn(pulls []pull, body []byte, owners []Owned) (unused []string) {
	for _, p := range pulls {
		if p.kind != styleKind && p.kind != scriptKind || len(unused) >= maxInsecure {
			continue
		}
		_, path, _ := strings.Cut(p.address, "://")
		path = path[max(strings.IndexByte(path, '/'), 0):]
		for _, o := range owners {
			name, is := o.owns(path)
			if is && o.Used != "" && !bytes.Contains(body, []byte(strings.ReplaceAll(o.Used, part, name))) && !slices.Contains(unused, path) {
				unused = append(unused, path)
			}
		}
	}
	return unused
}

// digest and version are what stands in the names of assets that change their name with what they hold.
var (
	digest  = regexp.MustCompile(`(?:^|[._-])([0-9a-fA-F]{8,}|[0-9A-Za-z_]{8,})(?:[._-]|$)`)
	version = regexp.MustCompile(`(?i)[._-]v?\d+(?:\.\d+)+(?:\.min)?\.[a-z0-9]+$`)
)

// namedByContent tells whether an asset is called so: a digest has a digit, and is hexadecimal or has letters of both cases.
func namedByContent(path, query string) bool {
	name := path[strings.LastIndexByte(path, '/')+1:]
	for _, m := range digest.FindAllStringSubmatch(name, 5) {
		lower, upper := strings.ToLower(m[1]), strings.ToUpper(m[1])
		letters := lower != upper && strings.ContainsAny(m[1], "0123456789")
		if letters && (strings.Trim(lower, "0123456789abcdef") == "" || m[1] != lower && m[1] != upper) {
			return true
		}
	}
	return version.MatchString(name) || versionQuery.MatchString(query)
}

// versionQuery is a query by which an asset is told from what it was before: a version under one of the usual names, or nothing
// but digits or a digest.
var versionQuery = regexp.MustCompile(`(?i)^(?:v|ver|version|rev|hash|cb|build|t|ts)=[\w.-]*\d[\w.-]*$|^\d{3,}$|^[0-9a-f]{6,}$`)
