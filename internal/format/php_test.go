package format

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// phpCases are small configuration files with what they set. Want holds values by path; a value of type
// unresolvedBecause wants an entry that cannot be told, for that reason.
var phpCases = []struct {
	name, source string
	want         map[string]any
}{
	{"define", `<?php define('A', 'x'); define("B", 12); define('C', true); define('D', null); define('E', 1.5);`,
		map[string]any{"A": "x", "B": int64(12), "C": true, "D": nil, "E": 1.5}},
	{"first definition stays", `<?php define('A', 1); define('A', 2);`, map[string]any{"A": int64(1)}},
	{"const list", `<?php const A = 1, B = A;`, map[string]any{"A": int64(1), "B": int64(1)}},
	{"leading backslash", `<?php \define('A', \PHP_EOL);`, map[string]any{"A": "\n"}},
	{"variable, last wins", `<?php $a = 1; $a = 'two';`, map[string]any{"$a": "two"}},
	{"array, both spellings", `<?php $a = array('x' => array('y' => 1), 'z' => ['w' => [true]]);`,
		map[string]any{"$a.x.y": int64(1), "$a.z.w": []any{true}, "$a.z.w.0": true}},
	{"keys as PHP casts them", `<?php $a = ['1' => 'a', true => 'b', 2.7 => 'c', 'd'];`,
		map[string]any{"$a.1": "b", "$a.2": "c", "$a.3": "d"}},
	{"items set one by one", `<?php $a = []; $a['x']['y'] = 1; $a['l'][] = 'p'; $a['l'][] = 'q';`,
		map[string]any{"$a.x.y": int64(1), "$a.l": []any{"p", "q"}}},
	{"globals", `<?php $GLOBALS['a']['b'] = 'c';`, map[string]any{"$a.b": "c"}},
	{"returned array", `<?php declare(strict_types=1); return ['db' => ['host' => 'h']]; $never = 1;`,
		map[string]any{"return.db.host": "h", "$never": missing}},
	{"class members", `<?php final class Site { const STAGE = 'live'; public static ?string $mail = 'a@b.example'; private array $l = ['x' => 1]; public function f() { $this->x = 2; return 3; } }`,
		map[string]any{"Site::STAGE": "live", "Site::$mail": "a@b.example", "Site::$l.x": int64(1), "return": missing}},
	{"class constant with a type (PHP 8.3)", `<?php class S { public const string A = 'x'; } define('B', S::A . 'y');`, map[string]any{"B": "xy"}},
	{"escapes", `<?php $s = 'a\'b\\c\n'; $d = "a\tb\x41\101\u{e9}\$x\q\"";`,
		map[string]any{"$s": `a'b\c\n`, "$d": "a\tbAA\u00e9$x\\q\""}},
	{"heredoc and nowdoc", "<?php $h = <<<END\n  one\n    two \\t.\n  END; $n = <<<'RAW'\nas $it \\t is\nRAW;\n",
		map[string]any{"$h": "one\n  two \t.", "$n": `as $it \t is`}},
	{"comments", "<?php # define('A', 1);\n// define('B', 1);\n/* define('C', 1); */ define('D', /* here */ 1); #[Attr]\nfunction g() {} define('E', 2);",
		map[string]any{"A": missing, "B": missing, "C": missing, "D": int64(1), "E": int64(2)}},
	{"concatenation", `<?php define('A', 'x' . 1 . "y" . true . null);`, map[string]any{"A": "x1y1"}},
	{"appending", `<?php $a = 'x'; $a .= 'y'; $b ??= 'z'; $a ??= 'no';`, map[string]any{"$a": "xy", "$b": "z"}},
	{"arithmetic", `<?php $a = 60 * 60 * 24 + 2 - -1; $b = 1 << 4 | 3; $c = 2 + 3 . '';`, map[string]any{"$a": int64(86403), "$b": int64(19), "$c": "5"}},
	{"numbers", `<?php $a = [0x1F, 0b11, 017, 0o17, 1_000, .5, 1e3, -7, 9223372036854775808];`,
		map[string]any{"$a": []any{int64(31), int64(3), int64(15), int64(15), int64(1000), .5, 1e3, int64(-7), 9223372036854775808.0}}},
	{"casts", `<?php $a = (int) '12'; $b = (bool) '0'; $c = (string) 5;`, map[string]any{"$a": int64(12), "$b": false, "$c": "5"}},
	{"choices", `<?php $a = true ? 'x' : 'y'; $b = '' ?: 'z'; $c = null ?? 'w'; $d = !false && (1 === 1);`,
		map[string]any{"$a": "x", "$b": "z", "$c": "w", "$d": true}},
	{"guarded define", `<?php if (!defined('A')) { define('A', 1); } if (!defined('A')) define('A', 2); if ( ! \defined("B") ) : define('B', 3); endif;`,
		map[string]any{"A": int64(1), "B": int64(3)}},
	{"condition that can be told", `<?php if (false) { define('A', 1); } elseif (true) { define('A', 2); } else { define('A', 3); }`, map[string]any{"A": int64(2)}},
	{"condition that cannot", `<?php if (PHP_SAPI === 'cli') { define('A', 1); } else { define('B', 2); }`,
		map[string]any{"A": unresolvedBecause("condition on line 1"), "B": unresolvedBecause("condition on line 1")}},
	{"loops", "<?php $a = 1;\nforeach ($x as $y) { $a = 2; }", map[string]any{"$a": unresolvedBecause("inside foreach on line 2")}},
	{"functions are not run", `<?php function f() { define('A', 1); } define('B', f()); $c = new D('x'); define('E', md5('x') . 'y');`,
		map[string]any{"A": missing, "B": unresolvedBecause("f()"), "$c": unresolvedBecause("runs"), "E": unresolvedBecause("md5()")}},
	{"interpolation", `<?php $h = 'x'; define('A', "a $h"); define('B', "a {$h}");`,
		map[string]any{"A": unresolvedBecause("variable in it"), "B": unresolvedBecause("variable in it")}},
	{"copied from another", `<?php $a = ['k' => 'v']; $b = $a['k']; define('C', $a['none']); define('D', UNDEFINED_ONE);`,
		map[string]any{"$b": "v", "C": unresolvedBecause("puts nothing"), "D": unresolvedBecause("UNDEFINED_ONE")}},
	{"environment", `<?php define('A', getenv('SITE_A') ?: 'fallback'); define('B', $_ENV['SITE_B'] ?? 'x'); define('C', env('SITE_GIVEN', 'no'));`,
		map[string]any{"A": unresolvedBecause("SITE_A"), "B": unresolvedBecause("SITE_B"), "C": "given"}},
	{"paths", `<?php $a = __DIR__ . '/data/x.db'; $b = dirname(__FILE__) . '/y'; $c = dirname(__DIR__, 2);`,
		map[string]any{"$a": "/srv/www/site/data/x.db", "$b": "/srv/www/site/y", "$c": "/srv"}},
	{"changed while it runs", `<?php $a = 1; $a += 2; $b = ['x' => 1]; $b[$k] = 2;`,
		map[string]any{"$a": unresolvedBecause("changed on line 1"), "$b": unresolvedBecause("worked out")}},
	{"closing tag and text", "text <?php define('A', 1) ?> more <b> <?php define('B', 2); ?>\n", map[string]any{"A": int64(1), "B": int64(2)}},
	{"namespaces", `<?php namespace My\Site; use Other\Thing; const A = 1;`, map[string]any{"A": int64(1)}},
	{"stops at exit", `<?php define('A', 1); exit; define('B', 2);`, map[string]any{"A": int64(1), "B": missing}},
	{"guarded exit goes on", `<?php if (!defined('IN_SITE')) exit('no'); define('A', 1);`, map[string]any{"A": int64(1)}},
	{"byte order mark", "\xef\xbb\xbf<?php define('A', 1);", map[string]any{"A": int64(1)}},
	{"CRLF", "<?php\r\ndefine('A', 1);\r\n$h = <<<E\r\nx\r\ny\r\nE;\r\n", map[string]any{"A": int64(1), "$h": "x\r\ny"}},
}

type unresolvedBecause string

const missing = unresolvedBecause("missing")

var phpOptions = Options{Dir: "/srv/www/site", Env: func(name string) (string, bool) { return "given", name == "SITE_GIVEN" }}

func TestPHP(t *testing.T) {
	for _, c := range phpCases {
		t.Run(c.name, func(t *testing.T) {
			doc, err := Read("php", []byte(c.source), phpOptions)
			require.NoError(t, err)
			for path, want := range c.want {
				entry, there := doc.Lookup(path)
				switch because, is := want.(unresolvedBecause); {
				case want == missing:
					assert.False(t, there, path)
				case is:
					assert.Contains(t, entry.Unresolved, string(because), path)
					assert.Nil(t, entry.Value, path)
				default:
					require.True(t, there, path)
					assert.Empty(t, entry.Unresolved, path)
					assert.Equal(t, want, entry.Value, path)
				}
				if there {
					assert.Positive(t, entry.Line, path)
				}
			}
		})
	}
}

func TestPHPPositions(t *testing.T) {
	source := "<?php\n\n  define('A',\n    'x');\n$b = [\n  'k' => \"é\", 'l' => 2,\n];\n"
	doc, err := Read("php", []byte(source), Options{})
	require.NoError(t, err)
	for path, want := range map[string][2]int{"A": {4, 5}, "$b": {5, 6}, "$b.k": {6, 10}, "$b.l": {6, 23}} {
		entry, _ := doc.Lookup(path)
		assert.Equal(t, want, [2]int{entry.Line, entry.Column}, path)
	}
	var order []string
	for _, entry := range doc.Entries() {
		order = append(order, entry.Path)
	}
	assert.Equal(t, []string{"A", "$b", "$b.k", "$b.l"}, order)
}

func TestPHPErrorsHavePositions(t *testing.T) {
	for source, want := range map[string]string{
		"<?php\n$a = 'never ends;\n": "line 2, column 6: the text that starts here never ends",
		"<?php\n$a = \"x\\\"":        "line 2, column 6: the text that starts here never ends",
		"<?php /* x":                 "line 1, column 7: the comment that starts here never ends",
		"<?php $a = <<<END\nx\n":     "line 1, column 12: the text that starts here never ends with END",
		"<?php\n$a = ['x' => 1;\n":   "line 2, column 6: the [ that stands here is never closed",
		"<?php define('A', 1));":     "line 1, column 21: the ) that stands here closes nothing",
		"just text":                  "line 1, column 1: there is no <?php in the file",
		"":                           "line 1, column 1: there is no <?php in the file",
		"<?php $a = " + strings.Repeat("[", 400) + strings.Repeat("]", 400) + ";": "nested too deep",
	} {
		_, err := Read("php", []byte(source), Options{})
		require.Error(t, err, source)
		assert.Contains(t, err.Error(), want)
		var syntax *SyntaxError
		assert.ErrorAs(t, err, &syntax)
	}
}

func TestPHPIncludesAreTold(t *testing.T) {
	doc, err := Read("php", []byte("<?php\nrequire_once __DIR__ . '/local.php';\ninclude $x;"), phpOptions)
	require.NoError(t, err)
	require.Len(t, doc.Includes, 2)
	assert.Equal(t, "/srv/www/site/local.php", doc.Includes[0].Value)
	assert.Equal(t, 2, doc.Includes[0].Line)
	assert.NotEmpty(t, doc.Includes[1].Unresolved)
}

func TestReadRefusesWhatItDoesNotKnow(t *testing.T) {
	_, err := Read("phq", nil, Options{})
	assert.ErrorContains(t, err, `no format "phq"`)
	_, err = Read("php", make([]byte, MaxBytes+1), Options{})
	assert.ErrorContains(t, err, "at most")
}

// TestPHPAgreesWithPHP runs every case through PHP itself and compares what both make of it.
func TestPHPAgreesWithPHP(t *testing.T) {
	php, err := exec.LookPath("php")
	if err != nil {
		t.Skip("php is not installed; scripts/test installs it")
	}
	dir, compared := t.TempDir(), 0
	for i, c := range phpCases {
		if strings.HasPrefix(c.name, "condition that cannot") || strings.HasPrefix(c.name, "paths") || c.name == "environment" {
			continue // the answer depends on where PHP runs
		}
		name := filepath.Join(dir, string(rune('a'+i%26))+"case.php")
		require.NoError(t, os.WriteFile(name, []byte(c.source), 0o600))
		out, err := exec.Command(php, "-d", "error_reporting=0", "-d", "variables_order=EGPCS", "-r", phpOracle, name).Output()
		at := strings.LastIndex(string(out), "\x01")
		if err != nil || at < 0 {
			t.Logf("%s: PHP itself fails on it, stops before its end, or is too old", c.name)
			continue
		}
		var said map[string]any
		decoder := json.NewDecoder(strings.NewReader(string(out[at+1:])))
		decoder.UseNumber()
		require.NoError(t, decoder.Decode(&said), c.name)
		doc, err := Read("php", []byte(c.source), Options{Dir: dir, Env: phpOptions.Env})
		require.NoError(t, err)
		for _, entry := range doc.Entries() {
			if value, known := said[entry.Path]; known && entry.Unresolved == "" && entry.Value != nil {
				want, _ := json.Marshal(value)
				got, _ := json.Marshal(entry.Value)
				assert.JSONEq(t, string(want), string(got), "%s: %s", c.name, entry.Path)
				compared++
			}
		}
	}
	assert.Greater(t, compared, 60, "values that both read")
}

// phpOracle includes a file and prints, after a mark, what it sets, by the paths that this package uses.
const phpOracle = `
function env($n, $d = null) { return $n === 'SITE_GIVEN' ? 'given' : $d; }
function flatten($path, $v, &$out) { $out[$path] = $v; if (is_array($v)) foreach ($v as $k => $w) flatten("$path.$k", $w, $out); }
$GLOBALS['x'] = []; $GLOBALS['k'] = 'k';
$r = include $argv[1];
$out = [];
foreach (get_defined_constants(true)['user'] ?? [] as $n => $v) flatten($n, $v, $out);
foreach (get_defined_vars() as $n => $v) if (!in_array($n, ['out', 'argv', 'argc', 'r', '_ENV', 'GLOBALS'])) flatten('$' . $n, $v, $out);
if ($r !== 1) flatten('return', $r, $out);
foreach (get_declared_classes() as $c) if ((new ReflectionClass($c))->isUserDefined()) {
  $rc = new ReflectionClass($c);
  foreach ($rc->getConstants() as $n => $v) flatten($c . '::' . $n, $v, $out);
  foreach ($rc->getDefaultProperties() as $n => $v) flatten($c . '::$' . $n, $v, $out);
}
echo "\x01", json_encode($out, JSON_PRESERVE_ZERO_FRACTION | JSON_INVALID_UTF8_SUBSTITUTE);
`

func FuzzPHP(f *testing.F) {
	for _, c := range phpCases {
		f.Add([]byte(c.source))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		doc, err := Read("php", data, phpOptions)
		if err != nil {
			return
		}
		for _, entry := range doc.Entries() {
			if entry.Line < 1 || entry.Column < 1 {
				t.Fatalf("%q has no position", entry.Path)
			}
		}
	})
}
