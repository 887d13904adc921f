package mysql_test

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/protocol"
	"jollylarder/internal/protocoltest"
	"jollylarder/internal/wire/link"
)

// conversing is a client's session at the level of packets.
type conversing struct {
	net.Conn
	thread     uint32
	withoutEOF bool
	asked      []byte // the commands that are not answered
	prepared   uint32
}

// enters logs a client in as ines, with further capabilities.
func enters(c net.Conn, database string, further uint32) (*conversing, error) {
	x := &conversing{Conn: c, withoutEOF: further&deprecateEOF != 0}
	_, greeting, err := take(c)
	if err != nil {
		return nil, err
	}
	end := bytes.IndexByte(greeting[1:], 0) + 2
	x.thread = binary.LittleEndian.Uint32(greeting[end:])
	talk := talk{nonce: append(bytes.Clone(greeting[end+4:end+12]), greeting[end+31:end+43]...)}
	body := binary.LittleEndian.AppendUint32(nil, capabilities|further)
	body = append(binary.LittleEndian.AppendUint32(body, 1<<24), 45)
	body = append(append(append(body, make([]byte, 23)...), "ines\x00"...), 20)
	body = append(append(body, talk.proof("Quay#7")...), database...)
	if _, err := c.Write(packet(1, append(body, "\x00mysql_native_password\x00"...))); err != nil {
		return nil, err
	}
	_, answer, err := take(c)
	if err == nil && answer[0] != 0 {
		err = fmt.Errorf("%q", answer)
	}
	return x, err
}

// shown gives a packet without the number of a prepared statement, which the server counts over all connections.
func shown(number byte, body []byte) string {
	if number == 1 && len(body) == 12 && body[0] == 0 {
		body = append([]byte("\x00...."), body[5:]...)
	}
	return fmt.Sprintf("%d %q\n", number, body)
}

// reply reads a whole reply to a command.
func (x *conversing) reply(kind byte, out *strings.Builder) error {
	read := func() ([]byte, error) {
		number, body, err := take(x.Conn)
		if err == nil {
			out.WriteString(shown(number, body))
		}
		return body, err
	}
	mark := func(b []byte) bool { return len(b) > 0 && b[0] == 0xfe && (len(b) < 9 || x.withoutEOF) }
	for {
		first, err := read()
		if err != nil {
			return err
		}
		switch {
		case kind == 0x09 || first[0] == 0xff:
			return nil
		case kind == 0x16: // prepared
			x.prepared = binary.LittleEndian.Uint32(first[1:])
			for _, n := range []uint16{binary.LittleEndian.Uint16(first[7:]), binary.LittleEndian.Uint16(first[5:])} {
				for range int(n) {
					if _, err := read(); err != nil {
						return err
					}
				}
				if n > 0 && !x.withoutEOF {
					if _, err := read(); err != nil {
						return err
					}
				}
			}
			return nil
		}
		last := first
		if first[0] != 0 && !mark(first) {
			columns := int(first[0])
			if !x.withoutEOF {
				columns++
			}
			for range columns {
				if _, err := read(); err != nil {
					return err
				}
			}
			for last = nil; !mark(last); {
				if last, err = read(); err != nil {
					return err
				}
				if len(last) > 0 && last[0] == 0xff {
					return nil
				}
			}
		}
		if len(more(last)) == 0 {
			return nil
		}
	}
}

// more says whether another result follows what ends with a mark or an OK.
func more(last []byte) []byte {
	status := uint16(0)
	switch {
	case last[0] == 0xfe && len(last) == 5:
		status = binary.LittleEndian.Uint16(last[3:])
	default:
		rest := last[1:]
		for range 2 {
			rest = rest[map[bool]int{true: 3, false: 1}[rest[0] == 0xfc]:]
		}
		status = binary.LittleEndian.Uint16(rest)
	}
	if status&8 != 0 {
		return last
	}
	return nil
}

// Hear implements protocoltest.Session.
func (x *conversing) Hear(until string) (string, error) {
	var out strings.Builder
	if until == "" {
		kind := byte(3)
		if len(x.asked) > 0 {
			kind, x.asked = x.asked[0], x.asked[1:]
		}
		err := x.reply(kind, &out)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || err != nil && strings.Contains(err.Error(), "reset") {
			return out.String() + "the end\n", nil
		}
		return out.String(), err
	}
	for found := false; ; {
		number, body, err := take(x.Conn)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || err != nil && strings.Contains(err.Error(), "reset") {
			return out.String() + "the end\n", nil
		}
		if err != nil {
			return out.String(), err
		}
		out.WriteString(shown(number, body))
		if found {
			return out.String(), nil
		}
		found = bytes.Equal(body, append([]byte{byte(len(until))}, until...))
	}
}

func (x *conversing) command(kind byte, body []byte) (string, error) {
	if _, err := x.Write(packet(0, append([]byte{kind}, body...))); err != nil {
		return "", err
	}
	x.asked = append(x.asked, kind)
	return x.Hear("")
}

// Ask implements protocoltest.Session.
func (x *conversing) Ask(sql string) (string, error) { return x.command(3, []byte(sql)) }

// Query implements protocoltest.Session.
func (x *conversing) Query(sql string) []byte { return packet(0, append([]byte{3}, sql...)) }

// Bound implements protocoltest.Session: the statement is prepared, run with texts, and forgotten.
func (x *conversing) Bound(sql string, values ...string) (string, error) {
	heard, err := x.command(0x16, []byte(sql))
	if err != nil || strings.HasPrefix(heard, `1 "\xff`) {
		return heard, err
	}
	run, err := x.command(0x17, execution(x.prepared, values, true))
	if err != nil {
		return heard, err
	}
	_, err = x.Write(packet(0, binary.LittleEndian.AppendUint32([]byte{0x19}, x.prepared)))
	return heard + run, err
}

// execution is what stands behind the command by which a prepared statement is run with texts, with their types or without.
func execution(number uint32, values []string, typed bool) []byte {
	body := append(binary.LittleEndian.AppendUint32(nil, number), 0, 1, 0, 0, 0)
	if len(values) == 0 {
		return body
	}
	body = append(body, make([]byte, (len(values)+7)/8)...)
	if typed {
		body = append(body, 1)
		for range values {
			body = append(body, 0xfd, 0)
		}
	} else {
		body = append(body, 0)
	}
	for _, v := range values {
		if body = append(body, byte(len(v))); len(v) > 250 {
			body = append(body[:len(body)-1], 0xfd, byte(len(v)), byte(len(v)>>8), byte(len(v)>>16))
		}
		body = append(body, v...)
	}
	return body
}

// Cancel implements protocoltest.Session.
func (x *conversing) Cancel(dial func() (net.Conn, error)) error {
	c, err := dial()
	if err != nil {
		return err
	}
	defer c.Close()
	other, err := enters(c, "", 0)
	if err != nil {
		return err
	}
	_, err = other.Ask(fmt.Sprintf("kill query %d", x.thread))
	return err
}

var databases atomic.Int32

// names are those of databases that tests make, all equally long.
var names = regexp.MustCompile(`k\d{4}`)

// conformance is MariaDB as the kit tests it.
func conformance(t testing.TB, further uint32) *protocoltest.Subject {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	admin, err := sql.Open("mysql", "root@tcp("+server.Address()+")/")
	require.NoError(t, err)
	t.Cleanup(func() { admin.Close() })
	return &protocoltest.Subject{
		Protocol: protocol.MySQL,
		Address:  server.Address(),
		Settings: link.Settings{Catalog: &link.Account{User: "root"}}, CatalogAge: 50 * time.Millisecond,
		Database: func(t testing.TB) string {
			name := fmt.Sprintf("k%04d", databases.Add(1))
			for _, q := range []string{"drop database if exists " + name, "create database " + name} {
				_, err := admin.Exec(q)
				require.NoError(t, err)
			}
			return name
		},
		Login: func(c net.Conn, database string) (protocoltest.Session, error) {
			x, err := enters(c, database, further)
			if err == nil {
				_, err = x.Ask("select 1") // how many rows the last query found is not certain before
			}
			return x, err
		},
		SQL: protocoltest.SQL{
			Restore: []string{
				"drop view if exists heavy", "drop table if exists quay",
				"create table quay (id int primary key, name varchar(40), tons int default 0) engine=innodb",
				"insert into quay (id, name, tons) select seq, concat('quay ', seq), 10 * seq from seq_1_to_30",
				"drop table if exists buoy", "create table buoy (id int primary key, name varchar(40)) engine=myisam",
				"insert into buoy select seq, concat('buoy ', seq) from seq_1_to_3", "create view heavy as select id, tons from quay where tons > 40",
			},
			Rows:      30,
			Read:      func(row int) string { return fmt.Sprintf("select name from quay where id = %d", row) },
			ReadBound: "select name from quay where id = ?",
			ReadAll:   "select * from quay order by id",
			Write: func(row, value int) string {
				return fmt.Sprintf("update quay set name = 'quay %d' where id = %d", value, row)
			},
			WriteBound: func(row, value int) (string, []string) {
				return "update quay set name = ? where id = ?", []string{fmt.Sprintf("quay %d", value), fmt.Sprint(row)}
			},
			Begin:  []string{"begin", "start transaction", "start transaction read only", "start transaction with consistent snapshot"},
			Commit: "commit", Rollback: "rollback",
			Others: []string{
				"savepoint s", "rollback to s", "release savepoint s", "select 1/0", "set time_zone = '+03:00'", "set names latin1", "set names utf8mb4", "set sql_mode = 'ANSI_QUOTES'",
				"set sql_mode = default", "set session transaction isolation level read committed", "set session transaction isolation level repeatable read",
				"set transaction isolation level read committed", "set session transaction isolation level read uncommitted",
				"select count(*) from heavy", "select max(id) from quay", "select name from quay where 1 = 0", "select 1", "select now() is not null", "prepare q from 'select name from quay where id = 2'", "execute q", "deallocate prepare q",
				"select name from quay where id = 1; select name from quay where id = 2", "select found_rows()", "select row_count()", "show warnings", "select last_insert_id()", "select @@warning_count",
				"select cast('x' as int)", "nonsense", "select name from quay where id = 29 lock in share mode", "select  name from quay where id = 1", "select name FROM quay WHERE id = 1 -- first",
				"select name from buoy where id = 1", "select name from buoy order by id", "update buoy set name = concat(name, 'x') where id = 1", "update buoy set name = 'same' where id = 2", "insert ignore into buoy values (4, 'four')",
				"show count(*) warnings", "select \"name\" from quay where id = 2", "set @jollylarder_caching = 'off'", "set @jollylarder_caching = null", "select /*! straight_join */ name from quay where id = 2",
			},
			Alone: []string{
				"update quay set tons = tons + 100 where id < 4", "delete from quay where id > 27", "insert ignore into quay values (28, 'eight', 8)", "replace into quay values (28, 'again', 9)",
				"create index quay_name on quay (name)", "alter table quay add column if not exists depth int",
				"create or replace trigger follows before update on quay for each row set new.tons = 200",
				"truncate quay", "create temporary table t as select 1 as one", "drop temporary table if exists t", "create or replace view heavy as select id, tons from quay where tons > 100",
			},
			Large: "select id, repeat('x', 6000) from quay order by id",
			Sleep: "select sleep(59)",
			Sleeping: func(t testing.TB, database string) bool {
				n, err := asks(admin, "select count(*) from information_schema.processlist where db = '"+database+"' and info like 'select sleep%' and state = 'User sleep'")
				require.NoError(t, err)
				return n != "0"
			},
		},
		Elsewhere: func(received string) string { return names.ReplaceAllString(received, "kNNNN") },
		Any:       anyCommand, Opening: prepare("select name from quay where id = ?"), Closing: []byte("\x09\x00\x00\x00\x03rollback" + string(packet(0, []byte("\x03select '"+protocoltest.TheEnd+"'")))),
		Conversations: conversations(),
	}
}

// anyCommand draws a command that a client may send.
func anyCommand(t *rapid.T) []byte {
	text := rapid.SampledFrom([]string{
		"select name from quay where id = 7", "select name from quay where id = 8", "select * from quay order by id", "update quay set name = 'x' where id = 7", "begin", "commit", "rollback", "select found_rows()",
		"show warnings", "select row_count()", "set names latin1", "use nowhere", "set autocommit = 0", "set autocommit = 1", "select 1/0", "", "select name from quay where id = 7 -- seven", "selec", "select name  from quay where id = 7",
		"show jollylarder.first", "insert ignore into quay values (1, 'twice', 1)", "select @@warning_count", "set @x = 1", "select name from quay where id = 7; select 1",
	})
	number := func() []byte {
		return binary.LittleEndian.AppendUint32(nil, last)
	}
	switch rapid.IntRange(0, 11).Draw(t, "kind") {
	default:
		return packet(0, append([]byte{3}, text.Draw(t, "text")...))
	case 5, 6, 7:
		values := rapid.SliceOfN(rapid.SampledFrom([]string{"7", "8", "007", "seven"}), 1, 2).Draw(t, "values")
		return packet(0, append([]byte{0x17}, execution(last, values, rapid.IntRange(0, 2).Draw(t, "typed") > 0)...))
	case 8:
		return packet(0, append([]byte{rapid.SampledFrom([]byte{0x19, 0x1a}).Draw(t, "command")}, number()...))
	case 9:
		return packet(0, append([]byte{0x16}, text.Draw(t, "text")...))
	case 10:
		return packet(0, rapid.SampledFrom([][]byte{{0x0e}, {0x1f}, []byte("\x02mysql"), {0x1b, 0, 0}, {0x1b, 1, 0}}).Draw(t, "other"))
	case 11:
		return packet(0, append(append([]byte{0x18}, number()...), 0, 0, '7'))
	}
}

func TestConformance(t *testing.T) { protocoltest.Run(t, conformance(t, 0)) }

// fewer has less be drawn than usual, where what is common to all is tested already.
func fewer(t *testing.T) {
	checks := flag.Lookup("rapid.checks").Value
	usual := checks.String()
	require.NoError(t, checks.Set("30"))
	t.Cleanup(func() { _ = checks.Set(usual) })
}

// Clients of today ask for results without marks behind their columns.
func TestConformanceWithoutMarks(t *testing.T) {
	fewer(t)
	s := conformance(t, deprecateEOF)
	require.NoError(t, protocoltest.Converse(t, s))
	require.NoError(t, protocoltest.Scripts(t, s, 60))
}

// withoutTransactions has the table be of an engine that rolls nothing back.
func withoutTransactions(s *protocoltest.Subject) {
	for i := range s.SQL.Restore {
		s.SQL.Restore[i] = strings.Replace(s.SQL.Restore[i], "engine=innodb", "engine=myisam", 1)
	}
}

// What is written to a table of an engine without transactions is there at once, and stays.
func TestConformanceWithoutTransactions(t *testing.T) {
	fewer(t)
	s := conformance(t, 0)
	withoutTransactions(s)
	require.NoError(t, protocoltest.Scripts(t, s, 60))
}

// Many applications never begin a transaction: without autocommit each first statement does.
func TestConformanceWithoutAutocommit(t *testing.T) {
	fewer(t)
	s := conformance(t, 0)
	s.SQL.Begin, s.SQL.Alone = []string{"set autocommit = 0"}, nil
	s.SQL.Others = append(s.SQL.Others, "set autocommit = 1", "commit", "rollback and chain", "commit and chain")
	require.NoError(t, protocoltest.Scripts(t, s, 60))
}

// conversations are what clients say that nothing else would think of.
func conversations() (list []protocoltest.Conversation) {
	for _, c := range []struct {
		name  string
		hits  bool
		texts []string
	}{
		{"what is asked of the statement before", true, []string{
			"select name from quay where id < 4", "select found_rows()", "select name from quay where id < 9", "show warnings", "select cast('x' as int)", "select name from quay where id = 1", "show warnings",
			"select cast('x' as int)", "select name from quay where id = 1", "select @@warning_count", "update quay set name = 'n' where id < 4", "select name from quay where id < 3", "select row_count()",
			"select name from quay where id < 5", "set @x = 1", "select found_rows()", "update quay set name = concat('quay ', id)",
		}},
		{"a long statement that asks of the one before", true, []string{"select name from quay where id < 6", "select found_rows() /*" + strings.Repeat("long ", 20_000) + "*/", "select name from quay where id < 7", "select '" + strings.Repeat("long ", 50_000) + "', found_rows()"}},
		{"columns are named as they are written", true, []string{"select id+1 from quay where id = 1", "select id  +  1 from quay where id = 1", "select ID+1 from quay where id = 1", "select COUNT( * ) from quay", "select count(*) from quay"}},
		{"a transaction", true, []string{"select name from quay where id = 1", "begin", "select name from quay where id = 2", "select name from quay where id = 1", "select name from quay where id = 1", "commit", "select name from quay where id = 1"}},
		{"a prelude", true, []string{"set names utf8mb4", "set sql_mode = 'NO_BACKSLASH_ESCAPES'", "select name from quay where name <> '\\\\' order by id", "set sql_mode = default", "set time_zone = '+02:00'", "select name from quay where id = 1"}},
	} {
		list = append(list, protocoltest.Conversation{Name: c.name, Hits: c.hits, Run: func(t testing.TB, conn net.Conn, database string) string {
			x, err := enters(conn, database, 0)
			require.NoError(t, err)
			var out strings.Builder
			for _, q := range c.texts {
				heard, err := x.Ask(q)
				require.NoError(t, err, q)
				out.WriteString(heard)
			}
			return out.String()
		}})
	}
	return append(list, protocoltest.Conversation{Name: "values without their types", Hits: true, Run: func(t testing.TB, conn net.Conn, database string) string {
		x, err := enters(conn, database, 0)
		require.NoError(t, err)
		heard, err := x.command(0x16, []byte("select name from quay where id = ? or name = ?"))
		require.NoError(t, err)
		for i, second := range []string{"quay 9", strings.Repeat("long ", 20_000), "quay 8", strings.Repeat("long ", 50_000)} {
			got, err := x.command(0x17, execution(x.prepared, []string{"7", second}, i == 0))
			require.NoError(t, err)
			heard += got
		}
		return heard
	}})
}
