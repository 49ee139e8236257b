package store

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"weltaxis/internal/format"
	"weltaxis/internal/tree"
)

// PlanLine works out how a file gets a line that it does not have; a file that is not there starts with start. An
// edit that changes nothing says that it has the line.
func PlanLine(files tree.Files, name, start, line string) (FileEdit, error) {
	name, err := files.Real(name)
	if err != nil {
		return FileEdit{}, err
	}
	before, err := tree.Read(files, name, format.MaxBytes)
	if errors.Is(err, fs.ErrNotExist) {
		before, err = nil, nil
	}
	if err != nil {
		return FileEdit{}, err
	}
	edit := FileEdit{name, name, before, before, 0}
	for have := range strings.Lines(string(before)) {
		if strings.TrimSpace(have) == line {
			return edit, nil
		}
	}
	text := string(before)
	if before == nil {
		text = start
	} else if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	if line != "" {
		text += line + "\n"
	}
	edit.After = []byte(text)
	return edit, nil
}

// PlanWithout works out how a file loses the first line that reads so; that there is none is an error.
func PlanWithout(files tree.Files, name, line string) (FileEdit, error) {
	name, err := files.Real(name)
	if err != nil {
		return FileEdit{}, err
	}
	before, err := tree.Read(files, name, format.MaxBytes)
	if err != nil {
		return FileEdit{}, err
	}
	at := 0
	for have := range strings.Lines(string(before)) {
		if strings.TrimSpace(have) == strings.TrimSpace(line) {
			after := slices.Concat(before[:at], before[at+len(have):])
			return FileEdit{name, name, before, after, 0}, nil
		}
		at += len(have)
	}
	return FileEdit{}, fmt.Errorf("there is no line %q in %s: the content system, or the web server, makes what is served", line, name)
}
