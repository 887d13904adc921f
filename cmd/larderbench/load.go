package main

import (
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"
)

// target is something that requests are sent to.
type target struct {
	name    string
	address string
	open    func(address string) (net.Conn, error) // ready for requests
	request []byte
	reply   int      // the length of every reply in bytes
	steps   []step   // or several of them, one after the other's reply
	process *process // what answers, or stands between; nil if its processor time is not measured
}

// step is one of several requests that are sent in turn, and the length of its reply in bytes.
type step struct {
	request []byte
	reply   int
}

// pgConn opens a connection to something that speaks PostgreSQL's protocol, and prepares statements named s0, s1, ...
func pgConn(address string, prepare ...string) (net.Conn, error) {
	return pgConnTo(address, "postgres", prepare...)
}

// pgConnTo is pgConn for a database of a name.
func pgConnTo(address, database string, prepare ...string) (net.Conn, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	if _, err := c.Write(startup("postgres", database)); err != nil {
		return nil, err
	}
	if _, err := untilReady(c, false); err != nil {
		c.Close()
		return nil, fmt.Errorf("logging in at %s: %w", address, err)
	}
	for i, sql := range prepare {
		if _, err := ask(c, slices.Concat(message('P', fmt.Appendf(nil, "s%d\x00%s\x00", i, sql), []byte{0, 0}), message('S'))); err != nil {
			c.Close()
			return nil, fmt.Errorf("preparing at %s: %w", address, err)
		}
	}
	return c, nil
}

// ask sends a request and gives the reply up to ReadyForQuery.
func ask(c net.Conn, request []byte) ([]byte, error) {
	if _, err := c.Write(request); err != nil {
		return nil, err
	}
	return untilReady(c, true)
}

// fleet is connections that are used for a target in every round.
type fleet struct {
	target
	conns []net.Conn
	bufs  [][]byte

	answered int
	used     time.Duration // of its process's processor time
}

func (t target) fleet(n int) (*fleet, error) {
	f := &fleet{target: t}
	for range n {
		c, err := t.open(t.address)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.name, err)
		}
		f.conns = append(f.conns, c)
		longest := t.reply
		for _, s := range t.steps {
			longest = max(longest, s.reply)
		}
		f.bufs = append(f.bufs, make([]byte, longest))
	}
	_, err := f.run(20 * time.Millisecond)
	return f, err
}

func (f *fleet) close() {
	for _, c := range f.conns {
		c.Close()
	}
}

// run asks over all connections at once, each for its next reply as soon as it has the last, and gives the requests
// answered per second.
func (f *fleet) run(d time.Duration) (float64, error) {
	var wg sync.WaitGroup
	counts := make([]int, len(f.conns))
	errs := make([]error, len(f.conns))
	before := f.process.processor()
	start := time.Now()
	steps := f.steps
	if steps == nil {
		steps = []step{{f.request, f.reply}}
	}
	for i, c := range f.conns {
		wg.Go(func() {
			for n := 0; ; n++ {
				if n&15 == 0 && time.Since(start) > d {
					return
				}
				for _, s := range steps {
					if _, errs[i] = c.Write(s.request); errs[i] != nil {
						return
					}
					if _, errs[i] = io.ReadFull(c, f.bufs[i][:s.reply]); errs[i] != nil {
						return
					}
				}
				counts[i]++
			}
		})
	}
	wg.Wait()
	took := time.Since(start)
	total := 0
	for i := range counts {
		if errs[i] != nil {
			return 0, fmt.Errorf("%s: %w", f.name, errs[i])
		}
		total += counts[i]
	}
	f.answered += total
	f.used += f.process.processor() - before
	return float64(total) / took.Seconds(), nil
}

// kvConn opens a connection to the key-value server and stores a value there.
func kvConn(address, key string, value []byte) (net.Conn, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintf(c, "*3\r\n$3\r\nSET\r\n$%d\r\n%s\r\n$%d\r\n%s\r\n", len(key), key, len(value), value); err != nil {
		return nil, err
	}
	ok := make([]byte, 5)
	if _, err := io.ReadFull(c, ok); err != nil || string(ok) != "+OK\r\n" {
		return nil, fmt.Errorf("the key-value server says %q: %w", ok, err)
	}
	return c, nil
}

// lookup gives the request for a key and the length of the reply.
func lookup(key string, value []byte) (request []byte, reply int) {
	return fmt.Appendf(nil, "*2\r\n$3\r\nGET\r\n$%d\r\n%s\r\n", len(key), key), len(fmt.Sprintf("$%d\r\n", len(value))) + len(value) + 2
}
