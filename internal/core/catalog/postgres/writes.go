package postgres

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// change is a way in which a relation is written.
type change struct {
	events  analysis.Events
	sets    []string // the columns that an update assigns, or nil where they are not known
	cascade bool     // TRUNCATE ... CASCADE
	narrow  *catalog.WritePin
}

// assigns says whether an update may assign one of some columns; no columns stand for any.
func (c change) assigns(rel *relation, columns []string) bool {
	if c.events&analysis.Update == 0 {
		return false
	}
	if len(c.sets) == 0 || len(columns) == 0 || len(rel.triggers) > 0 || len(rel.rules) > 0 {
		return true // a trigger may assign more
	}
	return slices.ContainsFunc(columns, func(name string) bool {
		column := rel.column(name)
		return slices.Contains(c.sets, name) || column == nil || column.Generated // which follows the others
	})
}

// seen says whether a write of a relation has been followed already, and notes that it is now.
func (r *resolver) seen(rel *relation, c change) bool {
	if have, ok := r.written[rel]; ok && have.events&c.events == c.events &&
		(c.events&analysis.Update == 0 || len(have.sets) == 0 || slices.Equal(have.sets, c.sets)) {
		return true
	}
	have := r.written[rel]
	switch {
	case c.events&analysis.Update == 0:
	case have.events&analysis.Update == 0:
		have.sets = c.sets
	case !slices.Equal(have.sets, c.sets):
		have.sets = nil
	}
	have.events |= c.events
	r.written[rel] = have
	return false
}

// rewritten notes that a relation, and with it each of its parts, is written in more ways than the statement's pins
// speak of.
func (r *resolver) rewritten(rel *relation) {
	r.rewrite[rel] = true
	for _, child := range rel.children {
		r.rewritten(child)
	}
}

// write follows what a write to a relation changes.
func (r *resolver) write(rel *relation, c change, how []string) {
	// A row may go to another part, which deletes and inserts it.
	if rel.kind == 'p' && c.events&analysis.Update != 0 && !freshness.Off(freshness.MovedRows) {
		c.events |= analysis.Insert | analysis.Delete
	}
	r.named(rel.name)
	events := c.events
	if _, again := r.written[rel]; again || c.narrow == nil {
		r.rewritten(rel)
	} else {
		r.narrow[rel] = pinOf(c.narrow, rel, events)
	}
	if r.seen(rel, c) {
		return
	}
	r.add(&r.out.Writes, r.out.WrittenHow, rel, how)
	switch rel.kind {
	case 'r', 'm', 'p', 'v':
	default:
		r.out.Anything()
	}
	if !r.s.whole {
		r.writesUnseen(rel, c.cascade)
	}
	if freshness.Off(freshness.Hidden) {
		return
	}
	r.writesElsewhere(rel, c, how)
	r.writesByTriggers(rel, events, how)
	r.writesByParts(rel, events, how)
}

// writesElsewhere follows a write to the parts of a relation, and to what refers to it.
func (r *resolver) writesElsewhere(rel *relation, c change, how []string) {
	events := c.events
	for _, child := range rel.children {
		r.write(child, c, then(how, "a part of "+rel.full()))
	}
	for _, ref := range rel.referrers {
		var on analysis.Events
		if events&analysis.Delete != 0 {
			on |= map[byte]analysis.Events{'c': analysis.Delete, 'n': analysis.Update, 'd': analysis.Update}[ref.onDelete]
		}
		if (ref.onUpdate == 'c' || ref.onUpdate == 'n' || ref.onUpdate == 'd') && c.assigns(rel, ref.columns) {
			on |= analysis.Update
		}
		if events&analysis.Truncate != 0 && c.cascade {
			on |= analysis.Truncate
		}
		if on != 0 {
			r.write(ref.relation, change{events: on, cascade: c.cascade}, then(how, "by its reference to "+rel.full()))
		}
	}
}

// writesByTriggers follows what the triggers and rewrite rules of a relation do when it is written.
func (r *resolver) writesByTriggers(rel *relation, events analysis.Events, how []string) {
	for _, t := range rel.triggers {
		if t.events&events != 0 {
			r.call(t.function, then(how, "through a trigger on "+rel.full()), reason.Way("").Trigger())
		}
	}
	for _, t := range rel.rules {
		if t.on&events == 0 {
			continue
		}
		through := then(how, "through a rule on "+rel.full())
		f, err := t.definition()
		if err != nil {
			r.out.Anything()
			continue
		}
		for _, part := range rel.parts[byRule] { // what it only reads is taken to be written, too
			r.write(part, change{events: events | analysis.Insert | analysis.Update | analysis.Delete}, through)
		}
		only := *f
		only.Reads, only.Writes = nil, nil
		r.facts(&only, through, reason.Way("").Rule())
	}
}

// writesByParts follows what the other parts of a relation do when it is written: its query, its columns' types, checks
// and defaults, what is behind a view, and its row security.
func (r *resolver) writesByParts(rel *relation, events analysis.Events, how []string) {
	if rel.kind == 'm' && rel.view != nil {
		r.definition()
		r.recorded(
			rel,
			byView,
			rel.view.query(),
			then(how, "for the contents of "+rel.full()),
			reason.Way("").Refresh(rel.full()),
		)
	}
	if events&(analysis.Insert|analysis.Update) != 0 && !freshness.Off(freshness.TypeChecks) {
		for _, t := range r.s.typed[rel.full()] {
			r.checks(t, then(how, "through a type of a column of "+rel.full()), reason.Way("").WriteType(rel.full()))
		}
	}
	for _, by := range []partOf{byWrite, byRule} {
		for _, fn := range rel.calls[by] {
			r.call(fn, then(how, "through a default, check or rule of "+rel.full()), reason.Way("").Write(rel.full()))
		}
	}
	if rel.kind == 'v' {
		for _, part := range rel.parts[byView] {
			r.write(part, change{events: events}, then(how, "through the view "+rel.full()))
		}
		for _, fn := range rel.calls[byView] {
			r.call(fn, then(how, "through the view "+rel.full()), reason.Way("").WriteView(rel.full()))
		}
	}
	if rel.flags&rowSecurity != 0 { // its conditions are asked for what is written, too
		for _, fn := range rel.calls[byPolicy] {
			r.call(
				fn,
				then(how, "through the row security of "+rel.full()),
				reason.Way("").WriteRowSecurity(rel.full()),
			)
		}
	}
}

// writesUnseen takes in what a description that is not whole says by flags alone.
func (r *resolver) writesUnseen(rel *relation, cascade bool) {
	switch {
	case cascade:
		r.out.Anything() // not every reference is known
	case rel.kind == 'r' && rel.flags&(triggers|calling|hasRules|inherits) == 0:
	case rel.kind == 'r' && (rel.flags == triggers || rel.flags == triggers|functional):
		r.out.Everything, r.out.Settings = true, true // its triggers write, but define nothing
	default:
		r.out.Anything()
	}
}
