package postgres_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/protocol"
	"jollylarder/internal/protocoltest"
)

// conversing is a client's session at the level of bytes.
type conversing struct {
	conn net.Conn
	key  []byte // for cancelling
}

func login(c net.Conn, database string) (protocoltest.Session, error) {
	body := binary.BigEndian.AppendUint32(nil, 3<<16)
	for _, p := range []string{"user", "postgres", "database", database, "application_name", "conformance"} {
		body = append(append(body, p...), 0)
	}
	if _, err := c.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+5)), append(body, 0)...)); err != nil {
		return nil, err
	}
	x := &conversing{conn: c}
	received, err := x.Hear("")
	if err == nil && strings.Contains(received, "FATAL") {
		err = errors.New(received)
	}
	return x, err
}

// Hear implements protocoltest.Session.
func (x *conversing) Hear(until string) (string, error) {
	var out strings.Builder
	head := make([]byte, 5)
	for {
		if _, err := io.ReadFull(x.conn, head); err != nil {
			if errors.Is(err, io.EOF) || strings.Contains(err.Error(), "reset") {
				return out.String() + "the end\n", nil
			}
			return out.String(), err
		}
		body := make([]byte, binary.BigEndian.Uint32(head[1:])-4)
		if _, err := io.ReadFull(x.conn, body); err != nil {
			return out.String(), err
		}
		switch head[0] {
		case 'K':
			x.key, body = body, nil
		case 'A':
			body = body[4:]
		}
		fmt.Fprintf(&out, "%c %q\n", head[0], body)
		if b := out.String(); head[0] == 'Z' && (until == "" || strings.Contains(b[max(0, len(b)-200):], until)) {
			return b, nil
		}
	}
}

func (x *conversing) say(messages ...pgproto3.FrontendMessage) (string, error) {
	if _, err := x.conn.Write(encode(messages...)); err != nil {
		return "", err
	}
	return x.Hear("")
}

func encode(messages ...pgproto3.FrontendMessage) (out []byte) {
	for _, m := range messages {
		var err error
		if out, err = m.Encode(out); err != nil {
			panic(err)
		}
	}
	return out
}

// Ask implements protocoltest.Session.
func (x *conversing) Ask(sql string) (string, error) { return x.say(query(sql)) }

// Bound implements protocoltest.Session.
func (x *conversing) Bound(sql string, values ...string) (string, error) {
	return x.say(together(unit(sql, values...), syncing)...)
}

// Query implements protocoltest.Session.
func (x *conversing) Query(sql string) []byte { return encode(query(sql)) }

// Cancel implements protocoltest.Session.
func (x *conversing) Cancel(dial func() (net.Conn, error)) error {
	c, err := dial()
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.Write(append([]byte{0, 0, 0, 16, 4, 210, 22, 46}, x.key...)); err != nil {
		return err
	}
	_, _ = io.Copy(io.Discard, c)
	return nil
}

// conformance is PostgreSQL as the kit tests it.
func conformance(t testing.TB) *protocoltest.Subject {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	admin := connect(t, server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	s := &protocoltest.Subject{
		Protocol: protocol.PostgreSQL,
		Address:  server.Address(),
		Database: func(t testing.TB) string {
			name := fmt.Sprintf("k%d", databases.Add(1))
			_, err := admin.Exec(ctx, "drop database if exists "+name+" with (force)")
			require.NoError(t, err)
			_, err = admin.Exec(ctx, "create database "+name)
			require.NoError(t, err)
			return name
		},
		Login: login,
		SQL: protocoltest.SQL{
			Restore: []string{
				"drop table if exists quay cascade", "drop function if exists follow cascade", quay, quays,
				"create view heavy as select id, tons from quay where tons > 40",
			},
			Rows:      30,
			Read:      func(row int) string { return fmt.Sprintf("select name from quay where id = %d", row) },
			ReadBound: oneQuay,
			ReadAll:   allQuays,
			Write: func(row, value int) string {
				return fmt.Sprintf("update quay set name = 'quay %d' where id = %d", value, row)
			},
			WriteBound: func(row, value int) (string, []string) {
				return "update quay set name = $2 where id = $1", []string{fmt.Sprint(row), fmt.Sprintf("quay %d", value)}
			},
			Begin:  []string{"begin", "begin isolation level repeatable read", "begin isolation level serializable, read only", "begin read write"},
			Commit: "commit", Rollback: "rollback",
			Others: []string{
				"savepoint s", "rollback to s", "release s", "select 1/0", "set extra_float_digits = 0", "reset all", "set time zone 'Etc/GMT-3'", "set local time zone 'UTC'",
				"select count(*) from heavy", "select now() is not null", "prepare q as select name from quay where id = 2", "execute q", "deallocate q",
				"select name from quay where id = 1; select name from quay where id = 2", "discard plans", "show server_version_num", "nonsense",
			},
			Alone: []string{
				"update quay set tons = tons + 100 where id < 4", "delete from quay where id > 27", "insert into quay values (28, 'eight') on conflict do nothing",
				"create index if not exists quay_name on quay (name)", "alter table quay add column if not exists depth int",
				"create or replace function follow() returns trigger language plpgsql as $$ begin new.tons := 200; return new; end $$",
				"create or replace trigger follows before update on quay for each row execute function follow()",
				"truncate quay", "with w as (update quay set name = 'w' where id = 5 returning id) select count(*) from w",
				"do $$ begin execute 'update quay set name = ''d'' where id = 6'; end $$",
			},
			Large: "select id, repeat('x', 6000) from quay order by id",
			Sleep: "select pg_sleep(59)",
			Sleeping: func(t testing.TB, database string) bool {
				return one(t, admin, "select count(*)::text from pg_stat_activity where datname = $1 and wait_event = 'PgSleep' and query like '%pg_sleep%'", database) != "0"
			},
		},
		Any: func(t *rapid.T) []byte {
			messages := anyMessages(t)
			if rapid.IntRange(0, 2).Draw(t, "sync") > 0 {
				messages = append(messages, syncing)
			}
			return encode(messages...)
		},
		Opening: encode(parse("a", oneQuay), parse("b", oneQuay), syncing),
		Closing: encode(syncing, query("rollback"), query("select '"+protocoltest.TheEnd+"'")),
		Alike:   refusals, Elsewhere: withoutTables,
	}
	for _, c := range conversations {
		s.Conversations = append(s.Conversations, protocoltest.Conversation{Name: c.name, Hits: c.hits, Run: func(t testing.TB, conn net.Conn, database string) string {
			x := &talk{t: t, conn: conn}
			x.start(3<<16, "user", "postgres", "database", database, "application_name", "conversation")
			x.hear('Z', 1)
			c.run(x)
			return x.received.String()
		}})
	}
	return s
}

// withoutTables takes the numbers of tables out of the descriptions of rows.
func withoutTables(received string) string {
	var out strings.Builder
	for line := range strings.Lines(received) {
		if text, err := strconv.Unquote(strings.TrimSpace(line[2:])); err == nil && line[0] == 'T' && len(text) > 2 {
			body := []byte(text)
			for at := 2; at < len(body); at += 19 {
				at += bytes.IndexByte(body[at:], 0)
				clear(body[at+1 : at+5])
			}
			line = fmt.Sprintf("T %q\n", body)
		}
		out.WriteString(line)
	}
	return out.String()
}

func TestConformance(t *testing.T) { protocoltest.Run(t, conformance(t)) }
