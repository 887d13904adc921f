package mysql_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/wire/link"
)

const deprecateEOF = 1 << 24

// last is the number by which the statement that was prepared last can be named.
const last = 1<<32 - 1

// ids are the numbers of prepared statements, which the server counts over all connections.
var ids = regexp.MustCompile(`(?s)\x0c\x00\x00\x01\x00....`)

func query(sql string) []byte { return packet(0, append([]byte{3}, sql...)) }

func prepare(sql string) []byte { return packet(0, append([]byte{0x16}, sql...)) }

// execute runs a prepared statement with one number for a parameter, or none.
func execute(id uint32, cursor byte, value ...int64) []byte {
	body := append(binary.LittleEndian.AppendUint32([]byte{0x17}, id), cursor, 1, 0, 0, 0)
	for _, v := range value {
		body = binary.LittleEndian.AppendUint64(append(body, 0, 1, 8, 0), uint64(v))
	}
	return packet(0, body)
}

func numbered(command byte, id uint32, more ...byte) []byte {
	return packet(0, append(binary.LittleEndian.AppendUint32([]byte{command}, id), more...))
}

// said gives what a client hears who sends some bytes, in pieces that end at some places.
func said(t testing.TB, address string, further uint32, b []byte, cuts ...int) string {
	x := say(t, address, "ines", "Quay#7", further).ok()
	go func() {
		from := 0
		for _, at := range append(cuts, len(b)) {
			_, _ = x.Write(b[min(from, at):at])
			from = max(from, at)
			time.Sleep(time.Millisecond)
		}
	}()
	got := x.hear()
	x.Close()
	return ids.ReplaceAllString(got, "(prepared)")
}

// All that clients say is answered byte for byte as by the server, in all forms of replies.
func TestConversations(t *testing.T) {
	l := newLarder(t, link.Settings{})
	end := query(theEnd)
	long := query("select length('" + strings.Repeat("x", 1<<24) + "')")
	cut := append(append([]byte{0xff, 0xff, 0xff, 0}, long[4:4+1<<24-1]...), packet(1, long[4+1<<24-1:])...)
	for name, x := range map[string]struct {
		b []byte
	}{
		"a query":                   {query("select id, ship from berths order by id limit 40")},
		"no rows":                   {query("select * from berths where id = 0")},
		"an error":                  {query("select * from nothing")},
		"a syntax error":            {query("selekt 1")},
		"several statements":        {query("select 1; set @a = 2; select @a; select * from nothing; select 3")},
		"several results of a call": {query("call twice()")},
		"a write":                   {query("update berths set ship = ship where id < 5")},
		"a transaction":             {bytes.Join([][]byte{query("begin"), query("select count(*) from berths"), query("rollback")}, nil)},
		"warnings":                  {bytes.Join([][]byte{query("select 1/0, cast('7x' as int)"), query("show warnings")}, nil)},
		"prepared":                  {bytes.Join([][]byte{prepare("select ship from berths where id = ?"), execute(last, 0, 7), execute(last, 0, 8), numbered(0x1a, last), numbered(0x19, last)}, nil)},
		"prepared without parts":    {bytes.Join([][]byte{prepare("set @b = 1"), execute(last, 0), prepare("select 1"), execute(last, 0), prepare("delete from berths where id = ?"), execute(last, 0, 0)}, nil)},
		"prepared with an error":    {bytes.Join([][]byte{prepare("select * from nothing"), execute(last, 0, 1), prepare("select ?"), execute(last, 0, 5)}, nil)},
		"a cursor":                  {bytes.Join([][]byte{prepare("select id from berths order by id"), execute(last, 1), numbered(0x1c, last, 5, 0, 0, 0), numbered(0x1c, last, 0xff, 0xff, 0, 0)}, nil)},
		"long data":                 {bytes.Join([][]byte{prepare("select length(?)"), numbered(0x18, last, append([]byte{0, 0}, strings.Repeat("x", 70000)...)...), packet(0, append(binary.LittleEndian.AppendUint32([]byte{0x17}, last), 0, 1, 0, 0, 0, 0, 1, 0xfc, 0))}, nil)},
		"the fields of a table":     {packet(0, append([]byte{4}, "berths\x00%"...))},
		"statistics and a ping":     {packet(0, []byte{0x0e})},
		"another schema":            {append(packet(0, append([]byte{2}, "mysql"...)), query("select database()")...)},
		"options":                   {append(packet(0, []byte{0x1b, 1, 0}), packet(0, []byte{0x1b, 0, 0})...)},
		"a reset":                   {append(packet(0, []byte{0x1f}), query("select @@autocommit")...)},
		"no command":                {packet(0, []byte{0x77, 1, 2})},
		"a long packet":             {cut},
		"a long row":                {query("select repeat('y', 17000000)")},
		"a file":                    {bytes.Join([][]byte{query("create temporary table f (a int, b varchar(20))"), query("load data local infile 'x' into table f"), packet(2, []byte("1\tone\n2\t")), packet(3, []byte("two\n")), packet(4, nil), query("select * from f")}, nil)},
		"an empty file":             {bytes.Join([][]byte{query("create temporary table f (a int)"), query("load data local infile 'x' into table f"), packet(2, nil), query("select * from f")}, nil)},
		"progress":                  {query("alter table berths force")},
		"leaving":                   {packet(0, []byte{1})},
	} {
		for form, further := range map[string]uint32{"with marks": 0, "without marks": deprecateEOF} {
			t.Run(name+", "+form, func(t *testing.T) {
				whole := append(bytes.Clone(x.b), end...)
				want := said(t, server.Address(), further, whole)
				got := said(t, l.address, further, whole)
				if want != got {
					at := 0
					for at < min(len(want), len(got)) && want[at] == got[at] {
						at++
					}
					t.Fatalf("they differ at byte %d of %d and %d:\n%q\n%q", at, len(want), len(got), want[max(0, at-40):min(len(want), at+200)], got[max(0, at-40):min(len(got), at+200)])
				}
			})
		}
	}
}

// Whatever clients send, in pieces of any length, they hear what they hear from the server itself.
func TestAnySequence(t *testing.T) {
	l := newLarder(t, link.Settings{})
	pieces := [][]byte{
		query("select id from berths where id < 9"), query("select 1; select 2"), query("begin"), query("commit"), query("rollback"), query("set autocommit = 0"), query(""),
		query("select * from nothing"), query("call twice()"), query("insert into berths values (1, 'x')"), query("select 1/0"), query("show warnings"), query("select row_count(), found_rows()"),
		prepare("select ship from berths where id = ?"), prepare("select nothing"), prepare("select 1"), execute(last, 0, 3), execute(last, 0), execute(last, 1, 4), execute(last, 0, 5),
		numbered(0x1c, last, 2, 0, 0, 0), numbered(0x19, last), numbered(0x1a, last), numbered(0x18, last, 0, 0, 'a'), packet(0, []byte{0x0e}), packet(0, []byte{0x1f}),
		packet(0, append([]byte{2}, "nowhere"...)), packet(0, append([]byte{2}, "skerrow"...)), packet(0, append([]byte{4}, "berths\x00"...)), packet(0, []byte{0x1b, 1, 0}),
		packet(0, []byte{0x55}), packet(0, []byte{0x17, 1}), packet(0, []byte{0x1c}), packet(0, []byte{0x0d}),
	}
	rapid.Check(t, func(rt *rapid.T) {
		var b []byte
		var cuts []int
		for range rapid.IntRange(1, 14).Draw(rt, "length") {
			b = append(b, rapid.SampledFrom(pieces).Draw(rt, "piece")...)
			if rapid.IntRange(0, 3).Draw(rt, "cut") == 0 {
				cuts = append(cuts, len(b)-rapid.IntRange(0, 5).Draw(rt, "before"))
			}
		}
		b = append(b, query(theEnd)...)
		further := rapid.SampledFrom([]uint32{0, deprecateEOF}).Draw(rt, "form")
		want := said(t, server.Address(), further, b, cuts...)
		got := said(t, l.address, further, b, cuts...)
		if want != got {
			rt.Fatalf("%q\n%q\n%q", b, want, got)
		}
	})
}

// A session that is followed is at rest behind each reply, and not before: only then is it ended when the larder stops.
func TestRestIsKnown(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	for name, b := range map[string][]byte{
		"a query": query("select id from berths"), "several results": query("select 1; select 2; call twice()"), "prepared": append(prepare("select ? + 1, 2"), execute(last, 0, 7)...),
		"a cursor": bytes.Join([][]byte{prepare("select id from berths"), execute(last, 1), numbered(0x1c, last, 5, 0, 0, 0)}, nil), "an error": query("selekt"),
		"no command": packet(0, []byte{0x77}), "fields": packet(0, append([]byte{4}, "berths\x00"...)), "statistics": packet(0, []byte{9}), "a long row": query("select repeat('y', 17000000)"),
		"debug": packet(0, []byte{0x0d}), "an option": packet(0, []byte{0x1b, 1, 0}), "no rows": query("select * from berths where id = 0"), "prepared without parts": append(prepare("set @a = 1"), execute(last, 0)...),
		"a transaction": append(query("begin"), query("commit")...), "progress": query("alter table berths force"), "a file": bytes.Join([][]byte{query("create temporary table f (a int)"), query("load data local infile 'x' into table f")}, nil),
	} {
		for form, further := range map[string]uint32{"with marks": 0, "without marks": deprecateEOF} {
			t.Run(name+", "+form, func(t *testing.T) {
				l := newLarder(t, link.Settings{IdleTimeout: time.Nanosecond})
				x := say(t, l.address, "ines", "Quay#7", further).ok()
				x.send(0, append([]byte{3}, "begin"...)).ok()
				l.server.EndIdle()
				_, err := x.Write(b)
				require.NoError(t, err)
				if name == "a file" {
					x.ok().packet()
					_, err = x.Write(append(packet(2, []byte("7\n")), packet(3, nil)...))
					require.NoError(t, err)
				}
				_, err = x.Write(query(theEnd))
				require.NoError(t, err)
				require.NotContains(t, x.hear(), "(ended)", "it is in a transaction")
				x.send(0, append([]byte{3}, "rollback"...)).ok()
				require.Eventually(t, func() bool { l.server.EndIdle(); return l.server.Clients() == 0 }, time.Minute, time.Millisecond, "it is at rest")
				_ = x.SetReadDeadline(time.Now().Add(time.Minute))
				n, err := x.Read(make([]byte, 100))
				assert.Zero(t, n)
				assert.Error(t, err)
			})
		}
	}
}

// Clients beyond the limit are told so, and others are not disturbed.
func TestTooManyClients(t *testing.T) {
	l := newLarder(t, link.Settings{MaxConnections: 2})
	for range 2 {
		require.NoError(t, connect(t, l.address, "ines", "Quay#7", "").Ping())
	}
	err := refusal(t, connect(t, l.address, "ines", "Quay#7", "").Ping())
	assert.Equal(t, uint16(1040), err.Number)
	assert.Contains(t, err.Message, "max_connections")
}

// What stands in the way of the server is said.
func TestTheServerThatIsNotThere(t *testing.T) {
	l := newLarderBefore(t, "127.0.0.1:1", link.Settings{})
	err := refusal(t, connect(t, l.address, "ines", "Quay#7", "").Ping())
	assert.Contains(t, err.Message, "jolly larder cannot reach the database at 127.0.0.1:1")
}

// A larder whose origin leads back to it says so, however the two ends of its connection meet.
func TestALarderBeforeItself(t *testing.T) {
	for range 20 {
		l := newLarderBefore(t, "itself", link.Settings{})
		err := refusal(t, connect(t, l.address, "ines", "Quay#7", "").Ping())
		assert.Contains(t, err.Message, "is jolly larder itself")
	}
}

// What a client has asked for last is done, even if it does not wait for it.
func TestAClientThatVanishes(t *testing.T) {
	l := newLarder(t, link.Settings{})
	x := say(t, l.address, "ines", "Quay#7", 0).ok()
	direct := connect(t, server.Address(), "ines", "Quay#7", "")
	_, err := direct.Exec("create table if not exists vanished (n int)")
	require.NoError(t, err)
	_, err = direct.Exec("delete from vanished")
	require.NoError(t, err)
	_, err = x.Write(query("insert into vanished select 5 + sleep(0.3)"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		n, err := asks(direct, "select count(*) from information_schema.processlist where info like 'insert into vanished%'")
		return err == nil && n == "1"
	}, time.Minute, time.Millisecond)
	x.Close()
	require.Eventually(t, func() bool {
		n, err := asks(direct, "select coalesce(max(n), 0) from vanished")
		return err == nil && n == "5" && l.server.Clients() == 0
	}, time.Minute, 5*time.Millisecond)
}

// busy takes very long.
const busy = "select count(*) from berths a, berths b, berths c, berths d, berths e"

// A statement is ended as clients do it: by its connection's number, which is the server's own.
func TestKilling(t *testing.T) {
	l := newLarder(t, link.Settings{})
	x := say(t, l.address, "ines", "Quay#7", 0).ok()
	x.send(0, append([]byte{3}, busy...))
	other := connect(t, l.address, "ines", "Quay#7", "")
	require.Eventually(t, func() bool {
		id, err := asks(other, "select max(id) from information_schema.processlist where info = '"+busy+"'")
		if err == nil {
			_, err = other.Exec(fmt.Sprint("kill query ", id))
		}
		return err == nil
	}, time.Minute, 10*time.Millisecond)
	_, body := x.packet()
	for body[0] != 0xff { // the columns come before
		_, body = x.packet()
	}
	assert.Contains(t, string(body), "interrupted")
}
