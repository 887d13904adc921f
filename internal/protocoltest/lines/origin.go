package lines

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
)

// Rows is how many rows the table of a database has.
const Rows = 9

// Origin is a database server.
type Origin struct {
	ln net.Listener

	mu        sync.Mutex
	databases map[string]*[Rows]string
	sessions  map[int]*guest
	count     int
	wg        sync.WaitGroup
}

// guest is a session.
type guest struct {
	database string
	conn     net.Conn
	cancel   chan struct{} // of the statement that sleeps; nil while none does
	written  map[int]string
	inBlock  bool
}

// NewOrigin starts a server.
func NewOrigin() (*Origin, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	o := &Origin{ln: ln, databases: map[string]*[Rows]string{}, sessions: map[int]*guest{}}
	o.wg.Go(func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			o.wg.Go(func() { o.serve(c) })
		}
	})
	return o, nil
}

// Address is where it listens.
func (o *Origin) Address() string { return o.ln.Addr().String() }

// Close ends it.
func (o *Origin) Close() {
	o.ln.Close()
	o.mu.Lock()
	for _, g := range o.sessions {
		g.conn.Close()
		g.stop()
	}
	o.mu.Unlock()
	o.wg.Wait()
}

// Sleeping says whether a statement sleeps in a database.
func (o *Origin) Sleeping(database string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, g := range o.sessions {
		if g.database == database && g.cancel != nil {
			return true
		}
	}
	return false
}

// userOf gives a user's name without that of his program.
func userOf(user string) string {
	user, _, _ = strings.Cut(user, ".")
	return user
}

func (g *guest) stop() {
	if g.cancel != nil {
		close(g.cancel)
		g.cancel = nil
	}
}

func (o *Origin) serve(c net.Conn) {
	defer c.Close()
	in := bufio.NewReader(c)
	hello, err := in.ReadString('\n')
	words := strings.Fields(hello)
	if err != nil || len(words) < 2 {
		return
	}
	if words[0] == "cancel" {
		n, _ := strconv.Atoi(words[1])
		o.mu.Lock()
		if g := o.sessions[n]; g != nil {
			g.stop()
		}
		o.mu.Unlock()
		return
	}
	if words[0] != "hello" || len(words) != 3 || userOf(words[1]) != "ines" {
		fmt.Fprintf(c, "failed nobody of that name\n")
		return
	}
	g := &guest{database: words[2], conn: c, written: map[int]string{}}
	o.mu.Lock()
	o.count++
	number := o.count
	o.sessions[number] = g
	if o.databases[g.database] == nil {
		o.databases[g.database] = &[Rows]string{}
	}
	o.mu.Unlock()
	defer func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		delete(o.sessions, number)
	}()
	fmt.Fprintf(c, "welcome %d\nready I\n", number)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		parts := strings.Split(strings.TrimSuffix(line, "\n"), "\t")
		rows, err := o.run(g, parts[0], parts[1:])
		var out strings.Builder
		for _, r := range rows {
			out.WriteString("row " + r + "\n")
		}
		if err != nil {
			fmt.Fprintf(&out, "failed %s\n", err)
		} else {
			out.WriteString("done\n")
		}
		out.WriteString(map[bool]string{true: "ready T\n", false: "ready I\n"}[g.inBlock])
		if _, err := c.Write([]byte(out.String())); err != nil {
			return
		}
	}
}

var (
	errValues    = errors.New("other values than the statement has places for")
	errCancelled = errors.New("it was cancelled")
)

// run runs a statement. What a transaction has written is its own until it is committed. It has a case for each
// statement there is.
func (o *Origin) run(g *guest, sql string, values []string) (rows []string, err error) {
	next := func(written string) string {
		if written != "?" {
			return strings.Trim(written, "'")
		}
		if len(values) == 0 {
			err = errValues
			return ""
		}
		v := values[0]
		values = values[1:]
		return v
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	table := o.databases[g.database]
	value := func(i int) string {
		if v, own := g.written[i]; own {
			return v
		}
		return table[i]
	}
	set := func(id, to string) {
		if n, bad := strconv.Atoi(id); bad != nil || n < 1 || n > Rows {
			err = errors.Join(err, fmt.Errorf("there is no row %q", id))
		} else if err == nil {
			if g.written[n-1] = to; !g.inBlock {
				o.commit(g)
			}
		}
	}
	switch m := write.FindStringSubmatch(sql); {
	case m != nil:
		to := next(m[1])
		set(next(m[2]), to)
	case writeAll.MatchString(sql):
		for i := range Rows {
			set(strconv.Itoa(i+1), next(writeAll.FindStringSubmatch(sql)[1]))
		}
	case readRow.MatchString(sql):
		n, bad := strconv.Atoi(next(readRow.FindStringSubmatch(sql)[1]))
		if bad == nil && n >= 1 && n <= Rows {
			rows = append(rows, value(n-1))
		}
	case readAll.MatchString(sql):
		for i := range Rows {
			rows = append(rows, fmt.Sprintf("%d %s", i+1, value(i)))
		}
	case readLong.MatchString(sql):
		for i := range Rows {
			rows = append(rows, strings.Repeat(fmt.Sprintf("%d %s ", i+1, value(i)), 3000))
		}
	case sql == "tables":
		rows = append(rows, "quay")
	case sql == "begin":
		if g.inBlock {
			return nil, errors.New("there is a transaction")
		}
		g.inBlock = true
	case sql == "commit" || sql == "rollback":
		if sql == "commit" {
			o.commit(g)
		}
		clear(g.written)
		g.inBlock = false
	case sql == "sleep":
		woken := make(chan struct{})
		g.cancel = woken
		o.mu.Unlock()
		<-woken
		o.mu.Lock()
		return nil, errCancelled
	default:
		err = fmt.Errorf("%q is not understood", sql)
	}
	return rows, err
}

// commit makes what a session has written everybody's.
func (o *Origin) commit(g *guest) {
	for i, v := range g.written {
		o.databases[g.database][i] = v
	}
	clear(g.written)
}
