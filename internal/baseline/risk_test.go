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
	}{
		{0o666, 0o444, false, "app:app", "app", facts.Safe, "nobody can change it by accident"},
		{0o777, 0o755, true, "app:app", "app", facts.Safe, "besides app lose writing"},
		{0o644, 0o640, false, "app:app", "www", facts.Disruptive, "the web server, as www, is one of them"},
		{0o644, 0o640, false, "app:app", "", facts.Visible, "nobody has said whom the web server runs as"},
		{0o644, 0o640, false, "www:www", "www", facts.Safe, "besides www lose reading"},
		{0o755, 0o644, false, "app:app", "", facts.Safe, "nobody loses access"},
		{0o755, 0o644, true, "app:app", "app", facts.Disruptive, "app loses entering or running"},
		{0o640, 0o240, false, "app:app", "app", facts.Disruptive, "app loses reading"},
	} {
		risk, says, noticed := ModeChange{c.from, c.to, c.runnable, c.owner, c.as, false}.Risk()
		assert.Equal(t, c.risk, risk, "%o to %o", c.from, c.to)
		assert.Contains(t, says, c.says)
		assert.Equal(t, c.risk == facts.Safe, len(noticed) == 0, "what is safe nobody notices")
	}
	for to, want := range map[uint32]facts.Risk{0o644: facts.Disruptive, 0o660: facts.Visible} {
		risk, _, _ := ModeChange{From: 0o664, To: to, Owner: "app:app", ACL: true}.Risk()
		assert.Equal(t, want, risk, "the list loses what the group loses, and %04o takes from it or does not", to)
	}
}
