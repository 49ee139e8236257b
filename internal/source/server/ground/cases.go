package ground

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/source/server/answer"
)

// A Case is a few lines of configuration, what is asked of the host that they stand in, and what is told of that. In a file of
// cases, each has a title in txtar's form and then
//
//	a line of the host's configuration
//	around| a line outside of every host
//	override| a line of an override file in the host's folder
//	> GET /path field field Header=value unanswered
//	= field: what is told, and where
//
// and so on. DIR stands for the ground's folder, SITE for the host's, PORT, FAST and PROXY for what listens.
type Case struct {
	Title                    string
	Host                     string
	Lines, Around, Overrides []string
	file                     *txtar.File
	fill                     *strings.Replacer
}

// Text is lines of a case as they are handed to the server.
func (c *Case) Text(lines []string) string { return c.fill.Replace(strings.Join(lines, "\n")) + "\n" }

// Root is the folder of the host.
func (c *Case) Root() string { return c.fill.Replace("SITE") }

// Cases reads a file of cases, writes the override files, has the server started, and holds what is told of each request against
// what the file says and against the real server. With REWRITE_CASES set, the file is written anew.
func (g *Ground) Cases(t *testing.T, name, port string, run func(cases []*Case) (conf string, tell func(answer.Ask) *answer.Answer, stop func())) {
	archive, err := txtar.ParseFile(name)
	require.NoError(t, err)
	var cases []*Case
	for i := range archive.Files {
		file := &archive.Files[i]
		c := &Case{Title: file.Name, Host: fmt.Sprintf("case-%d.example", i), file: file}
		site := filepath.Join(g.Dir, "site")
		for line := range strings.Lines(string(file.Data)) {
			line = strings.TrimRight(line, "\n")
			if around, is := strings.CutPrefix(line, "around| "); is {
				c.Around = append(c.Around, around)
			} else if override, is := strings.CutPrefix(line, "override| "); is {
				c.Overrides = append(c.Overrides, override)
			} else if line != "" && !strings.HasPrefix(line, "> ") && !strings.HasPrefix(line, "= ") {
				c.Lines = append(c.Lines, line)
			}
		}
		if len(c.Overrides) > 0 {
			folder := fmt.Sprintf("case-%d", i)
			g.plant(t, folder)
			site = filepath.Join(g.Dir, folder)
		}
		c.fill = strings.NewReplacer("DIR", g.Dir, "SITE", site, "PORT", port, "FAST", g.Fast, "PROXY", g.Proxy, "CASE", c.Host)
		if len(c.Overrides) > 0 {
			require.NoError(t, os.WriteFile(filepath.Join(site, ".htaccess"), []byte(c.Text(c.Overrides)), 0o644))
		}
		cases = append(cases, c)
	}
	conf, tell, stop := run(cases)
	defer stop()
	for _, c := range cases {
		t.Run(c.Title, func(t *testing.T) { c.hold(t, port, strings.Split(conf, "\n"), tell) })
	}
	if os.Getenv("REWRITE_CASES") != "" {
		require.NoError(t, os.WriteFile(name, txtar.Format(archive), 0o644))
	}
}

func (c *Case) hold(t *testing.T, port string, conf []string, tell func(answer.Ask) *answer.Answer) {
	var out strings.Builder
	for line := range strings.Lines(string(c.file.Data)) {
		if strings.HasPrefix(line, "= ") {
			continue
		}
		out.WriteString(line)
		words := strings.Fields(line)
		if words[0] != ">" {
			continue
		}
		number, err := strconv.Atoi(port)
		require.NoError(t, err)
		ask := answer.Ask{Method: words[1], Scheme: "http", Host: c.Host, HostPort: number, Port: number, Local: Loopback, Client: Loopback, Target: words[2], Header: map[string]string{"accept-encoding": "gzip"}, Program: Program}
		var fields []string
		for _, word := range words[3:] {
			if word == "unanswered" { // nobody knows what the program says
				ask.Program = nil
			} else if header, value, is := strings.Cut(word, "="); is {
				ask.Header[strings.ToLower(header)] = value
			} else {
				fields = append(fields, word)
			}
		}
		real, err := Fetch(t, port, ask)
		require.NoError(t, err)
		told := tell(ask)
		var tally Tally
		assert.Empty(t, tally.Hold(told, real), line)
		for _, field := range fields {
			fmt.Fprintf(&out, "= %s\n", c.say(told, field, conf, port))
		}
	}
	if os.Getenv("REWRITE_CASES") == "" {
		assert.Equal(t, string(c.file.Data), out.String())
	}
	c.file.Data = []byte(out.String())
}

// plain are names that are another with each run, and what stands for them.
var plain = []struct {
	shape *regexp.Regexp
	is    string
}{
	{regexp.MustCompile(`127\.0\.0\.1:\d+`), "PROGRAM"},
	{regexp.MustCompile(`[^ ]*/(nginx|apache)-\d+\.conf, line \d+`), "another line"},
	{regexp.MustCompile(`(nginx|Apache)/\d[0-9.]*`), "$1/VERSION"},
}

// say is one field of an answer, and the line of the case that decides it.
func (c *Case) say(a *answer.Answer, name string, conf []string, port string) string {
	told := a.Get(answer.Header(name))
	if slices.Contains(strings.Fields("status location handler file runs login denied place zone key valid bypass private body rate bare"), name) {
		told = a.Get(answer.Field(name))
	}
	text, why := strings.Join(told.Values, " | "), told.Because
	if told.Unknown != nil {
		text, why, told.Origin = "cannot be told", told.Unknown.Because, told.Unknown.Origin
	} else if text == "" {
		text = "nothing"
	}
	if why != "" {
		text += ", " + why
	}
	root := c.Root()
	text = strings.NewReplacer(root, "SITE", filepath.Dir(root), "DIR", ":"+port, ":PORT", c.Host, "CASE").Replace(text)
	for _, p := range plain {
		text = p.shape.ReplaceAllString(text, p.is)
	}
	return name + ": " + text + "  [" + c.place(told, conf) + "]"
}

// place is the line of the configuration, as it stands there.
func (c *Case) place(told answer.Told, conf []string) string {
	at, nowhere := told.Origin, answer.Told{}.Origin
	switch {
	case at == nowhere:
		return "nothing says"
	case at.Default != "":
		return "the default of " + at.Default
	case filepath.Base(at.File) == ".htaccess" && at.Line > 0 && at.Line <= len(c.Overrides):
		return c.Overrides[at.Line-1]
	case at.Line < 1 || at.Line > len(conf) || !strings.HasSuffix(at.File, ".conf"):
		return filepath.Base(at.File)
	}
	line := strings.TrimSpace(conf[at.Line-1])
	for _, own := range append(append([]string{}, c.Lines...), c.Around...) {
		if strings.TrimSpace(c.fill.Replace(own)) == line {
			return strings.TrimSpace(own)
		}
	}
	return "the host"
}
