package history

import (
	"fmt"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/facts"
)

func TestADiskThatIsFull(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=256k"); err != nil {
		t.Skipf("nothing may be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	s := open(t, dir)
	var err error
	kept := 0
	for day := 0; err == nil && day < 500; day++ {
		e := look(t, day, []string{"a.one"})
		for n := range 40 { // what does not repeat
			e.Snapshot.Pages = append(e.Snapshot.Pages, facts.Page{Address: fmt.Sprintf("https://theatre.example/%x", facts.Fingerprint(fmt.Sprint(day), fmt.Sprint(n))), Status: 404})
		}
		if _, err = s.Keep(t.Context(), e, false); err == nil {
			kept++
		}
	}
	assert.ErrorContains(t, err, "no room left on the disk")
	assert.Positive(t, kept)
	audits, err := s.List(t.Context(), theatre)
	require.NoError(t, err)
	assert.Len(t, audits, kept)
	_, err = s.Load(t.Context(), audits[kept-1])
	assert.NoError(t, err)
}
