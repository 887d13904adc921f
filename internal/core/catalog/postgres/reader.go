package postgres

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/core/catalog"
)

// A schema of ten thousand tables takes seconds to be described. So it is read in parts, each of which takes a few
// milliseconds, and read again only where something has changed. What tells that is a part's mark: how many rows the
// system tables have that it is made of, and the sum of the transactions that wrote them. It comes in the same answer
// as the part: something that is made and taken away again in between would else leave the mark as it was.

// Kind is what a question is about.
type Kind string

// The kinds of questions. Those of relations and functions are about a range of numbers.
const (
	Plain     Kind = "plain"     // everything, of a server that cannot tell of parts
	Spans     Kind = "spans"     // where the next part of relations ends: a row "span" with the last number, and its mark
	Relations Kind = "relations" // relations with their columns and keys
	Links     Kind = "links"     // what belongs to them or comes from them
	Texts     Kind = "texts"     // queries and conditions
	Readers   Kind = "readers"   // who may read them
	Functions Kind = "functions" // functions, from a number on, as many as asked for
	Types     Kind = "types"
	Operators Kind = "operators"
	BuiltIns  Kind = "builtins" // what is the server's own
	Rights    Kind = "rights"   // what holds for all of the database
	Marks     Kind = "marks"    // the marks of ranges of relations, in rows "mark" with the first number in Flags
	RestMarks Kind = "rest marks"
)

// Question is what a server is to be asked of its schema next.
type Question struct {
	Kind Kind
	// From and To are the first and the last number of a range.
	From, To uint32
	// Most bounds how many relations or functions are told of.
	Most int
	// Ranges are those of which marks are wanted.
	Ranges [][2]uint32
}

// Same says whether two questions ask for the same.
func (q Question) Same(o Question) bool {
	return q.Kind == o.Kind && q.From == o.From && q.To == o.To && q.Most == o.Most && slices.Equal(q.Ranges, o.Ranges)
}

// last is the last number that there can be.
const last = 1<<32 - 1

// part is what is known of a range of relations, or of functions.
type part struct {
	from, to uint32
	mark     string
	read     bool
	rows     map[Kind][]Row
}

// Reader reads a schema in parts. Its zero value has read nothing.
type Reader struct {
	// Plainly has it ask for everything at once, of a server that cannot tell of parts.
	Plainly bool

	relations []*part // in the order of their numbers; the last one goes to the end
	functions []*part
	rest      map[Kind]*part
	roles     string // the mark of who may read what

	queue   []Question
	before  []Row           // the functions, while they are read again
	fresh   map[Kind]string // the marks of the rest, as told in this round
	changed bool            // something was read anew since it was last accepted
	renamed bool            // and what was there before has another name now
	again   bool            // everything that names others has been read again for that
	size    int             // of the next part of relations
	round   bool
}

// The bounds of a part's size, and how long reading it may take.
const (
	smallestPart = 8
	largestPart  = 200
	partTime     = 4 * time.Millisecond
	marksAtOnce  = 150 // relations, about
	functionsIn  = 60
	fewParts     = 16 // whose marks are always asked for: that is one short question
)

// Begin implements catalog.Reader. A round for some changes of definitions alone asks no more than what these concern,
// where there is much. What is new comes last: numbers count up. Where they have begun anew, the next whole round finds
// it.
func (r *Reader) Begin(list ...*catalog.Defined) {
	r.queue, r.fresh, r.renamed, r.again, r.round = nil, map[Kind]string{}, false, false, true
	if r.size == 0 {
		r.size = 2 * smallestPart
	}
	if r.rest == nil {
		r.rest = map[Kind]*part{}
	}
	if r.Plainly {
		r.queue = []Question{{Kind: Plain}}
		return
	}
	if len(list) == 0 || len(r.rest) == 0 {
		r.queue, list = append(r.queue, Question{Kind: RestMarks}), nil
	}
	var ranges [][2]uint32
	held := 0
	if at := slices.IndexFunc(r.relations, func(p *part) bool { return !p.read }); at >= 0 {
		r.relations = r.relations[:at] // an earlier round came so far
	}
	flush := func() {
		if len(ranges) > 0 {
			r.queue = append(r.queue, Question{Kind: Marks, Ranges: ranges})
			ranges, held = nil, 0
		}
	}
	for _, p := range r.relations {
		if n := len(p.rows[Relations]); p.read && p.to != last &&
			(len(list) == 0 || len(r.relations) <= fewParts || p.concerned(list)) {
			if held += n; len(ranges) > 0 && held > 6*marksAtOnce || len(ranges) >= 16 { // rows are about six for each
				flush()
				held = n
			}
			ranges = append(ranges, [2]uint32{p.from, p.to})
		}
	}
	flush()
	from := uint32(0)
	if n := len(r.relations); n > 0 && r.relations[n-1].to == last {
		from = r.relations[n-1].from
	} else if n > 0 {
		from = r.relations[n-1].to + 1
	}
	r.queue = append(r.queue, Question{Kind: Spans, From: from, To: last, Most: r.size})
}

// concerned says whether a part holds something that changes of definitions concern.
func (p *part) concerned(list []*catalog.Defined) bool {
	return slices.ContainsFunc(p.rows[Relations], func(row Row) bool {
		return row.What == "relation" &&
			slices.ContainsFunc(list, func(d *catalog.Defined) bool { return d.Concerns(row.Name) })
	})
}

// Next gives the next question of the round, if there is one.
func (r *Reader) Next() (Question, bool) {
	if len(r.queue) == 0 {
		return Question{}, false
	}
	return r.queue[0], true
}

// Bundle implements catalog.Reader. Only short questions are asked in one go.
func (r *Reader) Bundle() (list []catalog.Question) {
	for _, q := range r.queue {
		short := q.Kind == RestMarks || q.Kind == Marks || q.Kind == Spans
		if len(list) == mostAtOnce || len(list) > 0 && !short {
			break
		}
		list = append(list, q)
		if !short {
			break
		}
	}
	return list
}

// mostAtOnce bounds the questions that are asked in one go.
const mostAtOnce = 3

// InRound implements catalog.Reader.
func (r *Reader) InRound() bool { return r.round }

// GiveUp implements catalog.Reader.
func (r *Reader) GiveUp() {
	for _, q := range r.queue {
		switch q.Kind {
		case Relations, Links, Texts:
			if p := r.part(q.From); p != nil {
				p.mark = ""
			}
		case Readers:
			r.roles = unknownRoles
		case Functions:
			r.functions = nil
		}
	}
	if r.renamed {
		r.relations, r.functions, r.rest = nil, nil, map[Kind]*part{}
	}
	r.queue, r.round = nil, false
}

// unknownRoles is no mark of roles.
const unknownRoles = "unknown"

// Take implements catalog.Reader. Questions are of the type Question, and answers of []Row.
func (r *Reader) Take(q catalog.Question, a catalog.Answer, took time.Duration) (ended, ok bool) {
	asked, isOurs := q.(Question)
	next, there := r.Next()
	rows, isRows := a.([]Row)
	if !isOurs || !there || !next.Same(asked) || !isRows || rows == nil || Check(rows) != nil {
		return false, false
	}
	return r.take(rows, took)
}

// take takes the answer to the question that Next gave.
func (r *Reader) take(rows []Row, took time.Duration) (ended, ok bool) {
	if len(r.queue) == 0 {
		return false, false
	}
	q, rest := r.queue[0], r.queue[1:]
	r.queue = slices.Clone(rest)
	defer func() {
		if !ok {
			r.queue = append([]Question{q}, rest...)
			r.GiveUp()
		}
	}()
	mark, marked := "", false
	if q.Kind != RestMarks && q.Kind != Marks {
		rows = slices.DeleteFunc(slices.Clone(rows), func(row Row) bool {
			if row.What == "mark" {
				mark, marked = row.OtherName, true
			}
			return row.What == "mark"
		})
	}
	switch q.Kind {
	case Plain:
		old := r.rest[Plain]
		r.changed = r.changed || old == nil || !slices.Equal(old.rows[Plain], rows)
		r.rest[Plain], ok = &part{read: true, rows: map[Kind][]Row{Plain: rows}}, true
	case RestMarks:
		ok = r.restMarks(rows)
	case Marks:
		ok = r.marks(q, rows)
	case Spans:
		ok = r.span(q, rows)
	case Relations, Links, Texts, Readers:
		ok = r.relationRows(q, rows, mark, marked, took)
	case Functions:
		ok = marked && r.functionRows(q, rows, mark)
	default:
		p := &part{mark: mark, read: true, rows: map[Kind][]Row{q.Kind: rows}}
		if old := r.rest[q.Kind]; old != nil {
			if slices.Equal(old.rows[q.Kind], rows) {
				p.rows = old.rows
			} else if q.Kind == Types {
				r.renamed = r.renamed || lacks(old.rows[q.Kind], rows)
			}
		}
		r.rest[q.Kind], r.changed, ok = p, true, marked
	}
	if !ok {
		return false, false
	}
	if len(r.queue) == 0 && r.renamed && !r.again {
		r.again = true
		for _, p := range r.relations {
			r.reads(p)
		}
	}
	r.round = len(r.queue) > 0
	return !r.round, true
}

// restMarks takes the marks of everything that is no relation.
func (r *Reader) restMarks(rows []Row) bool {
	for _, row := range rows {
		if row.What == "mark" {
			r.fresh[Kind(row.Flags)] = row.OtherName
		}
	}
	for _, k := range []Kind{Types, Operators, BuiltIns, Rights} {
		mark, told := r.fresh[k]
		if !told {
			return false
		}
		if p := r.rest[k]; p == nil || p.mark != mark {
			r.queue = append(r.queue, Question{Kind: k})
		}
	}
	if len(r.functions) == 0 || r.fresh[Functions] != r.functions[0].mark {
		r.before = nil
		for _, p := range r.functions {
			r.before = append(r.before, p.rows[Functions]...)
		}
		r.functions = nil
		r.queue = append(r.queue, Question{Kind: Functions, Most: functionsIn})
	}
	if roles := r.fresh[Readers]; roles != r.roles {
		if r.roles != "" {
			for _, p := range r.relations {
				delete(p.rows, Readers)
				r.queue = append(r.queue, Question{Kind: Readers, From: p.from, To: p.to})
			}
		}
		r.roles = roles
	}
	return true
}

// marks takes the marks of parts that were read before.
func (r *Reader) marks(q Question, rows []Row) bool {
	for _, span := range q.Ranges {
		at := slices.IndexFunc(rows, func(row Row) bool {
			return row.What == "mark" && row.Flags == strconv.FormatUint(uint64(span[0]), 10)
		})
		if at < 0 {
			return false
		}
		p := r.part(span[0])
		if p == nil || p.to != span[1] || p.mark == rows[at].OtherName {
			continue
		}
		r.reads(p)
	}
	return true
}

// reads puts the questions about a part.
func (r *Reader) reads(p *part) {
	r.queue = append(
		r.queue,
		Question{Kind: Relations, From: p.from, To: p.to},
		Question{Kind: Links, From: p.from, To: p.to},
	)
}

// span takes where a part of relations ends, and its mark.
func (r *Reader) span(q Question, rows []Row) bool {
	at, to, ok := spanIn(rows, q)
	if !ok {
		return false
	}
	p := r.part(q.From)
	if p == nil {
		p = &part{from: q.From, rows: map[Kind][]Row{}}
		r.relations = append(r.relations, p)
	}
	if !p.read || p.mark != rows[at].OtherName || p.to != to {
		p.mark, p.to = "", to
		r.reads(p)
	}
	if to != last {
		r.queue = append(r.queue, Question{Kind: Spans, From: to + 1, To: last, Most: r.size})
	}
	return true
}

// spanIn finds the row that says how many of a question's range were told of, and gives the last number of these, or
// that of all where there are no more.
func spanIn(rows []Row, q Question) (at int, to uint32, ok bool) {
	at = slices.IndexFunc(rows, func(row Row) bool { return row.What == "span" })
	if at < 0 {
		return at, 0, false
	}
	n, err := strconv.Atoi(rows[at].Name)
	if err != nil || n < q.Most {
		return at, last, err == nil
	}
	end, err := strconv.ParseUint(rows[at].Flags, 10, 32)
	return at, uint32(end), err == nil && end < last && uint32(end) >= q.From
}

func (r *Reader) part(from uint32) *part {
	for _, p := range r.relations {
		if p.from == from {
			return p
		}
	}
	return nil
}

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
	at, to, ok := spanIn(rows, q)
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

// Changed implements catalog.Reader.
func (r *Reader) Changed() bool { return r.changed }

// Accept implements catalog.Reader.
func (r *Reader) Accept() { r.changed = false }

// Description implements catalog.Reader.
func (r *Reader) Description() catalog.Description { return described(r.Rows()) }

// Rows gives the description as its rows.
func (r *Reader) Rows() (out []Row) {
	readers := map[string]bool{}
	type full struct{ schema, name string }
	there := map[full]bool{}
	for _, p := range r.relations {
		for _, row := range p.rows[Relations] {
			if row.What == "relation" {
				there[full{row.Schema, row.Name}] = true
			}
		}
	}
	for _, p := range r.relations {
		for _, kind := range []Kind{Relations, Links, Texts} {
			for _, row := range p.rows[kind] {
				if kind != Relations && !there[full{row.Schema, row.Name}] {
					continue // it was there for a moment
				}
				switch row.What {
				case "relation", "view", "rule", "policy":
					row.OtherSchema = "" // which told its number or version
				}
				if row.What == "relation" {
					row.Flags = strings.ReplaceAll(row.Flags, rulesLetter, "")
				}
				out = append(out, row)
			}
		}
		for _, row := range p.rows[Readers] {
			if !readers[row.Name] {
				readers[row.Name] = true
				out = append(out, row)
			}
		}
	}
	for _, p := range r.functions {
		out = append(out, p.rows[Functions]...)
	}
	for _, kind := range slices.Sorted(maps.Keys(r.rest)) {
		out = append(out, r.rest[kind].rows[kind]...)
	}
	return out
}
