package cli

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/gather"
	"weltaxis/internal/steps"
)

// The layers: what each package of this program may import of it. A package that is not listed fails.
var (
	// interfacePackages are what a person meets. They may import everything; nothing of the core imports them.
	interfacePackages = []string{"cli", "render", "demo"}
	mayImport         = map[string][]string{
		"access": {}, "clock": {}, "facts": {"secrets"}, "nearest": {}, "password": {}, "nesting": {}, "ordinary": {}, "policy": {}, "caching": {}, "pace": {"ordinary", "secrets"}, "progress": {}, "query": {}, "spelt": {}, "secrets": {}, "format": {"nesting"}, "tree": {"facts", "identity", "orders", "ordinary"}, "tree/treetest": {"ordinary", "tree"}, "width": {},
		"strict":          {"nearest", "nesting"},
		"announce":        {"facts", "ordinary"},
		"identity":        {"access", "ordinary"},
		"orders":          {"access", "identity", "ordinary"},
		"private":         {"identity", "lock", "orders"},
		"confine":         {"identity", "orders", "private"},
		"trial":           {"secrets", "amend", "confine", "directives", "facts", "orders", "ordinary", "source/server", "source/server/apache"},
		"site":            {"announce", "facts", "orders", "ordinary", "strict", "nearest"},
		"dialect":         {"facts", "format", "orders", "query", "strict", "nearest"},
		"baseline":        {"facts", "orders", "strict", "nearest"},
		"store":           {"private", "facts", "dialect", "format", "identity", "orders", "query", "tree"},
		"source/settings": {"facts", "dialect", "store"},
		"source/files":    {"access", "facts", "dialect", "identity", "ordinary", "progress", "tree"},
		"source/live":     {"caching", "facts", "pace", "policy", "progress", "secrets", "spelt", "width"},
		"directives":      {"secrets", "orders", "tree"},

		"amend":                {"caching", "directives", "facts", "orders", "source/runtime", "source/server", "source/server/answer", "tree"},
		"source/upkeep":        {"dialect", "facts", "ordinary", "private", "strict", "orders", "tree"},
		"source/runtime":       {"secrets", "facts", "ordinary", "progress", "orders", "tree"},
		"source/server":        {"directives", "facts", "ordinary", "policy", "progress", "spelt", "source/server/answer", "source/server/nginx", "source/server/apache", "tree"},
		"source/server/answer": {"caching", "facts", "tree"},
		"source/server/nginx":  {"directives", "facts", "source/server/answer"},
		"source/server/apache": {"directives", "facts", "source/server/answer"},
		"source/server/ground": {"caching", "directives", "facts", "source/server/answer"}, // for tests alone
		"discover":             {"facts", "dialect", "format", "progress", "store", "source/settings", "tree"},
		"fix":                  {"access", "amend", "confine", "nearest", "orders", "trial", "source/runtime", "source/server", "facts", "site", "dialect", "baseline", "lock", "ordinary", "progress", "secrets", "audit", "store", "tree", "source/files", "source/live", "source/settings", "identity", "format", "steps"},
		"gather":               {"dialect", "facts", "progress", "site", "source/live", "store", "tree"},
		"steps":                {"dialect", "discover", "facts", "gather", "site", "source/files", "source/live", "source/runtime", "source/server", "source/server/answer", "source/settings", "source/upkeep", "store", "tree"},
		"audit":                {"baseline", "dialect", "facts", "gather", "identity", "nearest", "orders", "pace", "secrets", "site", "source/files", "source/live", "source/runtime", "source/server/answer", "steps", "store", "strict", "tree"},
		"report":               {"announce", "audit", "baseline", "caching", "compare", "dialect", "facts", "fix", "history", "nearest", "pace", "width"},
		"compare":              {"facts"},
		"history":              {"secrets", "compare", "facts", "lock", "identity"},
		"lock":                 {},
		"servertest":           {}, // for tests alone
		"canned":               {}, // for tests alone
		"hostile":              {}, // tests and nothing else
		"real":                 {}, // tests and nothing else
	}
)

// A listed package is one line of go list.
type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "weltaxis/internal/...").Output()
	require.NoError(t, err)
	var all []listed
	for decoder := json.NewDecoder(strings.NewReader(string(out))); decoder.More(); {
		var p listed
		require.NoError(t, decoder.Decode(&p))
		all = append(all, p)
	}
	require.Greater(t, len(all), 10)
	return all
}

// upward lists the imports that lead the wrong way, and packages that nobody has put in their place.
func upward(all []listed) []string {
	var wrong []string
	for _, p := range all {
		name := strings.TrimPrefix(p.ImportPath, "weltaxis/internal/")
		if slices.Contains(interfacePackages, name) {
			continue
		}
		allowed, known := mayImport[name]
		if !known {
			wrong = append(wrong, name+" is not in the table of layers")
			continue
		}
		for _, imported := range p.Imports {
			ours, is := strings.CutPrefix(imported, "weltaxis/internal/")
			terminal := strings.HasPrefix(imported, "charm.land/") || strings.HasPrefix(imported, "github.com/charmbracelet/") ||
				strings.HasPrefix(imported, "github.com/spf13/") || imported == "html/template"
			if terminal || is && !slices.Contains(allowed, ours) {
				wrong = append(wrong, fmt.Sprintf("%s imports %s", name, imported))
			}
		}
	}
	return wrong
}

func TestDataFlowsOneWay(t *testing.T) { assert.Empty(t, upward(packages(t))) }

// TestTheTableOfLayersCanFail by a package that nobody has listed, and by an import of each wrong kind.
func TestTheTableOfLayersCanFail(t *testing.T) {
	assert.Equal(t, []string{"newcomer is not in the table of layers", "facts imports weltaxis/internal/nearest", "source/live imports weltaxis/internal/source/files",
		"fix imports weltaxis/internal/render", "audit imports github.com/spf13/cobra"}, upward([]listed{
		{"weltaxis/internal/newcomer", nil}, {"weltaxis/internal/facts", []string{"fmt", "weltaxis/internal/nearest"}},
		{"weltaxis/internal/source/live", []string{"weltaxis/internal/facts", "weltaxis/internal/source/files"}},
		{"weltaxis/internal/fix", []string{"weltaxis/internal/render"}}, {"weltaxis/internal/audit", []string{"github.com/spf13/cobra"}}}))
}

// opens are the files of the core, besides the package tree, that open, look at or change something on the disk, with what that is. None of
// it is a site's: all that is read or changed of a site goes by tree.Files.
var opens = map[string]string{
	"identity/accounts.go":           "the accounts of this machine",
	"ordinary/ordinary.go":           "it opens what others name",
	"orders/write_unix.go":           "what somebody has written by name",
	"orders/orders.go":               "what gives orders",
	"orders/find_unix.go":            "what gives orders",
	"orders/find_linux.go":           "what gives orders",
	"orders/find_bsd.go":             "what gives orders",
	"orders/find_windows.go":         "what gives orders",
	"orders/program.go":              "programs",
	"site/site.go":                   "whether what a site file names is there",
	"announce/announce.go":           "the state folder",
	"history/history.go":             "the state folder",
	"private/private.go":             "what nobody else is to see, in the folder for temporary files",
	"pace/run.go":                    "the state folder",
	"fix/moved.go":                   "the state folder, and where a site file lies",
	"fix/journal.go":                 "the state folder",
	"fix/schedule.go":                "tables of this machine's scheduler, which are root's",
	"directives/directives.go":       "the server's own configuration",
	"source/server/server.go":        "the packages of this machine",
	"source/runtime/version.go":      "the packages of this machine",
	"source/runtime/find.go":         "the runtime's own configuration",
	"source/runtime/pool.go":         "the runtime's own configuration",
	"source/upkeep/upkeep.go":        "a list that the site file names",
	"source/upkeep/advisories.go":    "a list that the site file names",
	"source/upkeep/sums.go":          "a list that the site file names",
	"source/upkeep/fetch.go":         "a list that was fetched, in a private folder",
	"source/upkeep/look.go":          "a list that the site file names, or one that was fetched, in a private folder",
	"store/hands_linux.go":           "what this process has open",
	"store/sqlite.go":                "a private copy of a database",
	"store/server.go":                "the sockets of servers",
	"fix/told.go":                    "how this machine was started",
	"confine/confine.go":             "a room for a test, which is private",
	"confine/confine_linux.go":       "a room for a test, which is private",
	"confine/confine_other.go":       "a room for a test, which is private",
	"width/measure.go":               "it makes a table of the program's own",
	"source/server/ground/ground.go": "for tests alone",
	"source/server/ground/cases.go":  "for tests alone",
	"canned/canned.go":               "for tests alone",
	"servertest/certificate.go":      "for tests alone",
	"servertest/databases.go":        "for tests alone",
	"servertest/memory_linux.go":     "for tests alone",
	"servertest/nginx.go":            "for tests alone",
	"servertest/page.go":             "for tests alone",
	"servertest/process.go":          "for tests alone",
	"tree/treetest/treetest.go":      "for tests alone",
}

// opening is what opens, looks at or changes something by its name.
var opening = map[string]string{
	"os":       "Open OpenFile ReadFile Stat Lstat ReadDir Readlink OpenRoot OpenInRoot Create CreateTemp WriteFile Rename Remove RemoveAll Chmod Chown Lchown Mkdir MkdirAll MkdirTemp Symlink Link Truncate Chtimes DirFS CopyFS Chdir",
	"filepath": "Walk WalkDir EvalSymlinks Glob", "ordinary": "Read Open OpenIn Checked",
	"unix":    "Open Openat Openat2 Stat Lstat Fstatat Statx Rename Renameat Renameat2 Unlink Unlinkat Mkdir Mkdirat Chmod Fchmodat Chown Lchown Fchownat Symlink Link Linkat Statfs Mount Getxattr Lgetxattr Setxattr",
	"syscall": "Open Openat Stat Lstat Fstatat Rename Renameat Unlink Mkdir Chmod Chown Lchown Symlink Link Statfs Mount Getxattr Setxattr",
}

// opened lists the files of a package that do that.
func opened(t *testing.T, dir string) (files map[string][]string) {
	t.Helper()
	files = map[string][]string{}
	require.NoError(t, filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, is := n.(*ast.SelectorExpr); is {
				if of, is := s.X.(*ast.Ident); is && slices.Contains(strings.Fields(opening[of.Name]), s.Sel.Name) {
					rel, _ := filepath.Rel(dir, name)
					files[filepath.ToSlash(rel)] = append(files[filepath.ToSlash(rel)], of.Name+"."+s.Sel.Name)
				}
			}
			return true
		})
		return nil
	}))
	return files
}

// TestNothingElseOpensWhatIsASites: a site's files are reached by tree.Files alone, or by what the table names.
func TestNothingElseOpensWhatIsASites(t *testing.T) {
	found := opened(t, "..")
	require.Contains(t, found, "tree/folder.go", "the test sees what it looks for")
	for name, calls := range found {
		first, _, _ := strings.Cut(name, "/")
		if slices.Contains(interfacePackages, first) || path.Dir(name) == "tree" {
			continue
		}
		assert.Contains(t, opens, name, "it says %s; go by tree.Files, or say in the table what that is", calls)
	}
	for name := range opens {
		assert.Contains(t, found, name, "it opens nothing any more")
	}
}

// TestEveryStepHasAPlaceAmongTheLayers: a source is a package of its own, which knows no other.
func TestEveryStepHasAPlaceAmongTheLayers(t *testing.T) {
	for _, step := range steps.All {
		source := "source/" + gather.Source(step).String()
		of, known := mayImport[source]
		assert.True(t, known, gather.Name(step))
		for _, imported := range of {
			below := strings.HasPrefix(imported, source+"/")
			assert.False(t, strings.HasPrefix(imported, "source/") && !below, "%s may import %s", gather.Name(step), imported)
		}
	}
}
