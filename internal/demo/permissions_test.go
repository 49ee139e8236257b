package demo

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
)

// onlyPermissions audits the permissions of a site that is in order but for what a test has done to it.
func onlyPermissions(t *testing.T, do func(root string)) (*mending, *audit.Result) {
	t.Helper()
	m := mend(t, place(t, lanternLaneAligned(), "brindle"), false)
	m.options.Only = []string{"permissions"}
	do(m.p.root)
	r, err := audit.Run(t.Context(), m.site, time.Now(), m.options)
	require.NoError(t, err)
	return m, r
}

// put writes a file of a mode below a root, with the folders on the way.
func put(t *testing.T, root, name, text string, mode uint32) {
	t.Helper()
	at := filepath.Join(root, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
	require.NoError(t, syscall.Chmod(at, mode))
}

// TestWhatRunsMayRun: harmless things that look like files with too many permissions.
func TestWhatRunsMayRun(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		mode uint32
	}{
		"works/bin/console":        {"#!/usr/bin/env php\n<?php", 0o755},
		"works/bin/console.php":    {"#!/usr/bin/env php\n<?php", 0o755},
		"works/tools/tidy":         {"#!/bin/sh\n", 0o755},
		"works/tools/tidy.sh":      {"#!/bin/sh\n", 0o750},
		"works/tools/convert":      {"\x7fELF\x02\x01", 0o555},
		"works/vendor/bin/checker": {"whatever it is", 0o755},
		"works/hooks/after-copy":   {"echo", 0o700},
		"turns/seating/cgi-bin/x":  {"x", 0o755},
		"works/plain.php":          {"<?php", 0o644},
		"works/stricter.php":       {"<?php", 0o400},
	} {
		_, r := onlyPermissions(t, func(root string) { put(t, root, name, c.text, c.mode) })
		for _, d := range r.Deviations {
			t.Errorf("%s: %s says %s", name, d.Rule, d.Says)
		}
	}
}

// TestWhatMayNotRunIsNoticed, and what would run as somebody else most of all; none of it is mended as something safe.
func TestWhatMayNotRunIsNoticed(t *testing.T) {
	for name, c := range map[string]struct {
		text     string
		mode     uint32
		rule     string
		severity facts.Severity
		safe     bool // something of it is put right as safe
	}{
		"works/notes":              {"just text", 0o755, "permissions.files", facts.Low, true},
		"works/style.css":          {"a{}", 0o755, "permissions.files", facts.Low, true},
		"works/index.php":          {"<?php", 0o755, "permissions.files", facts.Low, false},
		"works/tools/tidy":         {"#!/bin/sh\n", 0o6755, "permissions.no-set-id", facts.High, false},
		"works/tools/tidy2":        {"#!/bin/sh\n", 0o4711, "permissions.no-set-id", facts.High, false},
		"works/data.bin2":          {"x", 0o2644, "permissions.no-set-id", facts.High, false},
		"works/bin/open":           {"#!/bin/sh\n", 0o775, "permissions.group-write-limited", facts.Medium, true},
		"works/bin/wide-open":      {"#!/bin/sh\n", 0o757, "permissions.not-world-writable", facts.Critical, true},
		"foyer/posters/set-id.jpg": {"\xff\xd8", 0o4664, "permissions.no-set-id", facts.High, false},
		"foyer/lamplit/kept.html":  {"kept", 0o2664, "permissions.no-set-id", facts.High, false},
		"foyer/posters/winter.jpg": {"#!/bin/sh\n", 0o755, "permissions.uploads-inert", facts.Critical, false},
		"foyer/posters/tool":       {"\x7fELF", 0o755, "permissions.uploads-inert", facts.Critical, false},
	} {
		t.Run(name, func(t *testing.T) {
			m, r := onlyPermissions(t, func(root string) { put(t, root, name, c.text, c.mode) })
			var found []string
			for _, d := range r.Deviations {
				if d.Rule == c.rule {
					assert.Equal(t, c.severity, d.Severity)
				}
				found = append(found, d.Rule)
			}
			assert.Contains(t, found, c.rule)
			safe := false
			for _, change := range m.plan(r, nil).Changes {
				safe = safe || change.Makeable() && change.Risk == facts.Safe
				if change.Kind == fix.Modes && change.Risk == facts.Safe {
					lost := change.From.Number() &^ change.To.Number()
					assert.Zero(t, lost&0o6000, "set-user and set-group bits are never safe to take")
					if strings.HasPrefix(c.text, "#!") || strings.HasSuffix(name, ".php") {
						assert.Zero(t, lost&0o111, "nor is the permission to run")
					}
				}
			}
			assert.Equal(t, c.safe, safe)
		})
	}
}

// TestASetGroupFolderStaysOne: new files of it belong to its group, which somebody has meant.
func TestASetGroupFolderStaysOne(t *testing.T) {
	m, r := onlyPermissions(t, func(root string) { require.NoError(t, syscall.Chmod(filepath.Join(root, "works"), 0o2777)) })
	var risks []string
	for _, c := range m.plan(r, nil).Changes {
		risks = append(risks, fmt.Sprintf("%s %s → %s %s", c.Name, c.From, c.To, c.Risk))
	}
	assert.Equal(t, []string{"mode 2777 → 2755 safe"}, risks)
}
