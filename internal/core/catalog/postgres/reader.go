package postgres

import (
	"maps"
	"math"
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

// last is the last number that there can be, and firstOfUsers the first of what is not a server's own from its beginning.
// Source: PostgreSQL's transam.h, FirstNormalObjectId.
const (
	last         = 1<<32 - 1
	firstOfUsers = 16384
)

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
	r.asksForSpan(from)
}

// asksForSpan asks where the next part of relations ends. The server's own are a part of their own, of which next to nothing
// is told: a range with many that are left out would have a server look for the others in costly ways.
func (r *Reader) asksForSpan(from uint32) {
	to := uint32(last)
	if from < firstOfUsers {
		to = firstOfUsers - 1
	}
	r.queue = append(r.queue, Question{Kind: Spans, From: from, To: to, Most: r.size})
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
		if len(p.rows[Relations]) == 0 { // there is mostly still nothing, which is less to ask for
			r.queue = append(r.queue, Question{Kind: Spans, From: p.from, To: p.to, Most: math.MaxInt32})
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
	at, to, ok := spanIn(rows, q, q.To)
	if !ok {
		return false
	}
	p := r.part(q.From)
	if p == nil {
		p = &part{from: q.From, rows: map[Kind][]Row{}}
		r.relations = append(r.relations, p)
	}
	switch {
	case p.read && p.mark == rows[at].OtherName && p.to == to:
	case rows[at].Name == "0": // there is nothing to ask: this answer has the mark that goes with it
		r.changed = true
		p.mark, p.to, p.read = rows[at].OtherName, to, true
		for _, kind := range []Kind{Relations, Links, Texts} { // others may have the same readers
			delete(p.rows, kind)
		}
	default:
		p.mark, p.to = "", to
		r.reads(p)
	}
	if to != last && r.part(to+1) == nil {
		r.asksForSpan(to + 1)
	}
	return true
}

// spanIn finds the row that says how many of a question's range were told of, and gives the last number of these, or
// that of the whole range where there are no more.
func spanIn(rows []Row, q Question, whole uint32) (at int, to uint32, ok bool) {
	at = slices.IndexFunc(rows, func(row Row) bool { return row.What == "span" })
	if at < 0 {
		return at, 0, false
	}
	n, err := strconv.Atoi(rows[at].Name)
	if err != nil || n < q.Most {
		return at, whole, err == nil
	}
	end, err := strconv.ParseUint(rows[at].Flags, 10, 32)
	return at, uint32(end), err == nil && end < last && uint32(end) >= q.From && uint32(end) <= whole
}

func (r *Reader) part(from uint32) *part {
	for _, p := range r.relations {
		if p.from == from {
			return p
		}
	}
	return nil
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
