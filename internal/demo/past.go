package demo

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// StateFolder is the folder, below the demo's, of what is kept of the first site.
const StateFolder = "state"

// Remember is shown a site as it was on a day.
type Remember func(site string, day time.Time) error

// acts are earlier days of the first site: how many days ago, and how much of its story had happened.
var acts = []struct{ daysAgo, events int }{{42, 6}, {21, 10}, {7, 22}}

// built is when the files of the demo were last changed: on the days of an act nobody had touched them since.
var built = time.Date(2026, 6, 1, 10, 0, 0, 0, time.UTC)

// past writes the first site as it was, shows it, and takes it away again.
func past(dir string, remember Remember) error {
	if remember == nil {
		return nil
	}
	for _, act := range acts {
		in := readPlot("lantern-lane").upTo(FirstSite, act.events)
		in.front = &front{story: true}
		if _, err := in.write(dir); err != nil {
			return err
		}
		err := remember(filepath.Join(dir, FirstSite), Clock().AddDate(0, 0, -act.daysAgo))
		if gone := os.RemoveAll(filepath.Join(dir, FirstSite)); err == nil {
			err = gone
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// age gives the files of a site the time at which they were built.
func age(root string) error {
	return filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		return os.Chtimes(name, built, built)
	})
}
