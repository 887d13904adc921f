// Command clientcheck has applications' usual clients do one small piece of work, directly and through a larder that
// keeps everything, and reports how much of it was answered from memory. What they print must be the same.
package main

import (
	"context"
	"embed"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"jollylarder/internal/core/analysis"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	core "jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/stream"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

//go:embed clients
var scripts embed.FS

// schema is what the clients find.
const schema = `create table ports (id int primary key, name text, country text);
create table sailings (id int primary key, port int references ports, seats int);
create index on sailings (port);
create procedure note(n int) language plpgsql as $$ begin perform n; end $$;
insert into ports select i, 'Port ' || i, case i % 2 when 0 then 'Skerrow' else 'Mainland' end from generate_series(1, 10) i;
insert into sailings select i, i % 10 + 1, 200 from generate_series(1, 200) i`

// turns is how many transactions each client makes, in each of which it reads three times.
const turns = 20

func main() {
	only := flag.String("only", "", "run the clients whose name holds this")
	node := flag.String("node", "bin/clients/node_modules", "where the packages for Node are")
	why := flag.Bool("why", false, "show why calls passed")
	flag.Parse()
	if err := run(*only, *node, *why); err != nil {
		fmt.Fprintln(os.Stderr, "clientcheck:", err)
		os.Exit(1)
	}
}

func run(only, node string, why bool) error {
	server, err := privatepg.Start("", "max_connections=200")
	if err != nil {
		return err
	}
	defer server.Stop()
	dir, err := os.MkdirTemp("", "clientcheck-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := unpack(dir); err != nil {
		return err
	}
	if node, err = filepath.Abs(node); err != nil {
		return err
	}
	b := &bench{server: server, dir: dir, node: node}
	l, err := b.larder(server.Address())
	if err != nil {
		return err
	}
	defer l.close()
	failed := false
	fmt.Println("| client | answered from memory |")
	fmt.Println("|---|---|")
	for i, c := range clients {
		if !strings.Contains(c.name, only) {
			continue
		}
		r, err := b.tryBehind(l, fmt.Sprintf("c%d", i), c)
		if err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
		fmt.Printf("| %s | %d of %d |\n", c.name, r.hits, r.reads)
		failed = failed || r.hits < c.least
		if why || r.hits < c.least {
			for reason, n := range r.reasons {
				fmt.Printf("    %3d %s\n", n, reason)
			}
		}
	}
	if failed {
		return errors.New("some clients were answered from memory less than is usual")
	}
	return nil
}

// unpack writes the clients' scripts.
func unpack(dir string) error {
	return fs.WalkDir(scripts, "clients", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := scripts.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(dir, filepath.Base(path)), text, 0o600)
	})
}

// bench is what the clients work with.
type bench struct {
	server    *privatepg.Server
	dir, node string
}

// larder is one that keeps everything, with what it did.
type larder struct {
	engine  *core.Larder
	address string
	ended   chan struct{}
	ln      net.Listener
	srv     *wire.Server
	watch   *stream.Watcher

	mu     sync.Mutex
	events []stream.Event
}

func (b *bench) larder(origin string) (*larder, error) {
	e, err := core.New(engine.Options{Dialect: dialect.Dialect}, time.Now())
	if err != nil {
		return nil, err
	}
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache}}))
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	l := &larder{engine: e, address: ln.Addr().String(), ended: make(chan struct{}), ln: ln, srv: wire.New(link.Options{Engine: e.Engine, Origin: origin}), watch: e.Stream.Watch(false, true)}
	go func() { _ = l.srv.Serve(ln) }()
	go func() {
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case now := <-tick.C:
				e.Tick(now)
				l.gather()
			case <-l.ended:
				return
			}
		}
	}()
	return l, nil
}

func (l *larder) gather() {
	l.mu.Lock()
	defer l.mu.Unlock()
	events, _ := l.watch.Read()
	l.events = append(l.events, events...)
}

func (l *larder) close() {
	l.ln.Close()
	l.srv.Close()
	close(l.ended)
}

// result is what became of a client's reads.
type result struct {
	reads, hits int
	reasons     map[string]int
}

// tryBehind is try, with a pooler between the larder and the database where the client is to have one.
func (b *bench) tryBehind(l *larder, database string, c client) (result, error) {
	if c.behind == "" {
		return b.try(l, database, c)
	}
	address, stop, err := b.pooler(b.server.Address(), c.behind)
	if err != nil {
		return result{}, err
	}
	defer stop()
	if l, err = b.larder(address); err != nil {
		return result{}, err
	}
	defer l.close()
	return b.try(l, database, c)
}

// try has a client work on a fresh database twice, the second time through the larder.
func (b *bench) try(l *larder, database string, c client) (r result, err error) {
	ctx := context.Background()
	var printed [2]string
	for i, address := range []string{b.server.Address(), l.address} {
		name := fmt.Sprintf("%s_%d", database, i)
		if err := b.fresh(ctx, name); err != nil {
			return r, err
		}
		if i == 1 {
			if err := l.know(ctx, name); err != nil {
				return r, err
			}
		}
		before, after, err := c.around(b, address)
		if err != nil {
			return r, err
		}
		out, err := b.work(c, before, name)
		after()
		if err != nil {
			return r, err
		}
		printed[i] = out
	}
	time.Sleep(50 * time.Millisecond) // until the last events have been gathered
	l.gather()
	l.mu.Lock()
	defer l.mu.Unlock()
	r.reasons = map[string]int{}
	for _, e := range l.events {
		if e.Pattern == nil || e.Database != database+"_1" || e.Application == "warm" {
			continue
		}
		f := e.Pattern.Facts
		if read := f.Kind == analysis.KindSelect && slices.ContainsFunc(f.Reads, func(n analysis.Name) bool { return n.Schema == "" && (n.Name == "ports" || n.Name == "sailings") }); !read {
			continue
		}
		r.reads++
		if e.Outcome == ledger.Hit {
			r.hits++
		} else {
			r.reasons[e.Outcome.String()+": "+e.Reason.String()]++
		}
	}
	l.events = nil
	if printed[0] != printed[1] {
		return r, fmt.Errorf("what it printed differs:\ndirectly:\n%s\nthrough the larder:\n%s", printed[0], printed[1])
	}
	return r, nil
}

func (b *bench) fresh(ctx context.Context, name string) error {
	c, err := pgx.Connect(ctx, b.server.URL("postgres", "postgres"))
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	if _, err := c.Exec(ctx, "create database "+name); err != nil {
		return err
	}
	d, err := pgx.Connect(ctx, b.server.URL("postgres", name))
	if err != nil {
		return err
	}
	defer d.Close(ctx)
	_, err = d.Exec(ctx, schema, pgx.QueryExecModeSimpleProtocol)
	return err
}

// know has the larder know a database's definitions.
func (l *larder) know(ctx context.Context, database string) error {
	c, err := pgx.Connect(ctx, "postgres://postgres@"+l.address+"/"+database+"?sslmode=disable&application_name=warm")
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for range 1000 {
		known := false
		l.engine.Databases(func(name string, k, _ bool, _ []string) { known = known || k && name == database })
		if known {
			return nil
		}
		if _, err := c.Exec(ctx, "select 'is it known'"); err != nil {
			return err
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the larder did not come to know the database")
}

// work runs a client and gives what it printed.
func (b *bench) work(c client, address, database string) (string, error) {
	if c.run != nil {
		return c.run("postgres://postgres@" + address + "/" + database + "?sslmode=disable&application_name=check")
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, c.command[0], c.command[1:]...)
	host, port, _ := net.SplitHostPort(address)
	cmd.Dir = b.dir
	cmd.Env = append(os.Environ(), "PGHOST="+host, "PGPORT="+port, "PGUSER=postgres", "PGDATABASE="+database, "PGAPPNAME=check", "PGSSLMODE=disable", "NODE_PATH="+b.node)
	var out, problems strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &problems
	if err := cmd.Run(); err != nil {
		return "", fmt.Errorf("%w: %s", err, problems.String())
	}
	return out.String(), nil
}
