package mysql

import (
	"slices"
	"strconv"

	"jollylarder/internal/core/freshness"
)

// owed is what was answered from memory last, which the server does not know of: what it says of the statement before, such
// as how many rows that found, would be of another.
type owed struct {
	some     bool
	rows     int  // that it found
	count    bool // nothing has gone to the server since that changes the number of changed rows
	warnings bool // nor anything that takes warnings away, or has some
}

// owes notes that so many rows were answered from memory.
func (s *session) owes(rows int) { s.owed = owed{some: true, rows: rows, count: true, warnings: true} }

// repays has the server find as many rows as were answered from memory last, before a statement that asks of that. It is
// not asked the same again: that could begin a transaction, or settle what one sees.
func (s *session) repays(w *way, t *told) {
	o := &s.owed
	if !o.some || freshness.Off(freshness.RepaysLast) {
		return
	}
	asks := t.ticket.AsksOfLast()
	rows, changed := asks && t.ticket.Calls("found_rows"), asks && t.ticket.Calls("row_count")
	asks = rows || changed && o.count || asks && !rows && !changed && (o.count || o.warnings)
	switch {
	case asks && !s.part && !slices.ContainsFunc(s.queue, func(x command) bool { return x.repays }): // which most probably do not fail
		w.upTo()
		w.passes(packet(0, append([]byte{comQuery}, finding(o.rows)...)))
		s.enqueue(command{kind: comQuery, own: ownRepayment})
		*o = owed{}
	default:
		o.count, o.warnings = false, o.warnings && !t.ticket.UsesTables()
		t.repays = t.ticket.FindsRows() // if it does not fail
	}
}

// finding gives a statement that finds so many rows, has no warnings, and reads no table.
func finding(rows int) string {
	const ten = "(select 1 union all select 1 union all select 1 union all select 1 union all select 1 union all " +
		"select 1 union all select 1 union all select 1 union all select 1 union all select 1)"
	text := "/* jolly larder */ select 1 from " + ten + " a"
	if rows == 0 {
		return text + " where 0"
	}
	for n, name := 10, 'b'; n < rows; n, name = 10*n, name+1 {
		text += ", " + ten + " " + string(name)
	}
	return text + " limit " + strconv.Itoa(rows)
}
