package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/control/client"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/standin"
)

// What a large installation has.
const (
	manyTables   = 10_000
	manyRules    = 10_000
	manyPatterns = 45_000 // at 49,000 rare ones begin to be merged
	busy         = 200    // of so many connections as there are idle ones in another case
)

// execute runs statements over a connection, one after the other.
func execute(c net.Conn, script ...string) error {
	for _, sql := range script {
		if _, err := ask(c, message('Q', []byte(sql+"\x00"))); err != nil {
			return err
		}
	}
	return nil
}

// largeOne measures a larder before a database of many tables, with many rules and patterns, against one that has few
// of all.
func (b *bench) largeOne() error {
	const name, database = "10,000 tables and rules, 45,000 patterns", "large"
	c, err := pgConn(b.direct)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := execute(c, "create database "+database); err != nil {
		return err
	}
	filling, err := pgConnTo(b.direct, database)
	if err != nil {
		return err
	}
	script := []string{schema}
	for i := 0; i < manyTables; i += 1000 {
		script = append(script, fmt.Sprintf("do $$ begin for i in %d..%d loop execute format('create table quay_%%s (id int primary key, name text)', i); end loop; end $$", i+1, i+1000))
	}
	err = execute(filling, script...)
	filling.Close()
	if err != nil {
		return err
	}
	var rules strings.Builder
	fmt.Fprintf(&rules, "[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1h\"\n", dialect.Dialect.Syntax.Of(keptPoint))
	for i := range manyRules {
		fmt.Fprintf(&rules, "[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1m\"\n", dialect.Dialect.Syntax.Of(fmt.Sprintf("select name as c%d from quay_%d where id = 1", i, i+1)))
	}
	file, socket := filepath.Join(b.dir, "large.toml"), filepath.Join(b.dir, "large.sock")
	if err := os.WriteFile(file, []byte(rules.String()), 0o600); err != nil {
		return err
	}
	config := filepath.Join(b.dir, "large-larder.toml")
	if err := os.WriteFile(config, []byte("overhead = \"4GiB\"\n"), 0o600); err != nil {
		return err
	}
	larder, address, err := b.spawn("the larder with much to know", b.program, func(a string) []string {
		return []string{"serve", "--config", config, "--listen", a, "--origin", b.direct, "--rules", file, "--control", socket}
	})
	if err != nil {
		return err
	}
	defer larder.stop()
	began := time.Now()
	if err := hitsFrom(socket, func() (net.Conn, error) { return pgConnTo(address, database) }, keptPoint); err != nil {
		return err
	}
	known := time.Since(began)
	var wg sync.WaitGroup
	errs := make(chan error, 8)
	for k := range 8 {
		wg.Go(func() {
			c, err := pgConnTo(address, database)
			if err != nil {
				errs <- err
				return
			}
			defer c.Close()
			for i := k; i < manyPatterns; i += 8 {
				if err := execute(c, fmt.Sprintf("select %d as c%d", i, i)); err != nil {
					errs <- err
					return
				}
			}
		})
	}
	wg.Wait()
	close(errs)
	if err := <-errs; err != nil {
		return err
	}
	opened := func(what, sql, address, database string, p *process) (t target, err error) {
		t = target{name: what, address: address, process: p, request: message('Q', []byte(sql+"\x00"))}
		t.open = func(a string) (net.Conn, error) { return pgConnTo(a, database) }
		c, err := t.open(address)
		if err != nil {
			return t, err
		}
		defer c.Close()
		reply, err := ask(c, t.request)
		t.reply = len(reply)
		return t, err
	}
	var targets []target
	for _, sql := range []string{keptPoint, passedPoint} {
		what := map[string]string{keptPoint: "hit", passedPoint: "bypass"}[sql]
		few, err := opened(what, sql, b.through, "postgres", b.larder)
		if err != nil {
			return err
		}
		much, err := opened(what+", much to know", sql, address, database, larder)
		if err != nil {
			return err
		}
		targets = append(targets, few, much)
	}
	rates, err := b.compare(name, 16, targets...)
	if err != nil || b.just != "" {
		return err
	}
	api := client.NewClient(socket)
	st, err := api.Stock(context.Background())
	if err != nil {
		return err
	}
	patterns, err := api.Patterns(context.Background(), "", "", false)
	if err != nil {
		return err
	}
	b.results.Ratios = append(b.results.Ratios,
		ratio(name, "hit, much to know", "hit", rates["hit, much to know"], rates["hit"], 0.95),
		ratio(name, "bypass, much to know", "bypass", rates["bypass, much to know"], rates["bypass"], 0.95))
	b.results.Figures = append(b.results.Figures,
		Figure{Case: name, What: "from the start to the first hit", Value: known.Seconds(), Unit: "s"},
		Figure{Case: name, What: "patterns tracked", Value: float64(patterns.Matching), Unit: "patterns"},
		Figure{Case: name, What: "real memory", Value: float64(st.Process.Resident) / (1 << 20), Unit: "MiB"})
	return nil
}

// hitsFrom asks a statement until it is answered from memory.
func hitsFrom(socket string, open func() (net.Conn, error), sql string) error {
	c, err := open()
	if err != nil {
		return err
	}
	defer c.Close()
	api := client.NewClient(socket)
	for range 6000 {
		if err := execute(c, sql); err != nil {
			return err
		}
		st, err := api.Status(context.Background())
		if err != nil {
			return err
		}
		if st.Total.Hits > 0 {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the larder answers nothing from memory")
}

// manyConnections measures hits of some connections beside thousands that have nothing to do, against the same without
// them.
func (b *bench) manyConnections() error {
	name := fmt.Sprintf("%d connections, %d busy", b.idle, busy)
	self, err := os.Executable()
	if err != nil {
		return err
	}
	origin, originAt, err := b.spawn("the stand-in of a database", self, func(a string) []string { return []string{"standin", a} })
	if err != nil {
		return err
	}
	defer origin.stop()
	open := func(a string) (net.Conn, error) { return pgConnTo(a, standInDatabase) }
	c, err := open(originAt)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := execute(c, "create table kept_fares (id integer primary key, fare integer)", "insert into kept_fares values (4711, 12)"); err != nil {
		return err
	}
	reply, err := ask(c, message('Q', []byte(keptPoint+"\x00")))
	if err != nil {
		return err
	}
	var targets []target
	for i, what := range []string{"hit", "hit, beside idle ones"} {
		file, socket := filepath.Join(b.dir, fmt.Sprintf("many%d.toml", i)), filepath.Join(b.dir, fmt.Sprintf("many%d.sock", i))
		rule := fmt.Appendf(nil, "[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1h\"\n", dialect.Dialect.Syntax.Of(keptPoint))
		if err := os.WriteFile(file, rule, 0o600); err != nil {
			return err
		}
		larder, address, err := b.spawn("a larder before the stand-in", b.program, func(a string) []string {
			return []string{"serve", "--listen", a, "--origin", originAt, "--rules", file, "--control", socket}
		})
		if err != nil {
			return err
		}
		defer larder.stop()
		if err := hitsFrom(socket, func() (net.Conn, error) { return open(address) }, keptPoint); err != nil {
			return err
		}
		for range i * (b.idle - busy) {
			c, err := open(address)
			if err != nil {
				return err
			}
			defer c.Close()
			if err := execute(c, keptPoint); err != nil { // it was in use once
				return err
			}
		}
		targets = append(targets, target{name: what, address: address, process: larder, open: open, request: message('Q', []byte(keptPoint+"\x00")), reply: len(reply)})
	}
	rates, err := b.compare(name, busy, targets...)
	if err != nil || b.just != "" {
		return err
	}
	b.results.Ratios = append(b.results.Ratios, ratio(name, "hit, beside idle ones", "hit", rates["hit, beside idle ones"], rates["hit"], 0.95))
	return nil
}

// standInDatabase is the database that the stand-in has.
const standInDatabase = "skerrow"

// standIn serves a stand-in of a database on an address.
func standIn(address string) error {
	o, err := standin.New(standin.Options{Database: standInDatabase})
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return err
	}
	return o.Serve(l)
}
