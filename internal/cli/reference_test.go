package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server/apache"
	"weltaxis/internal/source/server/nginx"
)

// commandReference is every command with its help and its options.
func commandReference() string {
	p := &program{out: io.Discard, err: io.Discard}
	root := p.command()
	var b strings.Builder
	b.WriteString("# Commands\n\nEvery command, as its `--help` says it. This page is made from the program; a test holds it to that.\n")
	options := func(flags *pflag.FlagSet) {
		flags.VisitAll(func(f *pflag.Flag) {
			usual := ""
			if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "[]" {
				usual = " (" + f.DefValue + ")"
			}
			fmt.Fprintf(&b, "- `--%s`: %s%s\n", f.Name, f.Usage, usual)
		})
	}
	everywhere := map[string]*pflag.Flag{}
	common := p.written(p.keeping(p.comparing(p.looking(&cobra.Command{}))), "text", "json")
	common.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) { everywhere[f.Name] = f })
	everywhere["format"].Usage = "text or json, or what else the command has"
	var write func(c *cobra.Command)
	write = func(c *cobra.Command) {
		if c.Runnable() && c != root {
			fmt.Fprintf(&b, "\n## %s\n\n", strings.TrimPrefix(c.UseLine(), "weltaxis "))
			about := c.Long
			if about == "" {
				about = c.Short + "."
			}
			b.WriteString(about + "\n")
			own, common := pflag.NewFlagSet("", 0), []string{}
			c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
				if everywhere[f.Name] == nil {
					own.AddFlag(f)
				} else {
					common = append(common, "`--"+f.Name+"`")
				}
			})
			if own.HasFlags() {
				b.WriteString("\n")
				options(own)
			}
			if len(common) > 0 {
				b.WriteString("\nAlso " + strings.Join(common, ", ") + "\n")
			}
			b.WriteString("\n```\n" + c.Example + "\n```\n")
		}
		for _, sub := range c.Commands() {
			write(sub)
		}
	}
	write(root)
	b.WriteString("\n## Options that mean the same everywhere\n\n")
	all := pflag.NewFlagSet("", 0)
	for _, name := range slices.Sorted(maps.Keys(everywhere)) {
		all.AddFlag(everywhere[name])
	}
	all.AddFlagSet(root.PersistentFlags())
	options(all)
	return b.String()
}

// vocabularyReference is every name of the catalogue that people write, and every list.
func vocabularyReference() string {
	var b strings.Builder
	b.WriteString("# Vocabulary\n\nEvery name that site files, dialects, rules and `fix --value` use; `weltaxis explain NAME` says the same of one, and `weltaxis explain\nNAME SITE` how it stands there. This page is made from the program; a test holds it to that.\n")
	typeOf := func(t facts.Type, words []string) string {
		if len(words) > 0 {
			return "one of " + strings.Join(words, ", ")
		}
		return string(t)
	}
	for _, part := range []struct {
		source facts.Source
		head   string
	}{{facts.Intent, "Intent, in the site file: `intent.`"}, {facts.Settings, "Settings: `settings.`"}, {facts.Live, "What a visitor gets: `live.`"}} {
		fmt.Fprintf(&b, "\n## %s\n\n| name | type | meaning |\n| --- | --- | --- |\n", part.head)
		for _, e := range facts.Of(part.source) {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", e.Short(), typeOf(e.Type, e.Words), e.Meaning)
		}
	}
	b.WriteString("\n## Lists\n")
	for _, name := range slices.Sorted(maps.Keys(facts.Lists)) {
		fmt.Fprintf(&b, "\n### %s\n\n| field | type | meaning |\n| --- | --- | --- |\n", name)
		for _, f := range facts.Lists[name] {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Name, typeOf(f.Type, f.Words), f.Meaning)
		}
	}
	rules, err := baseline.Load()
	if err != nil {
		panic(err)
	}
	b.WriteString("\n## Areas\n\n| area | rules | about |\n| --- | --- | --- |\n")
	for _, area := range baseline.Areas {
		n := 0
		for _, r := range rules.Rules {
			if r.Area == area {
				n++
			}
		}
		fmt.Fprintf(&b, "| `%s` | %d | %s |\n", area, n, rules.About(area))
	}
	b.WriteString("\n## Limits: `limits.`\n\n| limit | type | value | meaning |\n| --- | --- | --- | --- |\n")
	for _, name := range slices.Sorted(maps.Keys(rules.Limits)) {
		l := rules.Limits[name]
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", name, l.Value.Type(), cell(l.Value.String()), l.Means)
	}
	b.WriteString("\n## Functions of rules\n\n")
	for _, name := range slices.Sorted(maps.Keys(baseline.Functions)) {
		fmt.Fprintf(&b, "- `%s`: %s\n", name, baseline.Functions[name])
	}
	return b.String()
}

// cell is a value in a table: one that Markdown would read as its own signs, as a pattern, is written as code.
func cell(value string) string {
	if strings.ContainsAny(value, `|*\`) {
		return "`" + strings.ReplaceAll(value, "|", `\|`) + "`"
	}
	return value
}

// directiveReference is what is made of each directive of a web server.
func directiveReference() string {
	var b strings.Builder
	b.WriteString("# Directives\n\nWhat the server source makes of each directive of nginx and Apache. One that is not here may touch everything: where it stands, what it\nreaches is not told, with its line. This page is made from the program; a test holds it to that.\n")
	for _, server := range []struct {
		name string
		all  map[string]string
	}{{"nginx", nginx.Directives()}, {"Apache", apache.Directives()}} {
		by := map[string][]string{}
		for name, made := range server.all {
			by[made] = append(by[made], "`"+name+"`")
		}
		fmt.Fprintf(&b, "\n## %s\n", server.name)
		for _, made := range slices.Sorted(maps.Keys(by)) {
			slices.Sort(by[made])
			fmt.Fprintf(&b, "\n**%s**: %s.\n", strings.ToUpper(made[:1])+made[1:], strings.Join(by[made], ", "))
		}
	}
	return b.String()
}

// TestTheReferenceIsWhatTheProgramSays. With REWRITE_GUIDE set it writes the pages instead.
func TestTheReferenceIsWhatTheProgramSays(t *testing.T) {
	for file, want := range map[string]string{"../../docs/commands.md": commandReference(), "../../docs/vocabulary.md": vocabularyReference(), "../../docs/directives.md": directiveReference()} {
		if os.Getenv("REWRITE_GUIDE") != "" {
			require.NoError(t, os.WriteFile(file, []byte(want), 0o644))
		}
		is, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, want, string(is), "REWRITE_GUIDE=1 go test ./internal/cli writes it anew")
	}
}
