package freshcheck

import (
	"fmt"
	"slices"
	"strings"
)

// mariaQueries makes random queries of MariaDB's. Each gives the same set of rows whenever its tables hold the same: rows are
// limited and numbered only in an order by a key, and texts are put together in one.
type mariaQueries struct {
	*queries
	ctes []relation
}

// often gives a text once in n times.
func (q *mariaQueries) often(n int, text ...string) string {
	if q.chance(n) {
		return pick(q.queries, text)
	}
	return ""
}

// literal gives a constant of a kind, now and then as only servers would take it for the same.
func (q *mariaQueries) literal(kind byte) string {
	plain := q.queries.literal(kind)
	if !q.chance(5) {
		return plain
	}
	switch kind {
	case 'n':
		return pick(q.queries, []string{"'" + plain + "'", plain + ".0", "0x0" + plain, "b'10" + fmt.Sprint(q.r.IntN(2)) + "'", "'0" + plain + "'", "+" + plain, "true", plain + "e0", "\"" + plain + "\"", "cast('" + plain + "' as signed)"})
	case 't':
		text := strings.Trim(plain, "'")
		return pick(q.queries, []string{"'" + text + "  '", "'" + strings.ToUpper(text) + "'", "\"" + text + "\"", "N'" + text + "'", "_utf8mb4'" + text + "'", "_latin1'" + text + "'", "concat('" + text + "')", fmt.Sprintf("0x%x", text), "'" + text + "' collate utf8mb4_bin", "binary '" + text + "'", "'" + text + "' '1'"})
	case 'd':
		return pick(q.queries, []string{"date " + plain, strings.ReplaceAll(plain, "-", ""), strings.ReplaceAll(plain, "-", "/")})
	}
	return "timestamp " + plain
}

// from makes an item of a FROM.
func (q *mariaQueries) from(depth int) (sql string, it item) {
	it.alias = q.alias()
	switch p := q.r.IntN(12); {
	case p < 8 || depth <= 0:
		rel := pick(q.queries, slices.Concat(q.relations, q.ctes))
		it.columns = slices.Clone(rel.columns)
		if rel.keyed {
			it.key = rel.columns[0].name
		}
		text := rel.name + q.often(3, " as") + " " + it.alias
		if rel.keyed { // it is a table
			text += q.often(15, " force index (primary)", " use index ()", " ignore index for join (primary)")
		}
		return text, it
	case p < 9 && q.chance(8): // which no catalog names
		it.columns, it.key = []column{{"seq", 'n'}}, "seq"
		return fmt.Sprintf("seq_1_to_%d %s", 1+q.r.IntN(4), it.alias), it
	case p < 10:
		it.columns, it.key = []column{{"id", 'n'}, {"s", 't'}}, "id"
		return fmt.Sprintf("(select %s as id, %s as s union all select 9, 'zz') %s", q.queries.literal('n'), q.literal('t'), it.alias), it
	}
	inner, columns := q.query(depth-1, nil)
	it.columns = columns
	return "(" + inner + ") " + it.alias, it
}

// name gives a column as it is named in a query: always with its item's name in what may be ambiguous without.
func (q *mariaQueries) name(it item, c column) string {
	switch q.r.IntN(6) {
	case 0:
		return it.alias + ".`" + c.name + "`"
	case 1:
		return it.alias + " . " + c.name
	}
	return it.alias + "." + c.name
}

// column picks one of a kind among some items, or any kind if that is 0.
func (q *mariaQueries) column(items []item, kind byte) (sql string, c column, ok bool) {
	for range 6 {
		it := pick(q.queries, items)
		c := pick(q.queries, it.columns)
		if kind == 0 || c.kind == kind {
			return q.name(it, c), c, true
		}
	}
	return "", column{}, false
}

// condition makes one. It has many branches, as it has a case of its own for each kind of condition.
func (q *mariaQueries) condition(items []item, depth int) string {
	sql, c, ok := q.column(items, 0)
	if !ok {
		return "true"
	}
	lit := func() string { return q.literal(c.kind) }
	switch q.r.IntN(22) {
	case 0, 1, 2, 3, 4, 5:
		return sql + pick(q.queries, []string{" = ", "=", " = ", " <=> "}) + lit()
	case 6:
		return lit() + " = " + sql
	case 7:
		return sql + " in (" + lit() + ", " + lit() + ")"
	case 8:
		return "(" + sql + ", 1) in ((" + lit() + ", 1), (" + lit() + ", 2))"
	case 9:
		if other, d, ok := q.column(items, c.kind); ok && d.kind == c.kind {
			return sql + " = " + other + " and " + other + " = " + lit()
		}
		return sql + " is not null"
	case 10:
		return "(" + sql + " = " + lit() + pick(q.queries, []string{" or ", " || ", " xor "}) + sql + " is null)"
	case 11:
		if depth > 0 {
			inner, _ := q.query(depth-1, items)
			return q.often(3, "not ") + "exists (" + inner + ")"
		}
		return sql + " <> " + lit()
	case 12:
		return "not " + sql + " = " + lit()
	case 13:
		return sql + " between " + lit() + " and " + lit()
	case 14:
		if c.kind == 'n' && depth > 0 {
			return sql + pick(q.queries, []string{" in (", " = any (", " <= all (", " not in ("}) + "select " + q.numbers(depth-1, items) + ")"
		}
		return sql + " <= " + lit()
	case 15:
		if c.kind == 'n' && depth > 0 {
			return sql + " = (select max(m.u) from (select " + q.numbersAs(depth-1, "u") + ") m)"
		}
		return "coalesce(" + sql + ", " + lit() + ") = " + lit()
	case 16:
		if c.kind == 't' {
			return sql + " collate utf8mb4_bin = " + q.queries.literal('t')
		}
		return sql + " div 2 = 1"
	case 17:
		return "case when " + sql + " = " + lit() + " then 1 else 0 end"
	case 18:
		if c.kind == 't' {
			return sql + pick(q.queries, []string{" regexp '^[as]'", " like 'A'", " like 's%'", " not like '%1%'", " = lower(" + sql + ")"})
		}
		return sql + " > " + lit()
	case 19:
		return "(" + sql + " = " + lit() + " and " + q.condition(items, 0) + ")"
	case 20:
		return "if(" + sql + " = " + lit() + ", 1, 0)"
	}
	return sql + " >= " + lit()
}

// numbers makes the inside of a query of one column of numbers, after its SELECT.
func (q *mariaQueries) numbers(depth int, outer []item) string {
	src, it := q.from(0)
	c, _, ok := q.column([]item{it}, 'n')
	if !ok {
		c = "1"
	}
	return c + " from " + src + " where " + q.condition(append([]item{it}, outer...), depth)
}

// numbersAs is numbers with a name for the column, of nothing around it.
func (q *mariaQueries) numbersAs(depth int, name string) string {
	list, tail, _ := strings.Cut(q.numbers(depth, nil), " from ")
	return list + " as " + name + " from " + tail
}

// value makes an item of a list of results, without a name.
func (q *mariaQueries) value(items []item, depth int) (string, byte) {
	sql, c, ok := q.column(items, 0)
	if !ok {
		return "1", 'n'
	}
	switch q.r.IntN(16) {
	case 0:
		if n, _, ok := q.column(items, 'n'); ok && len(q.functions) > 0 {
			return pick(q.queries, q.functions) + "(" + n + ")", 'n'
		}
	case 1:
		if depth > 0 {
			return "(select max(m.u) from (select " + q.numbersAs(depth-1, "u") + ") m)", 'n'
		}
	case 2:
		return "coalesce(" + sql + ", " + q.literal(c.kind) + ")", c.kind
	case 3:
		return "case when " + q.condition(items, 0) + " then " + q.queries.literal('t') + " else 'no' end", 't'
	case 4:
		switch c.kind {
		case 'z', 'd':
			return "cast(" + sql + " as char)", 't'
		case 'n':
			return sql + " + 1", 'n'
		}
		return "upper(" + sql + ")", 't'
	case 5:
		return "if(" + q.condition(items, 0) + ", " + sql + ", null)", c.kind
	case 6:
		return "concat(" + sql + ", '-')", 't'
	case 7:
		return "(" + q.condition(items, 0) + ")", 'n'
	case 8:
		if depth > 0 {
			return "exists (select " + q.numbers(depth-1, items) + ")", 'n'
		}
	case 9:
		if depth > 0 {
			inner, _ := q.query(0, nil)
			return "(select count(*) from (" + inner + ") m)", 'n'
		}
	case 10:
		return "json_object('v', concat(" + sql + "))", 't'
	case 11:
		if c.kind == 'd' || c.kind == 'z' {
			return pick(q.queries, []string{"dayname(" + sql + ")", "date_format(" + sql + ", '%M %d')", "monthname(" + sql + ")"}), 't'
		}
	}
	return sql, c.kind
}

// query makes a random query, which may name the columns of the items around it.
// It is long, as it has a case of its own for each kind there is.
func (q *mariaQueries) query(depth int, outer []item) (string, []column) {
	before := len(q.ctes)
	defer func() { q.ctes = q.ctes[:before] }()
	with := ""
	if depth > 0 && q.chance(5) {
		name := pick(q.queries, []string{"c", "ports", "s", q.relations[0].name}) // which hides the table of the name, from here on
		if q.chance(3) {
			with = "with recursive " + name + " (id, k) as (select 1, 1 union all select id + 1, k from " + name + " where id < 3) "
			q.ctes = append(q.ctes, relation{name: name, columns: []column{{"id", 'n'}, {"k", 'n'}}})
		} else {
			inner, columns := q.query(depth-1, nil)
			with = "with " + name + " as (" + inner + ") "
			q.ctes = append(q.ctes, relation{name: name, columns: columns})
		}
	}
	src, it := q.from(depth)
	items := []item{it}
	for range q.r.IntN(3) {
		next, jt := q.from(depth - 1)
		last := items[len(items)-1]
		items = append(items, jt)
		switch kind := pick(q.queries, []string{"join", "join", "inner join", "left join", "right join", "cross", ",", "natural join", "natural left join", "straight_join"}); kind {
		case ",":
			src += ", " + next
			if q.chance(2) {
				src = "(" + src + ")"
			}
		case "cross":
			src += " cross join " + next
		case "natural join", "natural left join":
			src += " " + kind + " " + next
		default:
			if kind != "straight_join" && q.chance(4) && last.columns[0].name == jt.columns[0].name && len(items) == 2 {
				src += " " + kind + " " + next + " using (" + jt.columns[0].name + ")"
				continue
			}
			a, c, _ := q.column(items[:len(items)-1], 0)
			b, d, ok := q.column([]item{jt}, c.kind)
			if !ok || d.kind != c.kind {
				src += " cross join " + next
				continue
			}
			src += " " + kind + " " + next + " on " + a + " = " + b
			if q.chance(3) {
				src += " and " + q.condition(items, 0)
			}
		}
	}
	around := append(slices.Clone(items), outer...)
	tail := " from " + src
	var where []string
	for range q.r.IntN(3) {
		where = append(where, q.condition(around, depth))
	}
	if len(where) > 0 {
		tail += " where " + strings.Join(where, pick(q.queries, []string{" and ", " and ", " && "}))
	}
	var out []column
	add := func(expression string, kind byte) string {
		name := pick(q.queries, []string{"id", "k", "s", "n", "v"})
		for slices.ContainsFunc(out, func(c column) bool { return c.name == name }) {
			name += "x"
		}
		out = append(out, column{name, kind})
		return expression + pick(q.queries, []string{" as ", " ", " AS "}) + name
	}
	sql := with + "select " + q.often(12, "sql_no_cache ", "high_priority ", "sql_calc_found_rows ", "/* c */ ", "straight_join ", "sql_buffer_result ")
	if len(outer) > 0 || depth == 0 {
		sql = with + "select "
	}
	single := it.key != "" && len(items) == 1
	var targets []string
	switch p := q.r.IntN(15); {
	case p < 2: // everything in groups
		group, c, _ := q.column(items, 0)
		targets = append(targets, add("max("+group+")", c.kind), add("count(*)", 'n'))
		if n, _, ok := q.column(items, 'n'); ok {
			targets = append(targets, add(pick(q.queries, []string{"max", "min", "sum", "bit_or"})+"("+n+")", 'n'))
		}
		tail += " group by " + group + q.often(5, " with rollup") + q.often(4, " having count(*) > 1", " having max("+group+") is not null")
	case p < 4: // or as one
		targets = append(targets, add("count(*)", 'n'))
		if s, _, ok := q.column(items, 0); ok {
			targets = append(targets, add(pick(q.queries, []string{"max(" + s + ")", "group_concat(distinct " + s + " order by 1)", "count(distinct " + s + ")", "json_arrayagg(" + s + " order by " + s + ")"}), 't'))
		}
	case p < 5 && single: // numbered
		s, c, _ := q.column(items, 0)
		targets = append(targets, add("row_number() over (partition by "+s+" order by "+it.alias+"."+it.key+" desc)", 'n'), add(s, c.kind))
	case p < 6 && single:
		targets = append(targets, add("lag("+it.alias+"."+it.key+") over (order by "+it.alias+"."+it.key+")", 'n'), add(it.alias+"."+it.key, it.columns[0].kind))
	case p < 7 && len(items) == 1 && len(outer) == 0 && len(it.columns) > 0: // whatever there is
		targets = append(targets, pick(q.queries, []string{"*", it.alias + ".*"}))
		out = it.columns
	case p < 9 && single:
		e, kind := q.value(around, depth)
		targets = append(targets, add(e, kind))
		e, kind = q.value(around, depth)
		targets = append(targets, add(e, kind))
		tail += " order by " + it.alias + "." + it.key + pick(q.queries, []string{" limit 1", " limit 3", " desc limit 1, 2", " limit 2 offset 1", " offset 1 rows fetch next 2 rows only", " fetch first 2 rows with ties"})
	case p < 10 && len(outer) == 0:
		e, kind := q.value(around, depth)
		targets = append(targets, "distinct "+add(e, kind))
	default:
		for range 1 + q.r.IntN(3) {
			e, kind := q.value(around, depth)
			targets = append(targets, add(e, kind))
		}
	}
	sql += strings.Join(targets, ", ") + tail
	if depth > 0 && len(out) == len(targets) && q.chance(10) && !strings.Contains(tail, " order by ") && with == "" {
		list := make([]string, len(out))
		for i, c := range out {
			list[i] = q.literal(c.kind)
		}
		other := "select " + strings.Join(list, ", ")
		if q.chance(2) {
			other += " from " + pick(q.queries, q.relations).name
		}
		sql += pick(q.queries, []string{" union all ", " union ", " except ", " intersect ", " union distinct "}) + other
	}
	return sql, out
}
