package audit

import (
	"context"
	"net"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/canned"
	"weltaxis/internal/demo"
	"weltaxis/internal/facts"
	"weltaxis/internal/site"
)

// theatre is the demo's first site on the disk, which nobody serves.
func theatre(t *testing.T) *site.Site {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, false, nil))
	s, err := site.Load(filepath.Join(dir, demo.FirstSite))
	require.NoError(t, err)
	return s
}

func nowhere(context.Context, string, string) (net.Conn, error) { return nil, canned.ErrNowhere }

// TestNoStepChangesTheRequest: after all have looked it is as one made anew.
func TestNoStepChangesTheRequest(t *testing.T) {
	s := theatre(t)
	s.Sources.Live.Trust = "" // nobody has made it
	rules, err := Rules(s, Options{})
	require.NoError(t, err)
	ask, err := newRequest(s, noon, Options{})
	require.NoError(t, err)
	_, err = look(t.Context(), ask, rules, Options{})
	require.NoError(t, err)
	again, err := newRequest(s, noon, Options{})
	require.NoError(t, err)
	assert.True(t, reflect.DeepEqual(again, ask))
}

// TestWhatTakesTwoSourcesSaysWhichIsMissing, whichever of them nobody asked, and nothing of what takes neither.
func TestWhatTakesTwoSourcesSaysWhichIsMissing(t *testing.T) {
	answers, err := canned.Open("../demo/testdata/lantern-lane.har.gz")
	require.NoError(t, err)
	for _, c := range []struct {
		without func(*site.Sources)
		name    string
		says    string
	}{
		{func(s *site.Sources) { s.Settings = nil }, facts.ListPages + ".own", "the settings source as well, and that was not asked"},
		{func(s *site.Sources) { s.Runtime = nil }, facts.LiveSessionCookie.Name, "the runtime source as well, and that was not asked"},
		{func(s *site.Sources) { s.Server = nil }, facts.ListClasses + ".answer", "the server source as well, and that was not asked"},
		{func(s *site.Sources) { s.Settings = nil }, facts.RuntimeRelied.Name, "the settings source as well, and that was not asked"},
		{func(s *site.Sources) { s.Settings = nil }, facts.FilesStray.Name, "no list of extensions was read"},
		{func(s *site.Sources) { s.Server = nil }, facts.RuntimeModules.Name, "is decided by the web server, and that was not seen"},
		{func(s *site.Sources) { s.Files.Root = "nowhere" }, facts.ListStrange, "there is no earlier look to compare with"},
		{func(s *site.Sources) { s.Settings.Root = "nowhere" }, facts.RuntimeRelied.Name, "the settings source as well, and that saw nothing: "},
	} {
		s := theatre(t)
		s.Sources.Live.Trust = ""
		gaps := func() (says []string) {
			var snapshot *facts.Snapshot
			canned.Bubble(t, func(t *testing.T) {
				answers.Again()
				var err error
				snapshot, err = Look(t.Context(), s, noon, Options{Transport: answers.Over, Dial: nowhere})
				require.NoError(t, err)
			})
			for _, g := range snapshot.Gaps {
				if g.Leaves(c.name) && g.Source != facts.Settings {
					says = append(says, g.Because)
				}
			}
			return says
		}
		before := gaps()
		for _, because := range before {
			assert.NotContains(t, because, " as well, and that ", c.name)
		}
		c.without(&s.Sources)
		after := gaps()
		require.NotEmpty(t, after, c.name)
		assert.Contains(t, after[len(after)-1], c.says, c.name)
	}
}
