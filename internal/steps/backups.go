package steps

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/facts"
	"weltaxis/internal/gather"
	"weltaxis/internal/tree"
)

// Backups holds what the content system says of its back-ups against the folder of the site: where they lie, and, of those within
// it, whether they are there. What lies elsewhere, another machine perhaps, is taken at its word.
var Backups = &gather.Step[nothing]{
	Name: "back-ups", Source: facts.Settings, Requires: []gather.Any{Settings}, Uses: []gather.Any{Public}, Completes: true,
	Without: noBackups,
	Gather: func(_ context.Context, ask gather.Request, of gather.Results) (nothing, facts.Seen, error) {
		_, told := Settings.Of(of)
		at, _ := Public.Of(of)
		records, read := told.Records[facts.ListBackups]
		if !read {
			return nothing{}, facts.Seen{Gaps: []facts.Gap{noBackups}}, nil
		}
		return nothing{}, backups(records, ask.Site.Root(), at.Below), nil
	},
}

var noBackups = facts.Gap{Source: facts.Settings, Kind: facts.Unmapped, What: "how many back-ups there are", Names: []string{facts.BackupsKept.Name, facts.BackupsNewest.Name}, Because: "no list of back-ups was read"}

// backups are those that the content system says there are, as they are found below a root of which a folder is served.
func backups(said []facts.Record, root, public string) (seen facts.Seen) {
	records := slices.Clone(said)
	seen.Records = map[string][]facts.Record{facts.ListBackups: records}
	in, _ := tree.Open(root) // without one, nothing lies within
	defer in.Close()
	kept, newest, at := 0, int64(0), facts.Origin{File: "the list of back-ups"}
	for i := range records {
		r := &records[i]
		r.Values = maps.Clone(r.Values)
		there := true
		if below, within := within(root, r.Values["path"].Text()); within {
			lies := "within"
			if public == "." || strings.HasPrefix(filepath.ToSlash(below)+"/", public+"/") {
				lies = "served"
			}
			_, err := in.Lstat(below)
			there = !errors.Is(err, fs.ErrNotExist)
			r.Values["there"], r.Values["lies"] = facts.BoolOf(there), facts.TextOf(facts.Words, lies)
			if public == "" {
				delete(r.Values, "lies")
			}
		} else if root != "" {
			r.Values["lies"] = facts.TextOf(facts.Words, "outside")
		}
		if !there {
			continue
		}
		kept++
		if taken, known := r.Values["taken"]; known && taken.Number() > newest {
			newest, at = taken.Number(), r.From
		}
	}
	seen.Add(facts.BackupsKept.Reading(kept, at))
	if newest > 0 {
		seen.Add(facts.BackupsNewest.Reading(newest, at))
	}
	return seen
}

// within is a path below a root, when it lies there; one that does not begin at the top of the file system is taken from the root.
func within(root, path string) (below string, is bool) {
	if root == "" || path == "" || strings.Contains(path, "://") {
		return "", false
	}
	path = filepath.FromSlash(path)
	if !filepath.IsAbs(path) {
		return filepath.Clean(path), filepath.IsLocal(path)
	}
	absolute, err := filepath.Abs(root)
	if err != nil {
		return "", false
	}
	below, err = filepath.Rel(absolute, path)
	return below, err == nil && filepath.IsLocal(below)
}
