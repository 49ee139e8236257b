package compare

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// away are roles of entries that come and go by themselves.
var away = []string{"cache", "temporary"}

// classes compares the tree. What is kept singly is compared path by path; of many alike, how many became something else, and how
// many came or went.
func (d *diff) classes() {
	before, one := split(d.before.Classes)
	after, other := split(d.after.Classes)
	if (d.dialect || d.tool) && sums(d.before.Classes) == sums(d.after.Classes) {
		d.sameTree(before, after, one, other)
		return
	}
	d.singly(one, other)
	for _, identity := range slices.Sorted(maps.Keys(union(before, after))) {
		d.many(identity, before[identity], after[identity])
	}
}

// split tells what is kept singly, by its path, from what is not, by what part it plays.
func split(classes []facts.Class) (many map[string][]*facts.Class, single map[string]*facts.Class) {
	many, single = map[string][]*facts.Class{}, map[string]*facts.Class{}
	for i := range classes {
		c := &classes[i]
		if c.Single && len(c.Paths) == 1 {
			single[c.Paths[0]] = c
			continue
		}
		many[c.Identity()] = append(many[c.Identity()], c)
	}
	return many, single
}

// sums is how many entries there are of each kind, mode and owner: the same when only what they are taken for is another.
func sums(classes []facts.Class) string {
	of := map[string]int{}
	for _, c := range classes {
		if !slices.Contains(away, c.Role) {
			of[strings.Join([]string{c.Kind, c.Mode, c.Owner, c.Group}, " ")] += c.Count
		}
	}
	return fmt.Sprint(of)
}

// sameTree notes entries that are taken for something else by another dialect or version of the tool.
func (d *diff) sameTree(before, after map[string][]*facts.Class, one, other map[string]*facts.Class) {
	if fmt.Sprint(slices.Sorted(maps.Keys(before)), slices.Sorted(maps.Keys(one))) == fmt.Sprint(slices.Sorted(maps.Keys(after)), slices.Sorted(maps.Keys(other))) {
		return
	}
	d.note(reason{reader: map[bool]string{true: "dialect", false: "tool"}[d.dialect]}, facts.ListClasses)
}

// singly compares what is kept by its path.
func (d *diff) singly(before, after map[string]*facts.Class) {
	for _, path := range slices.Sorted(maps.Keys(union(before, after))) {
		was, is := before[path], after[path]
		switch {
		case was != nil && is != nil:
			d.item(facts.Files, facts.ListClasses, was, is)
		case is != nil && !slices.Contains(away, is.Role):
			d.add(single{source: facts.Files, name: facts.ListClasses, what: Came, identity: path, item: Item{Subject: path, To: part(is), Is: is.Origin()}})
		case was != nil && !slices.Contains(away, was.Role):
			d.add(single{source: facts.Files, name: facts.ListClasses, what: Went, identity: path, item: Item{Subject: path, From: part(was), Was: was.Origin()}})
		}
	}
}

// part is what an entry is for, in words.
func part(c *facts.Class) string {
	l := c.Likeness()
	l.Path = ""
	words, _, _ := strings.Cut(l.InWords(), ", of ")
	return strings.Join(strings.Fields(words+" "+c.Mode), " ")
}

// many compares entries that play one part, of which only the number is known for each mode and owner.
func (d *diff) many(identity string, before, after []*facts.Class) {
	count := func(classes []*facts.Class) (of map[string]int, sum int, first map[string]*facts.Class) {
		of, first = map[string]int{}, map[string]*facts.Class{}
		for _, c := range classes {
			how := strings.TrimSpace(c.Mode + " " + c.Owner + ":" + c.Group)
			if c.Closed {
				how += " in a closed folder"
			}
			of[how] += c.Count
			sum += c.Count
			first[how] = c
		}
		return of, sum, first
	}
	was, wasAll, wasFirst := count(before)
	is, isAll, isFirst := count(after)
	role := ""
	for _, c := range slices.Concat(before, after) {
		role = c.Role
	}
	passing := slices.Contains(away, role)
	var more, fewer []string
	for _, how := range slices.Sorted(maps.Keys(union(was, is))) {
		switch {
		case is[how] > was[how]:
			more = append(more, how)
		case is[how] < was[how]:
			fewer = append(fewer, how)
		}
	}
	// Those that became something else are as many as one kind has fewer and another more.
	became := 0
	for _, to := range more {
		for _, from := range fewer {
			n := min(is[to]-was[to], was[from]-is[from])
			if n <= 0 || passing && n < 2 {
				continue
			}
			became += n
			is[to] -= n
			was[from] -= n
			c, named := isFirst[to], named(isFirst[to])
			item := Item{Subject: named, From: from, To: to, Was: wasFirst[from].Origin(), Is: c.Origin(), Count: n}
			switch n { // which they are is known when they are all of them
			case c.Count:
				item.Note = item.Is.String()
			case wasFirst[from].Count:
				item.Note = item.Was.String()
			}
			d.add(single{source: facts.Files, name: facts.ListClasses, field: "mode", what: Changed, identity: identity, item: item})
		}
	}
	d.answer(identity, before, after)
	if passing || wasAll == isAll {
		return
	}
	c, what, n := cmp.Or(firstOf(after), firstOf(before)), Came, isAll-wasAll
	if n < 0 {
		what, n = Went, -n
	}
	var follows []string
	switch {
	case c.Kind == "folder":
		follows = []string{facts.ListClasses + ".", facts.ListPrograms + "."}
	case slices.Contains([]string{"program", "command", "inert", "disguised", "scripting"}, c.Content):
		follows = []string{facts.ListPrograms + "."}
	}
	d.add(single{source: facts.Files, name: facts.ListClasses, what: what, identity: identity, item: Item{Subject: named(c), From: fmt.Sprint(wasAll), To: fmt.Sprint(isAll), Is: c.Origin(), Count: n}, follows: follows})
}

// answer compares what the web server makes of entries that play one part, where it makes the same of all of them.
func (d *diff) answer(identity string, before, after []*facts.Class) {
	one := func(classes []*facts.Class) string {
		if len(classes) == 0 {
			return ""
		}
		for _, c := range classes {
			if c.Answer != classes[0].Answer {
				return ""
			}
		}
		return classes[0].Answer
	}
	if was, is := one(before), one(after); was != "" && is != "" && was != is {
		c := after[0]
		d.add(single{source: facts.Files, name: facts.ListClasses, field: "answer", what: Changed, identity: identity, item: Item{Subject: named(c), From: was, To: is, Was: before[0].AnswerAt, Is: c.AnswerAt}, follows: []string{facts.ListAnswers}})
	}
}

func firstOf(classes []*facts.Class) *facts.Class {
	if len(classes) == 0 {
		return nil
	}
	return classes[0]
}

// named is a class in words, without whose it is.
func named(c *facts.Class) string {
	words, _, _ := strings.Cut(c.Likeness().InWords(), ", of ")
	return words
}
