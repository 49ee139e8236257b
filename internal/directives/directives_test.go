package directives

import (
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// memory is a disk of named texts; one that is "refused" may not be read.
type memory map[string]string

func (m memory) ReadBy(name string, _ By) ([]byte, error) {
	text, there := m[name]
	switch {
	case !there:
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case text == "refused":
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	return []byte(text), nil
}

func (m memory) NamesBy(dir string, _ By) (names []string, err error) {
	for name := range m {
		if rest, is := strings.CutPrefix(name, strings.TrimSuffix(dir, "/")+"/"); is {
			first, _, below := strings.Cut(rest, "/")
			if below {
				first += "/"
			}
			if !slices.Contains(names, first) {
				names = append(names, first)
			}
		}
	}
	if len(names) == 0 {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: fs.ErrNotExist}
	}
	slices.Sort(names)
	return names, nil
}

// outline is a tree in words, each directive with where it stands.
func outline(nodes []*Node) (lines []string) {
	for _, n := range nodes {
		line := fmt.Sprintf("%s:%d %s", path.Base(n.File), n.Line, strings.Join(append([]string{n.Name}, n.Args...), "|"))
		if n.Hole != "" {
			line = fmt.Sprintf("%s:%d hole: %s", path.Base(n.File), n.Line, n.Hole)
		}
		if n.Skipped != "" {
			line += " skipped: " + n.Skipped
		}
		lines = append(lines, line)
		for _, inner := range outline(n.Body) {
			lines = append(lines, "  "+inner)
		}
	}
	return lines
}

func TestNginx(t *testing.T) {
	for name, c := range map[string]struct {
		files memory
		want  []string
		gaps  []string
	}{
		"words, quotes, comments":  {memory{"/c/a": "a 'b c' \"d\\\"e\"; # f;\n\tg h\\ i\n  j;"}, []string{`a:1 a|b c|d"e`, `a:2 g|h\ i|j`}, nil},
		"blocks":                   {memory{"/c/a": "http {\n server { listen 80; }\n}"}, []string{"a:1 http", "  a:2 server", "    a:2 listen|80"}, nil},
		"a variable in braces":     {memory{"/c/a": "set $a ${b}c;"}, []string{"a:1 set|$a|${b}c"}, nil},
		"a brace in an expression": {memory{"/c/a": "location ~ \"a{2}\" {}\nrewrite ^/x}y z;"}, []string{"a:1 location|~|a{2}", "a:2 rewrite|^/x}y|z"}, nil},
		"a condition":              {memory{"/c/a": `if ($a = "b c") { return 403; }`}, []string{"a:1 if|($a|=|b c|)", "  a:1 return|403"}, nil},
		"includes, sorted, without dot files, relative to the main file": {
			memory{"/c/a": "include d/*.conf;", "/c/d/2.conf": "two;", "/c/d/1.conf": "one;\ninclude e;", "/c/d/.3.conf": "three;", "/c/e": "e;"},
			[]string{"a:1 include|d/*.conf", "1.conf:1 one", "1.conf:2 include|e", "e:1 e", "2.conf:1 two"}, nil},
		"a pattern that matches nothing": {memory{"/c/a": "include d/*.conf; b;"}, []string{"a:1 include|d/*.conf", "a:1 b"}, []string{"/c/a:1: there is no folder in which /c/d/*.conf could match anything"}},
		"a pattern that matches none":    {memory{"/c/a": "include d/*.conf; b;", "/c/d/a.txt": "x"}, []string{"a:1 include|d/*.conf", "a:1 b"}, nil},
		"a file that is not there":       {memory{"/c/a": "\ninclude d;"}, []string{"a:2 include|d", "a:2 hole: /c/d is not there, so the server does not start"}, []string{"/c/a:2: /c/d is not there, so the server does not start"}},
		"a file that may not be read":    {memory{"/c/a": "include d;", "/c/d": "refused"}, []string{"a:1 include|d", "a:1 hole: /c/d may not be read by this user"}, []string{"/c/a:1: /c/d may not be read by this user"}},
		"a loop":                         {memory{"/c/a": "include b;", "/c/b": "x;\ninclude a;"}, []string{"a:1 include|b", "b:1 x", "b:2 include|a", "b:2 hole: /c/a includes itself, so the server does not start"}, []string{"/c/b:2: /c/a includes itself, so the server does not start"}},
		"a word that is not ended":       {memory{"/c/a": "a b\nc d;\n}"}, []string{"a:1 a|b|c|d"}, []string{"/c/a:3: a } closes nothing, so the server does not start"}},
		"a block that is not closed":     {memory{"/c/a": "a {\n b;\n"}, []string{"a:1 a", "  a:2 b"}, []string{`/c/a:3: the block of "a" in line 1 is not closed, so the server does not start`}},
		"a quotation mark not closed":    {memory{"/c/a": "a \"b;\nc;"}, nil, []string{"/c/a:2: a quotation mark is not closed, so the server does not start"}},
		"a mark of byte order":           {memory{"/c/a": "\ufeffa b;"}, nil, []string{"/c/a:1: it begins with a byte order mark, so the server does not start"}},
		"another language":               {memory{"/c/a": "content_by_lua_block { if a then { b } end }\nc;"}, []string{"a:1 content_by_lua_block", "a:2 c"}, nil},
		"lines of another system":        {memory{"/c/a": "a b;\r\nc;\r\n"}, []string{"a:1 a|b", "a:2 c"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			tree := Nginx("/c/a", c.files)
			require.Equal(t, c.want, outline(tree.Root))
			var gaps []string
			for _, gap := range tree.Gaps {
				gaps = append(gaps, gap.Error())
			}
			require.Equal(t, c.gaps, gaps)
		})
	}
}

func TestApache(t *testing.T) {
	for name, c := range map[string]struct {
		files memory
		want  []string
		gaps  []string
	}{
		"words, quotes, continued lines, comments": {memory{"/c/a": "A \"b c\" 'd \\' e' f\\\n g\n# h \\\n i\n  J"}, []string{"a:1 A|b c|d ' e|f|g", "a:5 J"}, nil},
		"sections":                           {memory{"/c/a": "<Directory \"/x y\">\n  Options None\n</directory>"}, []string{"a:1 Directory|/x y", "  a:2 Options|None"}, nil},
		"a section with an expression":       {memory{"/c/a": "<FilesMatch \"\\.php$\">\n</FilesMatch>"}, []string{`a:1 FilesMatch|\.php$`}, nil},
		"modules":                            {memory{"/c/a": "LoadModule ssl_module x/mod_ssl.so\n<IfModule mod_ssl.c>\nA\n</IfModule>\n<IfModule !ssl_module>\nB\n</IfModule>\n<IfModule mod_x.c>\nC\n</IfModule>"}, []string{"a:1 LoadModule|ssl_module|x/mod_ssl.so", "a:2 IfModule|mod_ssl.c", "a:3 A", "a:5 IfModule|!ssl_module skipped: the module ssl_module is loaded", "a:8 IfModule|mod_x.c skipped: the module mod_x.c is not loaded"}, nil},
		"the runtime's module has no number": {memory{"/c/a": "LoadModule php_module x/libphp8.2.so\n<IfModule mod_php8.c>\nA\n</IfModule>\n<IfModule mod_php.c>\nB\n</IfModule>"}, []string{"a:1 LoadModule|php_module|x/libphp8.2.so", "a:2 IfModule|mod_php8.c skipped: the module mod_php8.c is not loaded", "a:5 IfModule|mod_php.c", "a:6 B"}, nil},
		"definitions":                        {memory{"/c/a": "Define X /srv\nDocumentRoot ${X}/a\n<IfDefine Y>\nA\n<IfDefine Z>\n</IfDefine>\n</IfDefine>\nB ${Q}"}, []string{"a:1 Define|X|/srv", "a:2 DocumentRoot|/srv/a", "a:3 IfDefine|Y skipped: Y is not defined", "a:8 B|${Q}"}, nil},
		"what the server is started with":    {memory{"/c/a": "ErrorLog ${APACHE_LOG_DIR}/e", "/c/envvars": "SUFFIX=\nexport APACHE_LOG_DIR=/var/log/apache2$SUFFIX\n"}, []string{"a:1 ErrorLog|/var/log/apache2/e"}, nil},
		"includes":                           {memory{"/c/a": "Include b\nIncludeOptional d/*.conf\nIncludeOptional none\nInclude e", "/c/b": "B", "/c/d/2.conf": "D2", "/c/d/1.conf": "D1", "/c/e/y": "EY", "/c/e/x/z": "EZ"}, []string{"a:1 Include|b", "b:1 B", "a:2 IncludeOptional|d/*.conf", "1.conf:1 D1", "2.conf:1 D2", "a:3 IncludeOptional|none", "a:4 Include|e", "z:1 EZ", "y:1 EY"}, nil},
		"a pattern that matches nothing":     {memory{"/c/a": "Include d/*.conf"}, []string{"a:1 Include|d/*.conf", "a:1 hole: d/*.conf matches nothing, so the server does not start (IncludeOptional allows it)"}, []string{"/c/a:1: d/*.conf matches nothing, so the server does not start (IncludeOptional allows it)"}},
		"a loop":                             {memory{"/c/a": "Include a"}, []string{"a:1 Include|a", "a:1 hole: /c/a includes itself, so the server does not start"}, []string{"/c/a:1: /c/a includes itself, so the server does not start"}},
		"a section that is not closed":       {memory{"/c/a": "<If \"x\">\nA"}, []string{"a:1 If|x", "  a:2 A"}, []string{"/c/a:1: <If> is not closed, so the server does not start"}},
		"a section closed as another":        {memory{"/c/a": "<Files x>\n</Directory>"}, []string{"a:1 Files|x"}, []string{"/c/a:2: </Directory> closes nothing that is open, so the server does not start"}},
		"a version that nobody knows":        {memory{"/c/a": "<IfVersion >= 2.4>\nA\n</IfVersion>"}, []string{"a:1 IfVersion|>=|2.4", "a:1 hole: the version of the server is not known, which <IfVersion> asks for", "a:2 A"}, []string{"/c/a:1: the version of the server is not known, which <IfVersion> asks for"}},
		"a macro":                            {memory{"/c/a": "Use Site x"}, []string{"a:1 Use|Site|x", "a:1 hole: a macro is used here"}, []string{"/c/a:1: macros are not followed"}},
	} {
		t.Run(name, func(t *testing.T) {
			tree := Apache("/c/a", c.files, ApacheOptions{})
			require.Equal(t, c.want, outline(tree.Root))
			var gaps []string
			for _, gap := range tree.Gaps {
				gaps = append(gaps, gap.Error())
			}
			require.Equal(t, c.gaps, gaps)
		})
	}
}

func TestVersionIs(t *testing.T) {
	for condition, holds := range map[string]bool{"2.4.71": true, "= 2.4.71": true, ">= 2.4": true, "< 2.4.9": false, "!= 2.4.71": false, "!> 2.4.71": true} {
		is, known := versionIs("2.4.71", strings.Fields(condition))
		require.True(t, known, condition)
		require.Equal(t, holds, is, condition)
	}
}

// TestBounds: what is too much becomes a gap with its place, in a bounded time.
func TestBounds(t *testing.T) {
	million := strings.Repeat("a b;\n", 1_000_000)
	deep := strings.Repeat("a {\n", 100_000)
	sections := strings.Repeat("<If x>\n", 100_000)
	for name, tree := range map[string]func() *Tree{
		"a million directives of nginx": func() *Tree { return Nginx("/c/a", memory{"/c/a": million}) },
		"a million directives of Apache": func() *Tree {
			return Apache("/c/a", memory{"/c/a": strings.ReplaceAll(million, ";", "")}, ApacheOptions{})
		},
		"blocks without end":   func() *Tree { return Nginx("/c/a", memory{"/c/a": deep}) },
		"sections without end": func() *Tree { return Apache("/c/a", memory{"/c/a": sections}, ApacheOptions{}) },
		"a word without end":   func() *Tree { return Nginx("/c/a", memory{"/c/a": "a '" + million}) },
	} {
		t.Run(name, func(t *testing.T) {
			done := make(chan *Tree, 1)
			go func() { done <- tree() }()
			select {
			case read := <-done:
				require.NotEmpty(t, read.Gaps)
				require.NotZero(t, read.Gaps[0].Line)
				count := 0
				Walk(read.Root, func(*Node) bool { count++; return true })
				require.LessOrEqual(t, count, maxNodes+2)
			case <-time.After(time.Minute):
				require.Fail(t, "reading does not end")
			}
		})
	}
}

// TestEdits: a change at a node leaves every other byte.
func TestEdits(t *testing.T) {
	nginx := "http {\r\n    add_header A b; # kept\r\n    server { listen 80; }\r\n}\r\n"
	tree := Nginx("/c/a", memory{"/c/a": nginx})
	header, server := tree.Root[0].Body[0], tree.Root[0].Body[1]
	for name, c := range map[string]struct {
		edit func([]byte) ([]byte, error)
		want string
	}{
		"replaced": {func(d []byte) ([]byte, error) { return header.Replaced(d, "add_header A c;") }, strings.Replace(nginx, "A b;", "A c;", 1)},
		"removed":  {server.Removed, strings.Replace(nginx, "    server { listen 80; }\r\n", "", 1)},
		"followed": {func(d []byte) ([]byte, error) { return server.FollowedBy(d, "server { }") }, strings.Replace(nginx, "80; }\r\n", "80; }\r\n    server { }\r\n", 1)},
		"holding":  {func(d []byte) ([]byte, error) { return tree.Root[0].Holding(d, "etag off;") }, strings.Replace(nginx, "http {\r\n", "http {\r\n    etag off;\r\n", 1)},
	} {
		got, err := c.edit([]byte(nginx))
		require.NoError(t, err, name)
		require.Equal(t, c.want, string(got), name)
	}
	apache := "<Directory /x>\n\tOptions \\\n\t  None\n</Directory>\n"
	section := Apache("/c/a", memory{"/c/a": apache}, ApacheOptions{}).Root[0]
	got, err := section.Body[0].Replaced([]byte(apache), "Options +Indexes")
	require.NoError(t, err)
	require.Equal(t, "<Directory /x>\n\tOptions +Indexes\n</Directory>\n", string(got))
	got, err = section.Holding([]byte(apache), "Require all denied")
	require.NoError(t, err)
	require.Equal(t, "<Directory /x>\n\tRequire all denied\n\tOptions \\\n\t  None\n</Directory>\n", string(got))
	_, err = header.Replaced([]byte("something else altogether, and longer than before"), "x;")
	require.ErrorContains(t, err, "/c/a:2: add_header is not there any more")
}

// TestDebian reads the configurations that Debian's packages bring, where they are installed.
func TestDebian(t *testing.T) {
	for main, read := range map[string]func(string) *Tree{
		"/etc/nginx/nginx.conf":     func(main string) *Tree { return Nginx(main, OS{}) },
		"/etc/apache2/apache2.conf": func(main string) *Tree { return Apache(main, OS{}, ApacheOptions{}) },
	} {
		if _, err := filepath.EvalSymlinks(main); err != nil {
			continue
		}
		tree := read(main)
		require.Empty(t, tree.Gaps, main)
		require.Greater(t, len(tree.Files), 3, main)
	}
}

func FuzzNginx(f *testing.F) {
	for _, seed := range []string{"a b;", "http { server { listen 80; } }", "if ($a = 'b') { }", "a \\", "\"", "include a;", "a {{}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		tree := Nginx("/c/a", memory{"/c/a": text})
		standInOrder(t, tree, text)
	})
}

func FuzzApache(f *testing.F) {
	for _, seed := range []string{"A b", "<Files x>\nA\n</Files>", "A \\\nb", "<IfModule x>\n</IfModule>", "\"", "Include a", "</", "<>", "<If", "Define A b\nC ${A}"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		tree := Apache("/c/a", memory{"/c/a": text}, ApacheOptions{})
		standInOrder(t, tree, text)
	})
}

// standInOrder: every node stands where it says it does, and inside the one around it.
func standInOrder(t *testing.T, tree *Tree, text string) {
	var check func(nodes []*Node, start, end int)
	check = func(nodes []*Node, start, end int) {
		for _, n := range nodes {
			if n.Hole != "" {
				continue
			}
			if n.Start < start || n.End > end || n.Start > n.End {
				t.Fatalf("%q stands at %d to %d, outside %d to %d", n.String(), n.Start, n.End, start, end)
			}
			if n.Skipped == "" && len(n.Body) > 0 && n.close >= n.inner {
				check(n.Body, n.Start, max(n.End, n.close))
			}
		}
	}
	if tree.Broken() == nil {
		check(tree.Root, 0, len(text))
	}
}
