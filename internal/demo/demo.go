// Package demo holds the demo: stand-in content systems and the invented sites that run on them, written to a
// folder of the user's choice.
//
// It writes only into that folder, and never over what it did not write. It judges nothing: the audit of the
// demo is an ordinary one.
package demo

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/template"

	"weltaxis/internal/tree"
)

// FirstSite is the folder, below the demo's, of the site to look at first.
const FirstSite = "lantern-lane"

// manifestName is the file by which a folder is known as the demo's, and which says what the demo wrote there.
const manifestName = ".weltaxis-demo.json"

// SiteCount is how many sites there are; each is served on two ports.
func SiteCount() int { return len(sites()) }

// edition counts the demos that are not written alike; a stand-in cannot serve what another edition wrote.
const edition = 5

type manifest struct {
	About   string   `json:"about"`
	Edition int      `json:"edition"`
	Files   []string `json:"files"` // below the folder, with slashes
}

// ErrThere says that the demo has been written to the folder before.
var ErrThere = errors.New("the demo is there already")

// A RefusedError says why nothing was written.
type RefusedError struct{ Says string }

func (e *RefusedError) Error() string { return e.Says }

// Write writes the demo's sites into dir, which is made if it is not there. Where the demo is there already it
// leaves all as it is and returns ErrThere, unless renew is set. It refuses a folder that holds anything else. Remember is shown the first
// site as it was at earlier days, and keeps what it sees below StateFolder; nil when nobody is to.
func Write(dir string, renew bool, remember Remember) error {
	known, err := readManifest(dir)
	if err != nil {
		return err
	}
	switch {
	case known == nil:
		if err := refuseForeign(dir, nil); err != nil {
			return err
		}
	case !renew && known.Edition != edition:
		return &RefusedError{fmt.Sprintf("the demo in %s was written by another version of this program; --renew writes it afresh", dir)}
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
	return write(dir, remember)
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
		if d.IsDir() && rel == StateFolder {
			return fs.SkipDir // what was kept of audits and changes
		}
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

// keptByStandIns are patterns of the pages that stand-ins have kept in their caches, and of those that were moved aside when
// a cache was emptied, below the demo's folder.
func keptByStandIns() []string {
	patterns := []string{filepath.Join("*", "site", tree.Aside, "*", "*.html")}
	for _, in := range systems {
		patterns = append(patterns, filepath.Join("*", "site", filepath.FromSlash(in.lore().Cache), "*.html"))
	}
	return patterns
}

func keptByStandIn(rel string) bool {
	return slices.ContainsFunc(keptByStandIns(), func(pattern string) bool {
		kept, err := filepath.Match(pattern, rel)
		return err == nil && kept
	})
}

func remove(dir string, files []string) error {
	if err := os.RemoveAll(filepath.Join(dir, StateFolder)); err != nil {
		return err
	}
	for _, pattern := range keptByStandIns() {
		kept, err := filepath.Glob(filepath.Join(dir, pattern))
		if err != nil {
			return err
		}
		for _, name := range kept {
			if err := os.Remove(name); err != nil {
				return err
			}
			if run := filepath.Dir(name); filepath.Base(filepath.Dir(run)) == tree.Aside {
				_, _ = os.Remove(run), os.Remove(filepath.Dir(run)) // when it was the last there
			}
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

func write(dir string, remember Remember) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	all := sites()
	authority, _, err := certify(all)
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, caName), authority, 0o644)
	}
	if err != nil {
		return err
	}
	if err := past(dir, remember); err != nil {
		return err
	}
	m := manifest{About: "Written by weltaxis demo. Remove the whole folder when you are done with it.", Edition: edition}
	for _, site := range all {
		written, err := site.write(dir)
		if err != nil {
			return fmt.Errorf("writing the demo: %w", err)
		}
		for _, name := range written {
			m.Files = append(m.Files, filepath.ToSlash(name))
		}
	}
	text, err := readme()
	if err != nil {
		return err
	}
	if err := writeFile(filepath.Join(dir, "README.md"), file{text, 0o644}); err != nil {
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

//go:embed readme.md
var readmeText string

var readmeTemplate = template.Must(template.New("readme").Parse(readmeText))

// readme tells the story of the demo, from the same files that make the sites.
func readme() (string, error) {
	type chapter struct {
		Place string
		*plot
	}
	var s strings.Builder
	err := readmeTemplate.Execute(&s, []chapter{{"Lantern Lane", readPlot("lantern-lane")}, {"Saltmarsh", readPlot("saltmarsh")}, {"Copperbeck", readPlot("copperbeck")}})
	return s.String(), err
}
