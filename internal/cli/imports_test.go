package cli

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
)

// The layers: what each package of this program may import of it. A package that is not listed fails.
var (
	// interfacePackages are what a person meets. They may import everything; nothing of the core imports them.
	interfacePackages = []string{"cli", "render", "demo"}
	mayImport         = map[string][]string{
		"access": {}, "facts": {}, "nearest": {}, "nesting": {}, "ordinary": {}, "policy": {}, "caching": {}, "pace": {"ordinary"}, "progress": {}, "query": {}, "secrets": {}, "format": {"nesting"}, "tree": {}, "width": {},
		"strict":          {"nearest", "nesting"},
		"announce":        {"facts", "ordinary"},
		"identity":        {"access", "ordinary"},
		"orders":          {"access", "identity", "ordinary"},
		"confine":         {"identity", "orders"},
		"trial":           {"amend", "confine", "directives", "facts", "orders", "ordinary", "source/server", "source/server/apache"},
		"site":            {"announce", "facts", "orders", "ordinary", "strict", "nearest"},
		"dialect":         {"facts", "format", "orders", "query", "strict", "nearest"},
		"baseline":        {"facts", "orders", "strict", "nearest"},
		"store":           {"facts", "dialect", "format", "orders", "ordinary", "query"},
		"source/settings": {"facts", "dialect", "store"},
		"source/files":    {"access", "facts", "dialect", "progress", "tree"},
		"source/live":     {"caching", "facts", "pace", "policy", "progress", "width"},
		"directives":      {"ordinary", "orders"},

		"amend":                {"caching", "directives", "facts", "source/runtime", "source/server", "source/server/answer"},
		"source/upkeep":        {"facts", "ordinary", "strict", "orders"},
		"source/runtime":       {"facts", "ordinary", "progress", "orders"},
		"source/server":        {"directives", "facts", "ordinary", "progress", "source/server/answer", "source/server/nginx", "source/server/apache"},
		"source/server/answer": {"caching", "facts", "ordinary"},
		"source/server/nginx":  {"directives", "facts", "source/server/answer"},
		"source/server/apache": {"directives", "facts", "source/server/answer"},
		"source/server/ground": {"source/server/answer"}, // for tests alone
		"discover":             {"facts", "dialect", "format", "ordinary", "progress", "store", "source/settings"},
		"fix":                  {"amend", "confine", "orders", "trial", "source/runtime", "source/server", "facts", "site", "dialect", "baseline", "lock", "ordinary", "progress", "secrets", "audit", "store", "tree", "source/files", "source/settings", "identity", "format"},
		"audit":                {"facts", "strict", "nearest", "site", "dialect", "baseline", "store", "discover", "source/settings", "source/files", "source/live", "source/runtime", "source/server", "source/server/answer", "source/upkeep", "orders", "ordinary", "pace", "progress", "tree", "identity"},
		"report":               {"announce", "audit", "baseline", "caching", "compare", "dialect", "facts", "fix", "history", "nearest", "pace", "width"},
		"compare":              {"facts"},
		"history":              {"compare", "facts", "lock", "identity"},
		"lock":                 {},
		"servertest":           {}, // for tests alone
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

// TestEveryStepHasAPlaceAmongTheLayers: a source is a package of its own, which knows no other.
func TestEveryStepHasAPlaceAmongTheLayers(t *testing.T) {
	for _, step := range audit.Steps {
		of, known := mayImport["source/"+step.Source.String()]
		assert.True(t, known, step.Name)
		for _, imported := range of {
			below := strings.HasPrefix(imported, "source/"+step.Source.String()+"/")
			assert.False(t, strings.HasPrefix(imported, "source/") && !below, "%s may import %s", step.Name, imported)
		}
	}
}
