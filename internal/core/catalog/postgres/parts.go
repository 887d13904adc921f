package postgres

import (
	"slices"
	"strings"
	"time"
)

// What the answers to the single questions of a Reader come to.

// relationRows takes what is told of a part of relations.
func (r *Reader) relationRows(q Question, rows []Row, mark string, marked bool, took time.Duration) bool {
	p := r.part(q.From)
	if p == nil || !marked && (q.Kind == Relations || q.Kind == Readers) {
		return false
	}
	before := p.rows[q.Kind]
	switch q.Kind {
	case Relations:
		if p.to != last || !p.read {
			r.paced(took)
		}
		r.renamed = r.renamed || !r.again && renamed(before, rows)
		p.rows[Relations], p.mark = rows, mark
		if r.unread(p) {
			r.queue = append(r.queue, Question{Kind: Readers, From: p.from, To: p.to})
		}
	case Links:
		p.rows[Links] = rows
		if p.hasTexts() {
			r.queue = append([]Question{{Kind: Texts, From: p.from, To: p.to}}, r.queue...)
		} else {
			delete(p.rows, Texts)
		}
		p.read = true
	case Texts:
		if !r.again {
			keepTexts(before, rows)
		}
		p.rows[Texts] = rows
	case Readers:
		if mark != r.roles {
			r.roles = unknownRoles // they have changed meanwhile
		}
		for _, row := range before { // others may have the same readers as those that have gone from here
			if !slices.ContainsFunc(rows, func(x Row) bool { return x.Name == row.Name }) {
				rows = append(rows, row)
			}
		}
		p.rows[Readers] = rows
	}
	r.changed = true
	return true
}

// paced has the next part be of a size that takes about as long as one may.
func (r *Reader) paced(took time.Duration) {
	switch {
	case took > partTime && r.size > smallestPart:
		r.size /= 2
	case took < partTime/3 && r.size < largestPart:
		r.size *= 2
	}
}

// hasTexts says whether something in a part has a text: a view, or by a link that only such have.
func (p *part) hasTexts() bool {
	return slices.ContainsFunc(p.rows[Relations], func(row Row) bool {
		said, _ := row.read()
		rel, is := said.(relationRecord)
		return is && (rel.kind == 'v' || rel.kind == 'm' || rel.flags&(rowSecurity|hasRules) != 0)
	})
}

// unread says whether a part has relations of which it is not known who may read them.
func (r *Reader) unread(p *part) bool {
	known := map[string]bool{}
	for _, q := range r.relations {
		for _, row := range q.rows[Readers] {
			known[row.Name] = true
		}
	}
	return slices.ContainsFunc(
		p.rows[Relations],
		func(row Row) bool { return row.What == "granted" && !known[row.Flags] },
	)
}

// renamed says whether a relation or a column of before has gone, which may mean that it has another name: others name
// it.
func renamed(before, after []Row) bool {
	was, is := map[string]string{}, map[string]string{}
	for rows, names := range map[*[]Row]map[string]string{&before: was, &after: is} {
		for _, row := range *rows {
			switch row.What {
			case "relation":
				names[row.OtherSchema] = row.Schema + "\n" + row.Name
			case "columns":
				names[row.Schema+"\n"+row.Name] = row.OtherName
			}
		}
	}
	for number, name := range was {
		now, there := is[number]
		switch {
		case !there || now == name:
		case strings.Contains(number, "\n"): // columns, with their flags
			for line := range strings.SplitSeq(name, "\n") {
				_, column, _ := strings.Cut(line, " ")
				if !slices.ContainsFunc(
					strings.Split(now, "\n"),
					func(l string) bool { _, c, _ := strings.Cut(l, " "); return c == column },
				) {
					return true
				}
			}
		default:
			return true
		}
	}
	return false
}

// keepTexts puts the texts of before in the place of those of the same version: they are written as the search path of
// who asks has it.
func keepTexts(before, rows []Row) {
	for i := range rows {
		for _, old := range before {
			x := rows[i]
			x.OtherName = old.OtherName
			if x == old {
				rows[i].OtherName = old.OtherName
			}
		}
	}
}

// functionRows takes what is told of functions from a number on.
func (r *Reader) functionRows(q Question, rows []Row, mark string) bool {
	at, to, ok := spanIn(rows, q, last)
	if !ok {
		return false
	}
	p := &part{
		from: q.From,
		to:   to,
		mark: mark,
		rows: map[Kind][]Row{Functions: slices.Delete(slices.Clone(rows), at, at+1)},
	}
	r.functions = append(r.functions, p)
	r.changed = true
	if to != last {
		r.queue = append([]Question{{Kind: Functions, From: p.to + 1, Most: functionsIn}}, r.queue...)
		return true
	}
	var now []Row
	for _, p := range r.functions {
		if p.mark != mark {
			r.functions[0].mark = "" // they have changed meanwhile
		}
		now = append(now, p.rows[Functions]...)
	}
	r.renamed, r.before = r.renamed || lacks(r.before, now), nil
	return true
}

// lacks says whether a name of before is not there any more.
func lacks(before, after []Row) bool {
	type full struct{ what, schema, name string }
	is := map[full]bool{}
	for _, row := range after {
		is[full{row.What, row.Schema, row.Name}] = true
	}
	return slices.ContainsFunc(before, func(row Row) bool { return !is[full{row.What, row.Schema, row.Name}] })
}
