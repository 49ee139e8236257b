package discover

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
)

// Certain counts the findings that are sure enough to be written.
func (d *Draft) Certain() int {
	n := 0
	for _, f := range d.Findings {
		if f.Certain {
			n++
		}
	}
	return n
}

// Accept makes a finding one that is written, because a person has said that it is right.
func (d *Draft) Accept(setting string) {
	for i := range d.Findings {
		if d.Findings[i].Setting == setting {
			d.Findings[i].Certain, d.Findings[i].Because = true, append(d.Findings[i].Because, "somebody who knows said so")
		}
	}
}

// Reject takes a finding out.
func (d *Draft) Reject(setting string) {
	d.Findings = slices.DeleteFunc(d.Findings, func(f Finding) bool { return f.Setting == setting })
}

// YAML is the draft as a dialect: what is sure is written, and the rest stands there as comments.
func (d *Draft) YAML() []byte {
	var b bytes.Buffer
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# A draft. What is sure enough is written; the suggestions in comments want somebody who knows the system.")
	line("# Hold it against the installation with: weltaxis dialect check ./%s.yaml --root FOLDER", d.Name)
	line("dialect: %s\nversion: 1\n", quote(d.Name))
	if public := d.Public(); public != "" {
		line("public: %s\n", quote(public))
	}
	if len(d.Roles) > 0 {
		line("roles:")
		for _, role := range dialect.RoleNames {
			if patterns := d.Roles[role]; len(patterns) > 0 {
				line("  %s: %s", role, flow(patterns))
			}
		}
		line("")
	}
	stores := d.used()
	d.writeDatabase(line, stores)
	if len(stores) == 0 {
		line("# Nothing was found that looks like settings.")
		return b.Bytes()
	}
	line("stores:")
	for _, name := range slices.Sorted(maps.Keys(stores)) {
		line("  %s: %s", name, storeText(stores[name]))
	}
	line("\nsettings:")
	written := 0
	for _, f := range d.Findings {
		line("  # %s: %s (sure: %.2f)", oneLine(f.Origin), oneLine(strings.Join(f.Because, "; ")), f.Sure)
		if f.Certain {
			written++
			line("  %s: %s", f.Setting, f.text())
			continue
		}
		why := f.unspelt
		if why == "" && f.Next != "" {
			why = "or " + f.Next
		}
		if why != "" {
			line("  # not sure: %s", oneLine(why))
		}
		line("  #%s: %s", f.Setting, f.text())
	}
	if written == 0 {
		line("  {}")
	}
	return b.Bytes()
}

// used are the stores that a finding or a variable needs, with those they stand inside.
func (d *Draft) used() map[string]dialect.Store {
	used := map[string]dialect.Store{}
	var note func(place string)
	note = func(place string) {
		name, _ := dialect.SplitPlace(place)
		st, there := d.stores[name]
		if !there {
			return
		}
		used[name] = st
		if st.Inside != "" {
			note(st.Inside)
		}
	}
	for _, f := range d.Findings {
		note(f.Place)
	}
	for _, v := range d.variables {
		note(v.From)
	}
	return used
}

func (d *Draft) writeDatabase(line func(string, ...any), stores map[string]dialect.Store) {
	if !slices.ContainsFunc(slices.Collect(maps.Values(stores)), func(s dialect.Store) bool { return s.Database != "" }) {
		return
	}
	if len(d.variables) > 0 {
		line("variables:")
		for _, name := range slices.Sorted(maps.Keys(d.variables)) {
			v := d.variables[name]
			parts := []string{"from: " + quote(v.From), `default: ""`}
			if len(v.Words) > 0 {
				parts = append(parts, "words: "+flowMap(v.Words))
			}
			line("  %s: {%s}", name, strings.Join(parts, ", "))
		}
		line("")
	}
	var parts []string
	for _, field := range []struct{ name, value string }{{"driver", d.database.Driver}, {"sqlite", d.database.SQLite}, {"host", d.database.Host}, {"port", d.database.Port},
		{"socket", d.database.Socket}, {"name", d.database.Name}, {"user", d.database.User}, {"password", d.database.Password}} {
		if field.value != "" {
			parts = append(parts, field.name+": "+quote(field.value))
		}
	}
	if len(parts) == 0 {
		parts = []string{"driver: mysql", `name: ""`}
		line("# The database was given by hand; say in the site file where it is.")
	}
	line("databases:\n  main: {%s}\n", strings.Join(parts, ", "))
}

func storeText(s dialect.Store) string {
	var parts []string
	for _, field := range []struct{ name, value string }{{"file", s.File}, {"inside", s.Inside}, {"format", s.Format}, {"database", s.Database},
		{"table", s.Table}, {"key", s.Key}, {"value", s.Value}} {
		if field.value != "" {
			parts = append(parts, field.name+": "+quote(field.value))
		}
	}
	if len(s.Where) > 0 {
		parts = append(parts, "where: "+flowMap(s.Where))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// text is the entry of a setting.
func (f Finding) text() string {
	parts := []string{"from: " + quote(f.Place)}
	t := f.translation
	if t.Inverted {
		parts = append(parts, "inverted: true")
	}
	for _, field := range []struct{ name, value string }{{"unit", t.Unit}, {"split", t.Split}, {"wrapped", t.Wrapped}} {
		if field.value != "" {
			parts = append(parts, field.name+": "+quote(field.value))
		}
	}
	if len(t.Words) > 0 {
		parts = append(parts, "words: "+flowMap(t.Words))
	}
	if len(t.Placeholders) > 0 {
		parts = append(parts, "placeholders: "+flowMap(t.Placeholders))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

var plainShape = regexp.MustCompile(`^[A-Za-z_./][A-Za-z0-9_./]*$`)

// quote writes a text so that it stays one in YAML.
func quote(text string) string {
	if plainShape.MatchString(text) && !slices.Contains([]string{"yes", "no", "on", "off", "true", "false", "null", "y", "n"}, strings.ToLower(text)) {
		return text
	}
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(text)
	return strings.TrimSpace(b.String())
}

func flow(items []string) string {
	quoted := make([]string, len(items))
	for i, item := range items {
		quoted[i] = quote(item)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}

func flowMap(m map[string]string) string {
	var parts []string
	for _, key := range sortedKeys(m) {
		parts = append(parts, quote(key)+": "+quote(m[key]))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// oneLine keeps what comes from a site on its line of comment.
func oneLine(text string) string {
	return facts.Shorten(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 {
			return ' '
		}
		return r
	}, text), 200)
}
