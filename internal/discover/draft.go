package discover

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

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
	line("dialect: %s\nversion: 1\n", flow(d.Name))
	if public := d.Public(); public != "" {
		line("public: %s\n", flow(public))
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
			line("  %s: %s", name, flow(append(yaml.MapSlice{{Key: "from", Value: v.From}, {Key: "default", Value: ""}}, said(yaml.MapItem{Key: "words", Value: v.Words})...)))
		}
		line("")
	}
	of := d.database
	where := said(yaml.MapItem{Key: "driver", Value: of.Driver}, yaml.MapItem{Key: "sqlite", Value: of.SQLite}, yaml.MapItem{Key: "host", Value: of.Host}, yaml.MapItem{Key: "port", Value: of.Port},
		yaml.MapItem{Key: "socket", Value: of.Socket}, yaml.MapItem{Key: "name", Value: of.Name}, yaml.MapItem{Key: "user", Value: of.User}, yaml.MapItem{Key: "password", Value: of.Password})
	if len(where) == 0 {
		where = yaml.MapSlice{{Key: "driver", Value: "mysql"}, {Key: "name", Value: ""}}
		line("# The database was given by hand; say in the site file where it is.")
	}
	line("databases:\n  main: %s\n", flow(where))
}

func storeText(s dialect.Store) string {
	return flow(said(yaml.MapItem{Key: "file", Value: s.File}, yaml.MapItem{Key: "inside", Value: s.Inside}, yaml.MapItem{Key: "format", Value: s.Format}, yaml.MapItem{Key: "database", Value: s.Database},
		yaml.MapItem{Key: "table", Value: s.Table}, yaml.MapItem{Key: "key", Value: s.Key}, yaml.MapItem{Key: "value", Value: s.Value}, yaml.MapItem{Key: "where", Value: s.Where}))
}

// text is the entry of a setting.
func (f Finding) text() string {
	t := f.translation
	return flow(said(yaml.MapItem{Key: "from", Value: f.Place}, yaml.MapItem{Key: "inverted", Value: t.Inverted}, yaml.MapItem{Key: "unit", Value: t.Unit}, yaml.MapItem{Key: "split", Value: t.Split},
		yaml.MapItem{Key: "wrapped", Value: t.Wrapped}, yaml.MapItem{Key: "words", Value: t.Words}, yaml.MapItem{Key: "placeholders", Value: t.Placeholders}))
}

// flow writes a value on one line, by the library that reads it.
func flow(value any) string {
	text, err := yaml.MarshalWithOptions(value, yaml.Flow(true))
	if err != nil {
		panic(err) // texts, and lists and mappings of texts, can be written
	}
	return strings.TrimSpace(string(text))
}

// said are the pairs of a mapping whose values are not empty, in their order.
func said(pairs ...yaml.MapItem) yaml.MapSlice {
	return slices.DeleteFunc(pairs, func(pair yaml.MapItem) bool {
		switch value := pair.Value.(type) {
		case string:
			return value == ""
		case bool:
			return !value
		case map[string]string:
			return len(value) == 0
		}
		return false
	})
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
