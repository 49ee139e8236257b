package demo

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/render"
	"weltaxis/internal/report"
	"weltaxis/internal/servertest"
)

// maxSheets is on how many sheets of paper the theatre's report fits.
const maxSheets = 20

// TestAReportIsReadAndPrinted opens the reports of the theatre and of its twin in a browser, for both readers, and prints them: on no more paper than
// one reads, and with all that was said.
func TestAReportIsReadAndPrinted(t *testing.T) {
	browser := servertest.Chromium(t, "about:blank")
	patient, cancel := context.WithTimeout(browser, 2*time.Minute)
	defer cancel()
	for _, p := range []*placed{disordered(t, "lantern-lane"), place(t, lanternLaneAligned(), "brindle")} {
		m := mend(t, p, true)
		m.options.Pictures = true
		r := report.New(m.audit())
		require.NotEmpty(t, r.Snapshot.Pictures, p.folder)
		var page, client bytes.Buffer
		document := report.DocumentOf(r, report.Kept{})
		require.NoError(t, render.HTML(&page, document, ""))
		require.NoError(t, render.ClientHTML(&client, report.ClientOf(r, report.Kept{}), "*Dear* client"))
		servertest.OpenPage(t, patient, p.folder+"-client", client.String())
		servertest.OpenPage(t, patient, p.folder, page.String())
		for _, paper := range []servertest.Paper{servertest.A4, servertest.Letter} {
			sheets, text := servertest.PrintPage(t, patient, paper)
			assert.LessOrEqual(t, sheets, maxSheets, p.folder)
			printed := unspaced(text)
			all := allSaid(document)
			require.Greater(t, len(all), 50, p.folder)
			for _, said := range all {
				assert.True(t, strings.Contains(printed, unspaced(said)), "of %s it is cut: %s", p.folder, said)
			}
			t.Logf("%s on %v: %d sheets, %d texts", p.folder, paper, sheets, len(all))
		}
	}
}

// allSaid are texts of a document that are not folded.
func allSaid(d *report.Document) (all []string) {
	all = append(all, d.Words.There, d.Words.Looked, d.Words.Stands, d.Tree, d.Exposure.Says)
	for _, a := range d.Areas {
		for _, e := range a.Entries {
			all = append(append(all, e.Expected, e.Because, e.Why), e.Says...)
			for _, step := range e.Fix {
				all = append(all, string([]rune(step)[1:])) // it begins with a capital there
			}
			for _, line := range e.Readings {
				all = append(all, line.Said, line.Place)
			}
		}
	}
	for _, role := range d.Roles {
		for _, row := range role.Classes {
			all = append(all, row.Owner+":"+row.Group, row.Reads, row.Writes, row.Paths[0])
		}
	}
	for _, way := range d.Caches {
		for _, layer := range way.Layers {
			all = append(all, layer.Does, layer.Declared, layer.Observed)
		}
	}
	return slices.DeleteFunc(all, func(said string) bool { return said == "" })
}

// unspaced is a text without what lines are broken at.
func unspaced(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || r == '\u00ad' {
			return -1
		}
		return r
	}, text)
}
