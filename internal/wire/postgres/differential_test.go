package postgres_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/ledger"
)

// The differential test has conversations of raw messages with the database directly and through the larder, with
// nothing kept, with everything fetched for the first time, and again with it in memory. What the client receives must
// be the same bytes, but for process numbers and secrets.

// talk is one conversation: a connection, and what it has received.
type talk struct {
	t        require.TestingT
	conn     net.Conn
	received bytes.Buffer // as text, a message a line
	quiet    bool         // copied data is not noted
}

func dialTalk(t *testing.T, address, database string, options ...string) *talk {
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	x := &talk{t: t, conn: c}
	x.start(3<<16, append([]string{"user", "postgres", "database", database, "application_name", "conversation"}, options...)...)
	return x
}

func (x *talk) start(version uint32, parameters ...string) {
	body := binary.BigEndian.AppendUint32(nil, version)
	for _, p := range parameters {
		body = append(append(body, p...), 0)
	}
	x.bytes(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+5)), append(body, 0)...))
}

func (x *talk) bytes(b []byte) {
	_, err := x.conn.Write(b)
	require.NoError(x.t, err)
}

// say sends messages in one piece.
func (x *talk) say(messages ...pgproto3.FrontendMessage) *talk {
	var out []byte
	for _, m := range messages {
		var err error
		out, err = m.Encode(out)
		require.NoError(x.t, err)
	}
	x.bytes(out)
	return x
}

// hear receives messages up to the nth of a type, or the end.
func (x *talk) hear(kind byte, n int) *talk {
	require.NoError(x.t, x.conn.SetReadDeadline(time.Now().Add(time.Minute)))
	head := make([]byte, 5)
	for n > 0 {
		if _, err := io.ReadFull(x.conn, head); err != nil {
			if err == io.EOF || strings.Contains(err.Error(), "reset") {
				x.received.WriteString("the end\n")
				return x
			}
			require.NoError(x.t, err, "waiting for %q after\n%.3000s", kind, tail(x.received.String()))
		}
		body := make([]byte, binary.BigEndian.Uint32(head[1:])-4)
		_, err := io.ReadFull(x.conn, body)
		require.NoError(x.t, err)
		switch head[0] {
		case 'K':
			body = nil
		case 'A':
			body = body[4:]
		}
		if x.quiet && head[0] == 'd' {
			continue
		}
		fmt.Fprintf(&x.received, "%c %q\n", head[0], body)
		if head[0] == kind {
			n--
		}
	}
	return x
}

func tail(s string) string { return s[max(0, len(s)-1500):] }

func (x *talk) ready() *talk { return x.hear('Z', 1) }

func query(sql string) *pgproto3.Query { return &pgproto3.Query{String: sql} }

func parse(name, sql string) *pgproto3.Parse { return &pgproto3.Parse{Name: name, Query: sql} }

func bind(portal, name string, values ...string) *pgproto3.Bind {
	b := &pgproto3.Bind{DestinationPortal: portal, PreparedStatement: name}
	for _, v := range values {
		b.Parameters = append(b.Parameters, []byte(v))
	}
	return b
}

func describe(kind byte, name string) *pgproto3.Describe {
	return &pgproto3.Describe{ObjectType: kind, Name: name}
}

func closing(kind byte, name string) *pgproto3.Close {
	return &pgproto3.Close{ObjectType: kind, Name: name}
}

func execute(portal string, rows uint32) *pgproto3.Execute {
	return &pgproto3.Execute{Portal: portal, MaxRows: rows}
}

var (
	syncing  = &pgproto3.Sync{}
	flushing = &pgproto3.Flush{}
)

// unit asks for one statement in the form that most drivers use.
func unit(sql string, values ...string) []pgproto3.FrontendMessage {
	return []pgproto3.FrontendMessage{parse("", sql), bind("", "", values...), describe('P', ""), execute("", 0)}
}

func together(parts ...any) (all []pgproto3.FrontendMessage) {
	for _, p := range parts {
		switch p := p.(type) {
		case pgproto3.FrontendMessage:
			all = append(all, p)
		case []pgproto3.FrontendMessage:
			all = append(all, p...)
		}
	}
	return all
}

const (
	quay     = "create table quay (id int primary key, name text, at timestamptz, tons numeric)"
	quays    = "insert into quay select i, 'quay ' || i, '2027-03-01 08:00+00'::timestamptz + i * interval '1 hour', i * 1.5 from generate_series(1, 30) i"
	oneQuay  = "select id, name, at, tons from quay where id = $1"
	allQuays = "select id, name from quay order by id"
	noQuay   = "select name from quay where id < 0"
)

// conversations are run one after the other in every state of memory. Hits says that with everything in memory there
// must be some.
var conversations = []struct {
	name string
	hits bool
	run  func(x *talk)
}{
	{"simple queries", true, func(x *talk) {
		for _, sql := range []string{allQuays, "", ";", noQuay, "select name from quay where id = 3", "select 1/0", "select 1; select 2",
			"select 1; select 1/0; select 2", "select name from quay where id = 3 -- again", "values (1), (2)", "show server_version_num"} {
			x.say(query(sql)).ready()
		}
	}},
	{"what cannot be parsed", false, func(x *talk) {
		for _, sql := range []string{"selec", allQuays, "select 1; selec; select 2", "select 'open", "/* open", "select $1", "\xff\xfe", strings.Repeat("(", 2000)} {
			x.say(query(sql)).ready()
			x.say(together(unit(sql), unit(allQuays), syncing)...).ready()
		}
	}},
	{"notices", false, func(x *talk) {
		for _, sql := range []string{allQuays, "do $$ begin raise notice 'fog'; end $$", allQuays, "drop table if exists never_there", allQuays} {
			x.say(query(sql)).ready()
		}
	}},
	{"transactions", true, func(x *talk) {
		for _, sql := range []string{"select name from quay where id = 3", "begin", "select name from quay where id = 3", "savepoint z", "select name from quay where id = 3", "commit", "begin", "select name from quay where id = 3", "savepoint a", "select 1/0", "select name from quay where id = 3", "rollback to a",
			"select name from quay where id = 3", "update quay set name = 'new' where id = 3", "select name from quay where id = 3", "rollback", "select name from quay where id = 3",
			"begin isolation level serializable", "select name from quay where id = 3", "commit", "commit", "rollback",
			"begin", "update quay set name = 'newer' where id = 3", "commit and chain", "select name from quay where id = 3", "rollback",
			"update quay set name = 'quay 3' where id = 3", "begin; select name from quay where id = 3", "select name from quay where id = 3", "end"} {
			x.say(query(sql)).ready()
		}
	}},
	{"an isolation asked for behind a read that no Sync has ended", true, func(x *talk) {
		for _, end := range []pgproto3.FrontendMessage{flushing, syncing} { // with a Sync it comes in time
			x.say(together(unit(allQuays), end)...).hear('C', 1)
			if end == syncing {
				x.hear('Z', 1)
			}
			x.say(together(unit("begin isolation level repeatable read"), syncing)...).ready()
			x.say(query("rollback")).ready()
		}
	}},
	{"settings", true, func(x *talk) {
		for _, sql := range []string{"set datestyle = 'german'", "set time zone 'Etc/GMT-10'", "set application_name = 'another'", "set client_encoding = 'LATIN1'", "show all_is_well",
			"reset all", "set local datestyle = 'sql'", "begin", "set local time zone 'UTC'", "commit", "discard all", "set role nobody_there", "set standard_conforming_strings = off",
			"select '\\'", "reset standard_conforming_strings"} {
			x.say(query(sql)).ready()
			x.say(together(unit(oneQuay, "4"), syncing)...).ready()
		}
	}},
	{"one statement at a time", true, func(x *talk) {
		x.say(together(unit(oneQuay, "1"), syncing)...).ready()
		x.say(together(unit(oneQuay, "1"), syncing)...).ready()
		x.say(together(unit(noQuay), syncing)...).ready()
		x.say(together(unit(oneQuay, "-1"), closing('P', ""), syncing)...).ready()
		x.say(parse("", oneQuay), bind("", "", "2"), execute("", 0), syncing).ready()
		x.say(parse("", allQuays), describe('S', ""), syncing).ready()
		x.say(bind("", ""), execute("", 0), syncing).ready()
		x.say(&pgproto3.Parse{Query: oneQuay, ParameterOIDs: []uint32{23}}, &pgproto3.Bind{ParameterFormatCodes: []int16{1}, Parameters: [][]byte{{0, 0, 0, 7}}, ResultFormatCodes: []int16{1}}, describe('P', ""), execute("", 0), syncing).ready()
		x.say(&pgproto3.Parse{Query: oneQuay}, &pgproto3.Bind{Parameters: [][]byte{[]byte("7")}, ResultFormatCodes: []int16{1, 0, 0, 1}}, execute("", 0), syncing).ready()
		x.say(&pgproto3.Parse{Query: oneQuay}, &pgproto3.Bind{Parameters: [][]byte{nil}}, execute("", 0), syncing).ready()
	}},
	{"named statements and portals", true, func(x *talk) {
		x.say(parse("s", oneQuay), describe('S', "s"), syncing).ready()
		for _, id := range []string{"1", "2", "1"} {
			x.say(bind("", "s", id), describe('P', ""), execute("", 0), syncing).ready()
			x.say(bind("", "s", id), execute("", 0), syncing).ready()
		}
		x.say(parse("t", oneQuay), bind("", "t", "5"), describe('P', ""), execute("", 0), syncing).ready()
		x.say(parse("s", allQuays), syncing).ready() // there is one
		x.say(bind("p", "s", "1"), execute("p", 0), closing('P', "p"), syncing).ready()
		x.say(closing('S', "s"), parse("s", allQuays), bind("", "s"), execute("", 0), syncing).ready()
		x.say(bind("", "s"), execute("", 0), syncing).ready()
		x.say(closing('S', "s"), syncing).ready()
		x.say(bind("", "s"), execute("", 0), syncing).ready()
		x.say(closing('S', "never there"), closing('P', "nor this"), syncing).ready()
	}},
	{"some rows at a time", false, func(x *talk) {
		x.say(query("begin")).ready()
		x.say(parse("", allQuays), bind("p", ""), execute("p", 7), execute("p", 7), flushing).hear('s', 2)
		x.say(execute("p", 0), execute("p", 0), syncing).ready()
		x.say(bind("", ""), execute("", 1), syncing).ready()
		x.say(execute("", 2), describe('P', ""), syncing).ready()
		x.say(query("commit")).ready()
		x.say(parse("", allQuays), bind("", ""), execute("", 3), syncing).ready()
		x.say(execute("", 3), syncing).ready() // gone with its transaction
	}},
	{"what was answered from memory is used further", true, func(x *talk) {
		x.say(together(unit(oneQuay, "8"), syncing)...).ready()
		x.say(describe('S', ""), syncing).ready() // the statement is there, and the portal is not
		x.say(execute("", 0), syncing).ready()
		x.say(bind("", "", "9"), execute("", 0), syncing).ready()
		x.say(together(unit(oneQuay, "8"), execute("", 0), syncing)...).ready() // the portal has no rows left
		x.say(together(unit(oneQuay, "8"), describe('P', ""), syncing)...).ready()
		x.say(query("select name from quay where id = 3")).ready()
		x.say(bind("", "", "8"), execute("", 0), syncing).ready() // a simple query has made the server forget it
		x.say(query("begin")).ready()
		x.say(together(unit(allQuays), syncing)...).ready()
		x.say(together(unit(oneQuay, "8"), syncing)...).ready()
		x.say(execute("", 0), syncing).ready()
		x.say(describe('P', ""), execute("", 0), syncing).ready()
		x.say(query("rollback")).ready()
		x.say(query("begin")).ready()
		x.say(parse("", allQuays), bind("", ""), execute("", 2), syncing).ready()
		x.say(together(unit(oneQuay, "8"), closing('P', ""), syncing)...).ready()
		x.say(execute("", 0), syncing).ready() // not the portal of before
		x.say(query("rollback")).ready()
		x.say(parse("", "selec"), syncing).ready()
		x.say(bind("", "", "8"), execute("", 0), syncing).ready()
	}},
	{"pipelines", true, func(x *talk) {
		x.say(together(unit(oneQuay, "1"), unit(oneQuay, "2"), unit(allQuays), unit(noQuay), syncing)...).ready()
		x.say(together(unit("begin"), unit(oneQuay, "1"), unit(oneQuay, "2"), syncing)...).ready()
		x.say(together(unit(oneQuay, "1"), unit("commit"), syncing)...).ready()
		x.say(together(unit("begin"), unit(oneQuay, "1"), unit("update quay set name = 'x' where id = 1"), unit(oneQuay, "1"), unit("rollback"), unit(oneQuay, "1"), syncing)...).ready()
		x.say(together(unit(oneQuay, "1"), syncing, unit(oneQuay, "2"), syncing, query("select name from quay where id = 3"), query(allQuays), unit(oneQuay, "4"), syncing)...).hear('Z', 5)
		x.say(together(unit(oneQuay, "1"), unit("select 1/0"), unit(oneQuay, "2"), syncing, unit(oneQuay, "3"), syncing)...).hear('Z', 2)
		x.say(together(parse("pipe", oneQuay), describe('S', "pipe"), bind("", "pipe", "1"), execute("", 0), bind("", "pipe", "2"), execute("", 0), syncing)...).ready()
		x.say(together(parse("", "selec"), bind("", "", "1"), execute("", 0), unit(oneQuay, "1"), syncing, syncing)...).hear('Z', 2)
		x.say(together(parse("pipe", allQuays), bind("", "pipe"), execute("", 0), syncing)...).ready()
		x.say(together(unit("select pg_sleep(0.05)"), unit(oneQuay, "1"), syncing, query("select name from quay where id = 3"))...).hear('Z', 2)
		x.say(together(unit("begin"), unit("selec"), unit(oneQuay, "1"), syncing, unit(oneQuay, "1"), syncing, query("rollback"))...).hear('Z', 3)
		var many []pgproto3.FrontendMessage
		for i := range 500 {
			many = append(many, together(bind("", "pipe", fmt.Sprint(1+i%30)), execute("", 0))...)
			if i%100 == 50 {
				many = append(many, unit("select 'not kept'")...)
			}
		}
		x.say(append(many, syncing)...).ready()
	}},
	{"flushes", true, func(x *talk) {
		x.say(parse("f", oneQuay), describe('S', "f"), flushing).hear('T', 1)
		x.say(bind("", "f", "1"), execute("", 0), flushing).hear('C', 1)
		x.say(bind("", "f", "2"), execute("", 0), flushing).hear('C', 1)
		x.say(syncing).ready()
		x.say(bind("", "f", "1"), describe('P', ""), execute("", 0), flushing).hear('C', 1)
		x.say(bind("", "f", "1"), describe('P', ""), execute("", 0), flushing).hear('C', 1)
		x.say(query("select name from quay where id = 3")).ready() // it ends what had no Sync
		x.say(flushing, flushing, syncing).ready()
		x.say(syncing, syncing).hear('Z', 2)
		x.say(parse("", "selec"), flushing).hear('E', 1)
		x.say(query("select 'not heard'"), query(allQuays), syncing).ready()
		x.say(query(allQuays)).ready()
	}},
	{"prepared in SQL", false, func(x *talk) {
		for _, sql := range []string{"prepare q (int) as " + oneQuay, "execute q (1)", "execute q (2)", "prepare q as select 1", "deallocate q", "execute q (1)", "deallocate all"} {
			x.say(query(sql)).ready()
		}
		x.say(query("prepare r (int) as "+oneQuay), query("prepare u as update quay set tons = 3 where id = 3")).hear('Z', 2)
		x.say(bind("", "r", "3"), execute("", 0), syncing).ready()
		x.say(parse("v", "select name from quay where id = 3"), syncing).ready()
		x.say(bind("", "v"), execute("", 0), syncing).ready()
		x.say(query("execute v"), query("deallocate v"), query("prepare v as select 'another'")).hear('Z', 3)
		x.say(bind("", "v"), execute("", 0), syncing).ready()
		x.say(query("execute u"), query("select tons from quay where id = 3"), query("update quay set tons = 4.5 where id = 3")).hear('Z', 3)
	}},
	{"cursors", false, func(x *talk) {
		for _, sql := range []string{"declare c cursor for " + allQuays, "begin", "declare c scroll cursor for " + allQuays, "fetch 3 from c", "move last in c", "fetch prior from c",
			"fetch all from c", "close c", "fetch c", "rollback"} {
			x.say(query(sql)).ready()
		}
		x.say(query("begin")).ready()
		x.say(query("declare d cursor for " + allQuays)).ready()
		x.say(describe('P', "d"), execute("d", 2), syncing).ready()
		x.say(query("commit")).ready()
	}},
	{"copying", false, func(x *talk) {
		x.say(query("copy (select id, name from quay order by id limit 5) to stdout")).ready()
		x.say(query("copy quay (id, name) from stdin")).hear('G', 1)
		x.say(&pgproto3.CopyData{Data: []byte("101\tnew\n102\tne")}, &pgproto3.CopyData{Data: []byte("wer\n")}, &pgproto3.CopyDone{}).ready()
		x.say(query("select count(*) from quay")).ready()
		x.say(query("copy quay (id, name) from stdin")).hear('G', 1)
		x.say(&pgproto3.CopyData{Data: []byte("103\tnever\n")}, &pgproto3.CopyFail{Message: "changed my mind"}).ready()
		x.say(query("copy quay (id, name) from stdin")).hear('G', 1)
		x.say(&pgproto3.CopyData{Data: []byte("not a number\tx\n")}, &pgproto3.CopyDone{}).ready()
		x.say(query("delete from quay where id > 100")).ready()
		x.say(query("select count(*) from quay")).ready()
		x.say(together(unit("copy quay (id, name) from stdin"), syncing)...).hear('G', 1)
		x.say(&pgproto3.CopyData{Data: []byte("104\tx\n")}, &pgproto3.CopyDone{}, syncing).ready()
		x.say(together(unit("copy quay (id, name) from stdin"), syncing)...).hear('G', 1)
		x.say(&pgproto3.CopyData{Data: []byte("bad\n")}, flushing, &pgproto3.CopyDone{}, syncing).ready()
		x.say(together(unit("copy (select 1) to stdout"), unit(oneQuay, "1"), syncing)...).ready()
		x.say(query("delete from quay where id > 100; copy quay from stdin; select 5")).hear('G', 1)
		x.say(&pgproto3.CopyDone{}).ready()
		x.say(query("select count(*) from quay")).ready()
	}},
	{"a statement where copied data is expected", false, func(x *talk) {
		x.say(together(unit("copy quay (id, name) from stdin"), unit(oneQuay, "1"), syncing)...).hear('Z', 1)
	}},
	{"function calls", false, func(x *talk) {
		x.say(query("select name from quay where id = 3")).ready()
		x.say(&pgproto3.FunctionCall{Function: 177, ArgFormatCodes: []uint16{1}, Arguments: [][]byte{{0, 0, 0, 2}, {0, 0, 0, 3}}, ResultFormatCode: 1}).ready()
		x.say(&pgproto3.FunctionCall{Function: 4, ArgFormatCodes: []uint16{1}, ResultFormatCode: 1}).ready()
		x.say(query("select name from quay where id = 3")).ready()
	}},
	{"notifications", false, func(x *talk) {
		x.say(query("listen tide")).ready()
		x.say(query("notify tide, 'high'")).hear('Z', 1)
		x.say(query("select pg_notify('tide', 'low')")).ready()
		x.say(together(unit("notify tide, 'slack'"), syncing)...).ready()
		x.say(query("select name from quay where id = 3")).ready()
		x.say(query("begin"), query("notify tide"), query("select name from quay where id = 3"), query("commit")).hear('Z', 4)
		x.say(query("unlisten *")).ready()
	}},
	{"what is wrong", false, func(x *talk) {
		x.say(bind("", "nowhere"), syncing).ready()
		x.say(execute("nowhere", 0), syncing).ready()
		x.say(describe('S', "nowhere"), syncing).ready()
		x.say(describe('P', "nowhere"), syncing).ready()
		x.say(together(unit(oneQuay, "no number"), syncing)...).ready()
		x.say(together(parse("", oneQuay), bind("", "", "1", "2"), execute("", 0), syncing)...).ready()
		x.say(together(unit(oneQuay), syncing)...).ready()
		x.say(together(unit("select 1; select 2"), syncing)...).ready()
		x.say(query("select name from nowhere")).ready()
		x.say(query("select name from quay where id = 3")).ready()
		x.say(&pgproto3.CopyDone{}, &pgproto3.CopyData{Data: []byte("nobody asked")}, query("select name from quay where id = 3")).ready()
		x.bytes([]byte{'y', 0, 0, 0, 4})
		x.hear('Z', 1)
	}},
	{"a message that is too short", false, func(x *talk) {
		x.bytes([]byte{'P', 0, 0, 0, 5, 0})
		x.say(syncing).ready()
		x.say(query("select 1")).ready()
	}},
	{"long results", false, func(x *talk) {
		x.say(query("select i, repeat('x', i) from generate_series(1, 2000) i")).ready()
		x.say(query("select repeat('x', 300000) from generate_series(1, 5)")).ready()
		x.say(together(unit("select repeat('y', 300000), i from generate_series(1, 3) i"), unit(allQuays), syncing)...).ready()
	}},
	{"leaving", false, func(x *talk) { x.say(&pgproto3.Terminate{}).hear('Z', 1) }},
	{"ended by an administrator", false, func(x *talk) {
		x.say(query("select pg_terminate_backend(pg_backend_pid())")).hear('Z', 1)
	}},
}

// same compares what was received, and shows where it first differs.
func same(t *testing.T, want, got, when string) {
	t.Helper()
	a, b := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range a {
		if i >= len(b) || a[i] != b[i] {
			from := max(i-4, 0)
			assert.Fail(t, "other bytes than the database's", "%s, message %d\n directly:\n%.2000s\n through:\n%.2000s", when, i,
				strings.Join(a[from:min(i+4, len(a))], "\n"), strings.Join(b[min(from, len(b)):min(i+4, len(b))], "\n"))
			return
		}
	}
	assert.Len(t, b, len(a), when)
}

// How a conversation may begin.
func TestStartUpsReceiveTheSameBytes(t *testing.T) {
	l := newLarder(t)
	for name, begin := range map[string]func(x *talk){
		"3.2":             func(x *talk) { x.start(3<<16|2, "user", "postgres", "database", l.database) },
		"a later version": func(x *talk) { x.start(3<<16|99, "user", "postgres", "database", l.database, "_pq_.new", "1") },
		"protocol 2":      func(x *talk) { x.bytes([]byte{0, 0, 0, 8, 0, 2, 0, 0}) },
		"protocol 4":      func(x *talk) { x.bytes([]byte{0, 0, 0, 8, 0, 4, 0, 0}) },
		"options": func(x *talk) {
			x.start(3<<16, "user", "postgres", "database", l.database, "options", "-c datestyle=german", "TimeZone", "Etc/GMT-10")
		},
		"an unknown database": func(x *talk) { x.start(3<<16, "user", "postgres", "database", "nowhere") },
		"an unknown user":     func(x *talk) { x.start(3<<16, "user", "nobody_there", "database", l.database) },
		"no user":             func(x *talk) { x.start(3<<16, "database", l.database) },
		"a bad setting":       func(x *talk) { x.start(3<<16, "user", "postgres", "database", l.database, "datestyle", "wrong") },
		"not ended":           func(x *talk) { x.bytes([]byte{0, 0, 0, 9, 0, 3, 0, 0, 'u'}) },
	} {
		t.Run(name, func(t *testing.T) {
			once := func(address string) string {
				c, err := net.Dial("tcp", address)
				require.NoError(t, err)
				defer c.Close()
				x := &talk{t: t, conn: c}
				begin(x)
				if strings.HasPrefix(name, "protocol") { // an error of the old form
					answer, err := io.ReadAll(c)
					require.NoError(t, err)
					return string(answer)
				}
				x.hear('Z', 1)
				if strings.HasSuffix(x.received.String(), "the end\n") {
					return x.received.String()
				}
				x.say(query("select current_setting('datestyle'), current_setting('timezone')")).ready()
				return x.received.String()
			}
			assert.Equal(t, once(server.Address()), once(l.address))
		})
	}
}

// A client that follows the database's changes gets what it would get directly.
func TestReplicationIsRelayed(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	at := one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), "select pg_current_wal_flush_lsn()::text")
	for _, kind := range []string{"true", "database"} {
		one(t, reader, readBerth)
		once := func(address string) string {
			x := dialTalk(t, address, l.database, "replication", kind)
			x.quiet = true
			x.hear('Z', 1)
			x.say(query("SHOW wal_level")).ready()
			x.say(query("CREATE_REPLICATION_SLOT boats TEMPORARY PHYSICAL")).ready()
			x.say(query("TIMELINE_HISTORY 7")).ready()
			x.say(query("START_REPLICATION "+at)).hear('W', 1)
			x.say(&pgproto3.CopyDone{}).ready()
			x.say(&pgproto3.Terminate{}).hear('Z', 1)
			return x.received.String()
		}
		want := once(server.Address())
		same(t, want, once(l.address), kind)
		l.engine.DropAll() // so that the larder would have something to ask
		same(t, want, once(l.address), kind)
		l.know()
		one(t, reader, readBerth)
	}
	outcome, why := l.became(readBerth, 3)
	assert.Equal(t, ledger.Hit, outcome, why)
}
