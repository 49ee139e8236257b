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
	name, rest, _ = strings.Cut(rest, "/")
	return name, name != "" && strings.HasPrefix("/"+rest, after)
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

// byContent is how assets are called that change their name with what they hold: a digest or a version in the name, or in the
// query.
var byContent = regexp.MustCompile(`(?i)(?:^|[._-])(?:[0-9a-f]*[0-9][0-9a-f]*[a-f][0-9a-f]*|[0-9a-f]*[a-f][0-9a-f]*[0-9][0-9a-f]*)(?:[._-]|$)|[._-]v?\d+(?:\.\d+)+(?:\.min)?\.[a-z0-9]+$`)

// namedByContent tells whether an asset is called so. A digest has eight digits at the least.
func namedByContent(path, query string) bool {
	name := path[strings.LastIndexByte(path, '/')+1:]
	for _, m := range byContent.FindAllString(name, 5) {
		if len(strings.Trim(m, "._-")) >= 8 || strings.Contains(m, ".") && strings.ContainsAny(m[1:], ".") && strings.ContainsAny(m, "0123456789") && !strings.HasPrefix(m, name) {
			return true
		}
	}
	return versionQuery.MatchString(query)
}

// versionQuery is a query by which an asset is told from what it was before: a version under one of the usual names, or nothing
// but digits or a digest.
var versionQuery = regexp.MustCompile(`(?i)^(?:v|ver|version|rev|hash|cb|build|t|ts)=[\w.-]*\d[\w.-]*$|^\d{3,}$|^[0-9a-f]{6,}$`)
