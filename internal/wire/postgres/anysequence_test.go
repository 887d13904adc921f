package postgres_test

import (
	"encoding/binary"
	"flag"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/ledger"
)

// refusals makes one of all by which a transaction that has failed refuses what follows. What it says rests on what of
// the client's statements and portals the server still has, and that may be another if some were answered from memory
// before the failure.
func refusals(received string) string {
	var out, part []string
	failed := false
	for line := range strings.Lines(received) {
		part = append(part, line)
		if !strings.HasPrefix(line, "Z") {
			continue
		}
		still := line == "Z \"E\"\n"
		if failed && still {
			part = []string{"refused\n"}
		}
		out, part, failed = append(out, part...), nil, still
	}
	return strings.Join(append(out, part...), "")
}

// anyMessages draws a few messages that a client may send next, whether they make sense or not.
func anyMessages(t *rapid.T) []pgproto3.FrontendMessage {
	id := rapid.SampledFrom([]string{"1", "2", "3", "1", "2", "3", "none"}).Draw(t, "id")
	name := rapid.SampledFrom([]string{"a", "b", "a", "b", ""}).Draw(t, "name")
	portal := rapid.SampledFrom([]string{"", "", "", "p"}).Draw(t, "portal")
	simple := []string{"select name from quay where id = 3", allQuays, "begin", "commit", "rollback", "savepoint s", "rollback to s", "select 1/0",
		"update quay set name = 'b' where id = 3", "select name from quay where id = 3; select 1", "", "deallocate a", "begin isolation level repeatable read", "set extra_float_digits = 0"}
	sql := rapid.SampledFrom(simple).Draw(t, "sql")
	switch rapid.IntRange(-9, 12).Draw(t, "what") {
	case -9, -8, -7:
		return unit(oneQuay, id)
	case -6, -5:
		return together(bind("", name, id), execute("", 0))
	case -4:
		return unit(allQuays)
	case -3, -2, -1:
		return together(query(simple[0]))
	case 0, 1, 2:
		return together(unit("begin"), unit(oneQuay, id))
	case 3:
		return together(unit(oneQuay, id), execute("", 0))
	case 4:
		return together(parse(name, oneQuay))
	case 5:
		return together(parse(name, sql), describe('S', name))
	case 6:
		return together(bind(portal, name), describe('P', portal), execute(portal, uint32(rapid.IntRange(0, 2).Draw(t, "rows"))))
	case 7: // no portal is run that was bound in an earlier batch: that has crashed PostgreSQL 15 in a failed transaction
		return together(bind(portal, "a", id), execute(portal, 0), execute(portal, 0))
	case 8:
		return together(describe(rapid.SampledFrom([]byte("SP")).Draw(t, "of"), name))
	case 9:
		return together(closing(rapid.SampledFrom([]byte("SP")).Draw(t, "of"), name))
	case 10:
		return together(query(sql))
	case 11:
		return together(flushing)
	default:
		return together(unit(sql))
	}
}

// Whatever a client sends, in pieces of any length, it receives what it would receive from the database itself.
func TestAnySequenceReceivesTheSameBytes(t *testing.T) {
	l := newLarder(t, quay, quays)
	l.keep(kept...)
	admin := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	if seed := flag.Lookup("rapid.seed"); os.Getenv("CI") == "true" && seed.Value.String() == seed.DefValue {
		require.NoError(t, seed.Value.Set("20270301")) // the same every time; elsewhere it looks further
	}
	hits := func() uint64 { return l.engine.Ledger.Total.Total().Count[ledger.Hit] }
	// What is answered from memory depends on how soon things are known again, so it goes on until enough was.
	for round := 0; round == 0 || hits() <= 50 && round < 20 && !t.Failed(); round++ {
		anySequence(t, l, admin)
	}
	assert.Greater(t, hits(), uint64(50), fmt.Sprint(l.engine.Ledger.Total.Total().Count))
}

func anySequence(t *testing.T, l *larder, admin *pgx.Conn) {
	rapid.Check(t, func(rt *rapid.T) {
		var sequence []byte
		var cuts []int // where the client waits a moment, and in between where its bytes are cut
		for _, m := range together(parse("a", oneQuay), parse("b", oneQuay), syncing) {
			sequence, _ = m.Encode(sequence)
		}
		n := rapid.IntRange(1, 25).Draw(rt, "length")
		for range n {
			messages := anyMessages(rt)
			if rapid.IntRange(0, 2).Draw(rt, "sync") > 0 {
				messages = append(messages, syncing)
			}
			for _, m := range messages {
				var err error
				sequence, err = m.Encode(sequence)
				require.NoError(rt, err)
			}
			switch rapid.IntRange(0, 5).Draw(rt, "then") {
			case 0:
				cuts = append(cuts, len(sequence)-rapid.IntRange(1, min(len(sequence), 40)).Draw(rt, "cut"))
			case 1, 2, 3:
				cuts = append(cuts, len(sequence))
			}
		}
		for _, m := range together(syncing, query("rollback"), query("select 'the very end'")) {
			sequence, _ = m.Encode(sequence)
		}
		once := func(address string, pause time.Duration) string {
			tag, err := admin.Exec(ctx, "update quay set name = 'quay ' || id where id = 3 and name <> 'quay 3'")
			require.NoError(rt, err)
			if tag.RowsAffected() > 0 {
				l.engine.DropTable("public.quay")
			}
			if address == l.address {
				l.know() // after what might have been anything
			}
			c, err := net.Dial("tcp", address)
			require.NoError(rt, err)
			defer c.Close()
			x := &talk{t: rt, conn: c}
			x.start(3<<16, "user", "postgres", "database", l.database, "application_name", "any")
			x.hear('Z', 1)
			x.received.Reset()
			go func() {
				from := 0
				for _, at := range append(cuts, len(sequence)) {
					_, _ = c.Write(sequence[min(from, at):at])
					from = max(from, at)
					time.Sleep(pause)
				}
			}()
			for !x.ended("the very end") {
				x.hear('Z', 1)
			}
			return refusals(x.received.String())
		}
		want := once(server.Address(), time.Millisecond)
		got := once(l.address, time.Millisecond)
		if want != got {
			same(t, want, got, "once")
			rt.Fatalf("%s", listing(sequence, cuts))
		}
		// Then with what was kept; and unhurried, so that what the client did is known again before it goes on.
		for _, pause := range []time.Duration{time.Millisecond, 5 * time.Millisecond} {
			again := once(l.address, pause)
			if want != again {
				same(t, want, again, "again, waiting "+pause.String())
				rt.Fatalf("%s", listing(sequence, cuts))
			}
		}
	})
}

// listing shows a sequence of messages, one a line, and where the client waited.
func listing(b []byte, cuts []int) string {
	var out strings.Builder
	for at := 0; at < len(b); {
		n := int(binary.BigEndian.Uint32(b[at+1:])) + 1
		fmt.Fprintf(&out, "%c %q", b[at], b[at+5:at+n])
		at += n
		if slices.Contains(cuts, at) {
			out.WriteString("  then waits")
		}
		out.WriteByte('\n')
	}
	return out.String()
}
