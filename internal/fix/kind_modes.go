package fix

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"al.essio.dev/pkg/shellescape"

	"weltaxis/internal/baseline"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/files"
	"weltaxis/internal/tree"
)

// The permissions of a class of files are changed entry by entry, each compared with what was planned.
var modesRow = row{
	rank: always(80),
	title: func(name, subject string, class *facts.Likeness) string {
		of := "permissions of "
		if name == setID {
			of = "set-user and set-group bits of "
		}
		if class == nil {
			return of + subject
		}
		return of + class.InWords()
	},
	join:  func(a, b facts.Value) facts.Value { return facts.NumberOf(facts.Mode, a.Number()&b.Number()) }, // each takes some bits away
	plan:  planModes,
	ready: func(c Change) bool { return len(c.Members) > 0 },
	show: func(_ *Plan, c Change) Shown {
		from, to := uint32(c.From.Number()), uint32(c.To.Number())
		s := Shown{From: fmt.Sprintf("%04o  %s", from, Letters(from)), To: fmt.Sprintf("%04o  %s", to, Letters(to))}
		for _, m := range c.Members {
			s.Members = append(s.Members, m.Path)
		}
		return s
	},
	apply:  applyModes,
	revert: revertModes,
	script: scriptModes,
	still: func(o *Outcome, rules []string) {
		switch {
		case o.beside != 0: // the rules ask for the other bits as well, which are a question of their own
			o.Says = strings.TrimPrefix(o.Says+"; "+strings.Join(rules, ", ")+" asks for more than this", "; ")
		case o.Says == "": // those that were left alone deviate, and that is said
			notTook(o, rules)
		}
	},
	payload: func(b before) bool { return len(b.Modes) > 0 },
}

// What a change of permissions takes away. The set-user and set-group bits are a question of their own, since whoever set
// them meant something by it.
const (
	access = "mode"
	setID  = "set-id"
)

// setIDBits are the set-user and set-group bits.
const setIDBits = 0o6000

// A modePart is a part of a change of permissions, with the mode that it alone leads to.
type modePart struct {
	name string
	to   facts.Value
}

// modeParts takes a change of permissions apart into what is asked separately.
func modeParts(m *facts.ModeTarget) []modePart {
	from, to := m.From.Number(), m.To.Number()
	var parts []modePart
	if lost := from &^ to &^ setIDBits; lost != 0 || to&^from != 0 {
		parts = append(parts, modePart{access, facts.NumberOf(facts.Mode, from&setIDBits|to&^setIDBits)})
	}
	if lost := from &^ to & setIDBits; lost != 0 {
		parts = append(parts, modePart{setID, facts.NumberOf(facts.Mode, from&^lost)})
	}
	return parts
}

// planModes finds the entries of the class. All classes of a plan are looked up in one walk.
func planModes(ctx context.Context, p *planning, c *Change) error {
	if p.members == nil {
		p.members = map[facts.Likeness][]tree.Entry{}
		var classes []facts.Likeness
		for _, other := range p.plan.Changes {
			if other.Class != nil {
				classes = append(classes, *other.Class)
			}
		}
		if p.FilesRoot != "" {
			var err error
			source := p.Tree
			if source == nil {
				source = &files.Source{Root: p.FilesRoot, Dialect: p.Dialect}
			}
			if p.members, err = source.Members(ctx, classes); err != nil {
				return err
			}
		}
	}
	if c.Members = p.members[*c.Class]; len(c.Members) == 0 {
		return errors.New("no entry of that class is there any more")
	}
	c.beside = p.beside(c)
	c.Risk, c.Because, c.Noticed = c.modeChange(p.WebUser).Risk()
	in, err := tree.Open(p.FilesRoot)
	if err != nil {
		return err
	}
	defer in.Close()
	p.keeps(in, c)
	if lost := c.From.Number() &^ c.To.Number() & 0o070; lost != 0 {
		if i := slices.IndexFunc(c.Members, func(m tree.Entry) bool { return in.AccessList(m.Path) != nil }); i >= 0 {
			c.Risk, c.Because = facts.Disruptive, c.Members[i].Path+" has an access control list, whose entries lose what the group loses (POSIX.1e)"
		}
	}
	return nil
}

// modeChange is the change as its risk is worked out from.
func (c Change) modeChange(webUser string) baseline.ModeChange {
	class := facts.Class{Role: c.Class.Role, List: c.Class.List, Kind: c.Class.Kind, Content: c.Class.Content, Owner: c.Class.Owner, Group: c.Class.Group}
	return baseline.ModeChangeOf(&class, c.From, c.To, webUser)
}

// beside are the bits that another change of the plan takes from the same class: an entry that has lost them already is
// still the one that was planned.
func (p *planning) beside(c *Change) uint32 {
	bits := int64(0)
	for _, o := range p.plan.Changes {
		if o.Kind == c.Kind && o.Name != c.Name && o.Subject == c.Subject {
			bits |= o.From.Number() &^ o.To.Number()
		}
	}
	return uint32(bits)
}

func applyModes(_ context.Context, e *Env, c Change) Outcome {
	out := Outcome{Change: c}
	in, err := tree.Open(e.FilesRoot)
	if err != nil {
		return out.failed(err)
	}
	defer in.Close()
	var edits []modeEdit
	for _, m := range c.Members {
		edit := modeEdit{Path: m.Path, From: uint32(c.From.Number()), To: uint32(c.To.Number()), UID: m.UID, GID: m.GID, Dir: m.Kind == tree.Folder}
		is, there := edit.mode(in)
		if there && is == edit.To {
			continue // somebody has done it; it is not for undo to take back
		}
		if there && is&^edit.From == 0 && edit.From&^is&^c.beside == 0 {
			edit.Was, edit.From, edit.To = edit.From, is, is&edit.To
		}
		edits = append(edits, edit)
	}
	if len(edits) == 0 {
		out.Result, out.Says = Took, "it was so already"
		return out
	}
	var left []string
	out = e.journalled(out, c.logLine(), before{Modes: edits}, func(int) error {
		for _, edit := range edits {
			if err := edit.change(in, edit.From, edit.To); err != nil {
				left = append(left, fmt.Sprintf("%s: %s", edit.Path, facts.InWords(err)))
			}
			e.at("after an edit")
		}
		if len(left) == len(edits) {
			return fmt.Errorf("%d of %d were left alone: %s", len(left), len(edits), strings.Join(left[:min(len(left), 3)], "; "))
		}
		return nil
	})
	if out.Result == Took && len(left) > 0 {
		out.Says = fmt.Sprintf("%d of %d were left alone: %s", len(left), len(edits), strings.Join(left[:min(len(left), 3)], "; "))
	}
	return out
}

// mode is that of the entry now; there is false when nothing of that name has one.
func (m modeEdit) mode(in tree.Files) (is uint32, there bool) {
	e, err := in.Lstat(m.Path)
	return e.Mode, err == nil && e.Kind != tree.Link
}

// change gives the entry another mode, if it is the one that was planned.
func (m modeEdit) change(in tree.Files, from, to uint32) error {
	kind := tree.File
	if m.Dir {
		kind = tree.Folder
	}
	return in.Chmod(tree.Entry{Path: m.Path, Kind: kind, Mode: from, UID: m.UID, GID: m.GID}, to)
}

// left tells whether an entry of this mode is as the edit left it. The bits of the other question may have been taken since.
func (m modeEdit) left(is uint32) bool {
	if m.From&^m.To&setIDBits == 0 {
		return is == m.To || is == m.To&^setIDBits
	}
	return is == m.To || is&setIDBits == m.To&setIDBits && is&^(m.From|m.Was) == 0
}

func revertModes(_ context.Context, e *Env, b before) (string, error) {
	in, err := tree.Open(e.FilesRoot)
	if err != nil {
		return "", err
	}
	defer in.Close()
	var left []string
	for _, m := range slices.Backward(b.Modes) {
		is, there := m.mode(in)
		switch {
		case there && is == m.From:
		case !there || !m.left(is):
			left = append(left, m.Path)
		default:
			if err := m.change(in, is, is|m.From&^m.To); err != nil {
				left = append(left, m.Path)
			} else if is, there := m.mode(in); !there || (m.From&^is)&0o1777 != 0 { // set-user and set-group bits are not given back everywhere
				left = append(left, m.Path)
			}
		}
		e.at("after an edit")
	}
	if len(left) > 0 {
		return "", fmt.Errorf("%d were left alone, since they are not as this program left them: %s", len(left), strings.Join(left[:min(len(left), 3)], ", "))
	}
	return "", nil
}

func scriptModes(_ *Plan, c Change) (do, undo []string) {
	from, to := uint32(c.From.Number()), uint32(c.To.Number())
	for _, m := range c.Members {
		at := shellescape.Quote("./" + m.Path)
		if c.Name == setID {
			bits := ""
			for bit, letter := range map[uint32]string{0o4000: "u", 0o2000: "g"} {
				if from&^to&bit != 0 {
					bits += letter
				}
			}
			do, undo = append(do, fmt.Sprintf("chmod %s-s -- %s", bits, at)), append(undo, fmt.Sprintf("chmod %s+s -- %s", bits, at))
			continue
		}
		do, undo = append(do, fmt.Sprintf("allow %o %04o %s", from, to, at)), append(undo, fmt.Sprintf("allow %o %04o %s", to, from, at))
	}
	return do, undo
}
