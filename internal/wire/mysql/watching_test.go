package mysql_test

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"testing"

	dialect "jollylarder/internal/core/dialect/mysql"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/stream"
	"jollylarder/internal/wire/link"
)

// watched is a larder, and what it sees of statements.
type watched struct {
	*larder
	events *stream.Watcher
}

func newWatched(t testing.TB) *watched {
	l := newLarder(t, link.Settings{})
	w := &watched{l, l.core.Stream.Watch(true, true)}
	t.Cleanup(w.events.Close)
	return w
}

// one gives a connection of its own, through the larder.
func (w *watched) one(options string) *sql.Conn {
	c, err := connect(w.t, w.address, "ines", "Quay#7", options).Conn(context.Background())
	require.NoError(w.t, err)
	w.t.Cleanup(func() { c.Close() })
	return c
}

// do runs statements, whatever comes of them.
func do(c *sql.Conn, list ...string) {
	for _, q := range list {
		_, _ = c.ExecContext(context.Background(), q)
	}
}

// saw gives what was seen since it was last asked: the patterns, with the number of rows, and whether they failed.
func (w *watched) saw() (out []string) {
	events, lost := w.events.Read()
	assert.Zero(w.t, lost)
	for _, e := range events {
		line := fmt.Sprintf("%s (%d)", e.Pattern.Text, e.Rows)
		if e.Failed {
			line += " failed"
		}
		for _, l := range e.Labels {
			line += " " + l.Key + "=" + l.Value
		}
		for _, p := range dialect.Parameters(e.Types, e.Bound) {
			line += fmt.Sprintf(" %s:%s", p.Type, p.Value)
		}
		out = append(out, line)
	}
	return out
}

// Each statement is seen by its pattern, with its rows, labels and values, whether it is a text, was prepared, or is a
// command of the protocol.
func TestStatementsAreWatched(t *testing.T) {
	w := newWatched(t)
	c := w.one("connectionAttributes=program_name:booking-web&multiStatements=true")
	w.saw()
	do(c, "select ship from berths where id in (1, 2)", "SELECT ship FROM berths WHERE id in (1, 2, 3) /*route='/boards'*/",
		"update berths set ship = 'x' where id = 1000", "select nonsense from berths", "not even sql", "select 1; select id from berths where id < 4",
		"call twice()", "select /*!50001 ship */ /*!99999 , id */ from berths limit 1")
	assert.Equal(t, []string{
		"select ship from berths where id in ($..) (2)", "select ship from berths where id in ($..) (3) route=/boards",
		"update berths set ship = $ where id = $ (0)", "select nonsense from berths (0) failed",
		"(a statement: its SQL is not understood: the grammar does not have it) (0) failed", "select $; select id from berths where id < $ (4)",
		"call twice() (2)", "select ship from berths limit $ (1)",
	}, w.saw())
	stmt, err := c.PrepareContext(context.Background(), "select id from berths where id < ? and ship like ?")
	require.NoError(t, err)
	for range 2 {
		rows, err := stmt.Query(4, "ship%")
		require.NoError(t, err)
		for rows.Next() {
		}
		rows.Close()
	}
	stmt.Close()
	require.NoError(t, c.PingContext(context.Background()))
	const ran = "select id from berths where id < $ and ship like $ (3) bigint:4 char:ship%"
	assert.Equal(t, []string{ran, ran}, w.saw())
	do(c, "select 1")
	events, _ := w.events.Read()
	require.Len(t, events, 1)
	e := events[0]
	assert.Equal(t, []string{"booking-web", "ines", "skerrow", "select 1"}, []string{e.Application, e.User, e.Database, string(e.Exact)})
	assert.Equal(t, "the larder has no account to read the schema with", e.Reason.String())
	assert.False(t, w.core.Does(e.Pattern).Everything)
	assert.Positive(t, e.Took)
	assert.Greater(t, e.Bytes, 20)
}

// A load of many rows is read by its first ones, up to a length; a longer one may do anything.
func TestLoadsOfManyRows(t *testing.T) {
	w := newWatched(t)
	c := w.one("maxAllowedPacket=0")
	load := func(rows int) []string {
		text := strings.Repeat("(1, 'a ship of some length'), ", rows-1) + "(1, 'x')"
		w.saw()
		do(c, "replace into berths (id, ship) values "+text)
		return w.saw()
	}
	before := w.core.SessionRoom().Used()
	for rows, want := range map[int]string{2: "replace into berths(id, ship) values ($, $).. (0)", 5000: "replace into berths(id, ship) values ($, $).. (0)", 50_000: "(too long to be analysed) (0)"} {
		assert.Equal(t, []string{want}, load(rows), rows)
	}
	assert.Equal(t, before, w.core.SessionRoom().Used(), "what was taken for long ones was given back")
	events := w.patternsOf("replace into berths(id, ship) values ($, $)..")
	require.Len(t, events, 1)
	assert.Equal(t, []string{"skerrow.berths"}, w.core.Does(events[0]).Writes)
	assert.False(t, w.core.Does(events[0]).Everything)
}

// patternsOf gives the patterns of a text.
func (w *watched) patternsOf(text string) (list []*engine.Pattern) {
	w.core.Patterns(func(p *engine.Pattern) {
		if p.Text == text {
			list = append(list, p)
		}
	})
	return list
}

// reads gives the tables that a statement reads, which is one of its own, in the session's present schema.
func (w *watched) reads(c *sql.Conn, alias string) string {
	w.saw()
	do(c, "select count(*) from berths, skerrow.berths "+alias)
	events, _ := w.events.Read()
	require.Len(w.t, events, 1)
	return strings.Join(w.core.Does(events[0].Pattern).Reads, " ")
}

// Names without a schema mean tables of that which the session uses at that moment.
func TestNamesMeanTablesOfTheSchemaInUse(t *testing.T) {
	w := newWatched(t)
	c := w.one("")
	assert.Equal(t, "skerrow.berths", w.reads(c, "a"))
	do(c, "use mysql")
	assert.Equal(t, "mysql.berths skerrow.berths", w.reads(c, "b"))
	do(c, "use nowhere")
	assert.Equal(t, "mysql.berths skerrow.berths", w.reads(c, "c"), "there is no such schema")
	do(c, "use `skerrow`")
	assert.Equal(t, "skerrow.berths", w.reads(c, "d"))
	c = w.one("multiStatements=true")
	do(c, "select 1; use mysql; select 2")
	assert.Equal(t, "mysql.berths skerrow.berths", w.reads(c, "e"))
	do(c, "use skerrow; select nonsense")
	assert.Equal(t, "berths skerrow.berths", w.reads(c, "f"), "how far it came is not known")
}

// A session begins as one that has nothing between: the larder's own question leaves no traces.
func TestASessionBeginsFresh(t *testing.T) {
	l := newLarder(t, link.Settings{})
	for _, q := range []string{"select row_count(), last_insert_id(), @@warning_count, @@error_count, @@sql_mode, @@in_transaction", "show warnings"} {
		want := say(t, server.Address(), "ines", "Quay#7", 0).ok().send(0, append([]byte{3}, q...)).send(0, append([]byte{3}, theEnd...)).hear()
		got := say(t, l.address, "ines", "Quay#7", 0).ok().send(0, append([]byte{3}, q...)).send(0, append([]byte{3}, theEnd...)).hear()
		assert.Equal(t, want, got, q)
	}
}

// How texts are read follows the session's mode and character set, whatever sets them.
func TestHowTextsAreRead(t *testing.T) {
	w := newWatched(t)
	c := w.one("charset=utf8mb4")
	seen := func(sql string) string {
		w.saw()
		do(c, sql)
		list := w.saw()
		require.Len(t, list, 1)
		text, _, _ := strings.Cut(list[0], " (")
		return text
	}
	const quoted = `select "id" from berths where ship = 'a\'' limit 1`
	const named = `select "id" from berths where ship = $ limit $`
	usual := seen(quoted)
	assert.Equal(t, "select $ from berths where ship = $ limit $", usual)
	do(c, "set sql_mode = 'ANSI_QUOTES'")
	assert.Equal(t, `select "id" from berths where ship = $ limit $`, seen(quoted))
	do(c, "set sql_mode = concat('NO_BACKSLASH', '_ESCAPES')")
	assert.Equal(t, `select $ from berths where ship = $`, seen(`select "id\" from berths where ship = 'a\'`))
	do(c, "set sql_mode = default")
	assert.Equal(t, usual, seen(quoted))
	do(c, "set names gbk")
	assert.Contains(t, seen(quoted), "the session's encoding gbk is not read")
	do(c, "set names utf8mb4")
	assert.Equal(t, usual, seen(quoted))
	do(c, "set character_set_client = concat('utf8', 'mb4')")
	assert.Contains(t, seen(quoted), "the session's encoding set by an expression is not read")
	do(c, "set names default")
	assert.Equal(t, usual, seen(quoted))
	stmt, err := c.PrepareContext(context.Background(), "set names gbk")
	require.NoError(t, err)
	_, err = stmt.Exec()
	require.NoError(t, err)
	assert.Contains(t, seen(quoted), "the session's encoding gbk is not read", "a prepared statement sets it too")
	stmt.Close()
	do(c, "set names utf8mb4")
	do(c, "set sql_mode = 'ANSI'", "prepare s from 'set sql_mode = \\'\\''", "execute s")
	assert.Equal(t, usual, seen(quoted))
	root := connect(t, server.Address(), "root", "", "")
	before, err := asks(root, "select @@global.sql_mode")
	require.NoError(t, err)
	_, err = root.Exec("set global sql_mode = 'ANSI_QUOTES'")
	require.NoError(t, err)
	c = w.one("")
	x := say(t, w.address, "ines", "Quay#7", 0).ok()
	defer func() {
		_, err = root.Exec("set global sql_mode = ?", before)
		require.NoError(t, err)
	}()
	const reset = "\x1f"
	w.saw()
	for _, command := range []string{"\x03" + quoted, reset, "\x03" + quoted, "\x03set sql_mode = ''", "\x03" + quoted, reset, "\x03" + quoted} {
		x.send(0, []byte(command)).send(0, append([]byte{3}, theEnd...)).hear()
	}
	var modes []string
	for _, line := range w.saw() {
		if strings.Contains(line, "from berths") {
			modes = append(modes, strings.TrimSuffix(line, " (0)"))
		}
	}
	assert.Equal(t, []string{named, named, usual, named}, modes, "a reset brings the server's mode back")
	x.together([]byte("\x03set sql_mode = ''"), []byte("\x03"+quoted), []byte("\x03set names gbk"), append([]byte{3}, theEnd...)).hear()
	assert.Contains(t, w.saw()[1], "sent before an earlier reply had ended")
	x.send(0, []byte("\x03"+quoted)).send(0, append([]byte{3}, theEnd...)).hear()
	assert.Contains(t, w.saw()[0], "the session's encoding gbk is not read", "what is not read is looked at for that")
	assert.Equal(t, named, seen(quoted), "a session begins in the server's mode")
	do(c, "set sql_mode = ''")
	assert.Equal(t, usual, seen(quoted))
}

// What of a conversation is no statement is not counted, and what is cannot be hidden in another command.
func TestCommandsThatAreStatements(t *testing.T) {
	w := newWatched(t)
	x := say(t, w.address, "ines", "Quay#7", 0).ok()
	ends := func(body []byte) {
		x.send(0, body)
		x.send(0, append([]byte{3}, theEnd...)).hear()
	}
	w.saw()
	for _, c := range []struct {
		body []byte
		want string
	}{
		{[]byte("\x02mysql"), "use `mysql` (0)"}, {[]byte("\x02no`where"), "use `no``where` (0) failed"}, {[]byte{0x0e}, ""}, {[]byte{0x09}, ""},
		{[]byte{0x1f}, "(discards the state of its session) (0)"}, {[]byte{0x1b, 0, 0}, ""}, {[]byte("\x04berths\x00"), ""},
		{[]byte{0x1d}, "(not a message of the protocol) (0) failed"}, {[]byte{0x17, 9, 9, 0, 0, 0, 1, 0, 0, 0}, "(a statement that was not prepared here) (0) failed"},
		{append([]byte("\x03select "), make([]byte, 1<<20)...), "(too long to be analysed) (0) failed"},
	} {
		ends(c.body)
		seen := w.saw()
		require.NotEmpty(t, seen)
		assert.Equal(t, c.want, strings.Join(seen[:len(seen)-1], "; "), "%.60q", c.body)
	}
}

// A prepared statement is known by what prepared it last, also before the server has answered that, and by the types that
// its parameters had before.
func TestStatementsThatAreBeingPrepared(t *testing.T) {
	w := newWatched(t)
	x := say(t, w.address, "ines", "Quay#7", 0).ok()
	w.saw()
	last := []byte{0x17, 0xff, 0xff, 0xff, 0xff, 0, 1, 0, 0, 0}
	seven := append(append(last[:len(last):len(last)], 0, 1, 8, 0), 7, 0, 0, 0, 0, 0, 0, 0)
	eight := append(append(last[:len(last):len(last)], 0, 0), 8, 0, 0, 0, 0, 0, 0, 0)
	x.together([]byte("\x16select id from berths where id = ?"), seven, append([]byte{3}, theEnd...)).hear()
	assert.Equal(t, []string{"select id from berths where id = $ (1)", "select $ (1)"}, w.saw(), "how many parameters it has is not known yet")
	x.send(0, []byte("\x16select id from berths where id = ?"))
	_, body := x.packet()
	for range 4 { // its parameter, its column, and the marks behind them
		x.packet()
	}
	x.send(0, append([]byte{0x17, body[1], body[2], body[3], body[4]}, seven[5:]...)).send(0, append([]byte{0x17, body[1], body[2], body[3], body[4]}, eight[5:]...))
	pieces := append(append([]byte{0x18, body[1], body[2], body[3], body[4]}, 0, 0), "7"...)
	x.send(0, pieces).send(0, append([]byte{0x17, body[1], body[2], body[3], body[4], 0, 1, 0, 0, 0}, 0, 1, 0xfd, 0))
	x.send(0, []byte{0x19, body[1], body[2], body[3], body[4]}).send(0, append([]byte{0x17, body[1], body[2], body[3], body[4]}, eight[5:]...))
	x.send(0, append([]byte{3}, theEnd...)).hear()
	seen := w.saw()
	require.Len(t, seen, 5)
	assert.Regexp(t, `^select id from berths where id = \$ \(\d\)$`, seen[2], "a value that was sent in pieces is not looked at")
	assert.Equal(t, []string{
		"select id from berths where id = $ (1) bigint:7", "select id from berths where id = $ (1) bigint:8", "(a statement that was not prepared here) (0) failed", "select $ (1)",
	}, slices.Delete(seen, 2, 3))
}

// However commands come, together or alone and cut anywhere, each statement is seen once, in their order.
func TestWhatIsSentTogetherIsSeenInOrder(t *testing.T) {
	w := newWatched(t)
	x := say(t, w.address, "ines", "Quay#7", 0).ok()
	w.saw()
	rapid.Check(t, func(rt *rapid.T) {
		var stream []byte
		var want []string
		for range rapid.IntRange(1, 12).Draw(rt, "commands") {
			switch n := rapid.IntRange(1, 300).Draw(rt, "rows"); rapid.IntRange(0, 4).Draw(rt, "command") {
			case 0:
				stream = append(stream, packet(0, fmt.Appendf(nil, "\x03select id, ship from berths where id <= %d", n))...)
				want = append(want, fmt.Sprintf("select id, ship from berths where id <= $ (%d)", n))
			case 1:
				stream = append(stream, packet(0, []byte("\x03select nothing from berths"))...)
				want = append(want, "select nothing from berths (0) failed")
			case 2:
				stream = append(stream, packet(0, []byte("\x0e"))...)
			case 3:
				stream = append(stream, packet(0, []byte("\x03set @a = 1"))...)
				want = append(want, "set @a = $ (0)")
			default:
				stream = append(stream, packet(0, []byte("\x03begin"))...)
				want = append(want, "begin (0)")
			}
		}
		stream = append(stream, packet(0, append([]byte{3}, theEnd...))...)
		for len(stream) > 0 {
			n := rapid.IntRange(1, len(stream)).Draw(rt, "piece")
			_, err := x.Write(stream[:n])
			require.NoError(rt, err)
			stream = stream[n:]
		}
		x.hear()
		assert.Equal(rt, append(want, "select $ (1)"), w.saw())
	})
}

// Whoever a client becomes, what it asks for is seen as that user's.
func TestStatementsOfAUserThatIsChanged(t *testing.T) {
	w := newWatched(t)
	x := say(t, w.address, "ines", "Quay#7", 0).ok()
	x.send(0, append([]byte{3}, "select 1"...))
	for range 5 {
		x.packet()
	}
	x.nonce = nil
	x.send(0, []byte("\x11tern\x00\x00mysql\x00\x2d\x00mysql_native_password\x00"))
	number, body := x.packet()
	if body[0] == 0xfe { // it is asked to prove it anew, with nothing
		x.send(number+1, nil)
		_, body = x.packet()
	}
	require.Equal(t, byte(0), body[0], "%q", body)
	x.send(0, append([]byte{3}, theEnd...)).hear()
	events, _ := w.events.Read()
	require.Len(t, events, 2)
	assert.Equal(t, "ines skerrow ines tern mysql tern", strings.Join([]string{
		events[0].User, events[0].Database, events[0].Application, events[1].User, events[1].Database, events[1].Application,
	}, " "))
	var running []engine.Running
	running = append(running, w.core.Running()...)
	assert.Empty(t, running, "nothing is under way")
	assert.Equal(t, 1, w.core.Sessions())
}

// Where the client has the server tell of the session's state, that is followed whatever has changed it.
func TestTheServerTellsOfTheState(t *testing.T) {
	w := newWatched(t)
	const track, withoutEOF = 1 << 23, 1 << 24
	for _, further := range []uint32{track, track | withoutEOF, 0} {
		x := say(t, w.address, "ines", "Quay#7", further).ok()
		w.saw()
		for _, q := range []string{"set character_set_client = concat('g', 'bk')", "select ship from berths", "set character_set_client = concat('utf8', 'mb4')", "use mysql; select nonsense", "select 1 from db"} {
			x.send(0, append([]byte{3}, q...)).send(0, append([]byte{3}, theEnd...)).hear()
		}
		seen := strings.Join(w.saw(), "\n")
		assert.Equal(t, further != 0, strings.Contains(seen, "the session's encoding gbk is not read"), seen)
		assert.Equal(t, further == 0, strings.Contains(seen, "the session's encoding set by an expression is not read"), seen)
		if further != 0 {
			assert.Equal(t, []string{"mysql.db"}, w.core.Does(w.patternsOf("select $ from db")[0]).Reads)
		}
	}
}
