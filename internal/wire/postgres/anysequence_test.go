package postgres_test

import (
	"strings"

	"github.com/jackc/pgx/v5/pgproto3"
	"pgregory.net/rapid"
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
