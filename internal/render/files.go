package render

import (
	"fmt"
	"strings"

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
	p.table([]string{"entries", "is", "ought to be", "read by", "written by", "count", "the first of them"}, rows, func(row, column int) Style {
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
	for _, role := range report.RolesOf(tree) {
		means := ""
		if role.Means != "" {
			means = role.Means + ": "
		}
		fmt.Fprintf(p, "%s %s\n", title.Render(role.Name+":"), quiet.Render(means+report.Count(role.Entries, "entry", "entries")))
		for i, row := range role.Classes {
			branch, below := "├─ ", "│  "
			if i == len(role.Classes)-1 {
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

// branch writes a line of a tree; what does not fit goes on below.
func (p Sheet) branch(first, below, text string, style Style) {
	for i, line := range wrap(text, p.width()-columnsOf(below)) {
		if i > 0 {
			first = below
		}
		fmt.Fprintf(p, "%s%s\n", quiet.Render(first), style.Render(line))
	}
}

func (p Sheet) filesHead(r *report.Report, tree []audit.ClassRow) {
	p.looked(r)
	p.block(0, "", 0, Safe(report.TreeSays(r.Result, tree)), quiet)
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
	case row.Address != "":
		return ", " + row.Answer + " at " + Safe(row.Address)
	case row.Answer == "refused":
		return ", refused by the web server"
	case row.Answer == "run":
		return ", run by the web server"
	case row.Public:
		return ", served"
	}
	return ""
}
