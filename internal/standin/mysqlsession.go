package standin

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/go-mysql-org/go-mysql/mysql"
	"github.com/go-mysql-org/go-mysql/server"

	facts "jollylarder/internal/core/analysis/mysql"
)

// mysqlVersion is what the stand-in says of itself to clients of MySQL's protocol.
const mysqlVersion = "8.0.0-stand-in-of-jolly-larder"

// mysqlFront speaks the protocol. It offers no TLS.
var mysqlFront = server.NewServer(mysqlVersion, 45, mysql.AUTH_NATIVE_PASSWORD, nil, nil)

// anybody is everybody's account: there is nothing here worth keeping from anybody.
const anybody = "anybody@%"

// letsIn lets everybody in who has no password.
type letsIn struct{}

func (letsIn) CheckUsername(string) (bool, error)         { return true, nil }
func (letsIn) GetCredential(string) (string, bool, error) { return "", true, nil }

// mysqlSession is one client.
type mysqlSession struct {
	o        *Origin
	c        *server.Conn
	wire     *mysqlWire
	conn     *sql.Conn
	database string
	settings map[string]string // its variables that are set, by their names in lower case; users' own begin with an @
	block    bool              // it is in a transaction
	each     bool              // every statement is a transaction of its own
	cancel   context.CancelFunc
}

// mysqlSettings are variables that can be asked for.
var mysqlSettings = map[string]string{
	"version": mysqlVersion, "version_comment": "stand-in of jolly larder (SQLite)", "transaction_isolation": "READ-COMMITTED", "max_execution_time": "0", "server_id": "1", "server_uuid": "stand-in",
	"autocommit": "1", "sql_mode": "", "time_zone": "SYSTEM", "system_time_zone": "UTC", "character_set_client": "utf8mb4", "character_set_connection": "utf8mb4", "character_set_results": "utf8mb4",
	"collation_connection": "utf8mb4_bin", "lower_case_table_names": "0", "max_allowed_packet": "67108864", "group_concat_max_len": "1048576", "log_bin": "0", "sql_select_limit": "18446744073709551615",
	"auto_increment_increment": "1", "init_connect": "", "interactive_timeout": "28800", "wait_timeout": "28800", "net_write_timeout": "60", "license": "none", "performance_schema": "0", "have_ssl": "NO",
}

func (o *Origin) serveMySQL(c net.Conn) {
	conn, err := o.db.Conn(context.Background())
	if err != nil {
		return
	}
	s := &mysqlSession{o: o, conn: conn, settings: maps.Clone(mysqlSettings), each: true, wire: &mysqlWire{Conn: c}}
	defer func() {
		if s.block {
			_, _ = conn.ExecContext(context.Background(), "rollback")
		}
		conn.Close()
	}()
	if s.c, err = mysqlFront.NewCustomizedConn(s.wire, letsIn{}, s); err != nil {
		return
	}
	s.c.SetStatus(mysql.SERVER_STATUS_AUTOCOMMIT)
	id := s.c.ConnectionID()
	o.mu.Lock()
	o.mysql[id] = s
	o.mu.Unlock()
	defer func() {
		o.mu.Lock()
		delete(o.mysql, id)
		o.mu.Unlock()
	}()
	for s.c.HandleCommand() == nil {
	}
}

// UseDB implements server.Handler.
func (s *mysqlSession) UseDB(name string) error {
	if name != s.o.opts.Database {
		return mysql.NewDefaultError(mysql.ER_BAD_DB_ERROR, name)
	}
	s.database = name
	return nil
}

// HandleQuery implements server.Handler. Of several statements the last alone may have rows.
func (s *mysqlSession) HandleQuery(query string) (result *mysql.Result, err error) {
	list, err := facts.Split(query)
	if err != nil {
		list = []string{query}
	}
	if len(list) == 0 {
		return nil, mysql.NewDefaultError(mysql.ER_EMPTY_QUERY)
	}
	for i, text := range list {
		if result, err = s.run(text, nil, false); err != nil {
			return nil, err
		}
		if i < len(list)-1 && result.HasResultset() {
			return nil, mysql.NewError(mysql.ER_NOT_SUPPORTED_YET, "the stand-in gives rows only for the last of several statements")
		}
	}
	return result, nil
}

// HandleFieldList implements server.Handler.
func (s *mysqlSession) HandleFieldList(table, _ string) ([]*mysql.Field, error) {
	r, err := s.run("select * from `"+strings.ReplaceAll(table, "`", "")+"` limit 0", nil, false)
	if err != nil {
		return nil, err
	}
	return r.Fields, nil
}

// HandleStmtPrepare implements server.Handler.
func (s *mysqlSession) HandleStmtPrepare(query string) (params, columns int, _ any, err error) {
	t := s.translated(query)
	for _, x := range t.tokens {
		if x == "?" {
			params++
		}
	}
	if t.word(0) != "select" && t.word(0) != "with" {
		return params, 0, nil, nil
	}
	rows, err := s.conn.QueryContext(context.Background(), "select * from ("+t.text()+") limit 0", make([]any, params)...)
	if err != nil {
		return 0, 0, nil, mysqlError(err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	return params, len(names), nil, err
}

// HandleStmtExecute implements server.Handler.
func (s *mysqlSession) HandleStmtExecute(_ any, query string, args []any) (*mysql.Result, error) {
	values := make([]any, len(args))
	for i, a := range args {
		values[i] = a
		if b, is := a.([]byte); is { // a text to whoever sends it
			values[i] = string(b)
		}
	}
	result, err := s.run(query, values, true)
	if err != nil { // of which the front would tell the text alone
		var m *mysql.MyError
		errors.As(err, &m)
		return nil, s.says("\xff" + string([]byte{byte(m.Code), byte(m.Code >> 8)}) + "#" + m.State + m.Message)
	}
	return result, nil
}

// HandleStmtClose implements server.Handler.
func (s *mysqlSession) HandleStmtClose(any) error { return nil }

// HandleOtherCommand implements server.Handler.
func (s *mysqlSession) HandleOtherCommand(command byte, _ []byte) error {
	switch command {
	case mysql.COM_STATISTICS:
		return s.says(fmt.Sprintf("Uptime: %d  Threads: 1", int(time.Since(s.o.began).Seconds())))
	case mysql.COM_RESET_CONNECTION:
		s.settings, s.each = maps.Clone(mysqlSettings), true
		return s.ends("rollback")
	case mysql.COM_SET_OPTION:
		return nil
	}
	return mysql.NewDefaultError(mysql.ER_UNKNOWN_COM_ERROR)
}

// says replies with a packet, for which the front has no way: what it writes after that is left out.
func (s *mysqlSession) says(text string) error {
	packet := append([]byte{byte(len(text)), byte(len(text) >> 8), 0, 1}, text...)
	if _, err := s.wire.Conn.Write(packet); err != nil {
		return err
	}
	s.wire.leavesOut = true
	return nil
}

// mysqlWire is a connection on which the next packet that is written can be left out.
type mysqlWire struct {
	net.Conn
	leavesOut bool
}

// Write implements net.Conn.
func (w *mysqlWire) Write(b []byte) (int, error) {
	if w.leavesOut {
		w.leavesOut = false
		return len(b), nil
	}
	return w.Conn.Write(b)
}

// run runs one statement.
func (s *mysqlSession) run(query string, args []any, binary bool) (*mysql.Result, error) {
	ctx, ended := s.o.running(&s.cancel)
	defer ended()
	t := s.translated(query)
	if t.word(0) == "kill" { // which comes in between
		return &mysql.Result{}, s.kills(t)
	}
	started := time.Now()
	result, own, err := s.own(t)
	if !own {
		result, err = s.sqlite(ctx, t, args, binary)
	}
	if late := s.o.delay(ctx, time.Since(started)); err == nil {
		err = late
	}
	if err != nil {
		return nil, mysqlError(err)
	}
	return result, nil
}

func (s *mysqlSession) exec(text string) error {
	_, err := s.conn.ExecContext(context.Background(), text)
	return err
}

// begins begins a transaction, unless there is one.
func (s *mysqlSession) begins() error {
	if s.block {
		return nil
	}
	if err := s.exec("begin immediate"); err != nil {
		return err
	}
	s.block = true
	s.c.SetInTransaction()
	return nil
}

// ends commits a transaction or rolls it back, if there is one.
func (s *mysqlSession) ends(how string) error {
	if !s.block {
		return nil
	}
	s.block = false
	s.c.ClearInTransaction()
	return s.exec(how)
}

// own runs what concerns the session and not the data.
func (s *mysqlSession) own(t *mysqlText) (result *mysql.Result, own bool, err error) {
	done := &mysql.Result{}
	switch t.word(0) {
	case "begin", "start":
		if err := s.ends("commit"); err != nil {
			return nil, true, err
		}
		return done, true, s.begins()
	case "commit":
		return done, true, s.ends("commit")
	case "rollback":
		if to := slices.Index(t.tokens, "to"); to > 0 {
			return done, true, s.exec("rollback to " + t.tokens[len(t.tokens)-1])
		}
		return done, true, s.ends("rollback")
	case "savepoint", "release":
		return done, true, s.exec(t.text())
	case "use":
		return done, true, s.UseDB(strings.Trim(t.word(1), "\""))
	case "set":
		return done, true, s.sets(t)
	case "show":
		result, err = s.shows(t)
		return result, true, err
	}
	return nil, false, nil
}

// sets takes the assignments of a SET.
func (s *mysqlSession) sets(t *mysqlText) error {
	if t.word(1) == "names" || t.word(1) == "character" {
		return nil // of texts there is one kind
	}
	if at := slices.Index(t.tokens, "isolation"); at > 0 {
		s.settings["transaction_isolation"] = strings.ToUpper(strings.Join(t.tokens[at+2:], "-"))
		return nil
	}
	for i := 1; i+2 < len(t.tokens); i++ {
		if t.tokens[i+1] != "=" && t.tokens[i+1] != ":=" {
			continue
		}
		name, value := mysqlVariable(t.tokens[i]), strings.Trim(t.tokens[i+2], "'")
		if name == "autocommit" {
			s.each = value == "1" || strings.EqualFold(value, "on") || strings.EqualFold(value, "true")
			if s.each {
				value = "1"
				s.c.SetStatus(mysql.SERVER_STATUS_AUTOCOMMIT)
				if err := s.ends("commit"); err != nil {
					return err
				}
			} else {
				value = "0"
				s.c.UnsetStatus(mysql.SERVER_STATUS_AUTOCOMMIT)
			}
		}
		s.settings[name] = value
	}
	return nil
}

// kills ends what another session does.
func (s *mysqlSession) kills(t *mysqlText) error {
	var id uint32
	if _, err := fmt.Sscan(t.tokens[len(t.tokens)-1], &id); err != nil {
		return mysql.NewDefaultError(mysql.ER_NO_SUCH_THREAD, 0)
	}
	s.o.mu.Lock()
	defer s.o.mu.Unlock()
	other := s.o.mysql[id]
	if other == nil {
		return mysql.NewDefaultError(mysql.ER_NO_SUCH_THREAD, id)
	}
	if other.cancel != nil {
		other.cancel()
	}
	if t.word(1) != "query" {
		other.c.Close()
	}
	return nil
}

// shows answers what people and clients ask first.
func (s *mysqlSession) shows(t *mysqlText) (*mysql.Result, error) {
	var query string
	switch t.word(1) {
	case "tables":
		query = "select table_name as Tables_in_" + s.o.opts.Database + " from information_schema_tables where table_name not like 'information_schema%' order by 1"
	case "databases", "schemas":
		query = "select " + quote(s.o.opts.Database) + " as \"Database\""
	case "warnings", "errors":
		query = "select 'Note' as Level, 0 as Code, '' as Message where false"
	case "variables", "session", "global", "status":
		query = "select '' as Variable_name, '' as Value where false"
	default:
		return nil, mysql.NewError(mysql.ER_NOT_SUPPORTED_YET, "the stand-in does not show "+t.word(1))
	}
	return s.rows(context.Background(), query, nil, false)
}

// sqlite has SQLite run a statement.
func (s *mysqlSession) sqlite(ctx context.Context, t *mysqlText, args []any, binary bool) (*mysql.Result, error) {
	if !s.each {
		if err := s.begins(); err != nil {
			return nil, err
		}
	}
	if t.word(0) == "select" || t.word(0) == "with" || t.word(0) == "values" || slices.Contains(t.tokens, "returning") {
		return s.rows(ctx, t.text(), args, binary)
	}
	switch t.word(0) {
	case "create", "alter", "drop":
		if err := s.ends("commit"); err != nil {
			return nil, err
		}
		defer s.o.schemaChanged()
	}
	r, err := s.conn.ExecContext(ctx, t.text(), args...)
	if err != nil {
		return nil, err
	}
	n, _ := r.RowsAffected()
	id, _ := r.LastInsertId()
	if t.word(0) != "insert" && t.word(0) != "replace" {
		id = 0
	}
	return &mysql.Result{AffectedRows: uint64(n), InsertId: uint64(id)}, nil
}

// mysqlError gives an error of SQLite's the number that MySQL has for it.
func mysqlError(err error) error {
	var m *mysql.MyError
	if errors.As(err, &m) {
		return err
	}
	text := err.Error()
	for _, c := range []struct {
		part   string
		number uint16
	}{
		{"no such table", mysql.ER_NO_SUCH_TABLE}, {"no such column", mysql.ER_BAD_FIELD_ERROR}, {"no such function", mysql.ER_SP_DOES_NOT_EXIST}, {"syntax error", mysql.ER_PARSE_ERROR}, {"incomplete input", mysql.ER_PARSE_ERROR},
		{"already exists", mysql.ER_TABLE_EXISTS_ERROR}, {"UNIQUE", mysql.ER_DUP_ENTRY}, {"FOREIGN KEY", mysql.ER_NO_REFERENCED_ROW_2}, {"NOT NULL", mysql.ER_BAD_NULL_ERROR},
		{"locked", mysql.ER_LOCK_WAIT_TIMEOUT}, {"busy", mysql.ER_LOCK_WAIT_TIMEOUT}, {"interrupted", mysql.ER_QUERY_INTERRUPTED}, {"context canceled", mysql.ER_QUERY_INTERRUPTED},
	} {
		if strings.Contains(text, c.part) {
			return mysql.NewError(c.number, text)
		}
	}
	return mysql.NewError(mysql.ER_UNKNOWN_ERROR, text)
}
