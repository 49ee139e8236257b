package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
)

// PlanSetting works out what to store so that a setting has a neutral value: in the place that is effective now,
// or, where none holds it, in the one that the administration pages write to. A setting in parts takes several
// edits, in an order in which each may be made by itself. The effective place being changed, the ones it overrides
// are left as they are.
func (s *Installation) PlanSetting(ctx context.Context, setting dialect.Setting, to facts.Value) ([]Edit, error) {
	switch {
	case setting.Query != "":
		return nil, errors.New("it is counted by a query, and follows from other things")
	case !dialect.In(s.Version(), setting.Since, setting.Until):
		return nil, errors.New("this version of the content system does not have it")
	case len(setting.Parts) > 0:
		return s.planParts(ctx, setting, to)
	}
	place, old, err := s.placeToWrite(setting)
	if err != nil {
		return nil, err
	}
	stored, err := setting.Stored(to, s.like(place, old))
	if err != nil {
		return nil, err
	}
	edit, err := s.Plan(ctx, place, stored)
	if err != nil {
		return nil, err
	}
	return []Edit{edit}, nil
}

// PlanSecret works out what to store so that a setting that is a secret has a text, which is no neutral value.
func (s *Installation) PlanSecret(ctx context.Context, setting dialect.Setting, text string) ([]Edit, error) {
	if setting.Query != "" || len(setting.Parts) > 0 {
		return nil, errors.New("it is made of other things")
	}
	place, _, err := s.placeToWrite(setting)
	if err != nil {
		return nil, err
	}
	edit, err := s.Plan(ctx, place, text)
	if err != nil {
		return nil, err
	}
	return []Edit{edit}, nil
}

// placeToWrite is the effective place, or the last one where none holds a value.
func (s *Installation) placeToWrite(setting dialect.Setting) (place string, old any, err error) {
	version := s.Version()
	for _, p := range setting.From {
		if !dialect.In(version, p.Since, p.Until) {
			continue
		}
		found, err := s.Look(p.At)
		if err != nil {
			return "", nil, err
		}
		place = p.At
		if found.There {
			return place, found.Value, nil
		}
	}
	if place == "" {
		return "", nil, errors.New("this version of the content system does not have it")
	}
	return place, nil, nil
}

// like is what a value in a store should look like.
func (s *Installation) like(place string, old any) dialect.Like {
	name, _ := dialect.SplitPlace(place)
	st := s.Dialect.Stores[name]
	return dialect.Like{Old: old, Typed: st.Typed(), YesNo: st.YesNo}
}

func (s *Installation) planParts(ctx context.Context, setting dialect.Setting, to facts.Value) ([]Edit, error) {
	parts, ok := setting.TakeApart(to.Text())
	if !ok {
		return nil, fmt.Errorf("%q cannot be put together as %s", to, setting.Template)
	}
	var edits []Edit
	s.planned = map[string][]byte{}
	defer func() { s.planned = nil }()
	for _, name := range slices.Sorted(maps.Keys(parts)) {
		place := setting.Parts[name].From
		found, err := s.Look(place)
		if err != nil {
			return nil, err
		}
		if text, _ := dialect.Text(found.Value); found.There && text == parts[name] {
			continue
		}
		edit, err := s.Plan(ctx, place, parts[name])
		if err != nil {
			return nil, err
		}
		if edit, is := edit.(FileEdit); is {
			s.planned[edit.File] = edit.After
			// Parts in one file are one edit, so that no moment sees only some of them.
			inOne := func(e Edit) bool { other, is := e.(FileEdit); return is && other.File == edit.File }
			if i := slices.IndexFunc(edits, inOne); i >= 0 {
				edits[i] = FileEdit{edit.File, edit.File, edits[i].(FileEdit).Before, edit.After, 0}
				continue
			}
		}
		edits = append(edits, edit)
	}
	return edits, nil
}
