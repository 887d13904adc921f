package replay

import (
	"bytes"
	"fmt"

	"github.com/jackc/pgx/v5/pgproto3"

	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

// Simple and Prepared ask PostgreSQL for the same row by a simple query, and by a prepared statement whose rows the
// client knows.
var (
	Simple   = Exchange{"simple", &postgres, encoded(&pgproto3.Query{String: fmt.Sprintf(statement, "4711")})}
	Prepared = Exchange{"prepared", &postgres, encoded(
		&pgproto3.Bind{PreparedStatement: "s0", Parameters: [][]byte{[]byte("4711")}}, &pgproto3.Execute{}, &pgproto3.Sync{},
	)}
)

var postgres = speech{
	dialect: dialect.Dialect, serve: func(o link.Options) link.Server { return wire.New(o) },
	begin: [][]byte{
		encoded(&pgproto3.StartupMessage{
			ProtocolVersion: pgproto3.ProtocolVersion30, Parameters: map[string]string{"user": "postgres", "database": "skerrow"},
		}),
		encoded(&pgproto3.Query{String: "create table fares (id integer primary key, fare integer)"}),
		encoded(&pgproto3.Query{String: "insert into fares values (4711, 42)"}),
		encoded(&pgproto3.Parse{Name: "s0", Query: fmt.Sprintf(statement, "$1")}, &pgproto3.Sync{}),
	},
	whole: func(answer []byte) bool { // its last bytes are those of ReadyForQuery
		at := len(answer) - len(ready) - 1
		return at >= 0 && bytes.HasPrefix(answer[at:], ready)
	},
	failed: func(answer []byte) bool { return answer[0] == 'E' },
}

// ready is what ReadyForQuery begins with, which a byte for the transaction's state ends.
var ready = []byte("Z\x00\x00\x00\x05")

// encoded makes messages of the protocol, all of which have an encoding.
func encoded(messages ...pgproto3.FrontendMessage) (b []byte) {
	for _, m := range messages {
		b, _ = m.Encode(b)
	}
	return b
}
