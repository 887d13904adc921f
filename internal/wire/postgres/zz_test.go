package postgres_test

import (
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"
	wire "jollylarder/internal/wire/postgres"
)

func TestZZ(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	for name, sql := range wire.Questions {
		r := c.PgConn().ExecParams(ctx, sql, nil, nil, nil, nil).Read()
		fmt.Println(name, len(r.Rows), r.Err)
	}
}
