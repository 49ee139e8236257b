//go:build unix

package tree_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"weltaxis/internal/tree"
	"weltaxis/internal/tree/treetest"
)

func TestAFolderOfThisMachineConforms(t *testing.T) {
	treetest.Conform(t, treetest.Kind{Of: func(t *testing.T, dir string) tree.Files {
		files, err := tree.Open(dir)
		require.NoError(t, err)
		t.Cleanup(func() { files.Close() })
		return files
	}})
}
