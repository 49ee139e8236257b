//go:build linux

package confine

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A program in a room reads what it is handed, writes where it may, and has nothing else: no rights, no network, no environment.
func TestARoomHoldsNothing(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("hush"), 0o600))
	t.Setenv("LANTERN", "lit")
	r, err := Enter()
	require.NoError(t, err)
	says, err := r.Run(t.Context(), []string{"sh", "-c", "cat " + r.Name(0) + " " + r.Name(1) + "; echo kept > " + r.Dir + "/file; cat " + r.Dir + "/file; echo [$LANTERN]; grep NoNewPrivs /proc/self/status; cat " + secret + " 2>&1"}, []byte("one "), []byte("two "))
	said := strings.Join(strings.Fields(says), " ")
	assert.Contains(t, said, "one two kept [] NoNewPrivs: 1")
	if os.Geteuid() == 0 {
		require.Error(t, err)
		assert.NotContains(t, said, "hush")
		assert.Contains(t, said, "Permission denied")
	}
	if r.Apart {
		says, err = r.Run(t.Context(), []string{"cat", "/proc/net/dev", "/proc/sys/net/ipv4/ip_unprivileged_port_start"})
		require.NoError(t, err)
		assert.Equal(t, 1, strings.Count(says, ": "), "its network has a loopback and nothing else: %s", says)
		assert.True(t, strings.HasSuffix(says, "\n0"), "every port may be listened on")
		own, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start")
		require.NoError(t, err)
		assert.NotEqual(t, "0\n", string(own), "which is so there alone")
	}
	r.Leave()
	assert.NoDirExists(t, r.Dir)
}

// What takes too long is ended with all that it has started, and what says too much is cut.
func TestARoomIsBounded(t *testing.T) {
	r, err := Enter()
	require.NoError(t, err)
	defer r.Leave()
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err = r.Run(ctx, []string{"sh", "-c", "sleep 600 & sleep 600"})
	require.Error(t, err)
	says, err := r.Run(t.Context(), []string{"sh", "-c", "yes | head -c 1000000"})
	require.NoError(t, err)
	assert.LessOrEqual(t, len(says), 16<<10)
	_, err = r.Run(t.Context(), []string{"no-such-program-of-anybody"})
	assert.ErrorContains(t, err, "is not on this machine")
}
