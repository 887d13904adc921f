package freshcheck

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// column is one of a relation or a query, by its name and the kind of its values: n for a number, t for a text, d for a
// date, z for a time with time zone.
type column struct {
	name string
	kind byte
}

// relation is what can stand in a FROM, with its columns in their order.
type relation struct {
	name    string
	columns []column
	row     string // the name of its row type, if it is a table
	keyed   bool   // no two rows have the same in its first column
}

// item is a relation under a name in a query.
type item struct {
	alias   string
	columns []column
	row     string
	key     string // a column by which its rows can be put in an order; empty if there is none
}

// queries makes random queries. Each gives the same set of rows whenever its tables hold the same: rows are limited and
// numbered only in an order by a key, and texts are put together in one.
type queries struct {
	r         *rand.Rand
	relations []relation
	functions []string // that read, from a number to a number
	rowOf     []string // functions of a table's row, as "function table"
	names     int
}

func (q *queries) chance(n int) bool { return q.r.IntN(n) == 0 }

func pick[T any](q *queries, list []T) T { return list[q.r.IntN(len(list))] }

func (q *queries) alias() string {
	q.names++
	return pick(q, []string{"x", "y", "z", "s", "q", "w", "o"}) + fmt.Sprint(q.names)
}

// literal gives a constant of a kind.
func (q *queries) literal(kind byte) string {
	switch kind {
	case 'n':
		return fmt.Sprint(q.r.IntN(8))
	case 'd':
		return fmt.Sprintf("'2026-01-0%d'", 1+q.r.IntN(5))
	case 'z':
		return fmt.Sprintf("'2026-01-0%d 00:00'", 1+q.r.IntN(5))
	}
	return "'" + pick(q, []string{"a", "b", "c", "A", "s1"}) + "'"
}

// from makes an item of a FROM. Beside are the items to its left, which it may name if it is lateral.
func (q *queries) from(depth int, beside []item, ctes []relation) (sql string, it item) {
	it.alias = q.alias()
	rename := func(columns []column) string {
		if !q.chance(4) {
			return ""
		}
		n := 1 + q.r.IntN(len(columns))
		var names []string
		for i := range n {
			if i == 0 && it.key != "" {
				it.key = "id"
			}
			columns[i].name = pick(q, []string{"id", "k", "s", "n", "u", "v"}) // which may be those of other columns
			if i > 0 || it.key == "" {
				columns[i].name += fmt.Sprint(i)
			} else {
				columns[i].name = "id"
			}
			names = append(names, columns[i].name)
		}
		return " (" + strings.Join(names, ", ") + ")"
	}
	switch p := q.r.IntN(12); {
	case p < 7 || depth <= 0:
		all := slices.Concat(q.relations, ctes)
		rel := pick(q, all)
		it.columns, it.row = slices.Clone(rel.columns), rel.row
		if rel.keyed {
			it.key = rel.columns[0].name
		}
		if q.chance(5) && rel.name != "" && !strings.Contains(rel.name, ".") && !slices.ContainsFunc(beside, func(b item) bool { return b.alias == rel.name }) {
			it.alias = rel.name
			return rel.name, it
		}
		renamed := rename(it.columns)
		if renamed != "" {
			it.row = "" // its fields have these names only beside it
		}
		return rel.name + " " + it.alias + renamed, it
	case p < 8:
		it.columns, it.key = []column{{"id", 'n'}}, "id"
		return fmt.Sprintf("generate_series(1, %d) %s (id)", 1+q.r.IntN(4), it.alias), it
	case p < 9:
		it.columns, it.key = []column{{"id", 'n'}, {"s", 't'}}, "id"
		return fmt.Sprintf("(values (%s, %s), (9, 'zz')) %s (id, s)", q.literal('n'), q.literal('t'), it.alias), it
	}
	lateral := ""
	var outer []item
	if len(beside) > 0 && q.chance(2) {
		lateral, outer = "lateral ", beside
	}
	inner, columns := q.query(depth-1, outer, ctes)
	it.columns = columns
	return lateral + "(" + inner + ") " + it.alias + rename(it.columns), it
}

// name gives a column as it is named in a query: mostly with its item's name, and without where that may be enough.
func (q *queries) name(it item, c column) string {
	if q.chance(3) {
		return c.name
	}
	return it.alias + "." + c.name
}

// column picks one of a kind among some items, or any kind if that is 0.
func (q *queries) column(items []item, kind byte) (sql string, c column, ok bool) {
	for range 6 {
		it := pick(q, items)
		c := pick(q, it.columns)
		if kind == 0 || c.kind == kind {
			return q.name(it, c), c, true
		}
	}
	return "", column{}, false
}

// condition makes one.
func (q *queries) condition(items []item, depth int, ctes []relation) string {
	sql, c, _ := q.column(items, 0)
	if sql == "" {
		return "true"
	}
	lit := func() string { return q.literal(c.kind) }
	switch q.r.IntN(16) {
	case 0, 1, 2, 3, 4:
		return sql + " = " + lit()
	case 5:
		return lit() + " = " + sql
	case 6:
		return sql + " in (" + lit() + ", " + lit() + ")"
	case 7:
		return sql + " = any (array[" + lit() + ", " + lit() + "])"
	case 8:
		if other, d, ok := q.column(items, c.kind); ok && d.kind == c.kind {
			return sql + " = " + other + " and " + other + " = " + lit()
		}
		return sql + " is not null"
	case 9:
		return "(" + sql + " = " + lit() + " or " + sql + " is null)"
	case 10:
		return "(" + sql + ", 1) = (" + lit() + ", 1)"
	case 11:
		if depth > 0 {
			inner, columns := q.query(depth-1, items, ctes)
			return "exists (select from (" + inner + ") e where e." + columns[0].name + " is not null)"
		}
		return sql + " <> " + lit()
	case 12:
		it := pick(q, items)
		if it.row != "" {
			return it.alias + "::text like '%1%'"
		}
		return "not " + sql + " = " + lit()
	case 13:
		return sql + " between " + lit() + " and " + lit()
	case 14:
		if c.kind == 'n' && depth > 0 {
			return sql + " in (select " + q.numbers(depth-1, items, ctes) + ")"
		}
		return sql + " <= " + lit()
	}
	if c.kind == 't' {
		return sql + " like '%" + pick(q, []string{"a", "b", "s"}) + "%'"
	}
	return sql + " >= " + lit()
}

// numbers makes the inside of a query of one column of numbers, after its SELECT.
func (q *queries) numbers(depth int, outer []item, ctes []relation) string {
	src, it := q.from(0, nil, ctes)
	c, _, ok := q.column([]item{it}, 'n')
	if !ok {
		c = "1"
	}
	return c + " from " + src + " where " + q.condition(append([]item{it}, outer...), 0, ctes)
}

// value makes an item of a list of results, without a name.
// It has many branches, as it has a case of its own for each kind of value.
func (q *queries) value(items []item, depth int, ctes []relation) (string, byte) {
	sql, c, _ := q.column(items, 0)
	if sql == "" {
		return "1", 'n'
	}
	it := pick(q, items)
	switch q.r.IntN(15) {
	case 0:
		if it.row != "" {
			return pick(q, []string{"row_to_json(%s)::text", "to_jsonb(%s)::text", "%s::text", "(%s.row_to_json)::text", "(%s).to_jsonb::text", "md5(%s::text)"}), 't' // filled in below
		}
	case 1:
		if it.row != "" && len(it.columns) > 1 {
			c := pick(q, it.columns)
			return "(" + it.alias + ")." + c.name, c.kind
		}
	case 2:
		if n, _, ok := q.column(items, 'n'); ok && len(q.functions) > 0 {
			return pick(q, q.functions) + "(" + n + "::int)", 'n'
		}
	case 3:
		for _, f := range q.rowOf {
			name, table, _ := strings.Cut(f, " ")
			if it.row == table && q.chance(2) {
				return pick(q, []string{name + "(" + it.alias + ")", it.alias + "." + name, "(" + it.alias + ")." + name}), 'n'
			}
		}
	case 4:
		if depth > 0 {
			return "(select max(m." + "u) from (select " + q.numbers(depth-1, items, ctes) + ") m (u))", 'n'
		}
	case 5:
		return "coalesce(" + sql + ", " + q.literal(c.kind) + ")", c.kind
	case 6:
		return "case when " + q.condition(items, 0, ctes) + " then " + q.literal('t') + " else 'no' end", 't'
	case 7:
		if c.kind == 'z' || c.kind == 'd' {
			return "(" + sql + ")::text", 't'
		}
		if c.kind == 'n' {
			return sql + " + 1", 'n'
		}
		return "upper(" + sql + ")", 't'
	case 8:
		if c.kind == 'z' {
			return "(" + sql + " at time zone 'Asia/Tokyo')::text", 't'
		}
	case 9:
		if it.row != "" && q.chance(3) {
			return pick(q, []string{it.alias + ".xmax::text", it.alias + ".ctid::text", it.alias + ".tableoid::regclass::text"}), 't'
		}
	}
	return sql, c.kind
}

// query makes a random query, which may name the columns of the items around it.
// It is long, as it has a case of its own for each kind there is.
func (q *queries) query(depth int, outer []item, ctes []relation) (string, []column) {
	with := ""
	if depth > 0 && q.chance(5) {
		name := pick(q, []string{"c", "ports", "s", q.relations[0].name})
		inner, columns := q.query(depth-1, nil, ctes)
		with = "with " + name + " as (" + inner + ") "
		ctes = append(slices.Clone(ctes), relation{name: name, columns: columns})
	}
	src, it := q.from(depth, nil, ctes)
	items := []item{it}
	if q.chance(2) {
		next, jt := q.from(depth-1, items, ctes)
		both := append(items, jt)
		kind := pick(q, []string{"join", "join", "left join", "right join", "full join", "cross", ",", "natural join"})
		lateral := strings.HasPrefix(next, "lateral")
		switch {
		case kind == "," || lateral && (kind == "right join" || kind == "full join"):
			src += ", " + next
		case kind == "cross":
			src += " cross join " + next
		case kind == "natural join":
			src += " natural join " + next
		case kind != "full join" && q.chance(5) && it.columns[0].name == jt.columns[0].name:
			src += " " + kind + " " + next + " using (" + it.columns[0].name + ")"
		default:
			a, c, _ := q.column(items, 0)
			b, d, ok := q.column([]item{jt}, c.kind)
			if ok && d.kind == c.kind && kind != "full join" {
				src += " " + kind + " " + next + " on " + a + " = " + b
				if q.chance(3) {
					src += " and " + q.condition(both, 0, ctes)
				}
			} else {
				src += " cross join " + next
			}
		}
		items = both
		if q.chance(8) { // a join that has a name
			var columns []column
			var names []string
			for _, i := range items {
				for _, c := range i.columns {
					columns = append(columns, column{"j" + fmt.Sprint(len(columns)), c.kind})
					names = append(names, columns[len(columns)-1].name)
				}
			}
			j := item{alias: q.alias(), columns: columns}
			src = "(" + src + ") as " + j.alias + " (" + strings.Join(names, ", ") + ")"
			items = []item{j}
		}
	}
	var where []string
	for range q.r.IntN(3) {
		where = append(where, q.condition(append(slices.Clone(items), outer...), depth, ctes))
	}
	sql := with + "select "
	tail := " from " + src
	if len(where) > 0 {
		tail += " where " + strings.Join(where, " and ")
	}
	var out []column
	add := func(expression string, kind byte) string {
		name := pick(q, []string{"id", "k", "s", "n", "v"})
		for slices.ContainsFunc(out, func(c column) bool { return c.name == name }) {
			name += "x"
		}
		out = append(out, column{name, kind})
		return expression + " as " + name
	}
	value := func() string {
		e, kind := q.value(append(slices.Clone(items), outer...), depth, ctes)
		if strings.Contains(e, "%s") {
			for _, i := range items {
				if i.row != "" {
					return add(strings.ReplaceAll(e, "%s", i.alias), kind)
				}
			}
			return add("1", 'n')
		}
		return add(e, kind)
	}
	var targets []string
	switch p := q.r.IntN(14); {
	case p < 2: // everything in groups
		group, c, _ := q.column(items, 0)
		targets = append(targets, add(group, c.kind), add("count(*)", 'n'))
		if n, _, ok := q.column(items, 'n'); ok {
			targets = append(targets, add(pick(q, []string{"max", "min", "sum"})+"("+n+")", 'n'))
		}
		tail += " group by " + group
		if q.chance(4) {
			tail += " having count(*) > 1"
		}
	case p < 4: // or as one
		targets = append(targets, add("count(*)", 'n'))
		if n, _, ok := q.column(items, 'n'); ok {
			targets = append(targets, add("max("+n+")", 'n'))
		}
		for _, i := range items {
			if i.row != "" && q.chance(2) {
				targets = append(targets, add(pick(q, []string{"json_agg(" + i.alias + " order by " + i.alias + "::text)::text", "string_agg(" + i.alias + "::text, ',' order by " + i.alias + "::text)", "count(" + i.alias + ")::text"}), 't'))
				break
			}
		}
	case p < 5 && it.key != "" && len(items) == 1: // the first of each
		s, c, _ := q.column(items, 0)
		targets = append(targets, add(it.alias+"."+it.key, it.columns[0].kind), add(s, c.kind))
		sql += "distinct on (" + s + ") "
		tail += " order by " + s + ", " + it.alias + "." + it.key + " desc"
	case p < 6 && it.key != "" && len(items) == 1: // numbered
		s, c, _ := q.column(items, 0)
		targets = append(targets, add("row_number() over (partition by "+s+" order by "+it.alias+"."+it.key+" desc)", 'n'), add(s, c.kind))
	case p < 7 && len(items) == 1 && len(outer) == 0 && it.row != "": // whatever there is
		targets = append(targets, pick(q, []string{"*", it.alias + ".*"}))
		out = it.columns
	case p < 8 && it.key != "" && len(items) == 1:
		targets = append(targets, value(), value())
		tail += " order by " + it.alias + "." + it.key + fmt.Sprintf(" limit %d", 1+q.r.IntN(3))
	default:
		for range 1 + q.r.IntN(3) {
			targets = append(targets, value())
		}
	}
	sql += strings.Join(targets, ", ") + tail
	if depth > 0 && len(out) == len(targets) && q.chance(12) && !strings.Contains(tail, " order by ") && with == "" {
		list := make([]string, len(out))
		for i, c := range out {
			list[i] = q.literal(c.kind)
			if c.kind == 'd' {
				list[i] = "date " + list[i]
			} else if c.kind == 'z' {
				list[i] = "timestamptz " + list[i]
			}
		}
		sql += pick(q, []string{" union all ", " union ", " except "}) + "select " + strings.Join(list, ", ")
	}
	return sql, out
}
