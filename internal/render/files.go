package render

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"

	"weltaxis/internal/audit"
	"weltaxis/internal/facts"
	"weltaxis/internal/fix"
	"weltaxis/internal/report"
)

// Files writes the tree in classes, as a table: what is, what ought to be, and who may.
func Files(p Sheet, r *report.Report) {
	tree := r.Tree()
	p.filesHead(r, tree)
	var rows [][]string
	for _, row := range tree {
		rows = append(rows, []string{row.Role + " " + row.Kind + servedWord(row), whole(modeWords(row.Mode)) + "\n" + Safe(row.Owner+":"+row.Group), whole(ought(row)), Safe(whoInShort(row.Reads, row.Owner)), Safe(whoInShort(row.Writes, row.Owner)), fmt.Sprint(row.Count), Safe(row.Paths[0])})
	}
	p.table([]string{"entries", "is", "ought to be", "read by", "written by", "count", "the first of them"}, rows, func(row, column int) lipgloss.Style {
		if column == 2 && row < len(tree) && tree[row].Expected != "" {
			return verdictStyles[facts.Deviates]
		}
		return plain
	})
}

// FilesTree writes the same by what entries are for: each role, and under it what is alike.
func FilesTree(p Sheet, r *report.Report) {
	tree := r.Tree()
	p.filesHead(r, tree)
	for len(tree) > 0 {
		role, entries := tree[0].Role, 0
		last := slices.IndexFunc(tree, func(row audit.ClassRow) bool { return row.Role != role })
		if last < 0 {
			last = len(tree)
		}
		for _, row := range tree[:last] {
			entries += row.Count
		}
		fmt.Fprintf(p, "%s %s\n", title.Render(role+":"), quiet.Render(cmp.Or(roleWords[role], "")+report.Count(entries, "entry", "entries")))
		for i, row := range tree[:last] {
			branch, below := "├─ ", "│  "
			if i == last-1 {
				branch, below = "└─ ", "   "
			}
			p.branch(branch, below, modeWords(row.Mode)+"  "+Safe(row.Owner+":"+row.Group)+"  "+report.Count(row.Count, row.Kind, row.Kind+"s")+servedWord(row)+": "+Safe(strings.Join(row.Paths, ", "))+more(row), plain)
			if row.Reads != "" {
				p.branch(below, below, "read by "+Safe(row.Reads)+"; written by "+Safe(row.Writes), quiet)
			}
			if row.List != "" {
				p.branch(below, below, "list of access: "+Safe(row.List), quiet)
			}
			if row.Expected != "" {
				p.branch(below, below, "ought to be "+ought(row)+" ("+strings.Join(row.Rules, ", ")+")", verdictStyles[facts.Deviates])
			}
		}
		tree = tree[last:]
	}
}

// whole keeps digits and letters of permissions on one line.
func whole(mode string) string {
	if len(mode) == len("0644 rw-r--r--") {
		return strings.Replace(mode, " ", "\u00a0", 1)
	}
	return mode
}

// whoInShort is who may, in as few words as a column has room for; the owner stands beside it.
func whoInShort(who, owner string) string {
	return strings.NewReplacer("every other customer of this server", "all customers", "everybody on this server", "everybody", "its owner "+owner, "owner", "the web server", "web server",
		"the accounts ", "", "the account ", "", "whoever is in its group ", "whoever is in ").Replace(who)
}

// roleWords say what a role means, before how many entries play it.
var roleWords = map[string]string{
	"config": "where the site is told its secrets: ", "code": "what is run and what pages are made of: ", "uploads": "what people put there: ", "cache": "what is made again when it is gone: ",
	"override": "what tells the web server what to do in a folder: ", "private": "what nobody outside should see: ", "backup": "copies and dumps: ", "temporary": "what is there for a while: ", "other": "anything else: ",
}

// branch writes a line of a tree; what does not fit goes on below.
func (p Sheet) branch(first, below, text string, style lipgloss.Style) {
	for i, line := range wrap(text, p.width()-columnsOf(below)) {
		if i > 0 {
			first = below
		}
		fmt.Fprintf(p, "%s%s\n", quiet.Render(first), style.Render(line))
	}
}

func (p Sheet) filesHead(r *report.Report, tree []audit.ClassRow) {
	p.looked(r)
	entries := 0
	for _, row := range tree {
		entries += row.Count
	}
	says := report.Count(entries, "entry", "entries") + " in " + report.Count(len(tree), "class", "classes")
	if owner, known := r.Snapshot.Is(facts.FilesOwner.Term); known {
		says += ", most of " + owner.Text()
	}
	switch inferred, _ := r.Snapshot.Is(facts.FilesWebInferred.Term); {
	case r.Snapshot.WebUser() == "":
		says += "; nobody says whom the web server runs as (intent.web_user), so what it may do is not told"
	case inferred.Bool():
		says += "; the web server runs as " + r.Snapshot.WebUser() + ", which is inferred from what it made"
	default:
		says += "; the web server runs as " + r.Snapshot.WebUser()
	}
	p.block(0, "", 0, Safe(says)+".", quiet)
	fmt.Fprintln(p)
}

// modeWords are permissions in digits and in letters.
func modeWords(mode string) string {
	value, err := facts.Mode.Parse(mode)
	if err != nil {
		return "not known"
	}
	return mode + " " + fix.Letters(uint32(value.Number()))
}

// ought is what a class ought to be.
func ought(row audit.ClassRow) string {
	switch {
	case row.Ought != "":
		return modeWords(row.Ought)
	case row.Expected == "":
		return "as it is"
	}
	return Safe(row.Expected)
}

// more says how many entries of a class are not named.
func more(row audit.ClassRow) string {
	if left := row.Count - len(row.Paths); left > 0 {
		return fmt.Sprintf(" and %d more", left)
	}
	return ""
}

// servedWord says whether the web server serves what a row of files is about.
func servedWord(row audit.ClassRow) string {
	switch {
	case row.Class.Served != "":
		return ""
	case row.Answer == "refused":
		return ", refused by the web server"
	case row.Answer == "run":
		return ", run by the web server"
	case row.Public:
		return ", served"
	}
	return ""
}
