package files

import (
	"container/heap"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/tree"
)

// maxPrograms is of how many program files is noted when they changed.
const maxPrograms = 2000

// programs are the program files that changed last, the one that changed longest ago on top.
type programs struct {
	newest []facts.Program
	passed int // those that there was no room for
}

// isProgram tells whether it is worth noting when a file changes: what is run, unless it is made by what is run, as caches are.
func isProgram(role, within, content string) bool {
	if slices.Contains([]string{dialect.Cache, dialect.Temporary}, role) || slices.Contains([]string{dialect.Cache, dialect.Temporary}, within) {
		return false
	}
	return slices.Contains([]string{program, command, inert, disguised, scripting}, content)
}

func (p *programs) add(e tree.Entry) {
	if len(p.newest) == maxPrograms {
		p.passed++
		if last(p.newest[0]) >= max(e.Changed.Unix(), e.Touched) {
			return
		}
		heap.Pop(p)
	}
	heap.Push(p, facts.Program{Path: strings.Clone(e.Path), Size: e.Size, Changed: e.Changed.Unix(), Touched: e.Touched})
}

// list gives them by path.
func (p *programs) list() []facts.Program {
	list := make([]facts.Program, len(p.newest))
	for i, program := range p.newest {
		program.Path = tree.Printable(program.Path)
		list[i] = program
	}
	slices.SortFunc(list, func(a, b facts.Program) int { return strings.Compare(a.Path, b.Path) })
	return list
}

func last(p facts.Program) int64 { return max(p.Changed, p.Touched) }

// Len implements heap.Interface, as do those below.
func (p *programs) Len() int           { return len(p.newest) }
func (p *programs) Less(i, j int) bool { return last(p.newest[i]) < last(p.newest[j]) }
func (p *programs) Swap(i, j int)      { p.newest[i], p.newest[j] = p.newest[j], p.newest[i] }

// Push implements heap.Interface.
func (p *programs) Push(x any) { p.newest = append(p.newest, x.(facts.Program)) }

// Pop implements heap.Interface.
func (p *programs) Pop() any {
	end := len(p.newest) - 1
	popped := p.newest[end]
	p.newest = p.newest[:end]
	return popped
}
