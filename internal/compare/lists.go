package compare

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/facts"
)

// lists compares the lists, item by item.
func (d *diff) lists() {
	for _, name := range slices.Sorted(maps.Keys(facts.Lists)) {
		before, there := d.before.Items(name)
		after, now := d.after.Items(name)
		switch {
		case !there && !now, name == facts.ListScheduled, name == facts.ListBackups: // they come and go by themselves
		case !there:
			d.missed(false, name)
		case !now:
			d.missed(true, name)
		case name == facts.ListClasses:
			d.classes()
		case name == facts.ListPrograms:
			d.programs()
		default:
			d.list(name, slices.Collect(before), slices.Collect(after))
		}
	}
}

// list compares one list.
func (d *diff) list(name string, before, after []facts.Item) {
	source, _ := facts.SourceOf(name)
	whole := !facts.Sampled(name) && !d.before.InPart(name) && !d.after.InPart(name)
	pairs, went, came := paired(before, after)
	for _, p := range pairs {
		d.item(source, name, p[0], p[1])
	}
	if !whole {
		if !facts.Sampled(name) && len(went)+len(came) > 0 {
			d.missed(d.after.InPart(name), name)
		}
		return
	}
	for _, item := range went {
		d.add(single{source: source, name: name, what: Went, identity: item.Identity(), item: Item{Subject: item.Subject(), From: tells(name, item), Was: item.Origin()}, follows: membership(name), unsure: d.readOtherwise(source, item.Origin(), item.Origin())})
	}
	for _, item := range came {
		d.add(single{source: source, name: name, what: Came, identity: item.Identity(), item: Item{Subject: item.Subject(), To: tells(name, item), Is: item.Origin()}, follows: membership(name), unsure: d.readOtherwise(source, item.Origin(), item.Origin())})
	}
}

// membership is what it follows from that an item of a list came or went.
func membership(list string) []string {
	switch list {
	case facts.ListCookies:
		return []string{"live.home.status", facts.LiveNotice.Name}
	case facts.ListAssets:
		return []string{facts.ListPages + ".", facts.DeliveryMinify.Name, facts.DeliveryHost.Name, facts.CardShown.Name, facts.CardImage.Name, facts.SiteLogo.Name, facts.SiteIcon.Name, facts.StructuredShown.Name, facts.ListPages + ".structured"}
	case facts.ListPages:
		return []string{facts.PermalinkPattern.Name, facts.PermalinkCategoryPrefix.Name, facts.PermalinkSuffix.Name, facts.PostsDefaultCategory.Name}
	case facts.ListTraces:
		return []string{facts.ListExtensions}
	case facts.ListSpellings:
		return []string{facts.LiveAddress.Name}
	}
	return nil
}

// tells is what is worth knowing of an item that came or went, in a few words.
func tells(list string, item facts.Item) string {
	var field string
	switch list {
	case facts.ListAccounts:
		field = "role"
	case facts.ListExtensions:
		field = "version"
	case facts.ListPages, facts.ListRecords:
		field = "title"
	case facts.ListForms:
		field = "recipient"
	case facts.ListKeys:
		field = "service"
	case facts.ListLinks, facts.ListSpellings:
		field = "status"
	case facts.ListAssets:
		field = "kind"
	case facts.ListTroubles, facts.ListShadowed:
		field = "because"
	default:
		return ""
	}
	v, known := item.Field(field)
	if !known {
		return ""
	}
	return v.String()
}

// paired finds the items that are the same in both lists: by what they are and how they are called, then by what they are, then by
// how they are called.
func paired(before, after []facts.Item) (pairs [][2]facts.Item, went, came []facts.Item) {
	taken := make([]bool, len(after))
	left := make([]bool, len(before))
	both := func(item facts.Item) string { return item.Identity() + "\x00" + item.Subject() }
	for _, of := range []func(facts.Item) string{both, facts.Item.Identity, facts.Item.Subject, unversioned} {
		at := map[string][]int{}
		for i, item := range after {
			if !taken[i] {
				at[of(item)] = append(at[of(item)], i)
			}
		}
		for i, item := range before {
			if left[i] {
				continue
			}
			if same := at[of(item)]; len(same) > 0 && of(item) != "" {
				pairs = append(pairs, [2]facts.Item{item, after[same[0]]})
				taken[same[0]], left[i], at[of(item)] = true, true, same[1:]
			}
		}
	}
	for i, item := range before {
		if !left[i] {
			went = append(went, item)
		}
	}
	for i, item := range after {
		if !taken[i] {
			came = append(came, item)
		}
	}
	return pairs, went, came
}

// unversioned is the address of a file that pages load without what tells its version; nothing for all else.
func unversioned(item facts.Item) string {
	asset, is := item.(*facts.Asset)
	if !is {
		return ""
	}
	address, _, _ := strings.Cut(asset.Address, "?")
	return digest.ReplaceAllString(address, "$1")
}

// digest is a digest of what a file holds, in its name: style-3f9a2c1b.css.
var digest = regexp.MustCompile(`[.-][0-9a-f]{6,40}(\.)?`)

// item compares the fields of one item.
func (d *diff) item(source facts.Source, list string, was, is facts.Item) {
	identity := cmp.Or(is.Identity(), is.Subject())
	moved := list == facts.ListPages && was.Subject() != is.Subject()
	if moved {
		d.add(single{source: source, name: list, what: Moved, identity: identity, item: Item{Subject: was.Subject(), From: was.Subject(), To: is.Subject(), Was: was.Origin(), Is: is.Origin()}, follows: membership(list)})
	}
	changed := map[string]bool{}
	type unread struct {
		now           bool
		name, because string
		follows       []string
	}
	var unknown []unread
	for _, field := range facts.Lists[list] {
		name := list + "." + field.Name
		if field.Steady.Varies || moved && (field.Name == "path" || field.Name == "address") {
			continue
		}
		a, there := was.Field(field.Name)
		b, now := is.Field(field.Name)
		switch {
		case there && !now:
			unknown = append(unknown, unread{true, name, is.Why(field.Name).Because, field.Steady.Follows})
		case now && !there:
			unknown = append(unknown, unread{false, name, was.Why(field.Name).Because, field.Steady.Follows})
		case there && !alike(name, a, b):
			changed[field.Name] = true
			from, to := a.String(), b.String()
			if a.Type() == facts.List {
				from, to = lists(name, a, b)
			}
			follows := field.Steady.Follows
			if moved && (field.Name == "canonical" || field.Name == "depth") {
				follows = append(slices.Clone(follows), list)
			}
			origin := [2]facts.Origin{was.OriginOf(field.Name), is.OriginOf(field.Name)}
			d.add(single{source: source, name: list, field: field.Name, what: Changed, identity: identity, item: Item{Subject: is.Subject(), From: from, To: to, Was: origin[0], Is: origin[1], List: a.Type() == facts.List}, follows: follows,
				unsure: d.readOtherwise(source, origin[0], origin[1]), files: []string{origin[0].File, origin[1].File}})
		}
	}
	for _, u := range unknown { // what cannot be told any more since something else changed was seen
		if !(list == facts.ListAnswers && len(changed) > 0) && !slices.ContainsFunc(u.follows, func(name string) bool { return changed[name] }) {
			d.unread(u.now, u.name, u.because)
		}
	}
}

// unread notes a field of an item that was read in one look only. What an older snapshot does not hold was not looked at by the tool
// of then.
func (d *diff) unread(now bool, name, because string) {
	if d.another || because == "" {
		return
	}
	key := reason{now: now, because: because}
	if source, _ := facts.SourceOf(name); d.dialect && source == facts.Settings {
		key.reader = "dialect"
	} else if d.tool && (strings.Contains(because, "older than") || strings.Contains(because, "does not hold")) {
		key.reader = "tool"
	}
	d.note(key, name)
}
