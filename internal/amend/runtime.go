package amend

import (
	"context"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/runtime"
	"weltaxis/internal/source/server"
)

// ForRuntime works out what has the runtime told values of directives in a folder of the site, by its address.
func ForRuntime(ctx context.Context, w World, of facts.Wish, folder string) (*Amendment, error) {
	overlay, am := server.Overlay{}, &Amendment{}
	for _, name := range slices.Sorted(maps.Keys(of.Directives)) {
		if err := w.tell(ctx, overlay, am, folder, name, of.Directives[name]); err != nil {
			return nil, err
		}
	}
	if err := am.changed(w, overlay); err != nil {
		return nil, err
	}
	return am, ctx.Err()
}

// tell has one directive say a value, in the place that says another now.
func (w World) tell(ctx context.Context, overlay server.Overlay, am *Amendment, folder, name, value string) error {
	before, err := w.told(overlay)
	if err != nil {
		return err
	}
	place, known := before[folder]
	if !known {
		return refuse("what the runtime is told in %s is not known", folder)
	}
	now := place[name]
	if now.Unknown == "" && runtime.Means(name, now.Value).Equal(runtime.Means(name, value)) {
		return nil
	}
	var why []string
	for _, way := range w.runtimeWays(overlay, name, value, now) {
		trial := maps.Clone(overlay)
		trial[way.file] = way.data
		also, err := w.tells(trial, before, folder, name, value)
		if err != nil {
			why = noted(why, err)
			continue
		}
		overlay[way.file] = way.data
		am.takes(way, also)
		return ctx.Err()
	}
	if why != nil {
		return refuse("%s", strings.Join(why, "; "))
	}
	return refuse("%s is said at %s, which is not changed from here", name, now.Origin)
}

// told is what the runtime has been told, by the addresses of folders.
func (w World) told(files server.Overlay) (map[string]map[string]runtime.Value, error) {
	if w.Runtime == nil {
		return nil, refuse("nobody looks at what the runtime has been told")
	}
	source, gaps := w.Runtime(files)
	if source == nil {
		return nil, refuse("%s", gaps[0].Because)
	}
	if why := source.Config.Unread(); why != nil {
		return nil, refuse("%s", why.Because)
	}
	all := map[string]map[string]runtime.Value{}
	for _, place := range source.Places {
		all[place.Address] = source.Config.Values(place, source.Elsewhere)
	}
	return all, nil
}

// tells holds a change against what is wished: the directive, and nothing else, says something else.
func (w World) tells(trial server.Overlay, before map[string]map[string]runtime.Value, folder, name, value string) (also []string, err error) {
	after, err := w.told(trial)
	if err != nil {
		return nil, err
	}
	if is := after[folder][name]; is.Unknown != "" || !runtime.Means(name, is.Value).Equal(runtime.Means(name, value)) {
		return nil, refuse("it would not hold in %s: %s", folder, is.Origin)
	}
	for _, address := range slices.Sorted(maps.Keys(before)) {
		for directive, was := range before[address] {
			switch is := after[address][directive]; {
			case was.Value == is.Value && was.Unknown == is.Unknown:
			case directive == name && is.Unknown == "" && runtime.Means(name, is.Value).Equal(runtime.Means(name, value)):
				if address != folder {
					also = append(also, "programs in "+address)
				}
			default:
				return nil, refuse("%s would change in %s", directive, address)
			}
		}
	}
	return also, nil
}

// moduleLines are the directives of Apache that tell a runtime in it something.
var moduleLines = []string{"php_value", "php_flag", "php_admin_value", "php_admin_flag"}

// runtimeWays are the ways to another value: the line that says it now, or where nothing says it, one in php.ini.
func (w World) runtimeWays(overlay server.Overlay, name, value string, now runtime.Value) []way {
	if now.Origin.File == "" {
		source, _ := w.Runtime(overlay)
		file := filepath.Join(source.Config.Folder, "php.ini")
		data, err := overlay.Bytes(file)
		if err != nil {
			return nil
		}
		return []way{{file: file, data: withEntry(data, name+" = "+spelt(value)), from: "(no such line)", to: name + " = " + spelt(value), says: "in " + file}}
	}
	s, _ := w.Open(overlay)
	for _, one := range s.Servers {
		if !slices.Contains(one.Tree.Files, now.Origin.File) {
			continue
		}
		n := nodeAt(one.Tree, now.Origin, moduleLines...)
		if n == nil {
			return nil
		}
		said := value
		if strings.HasSuffix(strings.ToLower(n.Name), "_flag") {
			said = "off"
			if runtime.Means(name, value).Bool() {
				said = "on"
			}
		}
		l := &spot{kind: one.Kind, tree: one.Tree, files: overlay}
		return l.replaced(n, fmt.Sprintf("%s %s %s", n.Name, name, quoted(said)))
	}
	data, err := overlay.Bytes(now.Origin.File)
	if err != nil {
		return nil
	}
	changed, was, is := withValue(data, now.Origin.Line, name, spelt(value))
	if changed == nil {
		return nil
	}
	return []way{{file: now.Origin.File, data: changed, from: was, to: is, says: fmt.Sprintf("in the place of line %d of %s", now.Origin.Line, now.Origin.File)}}
}

// spelt is a value as it stands in php.ini.
func spelt(value string) string {
	if value != "" && regexp.MustCompile(`^[A-Za-z0-9_./:-]+$`).MatchString(value) {
		return value
	}
	return directives.NginxWord(value)
}

var entryShape = regexp.MustCompile(`^(\s*(?:[a-z_]+\[\s*)?([A-Za-z0-9_.]+)\s*\]?\s*=[ \t]*)([^;"\r\n]*?|"[^"\r\n\\]*")([ \t]*(?:;[^\r\n]*)?)(\r?\n?)$`)

// withValue is a file with another value on a line; nil where the line is not one that says the directive by itself.
func withValue(data []byte, line int, name, value string) (changed []byte, was, is string) {
	lines := strings.SplitAfter(string(data), "\n")
	if line < 1 || line > len(lines) {
		return nil, "", ""
	}
	part := entryShape.FindStringSubmatch(lines[line-1])
	if part == nil || part[2] != name {
		return nil, "", ""
	}
	now := part[1]
	if strings.HasSuffix(strings.TrimRight(now, " \t"), "=") && !strings.HasSuffix(now, " ") && part[3] == "" {
		now += " "
	}
	was, is = strings.TrimSpace(lines[line-1]), strings.TrimSpace(now+value+part[4])
	lines[line-1] = now + value + part[4] + part[5]
	return []byte(strings.Join(lines, "")), was, is
}

var heading = regexp.MustCompile(`(?im)^\[(PHP|main)\][^\n]*\n`)

// withEntry is a file with a new line: after its first heading, or else at its beginning, where no section for a host or a path can be
// around it.
func withEntry(data []byte, entry string) []byte {
	at := 0
	if found := heading.FindIndex(data); found != nil && !special.Match(data[:found[0]]) {
		at = found[1]
	}
	return slices.Concat(data[:at], []byte(entry+"\n"), data[at:])
}

var special = regexp.MustCompile(`(?im)^\s*\[\s*(PATH|HOST)`)
