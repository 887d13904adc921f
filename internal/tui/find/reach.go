package find

import (
	"slices"
	"strings"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/look"
)

// branch is a step on the way from a statement to the tables it touches.
type branch struct {
	tables []string
	steps  []string
	below  map[string]*branch
}

func (b *branch) add(how []string, table string) {
	if len(how) == 0 {
		b.tables = append(b.tables, table)
		return
	}
	if b.below == nil {
		b.below = map[string]*branch{}
	}
	next := b.below[how[0]]
	if next == nil {
		next = &branch{}
		b.below[how[0]] = next
		b.steps = append(b.steps, how[0])
	}
	next.add(how[1:], table)
}

// draw draws a branch with what is below it.
func (b *branch) draw(l *look.Look, indent string, width int) (out []string) {
	for i, part := range look.Wrap(strings.Join(b.tables, ", "), max(width-len(indent), 20)) {
		if len(b.tables) == 0 {
			break
		}
		note := ""
		if i == 0 && indent == "" {
			note = l.Dim.Render("  named in the statement")
		}
		out = append(out, indent+l.Cream.Render(part)+note)
	}
	for _, s := range b.steps {
		out = append(out, indent+l.Dim.Render("└ "+s))
		out = append(out, b.below[s].draw(l, indent+"  ", width)...)
	}
	return out
}

func tree(l *look.Look, list []control.Reach, width int) []string {
	var root branch
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b control.Reach) int { return len(a.How) - len(b.How) })
	for _, t := range list {
		root.add(t.How, strings.TrimPrefix(t.Table, "public."))
	}
	return root.draw(l, "", width)
}

// reach draws the tables that a pattern reads and writes, and the way to each.
func reach(l *look.Look, p *control.Pattern, width int) (out []string) {
	out = append(out, labelled(l, "reads", tree(l, p.Reads, width-9))...)
	out = append(out, labelled(l, "writes", tree(l, p.Writes, width-9))...)
	if len(p.Pins) > 0 {
		var pins []string
		for _, pin := range p.Pins {
			pins = append(pins, strings.TrimPrefix(pin, "public."))
		}
		out = append(out, labelled(l, "by key", []string{l.Cream.Render(strings.Join(pins, ", "))})...)
	}
	return out
}
