package baseline

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBuiltInBaselineIsWhole(t *testing.T) {
	b, err := Load()
	require.NoError(t, err)
	require.NoError(t, b.Compile())
	require.NoError(t, b.CheckMessages())
}
