package cli

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// interfacePackages are what a person meets; all other packages are core.
var interfacePackages = []string{"weltaxis/internal/cli", "weltaxis/internal/render", "weltaxis/internal/demo", "weltaxis/cmd/weltaxis"}

// A listed package is one line of go list.
type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "weltaxis/...").Output()
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

func TestCoreDoesNotKnowTheInterface(t *testing.T) {
	for _, p := range packages(t) {
		if slices.Contains(interfacePackages, p.ImportPath) {
			continue
		}
		for _, imported := range p.Imports {
			terminal := strings.HasPrefix(imported, "charm.land/") || strings.HasPrefix(imported, "github.com/charmbracelet/") ||
				strings.HasPrefix(imported, "github.com/spf13/") || imported == "html/template"
			assert.False(t, terminal || slices.Contains(interfacePackages, imported), "%s imports %s", p.ImportPath, imported)
		}
	}
}

func TestDataFlowsOneWay(t *testing.T) {
	may := map[string][]string{
		"facts": {}, "nearest": {}, "format": {}, "tree": {},
		"strict": {"nearest"}, "site": {"facts", "strict", "nearest"}, "dialect": {"facts", "format", "strict", "nearest"},
		"baseline":        {"facts", "site", "strict", "nearest"},
		"store":           {"facts", "dialect", "format"},
		"fix":             {"facts", "dialect", "store", "tree", "source/files", "source/settings"},
		"discover":        {"facts", "dialect", "format", "store", "source/settings"},
		"source/settings": {"facts", "dialect", "store"}, "source/files": {"facts", "dialect", "tree"},
	}
	for _, p := range packages(t) {
		name := strings.TrimPrefix(p.ImportPath, "weltaxis/internal/")
		allowed, restricted := may[name]
		if !restricted {
			continue
		}
		for _, imported := range p.Imports {
			if ours, ok := strings.CutPrefix(imported, "weltaxis/internal/"); ok {
				assert.Contains(t, allowed, ours, "%s imports %s", name, ours)
			}
		}
	}
}
