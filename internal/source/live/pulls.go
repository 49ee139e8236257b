package live

import (
	"bytes"
	"encoding/json"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// A pull is an address that a page loads, posts to, or names for others to load.
type pull struct {
	kind, address string
	either        bool // one of several, of which a browser loads one
}

// The kinds of what a page pulls.
const (
	styleKind   = "style"
	scriptKind  = "script"
	fontKind    = "font"
	pictureKind = "picture"
	mediaKind   = "media"
	frameKind   = "frame"
	otherKind   = "file"
	formKind    = "form" // posted to
	cardKind    = "card" // the picture of a shared page
	saidKind    = "said" // in structured data
)

// isLoaded tells whether a browser loads what is of a kind, or posts to it: the rest is only named.
func isLoaded(kind string) bool { return kind != cardKind && kind != saidKind }

// pull keeps an address with its kind.
func (a *analyser) pull(kind, ref string) {
	ref = strings.TrimSpace(ref)
	if ref == "" || strings.HasPrefix(ref, "#") || strings.HasPrefix(ref, "data:") {
		return
	}
	if len(a.pulls) >= maxLinks || len(ref) > maxText {
		a.note(cutLinks)
		return
	}
	resolved, err := a.base.Parse(ref)
	if err != nil || resolved.Scheme != "http" && resolved.Scheme != "https" {
		return
	}
	p := pull{kind: kind, address: normal(resolved).String()}
	if n := len(a.pulls); n == 0 || a.pulls[n-1] != p {
		a.pulls = append(a.pulls, p)
	}
}

// candidates are the pictures of a srcset (HTML Living Standard §4.8.4.2.1): addresses with a width or density each. An
// address may hold commas, but not at its end.
func (a *analyser) candidates(srcset string) {
	for rest := srcset; ; {
		rest = strings.TrimLeft(rest, " \t\r\n\f,")
		if rest == "" {
			return
		}
		end := strings.IndexAny(rest, " \t\r\n\f")
		if end < 0 {
			end = len(rest)
		}
		ref := rest[:end]
		rest = rest[end:]
		bare := strings.TrimRight(ref, ",")
		from := len(a.pulls)
		a.pull(pictureKind, bare)
		for i := from; i < len(a.pulls); i++ {
			a.pulls[i].either = true
		}
		if bare == ref { // descriptors follow
			_, rest, _ = strings.Cut(rest, ",")
		}
	}
}

// preloaded is the kind of what a link asks to be loaded ahead.
func preloaded(rel, as string) string {
	if rel == "modulepreload" {
		return scriptKind
	}
	if kind := map[string]string{"style": styleKind, "script": scriptKind, "font": fontKind, "image": pictureKind, "video": mediaKind, "audio": mediaKind, "track": mediaKind}[strings.ToLower(as)]; kind != "" {
		return kind
	}
	return otherKind
}

// inStyle finds the addresses in a style: url(...) and @import (CSS Values and Units 4 §4.5, CSS Cascading 5 §2).
var (
	inStyle      = regexp.MustCompile(`(?i)(@import\s+)?(?:url\(\s*(?:"([^"]*)"|'([^']*)'|([^)"'\s]*))\s*\)|@import\s+(?:"([^"]*)"|'([^']*)'))`)
	styleComment = regexp.MustCompile(`(?s)/\*.*?\*/`)
	fontEnding   = regexp.MustCompile(`(?i)\.(?:woff2?|ttf|otf|eot)(?:[?#]|$)`)
	styleEnding  = regexp.MustCompile(`(?i)\.css(?:[?#]|$)`)
)

// styleAddresses are the addresses in a style, with their kinds.
func styleAddresses(css string) []pull {
	if len(css) < 6 {
		return nil
	}
	var list []pull
	for _, m := range inStyle.FindAllStringSubmatch(styleComment.ReplaceAllString(css, " "), maxKept) {
		ref := strings.TrimSpace(strings.Join(m[2:], ""))
		kind := pictureKind
		switch {
		case m[1] != "" || m[5] != "" || m[6] != "" || styleEnding.MatchString(ref):
			kind = styleKind
		case fontEnding.MatchString(ref):
			kind = fontKind
		}
		list = append(list, pull{kind: kind, address: ref})
	}
	return list
}

// styled keeps the addresses in a style.
func (a *analyser) styled(css string) {
	for _, p := range styleAddresses(css) {
		a.pull(p.kind, p.address)
	}
}

var styleMark, styleMarkInCapitals = []byte("url("), []byte("URL(")

// mayStyle passes over nearly all tags quickly.
func mayStyle(raw []byte) bool {
	return len(raw) > 16 && (bytes.Contains(raw, styleMark) || bytes.Contains(raw, styleMarkInCapitals))
}

// maxSaid is how many addresses of structured data are kept of a page.
const maxSaid = 100

// fromStructured keeps the addresses of the site's own that structured data names: pictures for sharing and logos are looked
// at, and all must be of the right host.
func (a *analyser) fromStructured() {
	var said []string
	for _, block := range a.structured {
		var value any
		if json.Unmarshal([]byte(block), &value) == nil {
			said = addressesIn(value, said, 0)
		}
	}
	slices.Sort(said)
	for _, address := range slices.Compact(said) {
		a.pull(saidKind, address)
	}
}

// addressesIn adds the addresses in a value of JSON, but those of vocabularies.
func addressesIn(value any, said []string, depth int) []string {
	if depth > 20 || len(said) >= maxSaid {
		return said
	}
	switch v := value.(type) {
	case string:
		if strings.HasPrefix(v, "http://") || strings.HasPrefix(v, "https://") {
			return append(said, v)
		}
	case []any:
		for _, item := range v {
			said = addressesIn(item, said, depth+1)
		}
	case map[string]any:
		for _, key := range slices.Sorted(maps.Keys(v)) {
			if key != "@context" && key != "@type" {
				said = addressesIn(v[key], said, depth+1)
			}
		}
	}
	return said
}

// meets looks for the hosts that no address should name: after two strokes, as they stand in markup, styles and scripts.
func (a *analyser) meets(raw []byte) {
	for _, host := range a.wanted.strangers {
		if len(raw) < len(host)+2 || slices.Contains(a.strangers, host) {
			continue
		}
		if namesHost(raw, host) {
			a.strangers = append(a.strangers, host)
		}
	}
}

// namesHost tells whether an address in a text names a host: not as a part of another one.
func namesHost(text []byte, host string) bool {
	lower := bytes.ToLower(text)
	for at := 0; ; {
		i := bytes.Index(lower[at:], []byte(host))
		if i < 0 {
			return false
		}
		start, end := at+i, at+i+len(host)
		at = end
		before := lower[:start]
		after := byte(0)
		if end < len(lower) {
			after = lower[end]
		}
		inWord := after == '-' || after >= 'a' && after <= 'z' || after >= '0' && after <= '9' || after == '.' && end+1 < len(lower) && lower[end+1] >= 'a' && lower[end+1] <= 'z'
		if !inWord && (bytes.HasSuffix(before, []byte("//")) || bytes.HasSuffix(before, []byte(`\/`)) || bytes.HasSuffix(before, []byte("%2f"))) {
			return true
		}
	}
}
