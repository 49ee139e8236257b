package compare

import (
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// folded puts what follows from another change with that one, and those alike together.
func (d *diff) folded() (changes, wishes, unsure []Change) {
	d.sameRecord()
	d.sameFile()
	d.follow()
	changes, wishes, unsure = []Change{}, []Change{}, []Change{}
	with := map[int][]single{}
	for _, s := range d.found {
		if s.into >= 0 {
			with[s.into] = append(with[s.into], s)
		}
	}
	type place struct {
		list *[]Change
		at   int
	}
	groups := map[string]place{}
	for i, s := range d.found {
		if s.into >= 0 {
			continue
		}
		into, key := &changes, s.key()
		switch {
		case s.source == facts.Intent:
			into = &wishes
		case s.unsure:
			into, key = &unsure, "unsure "+key
		}
		at, known := groups[key]
		if !known {
			*into = append(*into, Change{Source: s.source, Name: s.name, Field: s.field, What: s.what})
			at = place{into, len(*into) - 1}
			groups[key] = at
		}
		c := &(*at.list)[at.at]
		c.Items = append(c.Items, s.item)
		c.With = together(c.With, with[i])
	}
	for _, list := range [][]Change{changes, wishes, unsure} {
		slices.SortStableFunc(list, func(a, b Change) int { return int(a.Source) - int(b.Source) })
	}
	return changes, wishes, unsure
}

// key is in what changes are alike.
func (s single) key() string { return s.name + "\x00" + s.field + "\x00" + string(s.what) }

// together adds singles to groups of those alike.
func together(groups []Change, more []single) []Change {
	for _, s := range more {
		i := slices.IndexFunc(groups, func(c Change) bool { return c.Name == s.name && c.Field == s.field && c.What == s.what })
		if i < 0 {
			groups = append(groups, Change{Source: s.source, Name: s.name, Field: s.field, What: s.what})
			i = len(groups) - 1
		}
		groups[i].Items = append(groups[i].Items, s.item)
	}
	return groups
}

// follow finds for each change whether another is what it follows from. One that has nothing to follow from is a cause; one that
// follows from a cause, or from what does, is told with it.
func (d *diff) follow() {
	causes := map[string]int{} // by what a change may be said to follow from
	settled := make([]bool, len(d.found))
	settle := func(i, cause int) {
		s := d.found[i]
		settled[i] = true
		for _, name := range s.names() {
			if _, known := causes[name]; !known {
				causes[name] = cause
			}
		}
	}
	root := func(i int) int {
		for d.found[i].into >= 0 {
			i = d.found[i].into
		}
		return i
	}
	for i, s := range d.found {
		if s.into >= 0 || len(s.follows) == 0 {
			settle(i, root(i))
		}
	}
	for {
		again := false
		for i := range d.found {
			if s := &d.found[i]; !settled[i] {
				for _, name := range s.follows {
					if !strings.Contains(name, ".") {
						name = s.ofItem(name)
					}
					if cause, known := causes[name]; known {
						s.into, again = cause, true
						settle(i, cause)
						break
					}
				}
			}
		}
		if again {
			continue
		}
		// What is left follows from nothing that changed, or from what is left as well. One of which the first is true is a cause; where there
		// is none, they follow from each other, and the first stands for all.
		first, open := -1, map[string]int{}
		for i, s := range d.found {
			if !settled[i] {
				for _, name := range s.names() {
					open[name]++
				}
			}
		}
		for i, s := range d.found {
			if settled[i] {
				continue
			}
			if first < 0 {
				first = i
			}
			if !s.awaits(open) {
				settle(i, i)
				again = true
			}
		}
		if first < 0 {
			break
		}
		if !again {
			settle(first, first)
		}
	}
	for i := range d.found {
		if d.found[i].into >= 0 {
			d.found[i].into = root(i)
		}
	}
}

// names are what others may follow from when a change is meant.
func (s single) names() []string { return []string{s.name, s.name + "." + s.field, s.ofItem(s.field)} }

// awaits tells whether a change may follow from another one of which it is not known yet what it follows from: open is how many of those
// have each name.
func (s single) awaits(open map[string]int) bool {
	own := s.names()
	for _, name := range s.follows {
		if !strings.Contains(name, ".") {
			name = s.ofItem(name)
		}
		n := open[name]
		if slices.Contains(own, name) {
			n--
		}
		if n > 0 {
			return true
		}
	}
	return false
}

// ofItem is a field of the same item, as what something may follow from.
func (s single) ofItem(field string) string { return s.name + "\x00" + s.identity + "\x00" + field }

// sameRecord puts what the content system keeps of a page with what the page shows of it: they are one thing seen from two sides.
func (d *diff) sameRecord() {
	for i := range d.found {
		record := &d.found[i]
		if record.name != facts.ListRecords || record.into >= 0 {
			continue
		}
		for j := range d.found {
			page := &d.found[j]
			if page.name == facts.ListPages && page.into < 0 && page.what == record.what && page.field == record.field && samePath(page.item.Subject, record.item.Subject) {
				page.into = i
			}
		}
	}
}

func samePath(page, record string) bool {
	page, record = strings.Trim(page, "/"), strings.Trim(record, "/")
	return record != "" && (page == record || strings.HasSuffix(page, "/"+record))
}

// sameFile puts a file that changed with what was changed in it.
func (d *diff) sameFile() {
	for i := range d.found {
		program := &d.found[i]
		if program.name == facts.ListTraces { // what an extension leaves is told by the file or folder that it is
			d.alike(program, program.item.Subject, facts.ListClasses, facts.ListPrograms)
			continue
		}
		if program.name != facts.ListPrograms {
			continue
		}
		if program.what != Changed {
			d.alike(program, program.identity, facts.ListClasses)
			continue
		}
		for j, other := range d.found {
			if other.name != facts.ListPrograms && other.into < 0 && slices.ContainsFunc(other.files, func(file string) bool {
				return file == program.identity || strings.HasSuffix(file, "/"+program.identity)
			}) {
				program.into = j
				break
			}
		}
	}
}

// alike puts a change with that of the same path in one of some lists, if that came or went as it did.
func (d *diff) alike(s *single, path string, lists ...string) {
	for j, other := range d.found {
		if slices.Contains(lists, other.name) && other.into < 0 && other.what == s.what && other.identity == path {
			s.into = j
			return
		}
	}
}
