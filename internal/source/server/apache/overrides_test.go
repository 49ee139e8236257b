package apache

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/source/server/answer"
	"weltaxis/internal/source/server/ground"
)

// hostileOverrides are override files that are read one way by one reader and otherwise by another: by what conditions ask for, by how
// lines are joined, by signs that nobody sees. EVIL is a line that may not stand in an override file, MARK one that may, and is seen.
var hostileOverrides = map[string]string{
	"a module that is there":                       "<IfModule mod_headers.c>\nMARK\n</IfModule>\n",
	"what only a module could hide":                "<IfModule mod_headers.c>\nEVIL\n</IfModule>\n",
	"a module that is not there":                   "<IfModule mod_no_such.c>\nEVIL\n</IfModule>\nMARK\n",
	"not a module that is there":                   "<IfModule !mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"not a module that is not there":               "<IfModule !mod_no_such.c>\nEVIL\n</IfModule>\nMARK\n",
	"a module by its identifier":                   "<IfModule headers_module>\nMARK\n</IfModule>\n",
	"not a module by the name of its file":         "<IfModule !mod_mpm_prefork.c>\nEVIL\n</IfModule>\nMARK\n",
	"a module by the name of its source":           "<IfModule prefork.c>\nMARK\n</IfModule>\n",
	"a module by a name that follows from another": "<IfModule !mod_mpm_prefork.c>\nMARK\n</IfModule>\n",
	"a module without its ending":                  "<IfModule !mod_headers>\nEVIL\n</IfModule>\nMARK\n",
	"a module in capitals":                         "<IfModule !MOD_HEADERS.C>\nEVIL\n</IfModule>\nMARK\n",
	"a module in quotes":                           "<IfModule !\"mod_headers.c\">\nEVIL\n</IfModule>\nMARK\n",
	"a module and quotes":                          "<IfModule \"mod_headers.c\">\nMARK\n</IfModule>\n",
	"not, in quotes":                               "<IfModule \"!mod_headers.c\">\nEVIL\n</IfModule>\nMARK\n",
	"a module and a blank after it":                "<IfModule !mod_headers.c >\nEVIL\n</IfModule>\nMARK\n",
	"a module and a blank before it":               "<IfModule  !mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"not, and a blank":                             "<IfModule ! mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"two modules":                                  "<IfModule !mod_headers.c mod_rewrite.c>\nEVIL\n</IfModule>\nMARK\n",
	"nothing asked for":                            "<IfModule>\nEVIL\n</IfModule>\nMARK\n",
	"not nothing":                                  "<IfModule !>\nEVIL\n</IfModule>\nMARK\n",
	"a > in the name":                              "<IfModule !mod_headers.c>>\nEVIL\n</IfModule>\nMARK\n",
	"something after the >":                        "<IfModule !mod_headers.c> EVIL\nMARK\n</IfModule>\nMARK\n",
	"the core by the name of its source":           "<IfModule !core.c>\nEVIL\n</IfModule>\nMARK\n",
	"the core by its identifier":                   "<IfModule !core_module>\nEVIL\n</IfModule>\nMARK\n",
	"what is built in by its identifier":           "<IfModule !so_module>\nEVIL\n</IfModule>\nMARK\n",
	"http by the name that nobody has":             "<IfModule !mod_http.c>\nMARK\n</IfModule>\n",
	"http by the name of its source":               "<IfModule !http_core.c>\nEVIL\n</IfModule>\nMARK\n",
	"a module by its path":                         "<IfModule !modules/mod_headers.c>\nMARK\n</IfModule>\n",
	"something that is defined":                    "<IfDefine LAMP>\nMARK\n</IfDefine>\n",
	"not something that is defined":                "<IfDefine !LAMP>\nEVIL\n</IfDefine>\nMARK\n",
	"something that is not defined":                "<IfDefine NO_LAMP>\nEVIL\n</IfDefine>\nMARK\n",
	"not something that is not defined":            "<IfDefine !NO_LAMP>\nEVIL\n</IfDefine>\nMARK\n",
	"what is defined, in other letters":            "<IfDefine !lamp>\nMARK\n</IfDefine>\n",
	"what the environment says and nobody defines": "<IfDefine !APACHE_LAMP>\nMARK\n</IfDefine>\n",
	"what was defined and is no more":              "<IfDefine !DARK>\nMARK\n</IfDefine>\n",
	"what the way of starting defines":             "<IfDefine DEBUG>\nMARK\n</IfDefine>\n",
	"what the way of starting defines, and not":    "<IfDefine !ONE_PROCESS>\nEVIL\n</IfDefine>\nMARK\n",
	"what it says itself is defined":               "Define OWN\n<IfDefine OWN>\nMARK\n</IfDefine>\n",
	"what it says itself is not":                   "UnDefine LAMP\n<IfDefine LAMP>\nMARK\n</IfDefine>\n",
	"a define of a name with a value":              "<IfDefine SHELF>\nMARK\n</IfDefine>\n",
	"a version":                                    "<IfVersion >= 2.4>\nMARK\n</IfVersion>\n",
	"a version that is not":                        "<IfVersion < 2.4>\nEVIL\n</IfVersion>\nMARK\n",
	"not a version":                                "<IfVersion !>= 2.4>\nEVIL\n</IfVersion>\nMARK\n",
	"a version by a pattern":                       "<IfVersion ~ ^2\\.>\nMARK\n</IfVersion>\n",
	"a version between slashes":                    "<IfVersion = /^2\\.4/>\nMARK\n</IfVersion>\n",
	"a version alone":                              "<IfVersion 2.4>\nEVIL\n</IfVersion>\nMARK\n",
	"a condition of requests":                      "<If \"true\">\nMARK\n</If>\n",
	"a condition of requests that never holds":     "<If \"false\">\nEVIL\n</If>\nMARK\n",
	"another in it":                                "<If \"true\">\n<IfModule !mod_headers.c>\nEVIL\n</IfModule>\nMARK\n</If>\n",
	"otherwise":                                    "<If \"false\">\nEVIL\n</If>\n<Else>\nMARK\n</Else>\n",
	"a file that is there":                         "<IfFile \"/etc/passwd\">\nMARK\n</IfFile>\n",
	"a file that is not":                           "<IfFile \"/no/such\">\nEVIL\n</IfFile>\nMARK\n",
	"a condition that is none":                     "<IfMoon full>\nEVIL\n</IfMoon>\nMARK\n",
	"a line that goes on":                          "# a remark \\\nEVIL\nMARK\n",
	"a line that goes on with a blank after":       "# a remark \\ \nEVIL\nMARK\n",
	"a line that goes on, of another system":       "# a remark \\\r\nEVIL\r\nMARK\r\n",
	"a name in two parts":                          "Load\\\nModule x_module /x.so\nMARK\n",
	"a condition in two parts":                     "<IfModule \\\n!mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"the end in two parts":                         "<IfModule !mod_headers.c>\nEVIL\n</IfMod\\\nule>\nMARK\n",
	"a line that goes on to the end":               "MARK\n# remark \\",
	"two signs that it goes on":                    "# a remark \\\\\nEVIL\nMARK\n",
	"the name in other letters":                    "<iFmOdUlE !mod_headers.c>\nEVIL\n</IFMODULE>\nMARK\n",
	"what is not allowed, in other letters":        "lOADmODULE x_module /x.so\nMARK\n",
	"a name in quotes":                             "\"LoadModule\" x_module /x.so\nMARK\n",
	"a name in single quotes":                      "'LoadModule' x_module /x.so\nMARK\n",
	"a section in quotes":                          "\"<IfModule\" !mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"an end in quotes":                             "<IfModule !mod_headers.c>\nEVIL\n\"</IfModule>\"\nMARK\n",
	"nothing in quotes":                            "\"\" LoadModule\nMARK\n",
	"a name with quotes at its end":                "Header\"\" set X-Mark there\n",
	"a form feed after a name":                     "LoadModule\fx_module /x.so\nMARK\n",
	"a form feed before a name":                    "\fMARK\n",
	"a vertical tab after a name":                  "Header\vset X-Mark there\n",
	"a carriage return in a line":                  "Header\rset X-Mark there\n",
	"a carriage return for an end":                 "# remark\rEVIL\nMARK\n",
	"a blank that no server takes for one":         "\u00a0MARK\n",
	"a byte mark":                                  "\ufeffMARK\n",
	"a byte mark before a remark":                  "\ufeff# remark\nMARK\n",
	"a NUL at the end of a line":                   "MARK\x00\n",
	"a NUL in a remark":                            "# remark\x00\nEVIL\nMARK\n",
	"a NUL before a line":                          "\x00EVIL\nMARK\n",
	"a NUL alone on a line":                        "<IfModule !mod_headers.c>\n\x00\nEVIL\n</IfModule>\nMARK\n",
	"a NUL in a name":                              "Header\x00 set X-Mark there\n",
	"a long line":                                  "# LONG8000\nMARK\n",
	"a longer line":                                "# LONG8190\nMARK\n",
	"a line as long as may be":                     "# LONG8192\nMARK\n",
	"a line that is too long":                      "# LONG9000\nMARK\n",
	"a long line that is passed over":              "<IfModule !mod_headers.c>\n# LONG9000\nEVIL\n</IfModule>\nMARK\n",
	"a long line that goes on":                     "# LONG5000\\\n LONG5000\nMARK\n",
	"a line of blanks":                             "BLANKS9000MARK\n",
	"a section that is passed over in one that is": "<IfModule !mod_headers.c>\n<IfModule mod_headers.c>\nEVIL\n</IfModule>\nEVIL\n</IfModule>\nMARK\n",
	"another section in what is passed over":       "<IfModule !mod_headers.c>\n<Files x>\nEVIL\n</IfModule>\nMARK\n",
	"an end that belongs to nothing there":         "<IfModule !mod_headers.c>\n</Files>\nEVIL\n</IfModule>\nMARK\n",
	"an end that is not whole":                     "<IfModule !mod_headers.c>\nEVIL\n</IfModule\nMARK\n",
	"an end with a blank":                          "<IfModule !mod_headers.c>\nEVIL\n</IfModule >\nMARK\n",
	"an end with a word":                           "<IfModule !mod_headers.c>\nEVIL\n</IfModule x>\nMARK\n",
	"an end with more after it":                    "<IfModule !mod_headers.c>\nEVIL\n</IfModule> EVIL\nMARK\n",
	"a longer name that begins alike":              "<IfModule !mod_headers.c>\n<IfModuleX>\n</IfModuleX>\nEVIL\n</IfModule>\nMARK\n",
	"an end of what begins alike":                  "<IfModule !mod_headers.c>\n</IfModuleX>\nEVIL\n</IfModule>\nMARK\n",
	"never closed":                                 "MARK\n<IfModule !mod_headers.c>\nEVIL\n",
	"closed twice":                                 "<IfModule !mod_headers.c>\nEVIL\n</IfModule>\n</IfModule>\nMARK\n",
	"a section of files that never ends":           "MARK\n<Files x>\n",
	"a remark in what is passed over":              "<IfModule !mod_headers.c>\n# </IfModule>\nEVIL\n</IfModule>\nMARK\n",
	"a section in a remark that goes on":           "# remark \\\n<IfModule !mod_headers.c>\nMARK\n",
	"variables in a name":                          "${LOAD} x_module /x.so\nMARK\n",
	"variables in a condition":                     "<IfModule !${SHELF}>\nEVIL\n</IfModule>\nMARK\n",
	"variables that nobody knows":                  "<IfModule ${NOBODY}>\nEVIL\n</IfModule>\nMARK\n",
	"a variable for the end":                       "<IfModule !mod_headers.c>\nEVIL\n${END}\n</IfModule>\nMARK\n",
	"a variable in a word":                         "Header set X-Mark ${THERE}\n",
	"an environment variable in a word":            "Header set X-Mark ${APACHE_LAMP}\n",
	"what is allowed by its group":                 "Options +Indexes\nMARK\n",
	"a folder in an override file":                 "<Directory />\nMARK\n</Directory>\nMARK\n",
	"an address in an override file":               "<Location />\nMARK\n</Location>\nMARK\n",
	"an include":                                   "IncludeOptional /etc/no-such*\nMARK\n",
	"an include that is passed over":               "<IfModule !mod_headers.c>\nInclude /etc/passwd\n</IfModule>\nMARK\n",
	"a limit around it":                            "<Limit GET>\nEVIL\n</Limit>\nMARK\n",
	"a macro":                                      "<Macro x>\nEVIL\n</Macro>\nMARK\n",
	"a section without its end":                    "<Files x\nEVIL\n</Files>\nMARK\n",
	"a < alone":                                    "<\nEVIL\nMARK\n",
	"a name that begins with <":                    "< IfModule !mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"a blank before the end of it":                 "<IfModule !mod_headers.c>\nEVIL\n</ IfModule>\nMARK\n",
	"a remark after a directive":                   "Header set X-Mark there # LoadModule x /x\n",
	"a quotation mark that is not closed":          "Header set X-Mark \"there\nEVIL\n",
	"a quotation mark over two lines":              "Header set X-Mark \"th\\\nere\"\n",
	"nothing at all":                               "",
	"no line's end":                                "MARK",
	"error":                                        "Error \"stop\"\nMARK\n",
	"error that is passed over":                    "<IfModule !mod_headers.c>\nError \"stop\"\n</IfModule>\nMARK\n",
	"not what is not there, in quotes":             "<IfModule \"!mod_no_such.c\">\nEVIL\n</IfModule>\nMARK\n",
	"the end of what was read, and more":           "<IfModule mod_headers.c>\nMARK\n</IfModule> EVIL\n",
	"the end of what was read, and a blank":        "<IfModule mod_headers.c>\nMARK\n</IfModule>   \n",
	"the end of what was read, in quotes":          "<IfModule mod_headers.c>\nMARK\n\"</IfModule>\"\n",
	"the end of what was read, in other letters":   "<IfModule mod_headers.c>\nMARK\n</ifmodule>\n",
	"the end of what was read, in two parts":       "<IfModule mod_headers.c>\nMARK\n</IfMod\\\nule>\n",
	"what is read is never closed":                 "<IfModule mod_headers.c>\nMARK\n",
	"what is read is never closed, and holds more": "<IfModule mod_headers.c>\n<IfModule !mod_headers.c>\nEVIL\n</IfModule>\nMARK\n",
	"an end across what is read":                   "<Files x.txt>\n<IfModule mod_headers.c>\nMARK\n</Files>\n</IfModule>\n",
	"files across what is read":                    "<IfModule mod_headers.c>\n<Files x.txt>\nMARK\n</IfModule>\n</Files>\n",
	"a variable for the end of files":              "<Files x.txt>\nMARK\n${ENDFILES}\n",
	"a variable for the beginning of files":        "${FILES}\nMARK\n</Files>\n",
	"a variable for all of a line":                 "${WHOLE}\n",
	"a variable with blanks":                       "Header set ${PAIR}\n",
	"a variable in quotes":                         "Header set X-Mark \"${THERE}\"\n",
	"a variable in a condition of requests":        "<If \"'${THERE}' == 'there'\">\nMARK\n</If>\n",
	"files in what is passed over":                 "<IfModule !mod_headers.c>\n<Files x>\nEVIL\n</Files>\n</IfModule>\nMARK\n",
	"a single quote around a name":                 "<IfModule '!mod_headers.c'>\nEVIL\n</IfModule>\nMARK\n",
	"a backslash in a name":                        "<IfModule !mod_headers\\.c>\nMARK\n</IfModule>\n",
	"two exclamation marks":                        "<IfModule !!mod_headers.c>\nMARK\n</IfModule>\n",
	"a warning":                                    "Warning \"look\"\nMARK\n",
}

// longer puts long runs of signs where a text says so.
func longer(text string) string {
	for _, n := range []int{5000, 8000, 8190, 8192, 9000} {
		text = strings.ReplaceAll(text, fmt.Sprint("LONG", n), strings.Repeat("x", n))
		text = strings.ReplaceAll(text, fmt.Sprint("BLANKS", n), strings.Repeat(" ", n))
	}
	return strings.NewReplacer("EVIL", "LoadModule evil_module /no/such.so", "MARK", "Header set X-Mark there").Replace(text)
}

// What is read of an override file as allowed is what the real server takes as allowed, or it is said that it cannot be told.
func TestHostileOverrides(t *testing.T) {
	needApache(t)
	assert.GreaterOrEqual(t, len(hostileOverrides), 60)
	g := ground.New(t)
	require.NoError(t, os.WriteFile(g.Dir+"/mime.types", []byte(mimeTypes), 0o644))
	folders, n := map[string]string{}, 0
	for name, text := range hostileOverrides {
		n++
		folders[name] = fmt.Sprintf("/h%d", n)
		dir := filepath.Join(g.Dir, "site", folders[name])
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.WriteFile(dir+"/.htaccess", []byte(longer(text)), 0o644))
		require.NoError(t, os.WriteFile(dir+"/x.txt", []byte("x"), 0o644))
	}
	t.Setenv("APACHE_LAMP", "lit")
	for allowed, directive := range map[string]string{"all": "AllowOverride All", "headers": "AllowOverride FileInfo", "a list": "AllowOverride None\nAllowOverrideList Header IfModule", "what does no harm": "AllowOverride FileInfo Nonfatal=All", "not headers, and no harm": "AllowOverride Indexes Nonfatal=Override"} {
		t.Run(allowed, func(t *testing.T) {
			port := freePort(t)
			conf := frame(g, port, fmt.Sprintf("ServerTokens Prod\nDefine LAMP\nDefine SHELF mod_headers.c\nDefine LOAD LoadModule\nDefine END </IfModule>\nDefine ENDFILES </Files>\nDefine FILES \"<Files x.txt>\"\nDefine WHOLE \"Header set X-Mark there\"\nDefine PAIR \"X-Mark there\"\n"+
				"Define THERE there\nDefine DARK\nUnDefine DARK\nDocumentRoot %[1]s/site\n<Directory %[1]s>\n%[2]s\nRequire all granted\n</Directory>\n", g.Dir, directive))
			stop := start(t, g, conf, port)
			defer stop()
			number, _ := strconv.Atoi(port)
			config := read(t, g, port)
			untold := 0
			for name, folder := range folders {
				a := answer.Ask{Scheme: "http", Host: "lantern-lane.example", HostPort: number, Port: number, Local: ground.Loopback, Client: ground.Loopback, Target: folder + "/x.txt", Header: map[string]string{}}
				real, err := ground.Fetch(t, port, a)
				require.NoError(t, err)
				told := config.Answer(a)
				status, mark := told.Get(answer.Status), told.Get(answer.Header("x-mark"))
				if !status.Known() {
					untold++
					continue
				}
				assert.Equal(t, strconv.Itoa(real.Status), status.Text(), "%s: %q", name, hostileOverrides[name])
				if mark.Known() {
					assert.Equal(t, real.Header.Get("X-Mark"), mark.Text(), "%s: %q", name, hostileOverrides[name])
				}
			}
			t.Logf("%d of %d are not told", untold, len(folders))
			assert.Less(t, untold, len(folders)/4)
		})
	}
}
