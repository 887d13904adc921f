package standin

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/jackc/pgx/v5/pgtype"
	pg "github.com/pganalyze/pg_query_go/v6"
)

// session is one client.
type session struct {
	o    *Origin
	b    *pgproto3.Backend
	conn *sql.Conn
	m    *pgtype.Map

	id     uint32
	secret uint32
	cancel context.CancelFunc // of the statement that runs

	settings   map[string]string
	block      byte // I, T or E
	skipping   bool // after an error in a batch, until its Sync
	implicit   bool // the batch runs in a transaction of its own
	statements map[string]*statementState
	portals    map[string]*portal
}

type statementState struct {
	stmt  stmt
	types inferred
}

type portal struct {
	*statementState
	args    []any
	formats []int16
	rows    [][]any // what is left of a result that was not fetched at once
	begun   bool
	tag     string
}

// failure is an error with its SQLSTATE.
type failure struct{ code, message string }

func (f failure) Error() string { return f.message }

// reported are the settings that a server tells its clients by itself.
var reported = map[string]string{
	"server_version": "15.0 (stand-in of jolly larder)", "server_encoding": "UTF8", "client_encoding": "UTF8",
	"DateStyle": "ISO, MDY", "IntervalStyle": "postgres", "TimeZone": "UTC", "integer_datetimes": "on",
	"standard_conforming_strings": "on", "application_name": "", "is_superuser": "off", "in_hot_standby": "off",
	"default_transaction_read_only": "off",
}

// quiet are settings that can be asked for.
var quiet = map[string]string{
	"search_path": `"$user", public`, "default_transaction_isolation": "read committed", "transaction_isolation": "read committed",
	"extra_float_digits": "1", "bytea_output": "hex", "role": "none", "row_security": "on", "client_min_messages": "notice",
	"statement_timeout": "0",
}

func (o *Origin) serve(c net.Conn) {
	s := &session{
		o: o, b: pgproto3.NewBackend(c, c), m: pgtype.NewMap(), block: 'I',
		settings: map[string]string{}, statements: map[string]*statementState{}, portals: map[string]*portal{},
	}
	maps.Copy(s.settings, quiet)
	if !s.begin(c) {
		return
	}
	o.mu.Lock()
	o.sessions[s.id] = s
	o.mu.Unlock()
	defer func() {
		o.mu.Lock()
		delete(o.sessions, s.id)
		o.mu.Unlock()
		if s.block != 'I' || s.implicit {
			_, _ = s.conn.ExecContext(context.Background(), "rollback")
		}
		s.conn.Close()
	}()
	for {
		m, err := s.b.Receive()
		if err != nil || !s.message(m) {
			return
		}
	}
}

// begin takes the start-up. Everybody is let in: there is nothing here worth keeping from anybody.
func (s *session) begin(c net.Conn) bool {
	for {
		m, err := s.b.ReceiveStartupMessage()
		if err != nil {
			return false
		}
		switch m := m.(type) {
		case *pgproto3.SSLRequest, *pgproto3.GSSEncRequest:
			if _, err := c.Write([]byte{'N'}); err != nil {
				return false
			}
		case *pgproto3.CancelRequest:
			s.o.mu.Lock()
			if t := s.o.sessions[m.ProcessID]; t != nil && binary.BigEndian.Uint32(m.SecretKey) == t.secret && t.cancel != nil {
				t.cancel()
			}
			s.o.mu.Unlock()
			return false
		case *pgproto3.StartupMessage:
			return s.welcome(m)
		}
	}
}

func (s *session) welcome(m *pgproto3.StartupMessage) bool {
	user, database := m.Parameters["user"], m.Parameters["database"]
	if database == "" {
		database = user
	}
	if database != s.o.opts.Database {
		s.b.Send(&pgproto3.ErrorResponse{Severity: "FATAL", SeverityUnlocalized: "FATAL", Code: "3D000", Message: fmt.Sprintf("database %q does not exist", database)})
		_ = s.b.Flush()
		return false
	}
	conn, err := s.o.db.Conn(context.Background())
	if err != nil {
		return false
	}
	s.conn = conn
	maps.Copy(s.settings, reported)
	s.settings["application_name"] = m.Parameters["application_name"]
	s.settings["session_authorization"], s.settings["current_user"], s.settings["session_user"] = user, user, user
	s.o.mu.Lock()
	s.o.lastID++
	s.id, s.secret = s.o.lastID, s.o.rng.Uint32()
	s.o.mu.Unlock()
	s.b.Send(&pgproto3.AuthenticationOk{})
	for _, name := range slices.Sorted(maps.Keys(reported)) {
		s.b.Send(&pgproto3.ParameterStatus{Name: name, Value: s.settings[name]})
	}
	s.b.Send(&pgproto3.BackendKeyData{ProcessID: s.id, SecretKey: binary.BigEndian.AppendUint32(nil, s.secret)})
	return s.ready()
}

func (s *session) ready() bool {
	s.b.Send(&pgproto3.ReadyForQuery{TxStatus: s.block})
	return s.b.Flush() == nil
}

func (s *session) fail(err error) {
	f := failure{"XX000", err.Error()}
	if !errors.As(err, &f) {
		f = classify(err)
	}
	s.b.Send(&pgproto3.ErrorResponse{Severity: "ERROR", SeverityUnlocalized: "ERROR", Code: f.code, Message: f.message})
	if s.block == 'T' {
		s.block = 'E'
	}
}

// classify gives SQLite's errors the codes that PostgreSQL has for them.
func classify(err error) failure {
	text := err.Error()
	for _, c := range []struct{ part, code string }{
		{"no such table", "42P01"}, {"no such column", "42703"}, {"no such function", "42883"}, {"syntax error", "42601"},
		{"already exists", "42P07"}, {"UNIQUE", "23505"}, {"FOREIGN KEY", "23503"}, {"NOT NULL", "23502"}, {"CHECK", "23514"},
		{"locked", "40001"}, {"busy", "40001"}, {"interrupted", "57014"}, {"context canceled", "57014"},
	} {
		if strings.Contains(text, c.part) {
			if c.code == "57014" {
				text = "canceling statement due to user request"
			}
			return failure{c.code, text}
		}
	}
	return failure{"XX000", text}
}

// message takes one message; false ends the session.
func (s *session) message(m pgproto3.FrontendMessage) bool {
	switch m := m.(type) {
	case *pgproto3.Query:
		s.simple(m.String)
		return s.ready()
	case *pgproto3.Sync:
		s.skipping = false
		s.endImplicit()
		return s.ready()
	case *pgproto3.Flush:
		return s.b.Flush() == nil
	case *pgproto3.Terminate:
		return false
	}
	if s.skipping {
		return true
	}
	var err error
	switch m := m.(type) {
	case *pgproto3.Parse:
		err = s.parse(m)
	case *pgproto3.Bind:
		err = s.bind(m)
	case *pgproto3.Describe:
		err = s.describe(m)
	case *pgproto3.Execute:
		err = s.execute(m)
	case *pgproto3.Close:
		if m.ObjectType == 'S' {
			delete(s.statements, m.Name)
		} else {
			delete(s.portals, m.Name)
		}
		s.b.Send(&pgproto3.CloseComplete{})
	default:
		err = failure{"0A000", fmt.Sprintf("the stand-in does not know the message %T", m)}
	}
	if err != nil {
		s.fail(err)
		s.skipping = true
		if s.implicit {
			_, _ = s.conn.ExecContext(context.Background(), "rollback")
			s.implicit = false
		}
	}
	return true
}

func (s *session) endImplicit() {
	if s.implicit {
		s.implicit = false
		if _, err := s.conn.ExecContext(context.Background(), "commit"); err != nil {
			s.fail(err)
		}
	}
}

// simple runs a string of statements; the first that fails ends it.
func (s *session) simple(text string) {
	list, err := parse(text)
	if err != nil {
		s.fail(failure{"42601", err.Error()})
		return
	}
	if len(list) == 0 {
		s.b.Send(&pgproto3.EmptyQueryResponse{})
		return
	}
	if len(list) > 1 && s.block == 'I' {
		if _, err := s.conn.ExecContext(context.Background(), "begin immediate"); err != nil {
			s.fail(err)
			return
		}
		s.implicit = true
	}
	defer s.endImplicit()
	for _, st := range list {
		p := &portal{statementState: &statementState{st, s.o.infer(st.node, nil)}}
		cols := p.types.columns
		tag, rows, err := s.run(p)
		if err != nil {
			s.fail(err)
			if s.implicit {
				_, _ = s.conn.ExecContext(context.Background(), "rollback")
				s.implicit = false
			}
			return
		}
		if returnsRows(st.node) {
			s.b.Send(rowDescription(cols, nil))
		}
		if err := s.sendRows(cols, nil, rows); err != nil {
			s.fail(err)
			return
		}
		s.b.Send(&pgproto3.CommandComplete{CommandTag: []byte(tag)})
	}
}

func (s *session) parse(m *pgproto3.Parse) error {
	list, err := parse(m.Query)
	if err != nil {
		return failure{"42601", err.Error()}
	}
	if len(list) > 1 {
		return failure{"42601", "cannot insert multiple commands into a prepared statement"}
	}
	st := &statementState{}
	if len(list) == 1 {
		st.stmt = list[0]
		st.types = s.o.infer(list[0].node, m.ParameterOIDs)
	}
	s.statements[m.Name] = st
	s.b.Send(&pgproto3.ParseComplete{})
	return nil
}

func (s *session) bind(m *pgproto3.Bind) error {
	st := s.statements[m.PreparedStatement]
	if st == nil {
		return failure{"26000", fmt.Sprintf("prepared statement %q does not exist", m.PreparedStatement)}
	}
	p := &portal{statementState: st, formats: slices.Clone(m.ResultFormatCodes)}
	for i, data := range m.Parameters {
		if i >= len(st.types.params) {
			return failure{"08P01", fmt.Sprintf("bind message supplies %d parameters, but the statement requires %d", len(m.Parameters), len(st.types.params))}
		}
		v, err := stored(s.m, st.types.params[i], formatOf(m.ParameterFormatCodes, i), data)
		if err != nil {
			return failure{"22P02", fmt.Sprintf("parameter %d: %v", i+1, err)}
		}
		p.args = append(p.args, sql.Named(fmt.Sprintf("p%d", i+1), v))
	}
	s.portals[m.DestinationPortal] = p
	s.b.Send(&pgproto3.BindComplete{})
	return nil
}

func formatOf(codes []int16, i int) int16 {
	switch {
	case len(codes) == 0:
		return 0
	case len(codes) == 1:
		return codes[0]
	case i < len(codes):
		return codes[i]
	}
	return 0
}

func (s *session) describe(m *pgproto3.Describe) error {
	var st *statementState
	var formats []int16
	if m.ObjectType == 'S' {
		if st = s.statements[m.Name]; st == nil {
			return failure{"26000", fmt.Sprintf("prepared statement %q does not exist", m.Name)}
		}
		s.b.Send(&pgproto3.ParameterDescription{ParameterOIDs: st.types.params})
	} else {
		p := s.portals[m.Name]
		if p == nil {
			return failure{"34000", fmt.Sprintf("portal %q does not exist", m.Name)}
		}
		st, formats = p.statementState, p.formats
	}
	if !returnsRows(st.stmt.node) {
		s.b.Send(&pgproto3.NoData{})
		return nil
	}
	s.b.Send(rowDescription(st.types.columns, formats))
	return nil
}

func rowDescription(cols []column, formats []int16) *pgproto3.RowDescription {
	d := &pgproto3.RowDescription{}
	for i, c := range cols {
		size := int16(-1)
		switch c.oid {
		case pgtype.BoolOID:
			size = 1
		case pgtype.Int2OID:
			size = 2
		case pgtype.Int4OID, pgtype.DateOID, pgtype.Float4OID:
			size = 4
		case pgtype.Int8OID, pgtype.Float8OID, pgtype.TimestamptzOID, pgtype.TimestampOID:
			size = 8
		}
		d.Fields = append(d.Fields, pgproto3.FieldDescription{Name: []byte(c.name), DataTypeOID: c.oid, DataTypeSize: size, TypeModifier: -1, Format: formatOf(formats, i)})
	}
	return d
}

func (s *session) execute(m *pgproto3.Execute) error {
	p := s.portals[m.Portal]
	if p == nil {
		return failure{"34000", fmt.Sprintf("portal %q does not exist", m.Portal)}
	}
	if p.stmt.node == nil {
		s.b.Send(&pgproto3.EmptyQueryResponse{})
		return nil
	}
	if !p.begun {
		// A batch is one transaction if it writes; a read needs none.
		if s.block == 'I' && !s.implicit && !reads(p.stmt.node) && p.stmt.node.GetTransactionStmt() == nil {
			if _, err := s.conn.ExecContext(context.Background(), "begin immediate"); err != nil {
				return err
			}
			s.implicit = true
		}
		tag, rows, err := s.run(p)
		if err != nil {
			return err
		}
		p.begun, p.tag, p.rows = true, tag, rows
	}
	rows := p.rows
	if m.MaxRows > 0 && len(rows) > int(m.MaxRows) {
		rows = rows[:m.MaxRows]
	}
	p.rows = p.rows[len(rows):]
	if err := s.sendRows(p.types.columns, p.formats, rows); err != nil {
		return err
	}
	if len(p.rows) > 0 {
		s.b.Send(&pgproto3.PortalSuspended{})
		return nil
	}
	s.b.Send(&pgproto3.CommandComplete{CommandTag: []byte(p.tag)})
	return nil
}

func (s *session) sendRows(cols []column, formats []int16, rows [][]any) error {
	for _, r := range rows {
		d := &pgproto3.DataRow{}
		for i, v := range r {
			oid := uint32(pgtype.TextOID)
			if i < len(cols) {
				oid = cols[i].oid
			}
			data, err := encode(s.m, oid, formatOf(formats, i), v)
			if err != nil {
				return failure{"22P03", err.Error()}
			}
			d.Values = append(d.Values, data)
		}
		s.b.Send(d)
	}
	return nil
}

func reads(n *pg.Node) bool {
	return n.GetSelectStmt() != nil || n.GetVariableShowStmt() != nil || n.GetVariableSetStmt() != nil || n.GetDiscardStmt() != nil
}

// returnsRows says whether a statement has a result to be described.
func returnsRows(n *pg.Node) bool {
	switch {
	case n == nil:
		return false
	case n.GetSelectStmt() != nil, n.GetVariableShowStmt() != nil:
		return true
	case n.GetInsertStmt() != nil:
		return len(n.GetInsertStmt().ReturningList) > 0
	case n.GetUpdateStmt() != nil:
		return len(n.GetUpdateStmt().ReturningList) > 0
	case n.GetDeleteStmt() != nil:
		return len(n.GetDeleteStmt().ReturningList) > 0
	}
	return false
}

// run runs one statement and gives its completion tag and rows.
func (s *session) run(p *portal) (tag string, rows [][]any, err error) {
	if s.block == 'E' {
		if t := p.stmt.node.GetTransactionStmt(); t == nil || t.Kind != pg.TransactionStmtKind_TRANS_STMT_ROLLBACK && t.Kind != pg.TransactionStmtKind_TRANS_STMT_COMMIT {
			return "", nil, failure{"25P02", "current transaction is aborted, commands ignored until end of transaction block"}
		}
	}
	ctx, ended := s.o.running(&s.cancel)
	defer ended()
	if done, tag, rows, err := s.own(ctx, p.stmt); done {
		return tag, rows, err
	}
	started := time.Now()
	tag, rows, err = s.sqlite(ctx, p)
	if derr := s.o.delay(ctx, time.Since(started)); err == nil {
		err = derr
	}
	return tag, rows, err
}

func (s *session) sqlite(ctx context.Context, p *portal) (string, [][]any, error) {
	text := translate(p.stmt.sql, func(name string) string {
		for n, v := range s.settings {
			if strings.EqualFold(n, name) {
				return v
			}
		}
		return ""
	})
	n := p.stmt.node
	if !returnsRows(n) {
		r, err := s.conn.ExecContext(ctx, text, p.args...)
		if err != nil {
			return "", nil, err
		}
		count, _ := r.RowsAffected()
		switch {
		case n.GetInsertStmt() != nil:
			return fmt.Sprintf("INSERT 0 %d", count), nil, nil
		case n.GetUpdateStmt() != nil:
			return fmt.Sprintf("UPDATE %d", count), nil, nil
		case n.GetDeleteStmt() != nil:
			return fmt.Sprintf("DELETE %d", count), nil, nil
		}
		s.o.schemaChanged()
		words := strings.Fields(strings.ToUpper(p.stmt.sql))
		return strings.Join(words[:min(2, len(words))], " "), nil, nil
	}
	r, err := s.conn.QueryContext(ctx, text, p.args...)
	if err != nil {
		return "", nil, err
	}
	defer r.Close()
	names, err := r.Columns()
	if err != nil {
		return "", nil, err
	}
	if len(p.types.columns) != len(names) { // what the text did not tell: as SQLite names it, as text
		p.types.columns = nil
		for _, name := range names {
			p.types.columns = append(p.types.columns, column{name, pgtype.TextOID})
		}
	}
	rows, err := scanned(r, len(names))
	if err != nil {
		return "", nil, err
	}
	verb := "SELECT"
	switch {
	case n.GetInsertStmt() != nil:
		verb = "INSERT 0"
	case n.GetUpdateStmt() != nil:
		verb = "UPDATE"
	case n.GetDeleteStmt() != nil:
		verb = "DELETE"
	}
	return fmt.Sprintf("%s %d", verb, len(rows)), rows, nil
}

// own runs what concerns the session and not the data.
func (s *session) own(ctx context.Context, st stmt) (done bool, tag string, rows [][]any, err error) {
	exec := func(text string) error {
		_, err := s.conn.ExecContext(ctx, text)
		return err
	}
	n := st.node
	switch {
	case n.GetTransactionStmt() != nil:
		tag, err = s.transaction(n.GetTransactionStmt(), exec)
		if derr := s.o.delay(ctx, 0); err == nil {
			err = derr
		}
		return true, tag, nil, err
	case n.GetVariableShowStmt() != nil:
		name := n.GetVariableShowStmt().Name
		for k, v := range s.settings {
			if strings.EqualFold(k, name) {
				return true, "SHOW", [][]any{{v}}, nil
			}
		}
		return true, "", nil, failure{"42704", fmt.Sprintf("unrecognized configuration parameter %q", name)}
	case n.GetVariableSetStmt() != nil:
		v := n.GetVariableSetStmt()
		return true, "SET", nil, s.set(v)
	case n.GetDiscardStmt() != nil:
		clear(s.statements)
		return true, "DISCARD ALL", nil, nil
	case n.GetDeallocateStmt() != nil:
		if name := n.GetDeallocateStmt().Name; name != "" {
			delete(s.statements, name)
		} else {
			clear(s.statements)
		}
		return true, "DEALLOCATE", nil, nil
	case n.GetCreateStmt() != nil && n.GetCreateStmt().Relation.Relpersistence == "t":
		return true, "", nil, failure{"0A000", "the stand-in has no temporary tables"}
	}
	return false, "", nil, nil
}

func (s *session) set(v *pg.VariableSetStmt) error {
	name := v.Name
	for k := range s.settings {
		if strings.EqualFold(k, name) {
			name = k
		}
	}
	switch v.Kind {
	case pg.VariableSetKind_VAR_SET_VALUE:
		var values []string
		for _, a := range v.Args {
			c := a.GetAConst()
			switch {
			case c.GetSval() != nil:
				values = append(values, c.GetSval().Sval)
			case c.GetIval() != nil:
				values = append(values, fmt.Sprint(c.GetIval().Ival))
			case c.GetFval() != nil:
				values = append(values, c.GetFval().Fval)
			}
		}
		s.settings[name] = strings.Join(values, ", ")
	case pg.VariableSetKind_VAR_RESET, pg.VariableSetKind_VAR_SET_DEFAULT:
		if d, ok := quiet[name]; ok {
			s.settings[name] = d
		} else if d, ok := reported[name]; ok {
			s.settings[name] = d
		} else {
			delete(s.settings, name)
		}
	}
	if _, ok := reported[name]; ok {
		s.b.Send(&pgproto3.ParameterStatus{Name: name, Value: s.settings[name]})
	}
	return nil
}

func (s *session) transaction(t *pg.TransactionStmt, exec func(string) error) (string, error) {
	switch t.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		if s.block != 'I' {
			return "BEGIN", nil
		}
		if s.implicit {
			s.implicit = false
		} else if err := exec("begin immediate"); err != nil {
			return "", err
		}
		s.block = 'T'
		return "BEGIN", nil
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT:
		failed := s.block == 'E'
		if s.block == 'I' {
			return "COMMIT", nil
		}
		s.block = 'I'
		if failed {
			return "ROLLBACK", exec("rollback")
		}
		return "COMMIT", exec("commit")
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK:
		if s.block == 'I' {
			return "ROLLBACK", nil
		}
		s.block = 'I'
		return "ROLLBACK", exec("rollback")
	case pg.TransactionStmtKind_TRANS_STMT_SAVEPOINT:
		return "SAVEPOINT", exec(`savepoint "` + t.SavepointName + `"`)
	case pg.TransactionStmtKind_TRANS_STMT_RELEASE:
		return "RELEASE", exec(`release "` + t.SavepointName + `"`)
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO:
		return "ROLLBACK", exec(`rollback to "` + t.SavepointName + `"`)
	}
	return "", failure{"0A000", "the stand-in has no two-phase transactions"}
}
