// Package demo holds the demo: stand-in content systems and the invented sites that run on them, written to a
// folder of the user's choice.
//
// It writes only into that folder, and never over what it did not write. It judges nothing: the audit of the
// demo is an ordinary one.
package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// FirstSite is the folder, below the demo's, of the site to look at first.
const FirstSite = "lantern-lane"

// manifestName is the file by which a folder is known as the demo's, and which says what the demo wrote there.
const manifestName = ".weltaxis-demo.json"

type manifest struct {
	About string   `json:"about"`
	Files []string `json:"files"` // below the folder, with slashes
}

// ErrThere says that the demo has been written to the folder before.
var ErrThere = errors.New("the demo is there already")

// A RefusedError says why nothing was written.
type RefusedError struct{ Says string }

func (e *RefusedError) Error() string { return e.Says }

// Write writes the demo's sites into dir, which is made if it is not there. Where the demo is there already it
// leaves all as it is and returns ErrThere, unless renew is set. It refuses a folder that holds anything else.
func Write(dir string, renew bool) error {
	known, err := readManifest(dir)
	if err != nil {
		return err
	}
	switch {
	case known == nil:
		if err := refuseForeign(dir, nil); err != nil {
			return err
		}
	case !renew:
		return ErrThere
	default:
		if err := refuseForeign(dir, known.Files); err != nil {
			return err
		}
		if err := remove(dir, known.Files); err != nil {
			return err
		}
	}
	return write(dir)
}

func readManifest(dir string) (*manifest, error) {
	data, err := os.ReadFile(filepath.Join(dir, manifestName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var m manifest
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, &RefusedError{fmt.Sprintf("%s cannot be read, so it is not known what the demo wrote there; choose another folder", filepath.Join(dir, manifestName))}
	}
	return &m, nil
}

// refuseForeign refuses a folder with a file that the demo did not write.
func refuseForeign(dir string, ours []string) error {
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, path)
		if d.IsDir() || rel == manifestName || keptByStandIn(rel) {
			return nil
		}
		if !slices.Contains(ours, filepath.ToSlash(rel)) {
			return &RefusedError{fmt.Sprintf("%s was not written by the demo, and nothing is written over it; choose another folder, or move it away", path)}
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// keptByStandIn tells whether a file is a page that a stand-in has kept in its cache.
func keptByStandIn(rel string) bool {
	kept, err := filepath.Match("*/site/public/cache/*.html", filepath.ToSlash(rel))
	return err == nil && kept
}

func remove(dir string, files []string) error {
	kept, err := filepath.Glob(filepath.Join(dir, "*", "site", "public", "cache", "*.html"))
	if err != nil {
		return err
	}
	for _, name := range kept {
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	for _, name := range files {
		if !filepath.IsLocal(name) {
			return &RefusedError{fmt.Sprintf("%s lists %s, which lies outside the folder; choose another folder", manifestName, name)}
		}
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func write(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if _, err := certify(filepath.Join(dir, caName)); err != nil {
		return err
	}
	m := manifest{About: "Written by weltaxis demo. Remove the whole folder when you are done with it."}
	for _, site := range sites() {
		written, err := site.write(dir)
		if err != nil {
			return fmt.Errorf("writing the demo: %w", err)
		}
		for _, name := range written {
			m.Files = append(m.Files, filepath.ToSlash(name))
		}
	}
	if err := writeFile(filepath.Join(dir, "README.md"), file{readme(), 0o644}); err != nil {
		return err
	}
	m.Files = append(m.Files, "README.md", caName)
	slices.Sort(m.Files)
	data, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, manifestName), append(data, '\n'), 0o644)
}

// sites are all that the demo writes.
func sites() []*installation {
	return []*installation{lanternLane(), lanternLaneAligned(), saltmarsh(), hollin(), copperbeck(), copperbeckAligned()}
}

// readme tells the story of the demo, from the same table that made the site.
func readme() string {
	var s strings.Builder
	s.WriteString(`# The demo

Everything here is invented: the sites, and the three content systems they run on. Brindle keeps its settings in a PHP
file and a table of keys and values, Ostler in a folder of records, Hobnail in an INI file and one wide row.

- ` + "`lantern-lane/`" + ` is a puppet theatre's site as its owners left it: just gone live, after some weeks of building. Brindle.
- ` + "`lantern-lane-aligned/`" + ` is its twin, with everything in order. An audit of it has nothing to report.
- ` + "`saltmarsh/`" + ` is a seed library's site that is still being built. Ostler.
- ` + "`hollin/`" + ` is a beekeepers' site, well kept. Ostler.
- ` + "`copperbeck/`" + ` is the shop of a canal trust. Hobnail.
- ` + "`copperbeck-aligned/`" + ` is its twin, with everything in order.

Change what you like, audit again, and see what Weltaxis says. ` + "`weltaxis demo --into`" + ` this folder with ` + "`--renew`" + ` writes
everything afresh.

## What happened at Lantern Lane

`)
	tell := func(leavings []leaving) {
		for _, l := range leavings {
			fmt.Fprintf(&s, "- %s\n  Noticed by: %s.\n", l.tells, strings.Join(l.rules, ", "))
		}
	}
	tell(lanternLaneLeavings)
	s.WriteString("\n## What happened at Saltmarsh\n\n")
	tell(saltmarshLeavings)
	s.WriteString("\n## What happened at Copperbeck\n\n")
	tell(copperbeckLeavings)
	return s.String()
}
