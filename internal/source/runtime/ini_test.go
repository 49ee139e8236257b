package runtime

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

// nothing is that no directive was read before.
func nothing(string) (string, bool) { return "", false }

// asRead gives what the real runtime makes of files of its syntax: the values that get_cfg_var has of the names a0, a1 and so
// on, one object a file.
func asRead(t *testing.T, files []string) []map[string]string {
	t.Helper()
	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("php is not installed; scripts/test installs it")
	}
	dir := t.TempDir()
	all := make([]map[string]string, len(files))
	for i, text := range files {
		path := filepath.Join(dir, fmt.Sprintf("%d.ini", i))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		command := exec.Command(php, "-c", path, "-r", `$all=[]; for($i=0;$i<12;$i++){$v=get_cfg_var("a$i"); if($v!==false)$all["a$i"]=is_array($v)?"array":(string)$v;} echo "\n@@",json_encode((object)$all, JSON_INVALID_UTF8_SUBSTITUTE);`)
		command.Env = []string{"PHP_INI_SCAN_DIR=", "PATH=" + os.Getenv("PATH")}
		out, _ := command.CombinedOutput()
		_, answer, found := strings.Cut(string(out), "\n@@")
		require.True(t, found, "%s\n%s", text, out)
		require.NoError(t, json.Unmarshal([]byte(answer), &all[i]), answer)
	}
	return all
}

// asked are the names that the real one is asked for.
var asked = regexp.MustCompile(`^a([0-9]|1[01])$`)

// asTold is what this package makes of the same file.
func asTold(text string) (values map[string]string, unknown map[string]bool) {
	values, unknown = map[string]string{}, map[string]bool{}
	c := &Config{main: map[string]string{}}
	readINI("x.ini", []byte(text), c.earlier, func(e entry) {
		c.note(e)
		switch {
		case !asked.MatchString(e.name) || e.bare:
		case e.indexed:
			values[e.name] = "array"
		default:
			values[e.name], unknown[e.name] = strings.ToValidUTF8(e.value, "\ufffd"), e.unknown != ""
		}
	})
	return values, unknown
}

// pieces are what lines are made of at random: ordinary spellings, and those that people get wrong.
var pieces = []string{"On", "off", "yes", "None", "null", "true", "128M", "1.5", "-1", "lots", "E_ALL", "E_ALL & ~E_NOTICE", "E_ALL & ~E_DEPRECATED & ~E_STRICT", "(E_ALL | E_STRICT) ^ E_WARNING", "!1", "\"quoted text\"", "'single'", "''", "\"\"",
	"\"a\\\"b\\\\c\\'d\\n\"", "text with  blanks", "on and on", "x on", "one=two", "/usr/share:/etc", "a;b", "a ; b", "\"a;b\"", "a#b", "$5", "cost$", "a$b", "\"${a0}/x\"", "${a0}", "${a0}x", "x\"y\"z", "\"x\" \"y\"", "\"two\nlines\"", "'two\nlines'",
	"[x]", "x[1]", "{x}", "a!b", "a(b", "(1", "1 | 2 & 4", "~0", "0x1F", "E_ALL-1", "\"unclosed", "'unclosed", "\xffbytes", "tab\there", "nope", "online", "Offline", "no", "100%", "a,b,c", "a\\b", "http://x.example/?a=b", "on;x", "on ;x", "1 ;", "\"on\"", "\"1\" ; c", "^x", "x^"}

var froms = []string{"a%d = %s", "a%d=%s", "  a%d = %s", "a%d =  %s  ", "\ta%d = %s", "a%d= %s ; a comment", "a%d = %s\t;c", "a%d\t=\t%s"}

var others = []string{"", "; a comment", "# a comment", "# it's (one)", "[Section]", "[Section] ", "[with space]", "  [indented]", "[unclosed", "a11", "a10[] = x", "a10[k] = y", "no = x", "just words here", "= x", "[a;b]", "[\"q\"]", "[Se'ct'ion]", "\f", "a9 = x = y", "null", "[x] a9 = after", "a9 \"x\""}

func generatedINI(r *rand.Rand) string {
	var out strings.Builder
	for range 1 + r.IntN(9) {
		if r.IntN(4) == 0 {
			out.WriteString(others[r.IntN(len(others))])
		} else {
			value := pieces[r.IntN(len(pieces))]
			if r.IntN(4) == 0 {
				value += []string{" ", "", " | ", "\""}[r.IntN(4)] + pieces[r.IntN(len(pieces))]
			}
			fmt.Fprintf(&out, froms[r.IntN(len(froms))], r.IntN(9), value)
		}
		out.WriteString([]string{"\n", "\n", "\n", "\r\n", ""}[r.IntN(5)])
	}
	return out.String()
}

// What is read of files made at random is what the real runtime reads of them, or cannot be told.
func TestFilesAreReadAsTheRuntimeDoes(t *testing.T) {
	var files []string
	for _, piece := range pieces {
		for _, from := range []string{"a1 = %s\na2 = after\n", "a1 = %s"} {
			files = append(files, fmt.Sprintf("a0 = first\n"+from, piece))
		}
	}
	for _, other := range others {
		files = append(files, "a1 = before\n"+other+"\na2 = after\n", other)
	}
	r := rand.New(rand.NewPCG(7, 11))
	for range 120 {
		files = append(files, generatedINI(r))
	}
	wrong, untold := 0, 0
	for i, real := range asRead(t, files) {
		told, unknown := asTold(files[i])
		for name := range unknown {
			if unknown[name] {
				untold++
				delete(told, name)
				delete(real, name)
			}
		}
		if !assert.Equal(t, real, told, "%q", files[i]) {
			if wrong++; wrong > 15 {
				t.FailNow()
			}
		}
	}
	t.Logf("%d files, %d values untold", len(files), untold)
}

// Sizes are what the real runtime takes them for, however odd they are spelt.
func TestSizes(t *testing.T) {
	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("php is not installed; scripts/test installs it")
	}
	values := []string{"", "0", "8M", "8m", "1G", "512K", "lots", "16 M", "8MB", "1.5G", "0x10", "0b11", "0o17", "017", "-1", "-1M", "+3", " 4M ", "M", "4 k", "4kk", "0x", "08", "9999999999", "1e3", "-", "2 0M", "0xFFk", "1T", "٣M", "--1"}
	list, err := json.Marshal(values)
	require.NoError(t, err)
	out, err := exec.Command(php, "-d", "display_errors=0", "-r", `foreach (json_decode($argv[1]) as $v) { error_clear_last(); $n = @ini_parse_quantity($v); $all[] = [$n, error_get_last() !== null]; } echo json_encode($all);`, string(list)).Output()
	require.NoError(t, err)
	var real [][2]any
	require.NoError(t, json.Unmarshal(out, &real))
	for i, value := range values {
		n, wrong := quantity(value)
		assert.EqualValues(t, real[i][0], n, "%q", value)
		assert.Equal(t, real[i][1], wrong != "", "%q: %s", value, wrong)
	}
}

// The lines at which a file stops being read, and the lines of its values, are those of the file.
func TestLines(t *testing.T) {
	f := readINI("x.ini", []byte("; first\na = 1\nb = \"two\nlines\"\nc = 3\n[PATH=/srv/site]\nd = on ; x\n\ne = (\nf = 6\n"), nothing, nil)
	lines := map[string]int{}
	for _, e := range f.entries {
		lines[e.name] = e.line
	}
	assert.Equal(t, map[string]int{"a": 2, "b": 3, "c": 5, "d": 7}, lines)
	assert.Equal(t, 9, f.broken)
	kind, key := special(f.entries[3].section)
	assert.Equal(t, "PATH /srv/site", kind+" "+key)
}

// Where a directive may be set is said the same in the table and in words, and what a term is made of is worked out.
func TestWhereDirectivesMayBeSet(t *testing.T) {
	for _, row := range facts.RuntimeFields {
		d, known := directives[row.Directive]
		assert.True(t, known, row.Directive)
		assert.Equal(t, d.may&byFolder != 0, !strings.Contains(row.Set, "not for a folder"), row.Directive)
		assert.Equal(t, d.may&byScript != 0, strings.Contains(row.Set, "by a program"), row.Directive)
	}
}

// Whose own files are read was measured with the real PHP-FPM: names are compared as they are, links and all.
func TestOwnFolders(t *testing.T) {
	for _, c := range []struct {
		root, folder string
		read         []string
	}{
		{"/srv/www", "/srv/www", []string{"/srv/www"}},
		{"/srv/www/", "/srv/www/a/b", []string{"/srv/www", "/srv/www/a", "/srv/www/a/b"}},
		{"/srv/link", "/srv/www/a", []string{"/srv/www/a"}},
		{"/srv/www/a", "/srv/www/b", []string{"/srv/www/b"}},
		{"/srv/ww", "/srv/www/a", []string{"/srv/www", "/srv/www/a"}},
	} {
		assert.Equal(t, c.read, ownFolders(c.root, c.folder), "%s below %s", c.folder, c.root)
	}
}

// FuzzINI reads what nobody wrote by hand.
func FuzzINI(f *testing.F) {
	for _, piece := range pieces {
		f.Add("a = " + piece + "\n[x]\n")
	}
	f.Fuzz(func(t *testing.T, text string) {
		read := readINI("x.ini", []byte(text), nothing, nil)
		assert.LessOrEqual(t, read.broken, strings.Count(text, "\n")+strings.Count(text, "\r")+1)
		for _, e := range read.entries {
			assert.Positive(t, e.line)
		}
	})
}
