package main

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
)

// client is one way in which applications use the database.
type client struct {
	name    string
	command []string
	run     func(url string) (string, error) // of one in this program
	before  string                           // the mode of a pooler that it connects to, which connects to the larder
	behind  string                           // and of one that the larder connects to
	least   int                              // how many of its reads are to be answered from memory
}

// usual is how many that are mostly: the rest are asked for the first time, or have been changed, or stand in the very
// first transaction.
const usual = 30

const javaPath = "/usr/share/java/postgresql.jar:/usr/share/java/HikariCP.jar:/usr/share/java/slf4j-api.jar:/usr/share/java/slf4j-nop.jar:."

var clients = []client{
	{name: "psycopg2, as it is by default", command: []string{"/usr/bin/python3", "psycopg2_default.py"}, least: usual},
	{name: "psycopg2 with a pool, isolation and read-only set each time", command: []string{"/usr/bin/python3", "psycopg2_isolation.py"}, least: usual},
	{name: "psycopg 3, as it is by default", command: []string{"/usr/bin/python3", "psycopg3_default.py"}, least: usual},
	{name: "SQLAlchemy with psycopg2", command: []string{"/usr/bin/python3", "sqlalchemy_core.py"}, least: usual},
	{name: "Django, each request a transaction", command: []string{"/usr/bin/python3", "django_atomic.py"}, least: usual},
	{name: "asyncpg with a pool", command: []string{"/usr/bin/python3", "asyncpg_transactions.py"}, least: usual},
	{name: "pgjdbc, autocommit off", command: []string{"java", "-cp", javaPath, "Jdbc.java", "plain"}, least: usual},
	{name: "pgjdbc, isolation set for the session", command: []string{"java", "-cp", javaPath, "Jdbc.java", "session"}, least: usual},
	{name: "pgjdbc, read-only transactions", command: []string{"java", "-cp", javaPath, "Jdbc.java", "readonly"}, least: usual},
	{name: "pgjdbc after DO, CALL and several statements in a string", command: []string{"java", "-cp", javaPath, "Jdbc.java", "procedures"}, least: 10},
	{name: "pgjdbc, asking for keys and indexes on the way", command: []string{"java", "-cp", javaPath, "Jdbc.java", "metadata"}, least: usual},
	{name: "pgjdbc, DISCARD ALL and RESET ALL in turn after each transaction", command: []string{"java", "-cp", javaPath, "Jdbc.java", "reset"}, least: usual},
	{name: "pgjdbc with HikariCP, autocommit off", command: []string{"sh", "-c", "javac -cp " + javaPath + " Jdbc.java Pooled.java && java -cp " + javaPath + " Pooled"}, least: usual},
	{name: "PHP PDO, emulated prepares", command: []string{"php", "pdo.php", "emulated"}, least: usual},
	{name: "PHP PDO, prepares of the server's", command: []string{"php", "pdo.php", "real"}, least: usual},
	{name: "ActiveRecord with ruby-pg", command: []string{"ruby", "activerecord.rb"}, least: usual},
	{name: "Perl DBI, autocommit off", command: []string{"perl", "dbi.pl"}, least: usual},
	{name: "node-postgres with its pool", command: []string{"node", "node_pg.js"}, least: usual},
	{name: "postgres.js", command: []string{"node", "postgres_js.js"}, least: usual},
	{name: "pgx", run: pgxAlone, least: usual},
	{name: "pgx with its pool", run: pgxPool, least: usual},
	{name: "psycopg2 behind pgbouncer, sessions pooled", command: []string{"/usr/bin/python3", "psycopg2_default.py"}, before: "session", least: usual},
	{name: "psycopg2, and pgbouncer behind the larder, sessions pooled", command: []string{"/usr/bin/python3", "psycopg2_default.py"}, behind: "session", least: usual},
	{name: "psycopg2 behind pgbouncer, transactions pooled", command: []string{"/usr/bin/python3", "psycopg2_default.py"}, before: "transaction", least: usual},
}

type querier interface {
	Begin(context.Context) (pgx.Tx, error)
}

// turn is what each client does in one transaction.
func turn(ctx context.Context, c querier, n int, out *strings.Builder) error {
	tx, err := c.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(ctx) }()
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{"select id, name, country from ports where id = $1", []any{n%3 + 1}},
		{"select count(*) from sailings where port = $1", []any{n%3 + 1}},
		{"select name from ports order by id", nil},
	} {
		rows, err := tx.Query(ctx, q.sql, q.args...)
		if err != nil {
			return err
		}
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			fmt.Fprintln(out, values...)
		}
		if err := rows.Err(); err != nil {
			return err
		}
	}
	if n%5 == 4 {
		if _, err := tx.Exec(ctx, "update sailings set seats = seats - 1 where id = $1", n); err != nil {
			return err
		}
	}
	return tx.Commit(ctx)
}

func pgxAlone(url string) (string, error) {
	ctx := context.Background()
	var out strings.Builder
	for range 2 {
		c, err := pgx.Connect(ctx, url)
		if err != nil {
			return "", err
		}
		for i := range turns / 2 {
			if err := turn(ctx, c, i, &out); err != nil {
				return "", err
			}
		}
		c.Close(ctx)
	}
	return out.String(), nil
}

func pgxPool(url string) (string, error) {
	ctx := context.Background()
	var out strings.Builder
	p, err := pgxpool.New(ctx, url)
	if err != nil {
		return "", err
	}
	defer p.Close()
	for i := range turns {
		if err := turn(ctx, p, i, &out); err != nil {
			return "", err
		}
	}
	return out.String(), nil
}

// around starts what stands between a client and an address, and gives the address to connect to.
func (c *client) around(b *bench, address string) (instead string, after func(), err error) {
	if c.before == "" {
		return address, func() {}, nil
	}
	return b.pooler(address, c.before)
}

// pooler starts a connection pooler in front of an address.
func (b *bench) pooler(address, mode string) (string, func(), error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	at := l.Addr().String()
	l.Close()
	host, port, _ := net.SplitHostPort(address)
	_, own, _ := net.SplitHostPort(at)
	config := fmt.Sprintf("[databases]\n* = host=%s port=%s user=postgres\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = %s\nauth_type = any\npool_mode = %s\nunix_socket_dir =\nignore_startup_parameters = extra_float_digits\n", host, port, own, mode)
	file := filepath.Join(b.dir, "pooler-"+own+".ini")
	if err := os.WriteFile(file, []byte(config), 0o644); err != nil {
		return "", nil, err
	}
	args := []string{"pgbouncer", "-q", file}
	if os.Getuid() == 0 { // which it refuses to run as
		if err := os.Chmod(b.dir, 0o755); err != nil {
			return "", nil, err
		}
		args = append([]string{"setpriv", "--reuid=nobody", "--regid=nogroup", "--clear-groups"}, args...)
	}
	cmd := exec.Command(args[0], args[1:]...)
	var problems strings.Builder
	cmd.Stderr = &problems
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop := func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
	for range 100 {
		if c, err := net.Dial("tcp", at); err == nil {
			c.Close()
			return at, stop, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	stop()
	return "", nil, fmt.Errorf("the pooler did not start: %s", problems.String())
}
