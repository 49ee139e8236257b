package compare

import (
	"weltaxis/internal/facts"
)

// programs compares the program files: by when they changed, and how large they are.
func (d *diff) programs() {
	before := map[string]facts.Program{}
	for _, p := range d.before.Programs {
		before[p.Path] = p
	}
	whole := !d.before.InPart(facts.ListPrograms) && !d.after.InPart(facts.ListPrograms)
	since := d.before.Taken.Unix()
	versions := []string{facts.SystemVersion.Name, facts.ListExtensions}
	for _, is := range d.after.Programs {
		was, known := before[is.Path]
		delete(before, is.Path)
		change := single{source: facts.Files, name: facts.ListPrograms, what: Changed, identity: is.Path, follows: versions, files: []string{is.Path},
			item: Item{Subject: is.Path, From: when(was.Changed), To: when(is.Changed), Was: was.Origin(), Is: is.Origin()}}
		switch {
		case !known && (whole || max(is.Changed, is.Touched) > since):
			change.item.From, change.item.Was = "", facts.Origin{}
			if change.what = Came; !whole { // it may have been there all the time
				change.what, change.field = Changed, "changed"
			}
		case !known:
			continue
		case was.Size != is.Size || was.Changed != is.Changed:
			change.field = "changed"
		case was.Touched != is.Touched && was.Touched != 0 && is.Touched != 0:
			change.field, change.item.From, change.item.To = "touched", when(was.Touched), when(is.Touched)
			change.follows = append(change.follows, facts.ListClasses+".mode", facts.ListClasses+".owner", facts.ListClasses+".group")
		default:
			continue
		}
		d.add(change)
	}
	if !whole {
		return
	}
	for _, was := range d.before.Programs {
		if _, gone := before[was.Path]; gone {
			d.add(single{source: facts.Files, name: facts.ListPrograms, what: Went, identity: was.Path, item: Item{Subject: was.Path, From: when(was.Changed), Was: was.Origin()}, follows: versions})
		}
	}
}

// when is a moment in words; nothing for none.
func when(seconds int64) string {
	if seconds == 0 {
		return ""
	}
	return facts.NumberOf(facts.Date, seconds).String()
}
