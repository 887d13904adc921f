// Package standin is an origin that needs no installation: SQLite behind PostgreSQL's protocol or MySQL's, for the demo and
// for tests. It is a stand-in and says so: it speaks enough of the protocol and of the dialect for ordinary statements,
// keeps its data in a directory that is removed at the end, and can take its time over each statement as a distant,
// busy server would.
package standin

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the engine
)

// mysqlProtocol is the name of MySQL's.
const mysqlProtocol = "mysql"

// Delay is the time that the stand-in takes over a statement beyond what SQLite needs. The zero value is none.
type Delay struct {
	// Distance is the typical time on the network and in the server's front; it varies as such times do.
	Distance time.Duration
	// Work multiplies the time that SQLite took.
	Work float64
	// Seed makes the variation the same at every run.
	Seed uint64
}

// Options are an origin's knobs.
type Options struct {
	Delay Delay
	// Protocol is mysql, or else that of PostgreSQL.
	Protocol string
	// Database is the only database there is; empty means "skerrow".
	Database string
}

// Origin is one server with one database.
type Origin struct {
	opts Options
	dir  string
	db   *sql.DB

	mu       sync.Mutex
	rng      *rand.Rand
	columns  map[string][]column // by table or view
	sessions map[uint32]*session
	mysql    map[uint32]*mysqlSession
	conns    map[net.Conn]struct{}
	lastID   uint32
	ended    bool
	began    time.Time
	wg       sync.WaitGroup
}

// New makes an empty database. Close must be called at the end.
func New(opts Options) (*Origin, error) {
	if opts.Database == "" {
		opts.Database = "skerrow"
	}
	dir, err := os.MkdirTemp("", "jollylarder-standin-")
	if err != nil {
		return nil, fmt.Errorf("making a directory for the stand-in's data: %w", err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "data.db")+
		"?_pragma=journal_mode(wal)&_pragma=synchronous(off)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_pragma=case_sensitive_like(1)&_time_format=sqlite")
	if err == nil {
		tables := systemTables
		if opts.Protocol == mysqlProtocol {
			tables = mysqlTables
		}
		_, err = db.Exec(strings.ReplaceAll(tables, "{database}", opts.Database))
	}
	if err != nil {
		os.RemoveAll(dir)
		return nil, fmt.Errorf("opening the stand-in's database: %w", err)
	}
	return &Origin{
		opts: opts, dir: dir, db: db, rng: rand.New(rand.NewPCG(opts.Delay.Seed, 7)),
		columns: map[string][]column{}, sessions: map[uint32]*session{}, mysql: map[uint32]*mysqlSession{}, began: time.Now(), conns: map[net.Conn]struct{}{},
	}, nil
}

// Serve accepts clients until the listener is closed.
func (o *Origin) Serve(l net.Listener) error {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("accepting a client: %w", err)
		}
		o.mu.Lock()
		if o.ended {
			o.mu.Unlock()
			c.Close()
			return nil
		}
		o.conns[c] = struct{}{}
		o.mu.Unlock()
		o.wg.Go(func() {
			defer func() {
				c.Close()
				o.mu.Lock()
				delete(o.conns, c)
				o.mu.Unlock()
			}()
			if o.opts.Protocol == mysqlProtocol {
				o.serveMySQL(c)
			} else {
				o.serve(c)
			}
		})
	}
}

// Close ends all sessions and removes the data.
func (o *Origin) Close() error {
	o.mu.Lock()
	o.ended = true
	for c := range o.conns {
		c.Close()
	}
	for _, s := range o.sessions {
		if s.cancel != nil {
			s.cancel()
		}
	}
	for _, s := range o.mysql {
		if s.cancel != nil {
			s.cancel()
		}
	}
	o.mu.Unlock()
	o.wg.Wait()
	err := o.db.Close()
	return errors.Join(err, os.RemoveAll(o.dir))
}

// running gives the context of a statement, which cancel ends from another session's side, and what is to be called at its
// end.
func (o *Origin) running(cancel *context.CancelFunc) (ctx context.Context, ended func()) {
	ctx, stop := context.WithCancel(context.Background())
	set := func(f context.CancelFunc) {
		o.mu.Lock()
		defer o.mu.Unlock()
		*cancel = f
	}
	set(stop)
	return ctx, func() {
		set(nil)
		stop()
	}
}

// scanned gives all rows of a result of so many columns.
func scanned(r *sql.Rows, columns int) (all [][]any, err error) {
	for r.Next() {
		row, into := make([]any, columns), make([]any, columns)
		for i := range row {
			into[i] = &row[i]
		}
		if err := r.Scan(into...); err != nil {
			return nil, err
		}
		all = append(all, row)
	}
	return all, r.Err()
}

// delay waits as long as a statement would take elsewhere that SQLite needed took for.
func (o *Origin) delay(ctx context.Context, took time.Duration) error {
	d := o.opts.Delay
	if d.Distance == 0 && d.Work == 0 {
		return ctx.Err()
	}
	o.mu.Lock()
	spread := math.Exp(0.35 * o.rng.NormFloat64())
	o.mu.Unlock()
	wait := time.Duration(float64(d.Distance)*spread + float64(took)*d.Work)
	t := time.NewTimer(wait)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// describe gives the columns of a table or view, read once until the schema changes.
func (o *Origin) describe(table string) []column {
	o.mu.Lock()
	c, ok := o.columns[table]
	o.mu.Unlock()
	if ok {
		return c
	}
	var kind, text string
	if err := o.db.QueryRow("select type, coalesce(sql, '') from sqlite_master where name = ? and type in ('table', 'view')", table).Scan(&kind, &text); err != nil {
		return nil
	}
	if kind == "view" {
		c = o.describeView(text)
	} else {
		rows, err := o.db.Query("select name, type from pragma_table_info(?)", table)
		if err != nil {
			return nil
		}
		defer rows.Close()
		for rows.Next() {
			var name, decl string
			if rows.Scan(&name, &decl) == nil {
				c = append(c, column{name, declared(decl)})
			}
		}
	}
	o.mu.Lock()
	o.columns[table] = c
	o.mu.Unlock()
	return c
}

func (o *Origin) describeView(text string) []column {
	i := strings.Index(strings.ToLower(text), " as ")
	if i < 0 {
		return nil
	}
	s, err := parse(text[i+4:])
	if err != nil || len(s) != 1 {
		return nil
	}
	return o.infer(s[0].node, nil).columns
}

func (o *Origin) schemaChanged() {
	o.mu.Lock()
	defer o.mu.Unlock()
	clear(o.columns)
}

// systemTables are as much of the system catalog as tells which tables there are and what hangs on them. Numbers are
// cast where they are worked out, so that SQLite compares them with texts as PostgreSQL does.
const systemTables = `
create view pg_namespace as select cast(2200 as int) as oid, 'public' as nspname;
create view pg_roles as select 10 as oid, 'skerrow' as rolname where false;
create view pg_class as
  select cast(rowid as int) as oid, name as relname, cast(2200 as int) as relnamespace, case type when 'view' then 'v' else 'r' end as relkind,
         cast(0 as int) as relrowsecurity, 0 as relhassubclass, 0 as relhasrules, 'p' as relpersistence
  from sqlite_master where type in ('table', 'view') and name not like 'sqlite_%' and name not like 'pg_%';
create view pg_trigger as
  select m.rowid as tgrelid, 0 as tgisinternal, 1 as tgfoid
  from sqlite_master t join sqlite_master m on m.name = t.tbl_name and m.type = 'table' where t.type = 'trigger';
create view pg_constraint as
  select 0 as oid, m.rowid as conrelid, p.rowid as confrelid, 'f' as contype,
         case f.on_update when 'CASCADE' then 'c' when 'SET NULL' then 'n' when 'SET DEFAULT' then 'd' else 'a' end as confupdtype,
         case f.on_delete when 'CASCADE' then 'c' when 'SET NULL' then 'n' when 'SET DEFAULT' then 'd' else 'a' end as confdeltype
  from sqlite_master m, pragma_foreign_key_list(m.name) f join sqlite_master p on p.name = f."table" and p.type = 'table'
  where m.type = 'table';
create table pg_inherits (inhrelid int);
create table pg_depend (classid int, objid int, refclassid int, refobjid int);
create table pg_proc (oid int, proname text, pronamespace int, provolatile text, prolang int, prosrc text);
create table pg_language (oid int, lanname text);
create table pg_attrdef (oid int, adrelid int);
create table pg_rewrite (oid int, ev_class int, ev_action text);
create table pg_policy (oid int, polrelid int, polqual text);
create view pg_attribute as
  select m.rowid as attrelid, cast(x.cid + 1 as int) as attnum, x.name as attname, cast(case when x.type in ('INTEGER', 'integer', 'int', 'INT') then 23 else 0 end as int) as atttypid
  from sqlite_master m, pragma_table_xinfo(m.name) x where m.type = 'table' and m.name not like 'sqlite_%' and m.name not like 'pg_%';
create table pg_operator (oid int, oprname text, oprcode int, oprnamespace int);
create table pg_cast (castfunc int);
`
