package freshcheck

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/postgres"
	"jollylarder/internal/protocol"
	"jollylarder/internal/wire/link"
)

// PostgreSQL is the checker's view of PostgreSQL.
var PostgreSQL Database = postgreSQL{}

// PostgreSQLSettings are those of a server that the checker needs.
var PostgreSQLSettings = []string{"wal_level=logical", "max_replication_slots=20", "max_wal_senders=20", "max_prepared_transactions=50", "autovacuum=off", "max_connections=200"}

type postgreSQL struct{}

func (postgreSQL) protocol() *protocol.Protocol { return protocol.PostgreSQL }

func postgresURL(address, database string) string {
	return "postgres://postgres@" + address + "/" + database + "?sslmode=disable"
}

func (d postgreSQL) create(address, name string, schema []string) (drop func(), err error) {
	admin, err := d.dial(address, "postgres", "freshcheck")
	if err != nil {
		return nil, err
	}
	drop = func() {
		simple(admin, "drop database if exists "+name+" with (force)")
		for _, letter := range []string{"a", "b", "x"} {
			simple(admin, "drop role if exists "+name+"_"+letter)
		}
		admin.Close(context.Background())
	}
	defer func(drop func()) {
		if err != nil {
			drop()
		}
	}(drop)
	simple(admin, "drop database if exists "+name+" with (force)")
	simple(admin, "create role "+role)
	if got := simple(admin, "create database "+name); strings.HasPrefix(got, refused) {
		return nil, errors.New(got)
	}
	own, err := pgconn.Connect(context.Background(), postgresURL(address, name))
	if err != nil {
		return nil, err
	}
	defer own.Close(context.Background())
	for _, sql := range schema {
		if got := simple(own, d.local(sql, address, name)); strings.HasPrefix(got, refused) {
			return nil, fmt.Errorf("%s: %s", sql, got)
		}
	}
	return drop, nil
}

func (postgreSQL) dial(address, database, name string) (*pgconn.PgConn, error) {
	cfg, err := pgconn.ParseConfig(postgresURL(address, database))
	if err != nil {
		return nil, err
	}
	cfg.RuntimeParams["application_name"] = name
	cfg.RuntimeParams["lock_timeout"] = "30ms"
	cfg.TLSConfig = nil
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return pgconn.ConnectConfig(ctx, cfg)
}

func (d postgreSQL) connect(address, database, name string) (conn, error) {
	c, err := d.dial(address, database, name)
	if err != nil {
		return nil, err
	}
	return &postgresConn{PgConn: c, prepared: map[string]string{}, types: map[string][]uint32{}}, nil
}

func (postgreSQL) local(sql, address, database string) string {
	if !strings.Contains(sql, "{") {
		return sql
	}
	host, port, _ := net.SplitHostPort(address)
	return strings.NewReplacer("{db}", database, "{self}", "dbname="+database+" user=postgres host="+host+" port="+port).Replace(sql)
}

func (postgreSQL) world(r *rand.Rand) *world { return newWorld(r) }

func (postgreSQL) generated(r *rand.Rand, features ...string) *world {
	return newGenerated(r, features...)
}

func (postgreSQL) plain(sql string) bool {
	return !slices.Contains(sessionStatements, strings.TrimSpace(sql)) && !strings.HasPrefix(sql, "begin") && !strings.HasPrefix(sql, "set ") &&
		!strings.HasPrefix(sql, "create temp") && !strings.HasPrefix(sql, "prepare")
}

func (postgreSQL) harmless() string { return "select 'is it known'" }

func (postgreSQL) forever() (list []string) {
	for k := range 4 {
		list = append(list, fmt.Sprintf("rollback prepared 'x%d'", k))
	}
	return list
}

// login relays a start-up message. Source: "Message Formats" in the manual.
func (postgreSQL) login(larder, server net.Conn) (name string, err error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(larder, head); err != nil {
		return "", err
	}
	size := int(binary.BigEndian.Uint32(head))
	if size < 8 || size > 10_000 {
		return "", errors.New("no start-up message")
	}
	rest := make([]byte, size-8)
	if _, err := io.ReadFull(larder, rest); err != nil {
		return "", err
	}
	parts := strings.Split(string(rest), "\x00")
	for i := 0; i+1 < len(parts); i += 2 {
		if parts[i] == "application_name" {
			name = parts[i+1]
		}
	}
	_, err = server.Write(append(head, rest...))
	return name, err
}

func (postgreSQL) account() *link.Account { return nil }

func (postgreSQL) replies() func([]byte) int {
	var frame []byte // the head of the message that is arriving
	skip := 0
	return func(b []byte) (ready int) {
		for len(b) > 0 {
			if skip > 0 {
				k := min(skip, len(b))
				b, skip = b[k:], skip-k
				continue
			}
			frame = append(frame, b[0])
			b = b[1:]
			if len(frame) == 5 {
				skip = int(binary.BigEndian.Uint32(frame[1:])) - 4
				if frame[0] == 'Z' {
					ready++
				}
				frame = frame[:0]
			}
		}
		return ready
	}
}

func (postgreSQL) follow(address, database string, to *engine.Engine) (feed.Follower, error) {
	ctx := context.Background()
	names := feeds.UsualNames(database)
	own, err := pgconn.Connect(ctx, postgresURL(address, database)) // one that may wait for others' transactions
	if err != nil {
		return nil, err
	}
	defer own.Close(ctx)
	p, err := feeds.SetUp(ctx, own, database, names)
	if err == nil && len(p.Obstacles) > 0 {
		err = errors.New(p.Obstacles[0])
	}
	if err == nil {
		err = feeds.Run(ctx, own, p)
	}
	if err != nil {
		return nil, err
	}
	return &feeds.Follower{
		Options: feed.Options{
			Feed: to.Feed("", database), Database: database, Slot: names.Slot, Publication: names.Publication, Log: quiet, ProbeEvery: 2 * time.Millisecond,
		},
		Connect: func(ctx context.Context, parameters map[string]string) (*pgconn.PgConn, error) {
			cfg, err := pgconn.ParseConfig(postgresURL(address, database))
			if err != nil {
				return nil, err
			}
			for k, v := range parameters {
				cfg.RuntimeParams[k] = v
			}
			return pgconn.ConnectConfig(ctx, cfg)
		},
	}, nil
}

func (postgreSQL) unfollow(address, database string) bool {
	ctx := context.Background()
	c, err := pgconn.Connect(ctx, postgresURL(address, database))
	if err != nil {
		return false
	}
	defer c.Close(ctx)
	p, err := feeds.Remove(ctx, c, feeds.UsualNames(database))
	return err == nil && len(p.Obstacles) == 0 && feeds.Run(ctx, c, p) == nil
}

// postgresConn is a connection to PostgreSQL, or to a larder before one.
type postgresConn struct {
	*pgconn.PgConn
	prepared map[string]string   // the names of statements, by their texts
	types    map[string][]uint32 // of their parameters
	names    int
}

func (c *postgresConn) fromMemory() bool {
	return strings.HasPrefix(simple(c.PgConn, "show "+postgres.LastShown), ledger.Hit.String()+"|")
}

func (c *postgresConn) accepts(sql string) bool {
	return !strings.HasPrefix(simple(c.PgConn, "explain "+sharedParameter.ReplaceAllString(sql, "$1")), refused)
}

func (c *postgresConn) atRest() bool { return c.TxStatus() == 'I' }
func (c *postgresConn) closed() bool { return c.IsClosed() }
func (c *postgresConn) close()       { c.Conn().Close() }

// ask implements conn. What cannot be prepared is sent as text.
func (c *postgresConn) ask(sql string, mode int) string {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if mode < 3 {
		sql = sharedParameter.ReplaceAllString(sql, "$1")
	}
	if strings.Contains(sql, ";") || strings.HasPrefix(sql, "do ") || !strings.HasPrefix(sql, "select") && !strings.HasPrefix(sql, "update") && !strings.HasPrefix(sql, "delete") && !strings.HasPrefix(sql, "insert") && !strings.HasPrefix(sql, "with") && mode >= 3 {
		mode = 0
	}
	switch mode {
	case 1:
		x := c.ExecParams(ctx, sql, nil, nil, nil, nil).Read()
		return finished(rows(x), x.Err)
	case 2, 3, 4, 5:
		var values [][]byte
		var declared []uint32
		if mode >= 3 {
			sql, values = bind(sql)
		}
		key := sql
		if mode == 5 {
			key = "declared " + sql
			for range values {
				declared = append(declared, pgtype.Int8OID)
			}
		}
		name := c.prepared[key]
		if name == "" {
			c.names++
			name = fmt.Sprintf("p%d", c.names)
			d, err := c.Prepare(ctx, name, sql, declared)
			if err != nil {
				return finished("", err)
			}
			c.types[name], c.prepared[key] = d.ParamOIDs, name
		}
		var formats []int16
		if mode == 4 {
			values, formats = inBinary(values, c.types[name])
		}
		x := c.ExecPrepared(ctx, name, values, formats, nil).Read()
		if x.Err != nil {
			clear(c.prepared) // it may be gone, or not fit any more
			_, _ = c.Exec(ctx, "deallocate all").ReadAll()
		}
		return finished(rows(x), x.Err)
	}
	return simple(c.PgConn, sql)
}

// simple runs a statement and gives what came of it as text.
func simple(c *pgconn.PgConn, sql string) string {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	results, err := c.Exec(ctx, sql).ReadAll()
	var out []string
	for _, x := range results {
		out = append(out, rows(x))
	}
	return finished(strings.Join(out, ";"), err)
}

func rows(x *pgconn.Result) string {
	var out strings.Builder
	for _, row := range x.Rows {
		for _, v := range row {
			if v == nil {
				out.WriteString("null|")
			} else {
				out.WriteString(string(v) + "|")
			}
		}
		out.WriteByte('\n')
	}
	return out.String()
}

func finished(text string, err error) string {
	var wrong *pgconn.PgError
	switch {
	case err == nil:
		return text
	case errors.As(err, &wrong):
		if wrong.Code == "55P03" {
			return locked
		}
		return refused + " " + wrong.Code + " " + wrong.Message
	}
	return noAnswer + ": " + err.Error()
}

var number = regexp.MustCompile(`(= |\(|, )(\d{1,9})\b`)

// sharedParameter finds a parameter that is mentioned several times.
var sharedParameter = regexp.MustCompile(`\{p:(\d+)\}`)

// bind takes the numbers out of a statement.
func bind(sql string) (string, [][]byte) {
	var values [][]byte
	if shared := sharedParameter.FindStringSubmatch(sql); shared != nil {
		return sharedParameter.ReplaceAllString(sql, "$$1"), [][]byte{[]byte(shared[1])}
	}
	text := number.ReplaceAllStringFunc(sql, func(s string) string {
		m := number.FindStringSubmatch(s)
		values = append(values, []byte(m[2]))
		return fmt.Sprintf("%s$%d", m[1], len(values))
	})
	return text, values
}

// inBinary gives numbers in the binary format of their types, as far as that is known.
func inBinary(values [][]byte, types []uint32) (out [][]byte, formats []int16) {
	m := pgtype.NewMap()
	for i, v := range values {
		var b []byte
		n, err := strconv.ParseInt(string(v), 10, 64)
		if err == nil && i < len(types) {
			b, err = m.Encode(types[i], pgtype.BinaryFormatCode, n, nil)
		}
		if err != nil || b == nil {
			out, formats = append(out, v), append(formats, pgtype.TextFormatCode)
			continue
		}
		out, formats = append(out, b), append(formats, pgtype.BinaryFormatCode)
	}
	return out, formats
}
