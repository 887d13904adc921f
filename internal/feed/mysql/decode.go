package mysql

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/replication"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/statement"
	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/feed"
)

// group is what one transaction has written, or one statement that is none's.
type group struct {
	rows  []engine.RowChange
	texts []text
	// unknown is set if it has done something that is not understood.
	unknown bool
}

// text is a statement that the log has as such.
type text struct {
	syntax       *statement.Syntax
	schema, text string
	own          bool // it uses temporary tables of its session's own
}

func (g *group) empty() bool { return len(g.rows)+len(g.texts) == 0 && !g.unknown }

// decoder makes groups of the events of a binary log. Source: "Binlog Event Header" and the pages on each event in
// MariaDB's knowledge base, and its log_event.h.
type decoder struct {
	server syntax.Server

	within bool // a group
	now    group
	wrote  feed.Rows
	alone  bool // the group is one statement, which nothing ends
	// of the statement whose events are coming: its tables, and those of which rows were told
	tables map[uint64]*replication.TableMapEvent
	told   map[uint64]bool

	// prepared are the groups of transactions that have been prepared and are neither committed nor rolled back, by what
	// the log calls them.
	prepared map[string]group
	naming   string // that of the group at hand, if it is one
	held     int    // how many rows they have
}

// ends is how a group has come to its end, if it has.
type ends uint8

const (
	goesOn ends = iota
	ended
	lost // the server says that its log leaves something out
)

// harmless are the events that change nothing, or say something about those that do.
var harmless = map[replication.EventType]bool{
	replication.STOP_EVENT: true, replication.ROTATE_EVENT: true, replication.INTVAR_EVENT: true, replication.RAND_EVENT: true,
	replication.USER_VAR_EVENT: true, replication.FORMAT_DESCRIPTION_EVENT: true, replication.HEARTBEAT_EVENT: true,
	replication.HEARTBEAT_LOG_EVENT_V2: true, replication.IGNORABLE_EVENT: true, replication.ROWS_QUERY_EVENT: true,
	replication.PREVIOUS_GTIDS_EVENT: true, replication.BEGIN_LOAD_QUERY_EVENT: true, replication.APPEND_BLOCK_EVENT: true,
	replication.MARIADB_ANNOTATE_ROWS_EVENT: true, replication.MARIADB_BINLOG_CHECKPOINT_EVENT: true,
	replication.MARIADB_GTID_LIST_EVENT: true, replication.MARIADB_START_ENCRYPTION_EVENT: true,
}

// take takes one event. It gives a group when that has ended.
func (d *decoder) take(e *replication.BinlogEvent) (g group, how ends) {
	switch x := e.Event.(type) {
	case *replication.MariadbGTIDEvent:
		d.begin(x.IsStandalone())
		d.within = true
	case *replication.TableMapEvent:
		if d.tables == nil {
			d.tables, d.told = map[uint64]*replication.TableMapEvent{}, map[uint64]bool{}
		}
		d.tables[x.TableID] = x
	case *replication.RowsEvent:
		d.rows(x)
	case *replication.QueryEvent:
		return d.query(x, e.Header.Flags&replication.LOG_EVENT_THREAD_SPECIFIC_F != 0)
	case *replication.XIDEvent:
		return d.end(), ended
	default:
		switch {
		case e.Header.EventType == replication.XA_PREPARE_LOG_EVENT:
			d.prepares()
			return group{}, ended
		case e.Header.EventType == replication.INCIDENT_EVENT:
			d.begin(false)
			return group{}, lost
		case !harmless[e.Header.EventType]:
			d.now.unknown = true
		}
	}
	return group{}, goesOn
}

func (d *decoder) begin(alone bool) {
	d.now, d.wrote, d.alone, d.naming, d.within = group{}, feed.Rows{}, alone, "", false
	d.tables, d.told = nil, nil
}

// end gives the group at hand.
func (d *decoder) end() group {
	d.closeStatement()
	g := d.now
	g.rows = d.wrote.All()
	d.begin(false)
	return g
}

// closeStatement tells of the tables that a statement has named to the log without telling of any row: a reference of
// theirs may have changed them.
func (d *decoder) closeStatement() {
	for id, t := range d.tables {
		if !d.told[id] {
			d.wrote.Add(engine.RowChange{Schema: string(t.Schema), Table: string(t.Table), Kind: feed.AnyWrite})
		}
	}
	d.tables, d.told = nil, nil
}

var kinds = map[replication.EnumRowsEventType]analysis.Events{
	replication.EnumRowsEventTypeInsert: analysis.Insert, replication.EnumRowsEventTypeUpdate: analysis.Update,
	replication.EnumRowsEventTypeDelete: analysis.Delete,
}

// rows takes the rows of one table.
func (d *decoder) rows(e *replication.RowsEvent) {
	if e.Table == nil {
		d.now.unknown = true
		return
	}
	kind, known := kinds[e.Type()]
	any := engine.RowChange{Schema: string(e.Table.Schema), Table: string(e.Table.Table), Kind: feed.AnyWrite}
	each := 1
	if kind == analysis.Update {
		each = 2
	}
	if known && len(e.Rows) > 0 && len(e.Rows)%each == 0 && len(e.Rows) == len(e.SkippedColumns) {
		columns := columnsOf(e.Table)
		for i := 0; i < len(e.Rows); i += each {
			d.wrote.Add(columns.change(any, kind, e.Rows[i:i+each], e.SkippedColumns[i:i+each]))
		}
	} else {
		d.wrote.Add(any)
	}
	if d.told != nil {
		d.told[e.TableID] = true
	}
	if e.Flags&replication.RowsEventStmtEndFlag != 0 {
		d.closeStatement()
	}
}

// columns are those of a table that has been told of.
type columns struct {
	names    []string       // none if the server does not tell them
	unsigned map[int]bool   // for each column of numbers
	middle   map[int]bool   // those of 24 bits
	texts    map[int]uint64 // the collations of columns of characters
}

func columnsOf(t *replication.TableMapEvent) columns {
	c := columns{names: t.ColumnNameString(), unsigned: t.UnsignedMap(), texts: t.CollationMap(), middle: map[int]bool{}}
	for i, x := range t.ColumnType {
		if x == mysql.MYSQL_TYPE_INT24 {
			c.middle[i] = true
		}
	}
	if len(c.names) != int(t.ColumnCount) {
		c.names = nil
	}
	return c
}

// change gives what has become of one row: rows are it before and after, or one of these, and skipped the columns of each
// that are not told.
func (c columns) change(r engine.RowChange, kind analysis.Events, rows [][]any, skipped [][]int) engine.RowChange {
	r.Kind = kind
	if c.names == nil {
		return r
	}
	whole := true
	for i, row := range rows {
		values := c.values(row, skipped[i])
		if i == 0 && kind != analysis.Insert {
			r.Old = values
		} else {
			r.New = values
		}
		whole = whole && len(skipped[i]) == 0
	}
	if kind == analysis.Update && whole {
		r.Told = c.names
		for i, name := range c.names {
			if !same(rows[0][i], rows[1][i]) {
				r.Sets = append(r.Sets, name)
			}
		}
	}
	return r
}

func same(a, b any) bool { return fmt.Sprintf("%T %v", a, a) == fmt.Sprintf("%T %v", b, b) }

// values gives those that are numbers without a fraction, or texts, and the nulls.
func (c columns) values(row []any, skipped []int) (out []engine.ColumnValue) {
	left := map[int]bool{}
	for _, i := range skipped {
		left[i] = true
	}
	for i, v := range row {
		if left[i] || i >= len(c.names) {
			continue
		}
		value := engine.ColumnValue{Column: c.names[i]}
		if v != nil {
			if value.Value = c.value(i, v); value.Value == nil {
				continue
			}
		}
		out = append(out, value)
	}
	return out
}

// value writes one that is not null; nil for those of other types.
func (c columns) value(i int, v any) []byte {
	unsigned, number := c.unsigned[i] // others, such as enumerations, come as numbers as well
	_, characters := c.texts[i]
	var n int64
	var bits int
	switch v := v.(type) {
	case int8:
		n, bits = int64(v), 8
	case int16:
		n, bits = int64(v), 16
	case int32:
		n, bits = int64(v), 32
	case int64:
		n, bits = v, 64
	case string:
		if characters {
			return []byte(v)
		}
	}
	switch {
	case bits == 0 || !number:
		return nil
	case unsigned && n < 0 && bits == 32 && c.middle[i]:
		return strconv.AppendUint(nil, uint64(n)&(1<<24-1), 10)
	case unsigned && n < 0:
		return strconv.AppendUint(nil, uint64(n)&(1<<(bits-1)<<1-1), 10)
	}
	return strconv.AppendInt(nil, n, 10)
}

// query takes a statement that the log has as text; own is set if it uses temporary tables.
func (d *decoder) query(e *replication.QueryEvent, own bool) (group, ends) {
	sql := strings.TrimSpace(string(e.Query))
	upper := strings.ToUpper(sql[:min(len(sql), 16)])
	_, name, _ := strings.Cut(sql, " ")
	_, name, _ = strings.Cut(name, " ") // what follows XA and the verb
	switch {
	case upper == "BEGIN", strings.HasPrefix(upper, "SAVEPOINT "), strings.HasPrefix(upper, "ROLLBACK TO "):
		return group{}, goesOn
	case upper == "COMMIT", upper == "ROLLBACK": // of what an engine writes that does not roll back
		return d.end(), ended
	case strings.HasPrefix(upper, "XA START "), strings.HasPrefix(upper, "XA END "):
		d.naming = name
		return group{}, goesOn
	case strings.HasPrefix(upper, "XA PREPARE "): // of a log that has no event for it
		d.prepares()
		return group{}, ended
	case strings.HasPrefix(upper, "XA COMMIT "), strings.HasPrefix(upper, "XA ROLLBACK "):
		g, known := d.prepared[name]
		delete(d.prepared, name)
		d.held -= len(g.rows)
		d.begin(false)
		if strings.HasPrefix(upper, "XA ROLLBACK ") {
			return group{}, ended
		}
		g.unknown = g.unknown || !known
		return g, ended
	}
	alone := d.alone
	t, ok := d.read(e)
	if t.own = own; ok {
		d.now.texts = append(d.now.texts, t)
	} else {
		d.now.unknown = true
	}
	if alone {
		return d.end(), ended
	}
	return group{}, goesOn
}

// prepares keeps the group at hand until the transaction is committed or rolled back.
func (d *decoder) prepares() {
	name := d.naming
	g := d.end()
	if d.prepared == nil || d.held+len(g.rows) > feed.MostRows {
		d.prepared, d.held = map[string]group{}, 0 // what is not known when it is committed may have written anything
	}
	d.prepared[name] = g
	d.held += len(g.rows)
}

// read gives a statement as the server has read it; false where that is not certain.
func (d *decoder) read(e *replication.QueryEvent) (t text, ok bool) {
	mode, encoded, known := howWritten(e.StatusVars)
	if !known {
		return t, false
	}
	if !encoded {
		for _, c := range e.Query {
			if c >= 0x80 {
				return t, false
			}
		}
	}
	resolved, ok := d.server.Resolve(e.Query, mode)
	return text{syntax: syntax.Of(mode), schema: string(e.Schema), text: string(resolved)}, ok
}

// What stands in the status variables of a statement, in this order. Source: Query_log_event in MariaDB's log_event.h.
const (
	flagsVariable     = 0
	modeVariable      = 1
	catalogVariable   = 6
	incrementVariable = 3
	charsetVariable   = 4
)

// The bits of sql_mode that decide how a statement is read. Source: MODE_* in MariaDB's sql_class.h.
const (
	ansiQuotes         = 1 << 2
	noBackslashEscapes = 1 << 20
)

// howWritten says in which mode a statement was written, and whether what is not ASCII in it is UTF-8.
func howWritten(vars []byte) (mode syntax.Mode, utf8, known bool) {
	for len(vars) > 0 {
		code := vars[0]
		vars = vars[1:]
		long := 0
		switch code {
		case flagsVariable, incrementVariable:
			long = 4
		case modeVariable:
			long = 8
		case charsetVariable:
			long = 6
		case catalogVariable:
			if len(vars) == 0 {
				return mode, utf8, false
			}
			long = 1 + int(vars[0])
		default:
			return mode, utf8, known
		}
		if len(vars) < long {
			return mode, utf8, false
		}
		switch code {
		case modeVariable:
			bits := binary.LittleEndian.Uint64(vars)
			if bits&ansiQuotes != 0 {
				mode |= syntax.ANSIQuotes
			}
			if bits&noBackslashEscapes != 0 {
				mode |= syntax.NoBackslashEscapes
			}
			known = true
		case charsetVariable:
			utf8 = encodings[binary.LittleEndian.Uint16(vars)]
		}
		vars = vars[long:]
	}
	return mode, utf8, known
}

// encodings are the numbers by which a client says that it writes UTF-8: of utf8mb3 and utf8mb4.
var encodings = map[uint16]bool{33: true, 45: true, 46: true, 83: true, 192: true, 224: true, 255: true}

// rowsEvent reads the rows of an event. Where they cannot be read, the table is told alone.
func rowsEvent(e *replication.RowsEvent, data []byte) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("an event of rows is not understood: %v", r)
		}
	}()
	at, err := e.DecodeHeader(data)
	if err != nil {
		return err
	}
	if err := e.DecodeData(at, data); err != nil {
		e.Rows = nil
	}
	return nil
}
