package postgres

import (
	"hash/maphash"
	"slices"

	"github.com/jackc/pglogrepl"

	"jollylarder/internal/core/engine"
)

// remembered are the rows that the stream has told of last, by their table and identity: so that it is known of the
// next change of a row what its columns were before, though the server tells that of its identity only. The stream
// leaves nothing out; where that is not certain, all of it is forgotten.
type remembered struct {
	rows  map[string][]string // the columns' values as column gives them
	bytes int
}

// mostRemembered bounds what is remembered, in bytes; beyond it is begun anew.
const mostRemembered = 32 << 20

// longestColumn is the longest value that is remembered itself, and not by its hash.
const longestColumn = 64

var rowSeed = maphash.MakeSeed()

// column gives a value as it is remembered: told apart by its first byte, the value itself, its hash, null, or that it
// is not known.
func column(c *pglogrepl.TupleDataColumn) string {
	switch {
	case c.DataType == pglogrepl.TupleDataTypeNull:
		return "0"
	case c.DataType != pglogrepl.TupleDataTypeText:
		return "?"
	case len(c.Data) > longestColumn:
		h := maphash.Bytes(rowSeed, c.Data)
		return "#" + string(
			[]byte{
				byte(h),
				byte(h >> 8),
				byte(h >> 16),
				byte(h >> 24),
				byte(h >> 32),
				byte(h >> 40),
				byte(h >> 48),
				byte(h >> 56),
			},
		)
	}
	return "=" + string(c.Data)
}

// identity gives the key of a row, by the columns that identify it; false where these are not all told.
func (r *relation) identity(t *pglogrepl.TupleData) (key string, ok bool) {
	key = r.Namespace + "." + r.RelationName
	for i, c := range t.Columns {
		if i < len(r.Columns) && r.Columns[i].Flags&1 != 0 {
			v := column(c)
			if v[0] != '=' {
				return "", false
			}
			key += "\x00" + v
			ok = true
		}
	}
	return key, ok
}

// updated takes an update of a row whose identity has not changed. It completes what is known of the values before, and
// of which columns it changed.
func (m *remembered) updated(r *relation, now *pglogrepl.TupleData, c *engine.RowChange) {
	key, ok := r.identity(now)
	if !ok || r.ReplicaIdentity == 'f' {
		return
	}
	row := make([]string, len(now.Columns))
	for i, x := range now.Columns {
		row[i] = column(x)
	}
	if was := m.rows[key]; len(was) == len(row) {
		known := true
		for i := range row {
			switch {
			case row[i] == "?": // it is long, and has not changed
				row[i] = was[i]
			case was[i] == "?":
				known = false
			case row[i] != was[i]:
				c.Sets = append(c.Sets, r.Columns[i].Name)
			}
			if name := r.Columns[i].Name; was[i][0] == '=' &&
				!slices.ContainsFunc(c.Old, func(v engine.ColumnValue) bool { return v.Column == name }) {
				c.Old = append(c.Old, engine.ColumnValue{Column: name, Value: []byte(was[i][1:])})
			}
		}
		if !known {
			c.Sets = nil
		}
	}
	m.put(key, row)
}

// put remembers a row as it is now.
func (m *remembered) put(key string, row []string) {
	if m.rows == nil || m.bytes > mostRemembered {
		m.rows, m.bytes = map[string][]string{}, 0
	}
	if _, had := m.rows[key]; !had {
		m.bytes += len(key) + 64
		for _, v := range row {
			m.bytes += len(v) + 16
		}
	}
	m.rows[key] = row
}

// took takes any other change.
func (m *remembered) took(r *relation, old, now *pglogrepl.TupleData) {
	if old != nil {
		if key, ok := r.identity(old); ok {
			delete(m.rows, key)
		}
	}
	if now == nil {
		return
	}
	if key, ok := r.identity(now); ok {
		row := make([]string, len(now.Columns))
		for i, x := range now.Columns {
			row[i] = column(x)
		}
		m.put(key, row)
	}
}

// forget forgets everything.
func (m *remembered) forget() { m.rows, m.bytes = nil, 0 }
