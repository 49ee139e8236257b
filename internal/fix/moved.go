package fix

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"weltaxis/internal/identity"
	"weltaxis/internal/orders"
)

// A Place is where a site lay when it was changed: by its path its journal is found, and by what else it is it is known again where it was moved to.
type Place struct {
	Path   string    `json:"path"` // of the site file, in full
	File   orders.ID `json:"file"`
	Folder orders.ID `json:"folder"`        // that the site file lies in
	Was    []string  `json:"was,omitempty"` // where it lay before
}

// last is where it lay before it lay where it lies; "" where it was never moved.
func (p Place) last() string {
	if len(p.Was) == 0 {
		return ""
	}
	return p.Was[len(p.Was)-1]
}

const placeFile = "place.json"

func placeOf(sitePath string) (p Place, err error) {
	if p.Path, err = filepath.Abs(sitePath); err != nil {
		return p, err
	}
	file, err := os.Stat(p.Path)
	if err != nil {
		return p, err
	}
	folder, err := os.Stat(filepath.Dir(p.Path))
	if err != nil {
		return p, err
	}
	p.File, p.Folder = orders.IDOf(file), orders.IDOf(folder)
	return p, nil
}

// StateOf is the folder in which the journal of a site is kept, below the one in which all are, and where the site lay before when it was moved
// since: its folder, or its file, is the same as then, and where that was nothing is any more. Then what is kept goes with it. A copy of a site is another
// site.
func StateOf(home, siteName, sitePath string) (folder, was string) {
	own := FolderName(siteName, sitePath)
	_ = identity.AsCaller(func() error {
		folder, was = stateOf(home, own, sitePath)
		return nil
	})
	return folder, was
}

func stateOf(home, own, sitePath string) (folder, was string) {
	if place, err := readPlace(filepath.Join(home, own)); err == nil {
		return own, place.last()
	}
	if _, err := os.Lstat(filepath.Join(home, own)); !errors.Is(err, fs.ErrNotExist) {
		return own, ""
	}
	here, err := placeOf(sitePath)
	if err != nil || here.Folder == (orders.ID{}) {
		return own, ""
	}
	prefix := own[:strings.LastIndexByte(own, '-')+1]
	siblings, _ := os.ReadDir(home)
	for _, sibling := range siblings {
		name := sibling.Name()
		dir := filepath.Join(home, name)
		if !strings.HasPrefix(name, prefix) || len(name) != len(own) || orders.Own().Within(dir) != nil { // what is in it gives orders
			continue
		}
		place, err := readPlace(dir)
		if err != nil || place.Folder != here.Folder && place.File != here.File {
			continue
		}
		if _, err := os.Lstat(place.Path); !errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if os.Rename(dir, filepath.Join(home, own)) != nil || keepPlace(filepath.Join(home, own), sitePath) != nil {
			return name, place.Path
		}
		return own, place.Path
	}
	return own, ""
}

func readPlace(dir string) (p Place, err error) {
	data, err := readOwn(filepath.Join(dir, placeFile))
	if err == nil {
		err = json.Unmarshal(data, &p)
	}
	return p, err
}

// KeepPlace notes, beside a journal, where a site lies that is about to be changed.
func KeepPlace(dir, sitePath string) error {
	return identity.AsCaller(func() error { return keepPlace(dir, sitePath) })
}

func keepPlace(dir, sitePath string) error {
	here, err := placeOf(sitePath)
	if err != nil {
		return err
	}
	before, err := readPlace(dir)
	switch {
	case err == nil && before.Path == here.Path && before.File == here.File && before.Folder == here.Folder:
		return nil
	case err == nil:
		here.Was = before.Was
		if before.Path != here.Path {
			here.Was = append(here.Was, before.Path)
		}
	}
	data, err := json.Marshal(here)
	if err != nil {
		return err
	}
	return orders.Own().Write(filepath.Join(dir, placeFile), func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}
