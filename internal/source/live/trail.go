package live

import (
	"bytes"
	"slices"
	"strings"
)

// A trail leads from the home page down to the page one is on. It is told by what an element is called, by its type
// (schema.org, BreadcrumbList), or by a link home that one of the signs follows which point onward.

var (
	trailWords = []string{"breadcrumb", "crumb", "trail", "you are here", "you-are-here"}
	trailMarks = [][]byte{[]byte("rumb"), []byte("RUMB"), []byte("rail"), []byte("RAIL"), []byte("ou are here"), []byte("ou-are-here")}
	onward     = []string{"»", "›", ">", "→", "❯", "▸", "⟩", "/", "&raquo;", "&rsaquo;", "&gt;", "&rarr;", "&#187;", "&#8250;", "&#62;"}
)

// mayBeTrail passes over nearly all tags quickly.
func mayBeTrail(raw []byte) bool {
	return len(raw) > 8 && slices.ContainsFunc(trailMarks, func(mark []byte) bool { return bytes.Contains(raw, mark) })
}

// isTrail tells whether an element is called a trail: a list, a landmark, or whatever stands for one.
func isTrail(name string, attributes map[string]string) bool {
	if strings.HasSuffix(attributes["itemtype"], "/BreadcrumbList") {
		return true
	}
	if !slices.Contains([]string{"nav", "ol", "ul", "div", "p", "section", "span", "header", "td"}, name) {
		return false
	}
	called := strings.ToLower(attributes["aria-label"] + " " + attributes["class"] + " " + attributes["id"])
	for _, word := range trailWords {
		for rest := called; ; {
			before, after, found := strings.Cut(rest, word)
			if !found {
				break
			}
			if before == "" || !isLetter(before[len(before)-1]) || word == "crumb" { // no trailer, no guardrail
				if word != "trail" || after == "" || !isLetter(after[0]) {
					return true
				}
			}
			rest = after
		}
	}
	return false
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// leadsHome tells whether a link on a page leads to the top of the site, or of the folder that the page lies below.
func (a *analyser) leadsHome(href string) bool {
	to, err := a.base.Parse(strings.TrimSpace(href))
	if err != nil || !strings.EqualFold(to.Host, a.base.Host) {
		return false
	}
	path := to.Path
	if slash := strings.LastIndexByte(path, '/'); strings.HasPrefix(path[slash+1:], "index.") {
		path = path[:slash+1]
	}
	return to.RawQuery == "" && (path == "" || path == "/" || strings.HasSuffix(path, "/") && strings.HasPrefix(a.base.Path, path) && a.base.Path != path)
}

// goesOn looks whether a sign that points onward follows a link home.
func (a *analyser) goesOn(text []byte) {
	if !a.afterHome {
		return
	}
	trimmed := strings.TrimSpace(string(text[:min(len(text), 40)]))
	if trimmed == "" {
		return
	}
	a.afterHome = false
	for _, sign := range onward {
		if strings.HasPrefix(trimmed, sign) {
			a.breadcrumbs = true
		}
	}
}
