package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
)

// TestExposureOf: signs of one thing stand together, the surest first, and beside an earlier look it shows which are gone.
func TestExposureOf(t *testing.T) {
	tag := facts.Telling{Gives: "system", Name: "Brindle", Version: "3.4.2", Sure: "certain", Place: "tag", Says: "Brindle 3.4.2"}
	cookie := facts.Telling{Gives: "system", Name: "brindle", Sure: "likely", Place: "cookie", Says: "brindle"}
	server := facts.Telling{Gives: "server", Name: "nginx", Sure: "certain", Place: "header", Says: "Server: nginx"}
	now, before := &facts.Snapshot{}, &facts.Snapshot{Taken: time.Date(2026, 3, 5, 9, 0, 0, 0, time.UTC)}
	now.Signs, before.Signs = []facts.Telling{server, cookie}, []facts.Telling{cookie, tag, server}
	e := ExposureOf(&audit.Result{Snapshot: before}, nil)
	assert.Equal(t, "A stranger could name the system (Brindle, 2 signs) and its version (3.4.2, 1 sign) and the server (nginx, 1 sign).", e.Says)
	assert.Contains(t, e.Worth, "the tag in the head, which names a version (Brindle 3.4.2)")
	assert.Equal(t, "tag", e.Tells[0].Clues[0].Place)

	e = ExposureOf(&audit.Result{Snapshot: now}, before)
	assert.Equal(t, "A stranger could name the system (brindle: likely, 1 sign) and the server (nginx, 1 sign).", e.Says)
	assert.Contains(t, e.Worth, "none is worth much trouble")
	assert.Empty(t, e.New)
	assert.Equal(t, "3.4.2", e.Gone[0].Version)
	assert.False(t, SameSigns(now.Signs, before.Signs))

	e = ExposureOf(&audit.Result{Snapshot: &facts.Snapshot{}}, before)
	assert.Equal(t, "What a stranger can tell was not seen.", e.Says)
	assert.NotEmpty(t, e.Unseen)
	now.Signs = []facts.Telling{}
	assert.Equal(t, "A stranger could tell nothing of what it runs on.", ExposureOf(&audit.Result{Snapshot: now}, nil).Says)
}
