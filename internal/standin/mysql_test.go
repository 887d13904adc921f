package standin

import (
	"context"
	"database/sql"
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ofMySQL starts a stand-in that speaks MySQL's protocol, and gives what connects to it.
func ofMySQL(t *testing.T) (o *Origin, connect func(options string) *sql.Conn) {
	o, err := New(Options{Protocol: "mysql"})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- o.Serve(l) }()
	t.Cleanup(func() {
		l.Close()
		require.NoError(t, o.Close())
		require.NoError(t, <-served)
	})
	return o, func(options string) *sql.Conn {
		db, err := sql.Open("mysql", "ines@tcp("+l.Addr().String()+")/skerrow?"+options)
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		c, err := db.Conn(context.Background())
		require.NoError(t, err)
		return c
	}
}

// asked gives the rows of a query, as text or of a prepared statement.
func asked(t *testing.T, c *sql.Conn, query string, args ...any) string {
	rows, err := c.QueryContext(context.Background(), query, args...)
	if err != nil {
		return "failed: " + err.Error()
	}
	defer rows.Close()
	names, err := rows.Columns()
	require.NoError(t, err)
	var out []string
	values, into := make([]sql.NullString, len(names)), make([]any, len(names))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		require.NoError(t, rows.Scan(into...))
		line := make([]string, len(names))
		for i, v := range values {
			if line[i] = v.String; !v.Valid {
				line[i] = "null"
			}
		}
		out = append(out, strings.Join(line, " "))
	}
	require.NoError(t, rows.Err())
	return strings.Join(out, "; ")
}

func does(t *testing.T, c *sql.Conn, statements ...string) {
	for _, q := range statements {
		_, err := c.ExecContext(context.Background(), q)
		require.NoError(t, err, q)
	}
}

var ferries = []string{
	"create table `ports` (id int unsigned not null auto_increment primary key, name varchar(40) character set utf8mb4 not null, fee decimal(8, 2), opens datetime, depth double) engine=InnoDB",
	"insert into ports values (1, 'Hallan', 12.5, '2027-03-01 06:30:00', 3.25), (2, 'Nessay', 7, '2027-03-01 00:00:00', null), (3, 'it''s \\'far\\'', null, null, -0.5)",
	"create view deep as select id, depth from ports where depth > 0",
}

// What the stand-in is asked in MySQL's dialect it answers as such a server would, as text and of prepared statements.
func TestMySQLsDialect(t *testing.T) {
	_, connect := ofMySQL(t)
	c := connect("")
	does(t, c, ferries...)
	for query, want := range map[string]string{
		"select * from ports order by id":                                                         "1 Hallan 12.50 2027-03-01 06:30:00 3.25; 2 Nessay 7.00 2027-03-01 00:00:00 null; 3 it's 'far' null null -0.5",
		"SELECT `name` FROM `skerrow`.`ports` WHERE `id` = '2' LIMIT 0, 1":                        "Nessay",
		"select name /* a comment */ from ports where id in (1, 3) -- and one\n order by id desc": "it's 'far'; Hallan",
		`select name from ports where name = "Hallan" # at the end`:                               "Hallan",
		"select id from deep":                                              "1",
		"select count(*), sum(fee), max(opens) from ports":                 "3 19.5 2027-03-01 06:30:00",
		"select database(), current_user(), @@sql_mode, @@version_comment": "skerrow anybody@%  stand-in of jolly larder (SQLite)",
		"select @@global.server_id, @@session.time_zone, @@nosuch, @mine":  "1 SYSTEM  null",
		"show tables":                        "deep; ports",
		"show databases":                     "skerrow",
		"select 'a\\nb', 'c\\\\d', \"e''f\"": "a\nb c\\d e''f",
		"select nosuch from ports":           "failed: Error 1054 (42S22)",
		"select * from nosuch":               "failed: Error 1146 (42S02)",
		"select from":                        "failed: Error 1064 (42000)",
		"insert into ports (id, name) values (1, 'again')":        "failed: Error 1062 (23000)",
		"insert ignore into ports (id, name) values (1, 'again')": "",
		"describe ports":          "failed: Error 1064 (42000)",
		"show create table ports": "failed: Error 1235 (42000)",
	} {
		got := asked(t, c, query)
		if strings.HasPrefix(want, "failed") {
			assert.True(t, strings.HasPrefix(got, want), "%s: %s", query, got)
			continue
		}
		assert.Equal(t, want, got, query)
	}
	assert.Equal(t, "Hallan 12.50 2027-03-01 06:30:00 3.25 1", asked(t, c, "select name, fee, opens, depth, id from ports where id = ? and name = ?", 1, "Hallan"), "prepared")
	assert.Equal(t, "2 null null", asked(t, c, "select id, depth, ? from ports where opens < ? order by id limit 1", nil, time.Date(2027, 3, 1, 3, 0, 0, 0, time.UTC)))
	r, err := c.ExecContext(context.Background(), "insert into ports (name) values (?)", "Orsa")
	require.NoError(t, err)
	id, _ := r.LastInsertId()
	assert.Equal(t, int64(4), id, "the number that it was given")
	does(t, c, "insert into ports (id, name) values (4, 'Tarvit') on duplicate key update name = values(name)")
	assert.Equal(t, "Tarvit", asked(t, c, "select name from ports where id = 4"))
	several := connect("multiStatements=true")
	does(t, several, "update ports set name = 'Lunna' where id = 4; delete from ports where id = 3")
	assert.Equal(t, "1 Hallan; 2 Nessay; 4 Lunna", asked(t, c, "select id, name from ports order by id"))
}

// Transactions are those of the statements that begin and end them, and of autocommit.
func TestMySQLsTransactions(t *testing.T) {
	_, connect := ofMySQL(t)
	one, other := connect(""), connect("")
	does(t, one, ferries...)
	const name = "select name from ports where id = 1"
	for _, c := range []struct {
		does []string
		sees string // the other, afterwards
	}{
		{[]string{"begin", "update ports set name = 'a' where id = 1"}, "Hallan"}, {[]string{"rollback"}, "Hallan"}, {[]string{"start transaction", "update ports set name = 'b' where id = 1", "commit"}, "b"},
		{[]string{"begin", "update ports set name = 'c' where id = 1", "begin"}, "c"}, {[]string{"rollback"}, "c"},
		{[]string{"set autocommit = 0", "update ports set name = 'd' where id = 1"}, "c"}, {[]string{"rollback"}, "c"}, {[]string{"update ports set name = 'e' where id = 1", "set autocommit = 1"}, "e"},
		{[]string{"begin", "savepoint s", "update ports set name = 'f' where id = 1", "rollback to savepoint s", "commit"}, "e"},
		{[]string{"begin", "update ports set name = 'g' where id = 1", "create table if not exists more (id int)"}, "g"},
	} {
		does(t, one, c.does...)
		assert.Equal(t, c.sees, asked(t, other, name), "%q", c.does)
	}
}

// A statement can be ended from another connection.
func TestMySQLsStatementsAreKilled(t *testing.T) {
	o, connect := ofMySQL(t)
	c, other := connect(""), connect("")
	id := asked(t, c, "select connection_id()")
	o.opts.Delay.Distance = time.Hour
	ended := make(chan string, 1)
	go func() { ended <- asked(t, c, "select 1") }()
	require.Eventually(t, func() bool {
		does(t, other, "kill query "+id) // which may come before what it is to end
		select {
		case got := <-ended:
			return assert.Contains(t, got, "Error 1317")
		default:
			return false
		}
	}, time.Minute, time.Millisecond)
}

// Everybody is let in, to the one database that there is.
func TestMySQLsLogins(t *testing.T) {
	_, connect := ofMySQL(t)
	assert.Equal(t, "1", asked(t, connect(""), "select 1"))
	c := connect("")
	var refused *driver.MySQLError
	_, err := c.ExecContext(context.Background(), "use elsewhere")
	require.True(t, errors.As(err, &refused))
	assert.Equal(t, uint16(1049), refused.Number, "there is one database")
}
