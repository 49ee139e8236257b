package baseline

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/facts"
)

func TestRiskOfModesFollowsFromWhoLosesWhat(t *testing.T) {
	for _, c := range []struct {
		from, to  uint32
		runnable  bool
		owner, as string
		risk      facts.Risk
		says      string
		filled    bool
	}{
		{0o666, 0o444, false, "app:app", "app", facts.Safe, "nobody can change it by accident", false},
		{0o777, 0o755, true, "app:app", "app", facts.Safe, "besides app lose writing", false},
		{0o644, 0o640, false, "app:app", "www", facts.Disruptive, "the web server, as www, is one of them", false},
		{0o644, 0o640, false, "app:app", "", facts.Visible, "nobody has said whom the web server runs as", false},
		{0o644, 0o640, false, "www:www", "www", facts.Safe, "besides www lose reading", false},
		{0o755, 0o644, false, "app:app", "", facts.Safe, "nobody loses access", false},
		{0o755, 0o644, true, "app:app", "app", facts.Disruptive, "app loses entering or running", false},
		{0o640, 0o240, false, "app:app", "app", facts.Disruptive, "app loses reading", false},
		{0o777, 0o775, true, "app:app", "www", facts.Disruptive, "the web server, as www, may be one of them", true},
		{0o777, 0o775, true, "app:www", "www", facts.Safe, "besides app lose writing", true},
		{0o777, 0o755, true, "app:www", "www", facts.Disruptive, "may be one of them", true},
		{0o777, 0o775, true, "www:www", "www", facts.Safe, "besides www lose writing", true},
		{0o777, 0o775, true, "app:app", "www", facts.Safe, "besides app lose writing", false},
	} {
		risk, says, noticed := ModeChange{c.from, c.to, c.runnable, c.owner, c.as, false, c.filled}.Risk()
		assert.Equal(t, c.risk, risk, "%o to %o", c.from, c.to)
		assert.Contains(t, says, c.says)
		assert.Equal(t, c.risk == facts.Safe, len(noticed) == 0, "what is safe nobody notices")
	}
	for to, want := range map[uint32]facts.Risk{0o644: facts.Disruptive, 0o660: facts.Visible} {
		risk, _, _ := ModeChange{From: 0o664, To: to, Owner: "app:app", ACL: true}.Risk()
		assert.Equal(t, want, risk, "the list loses what the group loses, and %04o takes from it or does not", to)
	}
}
