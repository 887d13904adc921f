package main

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/privatemaria"
)

// The statements in front of MariaDB. The one on kept fares has a rule; the other is the same and has none.
const (
	mariaKept   = "select fare from kept_fares where id = 4711"
	mariaPassed = "select fare from passed_fares where id = 4711"
)

var mariaSchema = []string{
	"create database fares", "use fares", "create table kept_fares (id int primary key, fare int not null) engine=innodb", "insert into kept_fares select seq, seq * 7 from seq_1_to_10000",
	"create table passed_fares like kept_fares", "insert into passed_fares select * from kept_fares", "analyze table kept_fares, passed_fares",
}

// maria is MariaDB with what stands before it and beside it.
type maria struct {
	server                            *privatemaria.Server
	larder, relay, stub               *process
	direct, relayed, through, stubbed string
}

func (m *maria) stop() {
	if m.server != nil {
		m.server.Stop()
	}
}

// Commands of the protocol.
const (
	mysqlQuery   = 0x03
	mysqlPrepare = 0x16
	mysqlExecute = 0x17
)

// mysqlPacket makes a packet.
func mysqlPacket(number byte, body ...byte) []byte {
	return append([]byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), number}, body...)
}

func mysqlCommand(kind byte, text string) []byte {
	return mysqlPacket(0, append([]byte{kind}, text...)...)
}

// mysqlExecution runs the first statement that was prepared, with a number.
func mysqlExecution(value uint64) []byte {
	body := append([]byte{mysqlExecute}, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 8, 0)
	return mysqlPacket(0, binary.LittleEndian.AppendUint64(body, value)...)
}

// mysqlRead reads a packet with its head.
func mysqlRead(c io.Reader) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, err
	}
	body := make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
	if _, err := io.ReadFull(c, body); err != nil {
		return nil, err
	}
	if len(body) > 0 && body[0] == 0xff {
		return nil, fmt.Errorf("the server says %q", body[3:])
	}
	return append(head, body...), nil
}

// mysqlAsk sends a command and gives the reply: one packet, or a result up to its second end, or what was prepared of one
// parameter and one column.
func mysqlAsk(c net.Conn, request []byte) (all []byte, err error) {
	if _, err := c.Write(request); err != nil {
		return nil, err
	}
	ends, parts := 0, 0
	for {
		p, err := mysqlRead(c)
		if err != nil {
			return nil, err
		}
		all = append(all, p...)
		switch body := p[4:]; {
		case parts == 0 && body[0] == 0 && request[4] != mysqlPrepare:
			return all, nil
		case parts > 0 && body[0] == 0xfe && len(body) == 5:
			if ends++; ends == 2 {
				return all, nil
			}
		}
		parts++
	}
}

// mysqlLogin is the answer to a greeting: of root, who has no password.
func mysqlLogin() []byte {
	const capabilities = 1 | 1<<3 | 1<<9 | 1<<13 | 1<<15 | 1<<19 // long passwords, a database, protocol 4.1, transactions, secure, plugins
	body := binary.LittleEndian.AppendUint32(nil, capabilities)
	body = binary.LittleEndian.AppendUint32(body, 1<<24)
	body = append(append(body, 45), make([]byte, 23)...)
	return mysqlPacket(1, append(body, "root\x00\x00fares\x00mysql_native_password\x00"...)...)
}

// mysqlConn opens a connection, and prepares a statement unless that is empty.
func mysqlConn(address, prepare string) (net.Conn, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	_, err = mysqlRead(c)
	if err == nil {
		_, err = c.Write(mysqlLogin())
	}
	if err == nil {
		_, err = mysqlRead(c)
	}
	if err == nil && prepare != "" {
		_, err = mysqlAsk(c, mysqlCommand(mysqlPrepare, prepare))
	}
	if err != nil {
		c.Close()
		return nil, fmt.Errorf("logging in at %s: %w", address, err)
	}
	return c, nil
}

// startMaria starts the server with its database, a relay, a larder and a stub.
func (b *bench) startMaria() (m *maria, err error) {
	m = &maria{}
	defer func() {
		if err != nil {
			m.stop()
		}
	}()
	// A thread that serves a second connection counts its statements on, and each request names the first.
	if m.server, err = (privatemaria.Options{Settings: []string{"innodb-buffer-pool-size=256M", "thread-cache-size=0"}}).Start(); err != nil {
		return nil, err
	}
	m.direct = m.server.Address()
	if err := b.loadMaria(m); err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if m.relay, m.relayed, err = b.spawn("the relay before MariaDB", self, func(a string) []string { return []string{"relay", a, m.direct} }); err != nil {
		return nil, err
	}
	if err := b.mariaLarder(m); err != nil {
		return nil, err
	}
	return m, b.mariaStub(m, self)
}

// loadMaria fills the database, over a connection that has none in use yet.
func (b *bench) loadMaria(m *maria) error {
	c, err := net.Dial("tcp", m.direct)
	if err != nil {
		return err
	}
	defer c.Close()
	login := mysqlLogin()
	login[4] &^= 1 << 3 // no database
	login = append(login[:len(login)-len("fares\x00mysql_native_password\x00")], "mysql_native_password\x00"...)
	login[0] = byte(len(login) - 4)
	if _, err := mysqlRead(c); err != nil {
		return err
	}
	if _, err := c.Write(login); err != nil {
		return err
	}
	if _, err := mysqlRead(c); err != nil {
		return err
	}
	for _, q := range mariaSchema {
		if _, err := mysqlAsk(c, mysqlCommand(mysqlQuery, q)); err != nil {
			return fmt.Errorf("%s: %w", q, err)
		}
	}
	return nil
}

// mariaLarder starts a larder with a rule for the kept statement, and waits until that is answered from memory in both ways.
func (b *bench) mariaLarder(m *maria) (err error) {
	rules := filepath.Join(b.dir, "maria-rules.toml")
	text := fmt.Sprintf("[[rule]]\npattern = %q\naction = \"cache\"\nttl = \"1h\"\n", dialect.Dialect.Syntax.Of(mariaKept))
	if err := os.WriteFile(rules, []byte(text), 0o600); err != nil {
		return err
	}
	config := filepath.Join(b.dir, "maria.toml")
	if m.larder, m.through, err = b.spawn("the larder before MariaDB", b.program, func(a string) []string {
		text := fmt.Sprintf("control = %q\nrules = %q\n[[origin]]\nprotocol = \"mysql\"\naddress = %q\nlisten = [%q]\n[origin.catalog]\nuser = \"root\"\n", filepath.Join(b.dir, "maria.sock"), rules, m.direct, a)
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			return nil
		}
		return []string{"serve", "--config", config}
	}); err != nil {
		return err
	}
	c, err := mysqlConn(m.through, strings.Replace(mariaKept, "4711", "?", 1))
	if err != nil {
		return err
	}
	defer c.Close()
	for range 400 {
		hits := 0
		for _, request := range [][]byte{mysqlCommand(mysqlQuery, mariaKept), mysqlExecution(4711)} {
			if _, err := mysqlAsk(c, request); err != nil {
				return err
			}
			report, err := mysqlAsk(c, mysqlCommand(mysqlQuery, "show "+dialect.LastShown))
			if err != nil {
				return err
			}
			if strings.Contains(string(report), "\x03hit") {
				hits++
			}
		}
		if hits == 2 {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("the larder before MariaDB answers nothing from memory")
}

// mysqlCanned is what the stub answers with, as the server did.
type mysqlCanned struct{ Greeting, Welcome, Text, Preparation, Execution []byte }

// mariaStub starts a stub that answers as the server does.
func (b *bench) mariaStub(m *maria, self string) error {
	c, err := net.Dial("tcp", m.direct)
	if err != nil {
		return err
	}
	defer c.Close()
	var canned mysqlCanned
	if canned.Greeting, err = mysqlRead(c); err != nil {
		return err
	}
	if _, err := c.Write(mysqlLogin()); err != nil {
		return err
	}
	if canned.Welcome, err = mysqlRead(c); err != nil {
		return err
	}
	for _, x := range []struct {
		request []byte
		reply   *[]byte
	}{
		{mysqlCommand(mysqlQuery, mariaKept), &canned.Text}, {mysqlCommand(mysqlPrepare, strings.Replace(mariaKept, "4711", "?", 1)), &canned.Preparation}, {mysqlExecution(4711), &canned.Execution},
	} {
		if *x.reply, err = mysqlAsk(c, x.request); err != nil {
			return err
		}
	}
	text, err := json.Marshal(canned)
	if err != nil {
		return err
	}
	file := filepath.Join(b.dir, "maria-canned.json")
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return err
	}
	m.stub, m.stubbed, err = b.spawn("the stub for MariaDB", self, func(a string) []string { return []string{"mysqlstub", a, file} })
	return err
}

// mysqlStub answers as it was told.
func mysqlStub(listen, file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var canned mysqlCanned
	if err := json.Unmarshal(text, &canned); err != nil {
		return err
	}
	return accepts(listen, canned.serve)
}

func (s mysqlCanned) serve(c net.Conn) {
	defer c.Close()
	if _, err := c.Write(s.Greeting); err != nil {
		return
	}
	buf := make([]byte, 32<<10)
	have := 0
	begun := false
	for {
		n, err := c.Read(buf[have:])
		if err != nil {
			return
		}
		have += n
		at := 0
		for have-at >= 4 {
			size := 4 + int(buf[at]) + int(buf[at+1])<<8 + int(buf[at+2])<<16
			if have-at < size {
				break
			}
			kind := buf[at+4]
			at += size
			reply := s.Text
			switch {
			case !begun:
				begun, reply = true, s.Welcome
			case kind == mysqlPrepare:
				reply = s.Preparation
			case kind == mysqlExecute:
				reply = s.Execution
			}
			if _, err := c.Write(reply); err != nil {
				return
			}
		}
		have = copy(buf, buf[at:have])
	}
}

// mariaPoints measures the cheapest select in front of MariaDB, as text and prepared, over one connection and sixteen.
func (b *bench) mariaPoints() error {
	m, err := b.startMaria()
	if err != nil {
		return err
	}
	defer m.stop()
	for _, prepared := range []bool{false, true} {
		for _, n := range []int{1, 16} {
			if err := b.mariaPoint(m, prepared, n); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *bench) mariaPoint(m *maria, prepared bool, n int) error {
	name := map[bool]string{false: "MariaDB, text, ", true: "MariaDB, prepared, "}[prepared] + map[bool]string{true: "1 connection", false: fmt.Sprintf("%d connections", n)}[n == 1]
	of := func(name, address, sql string, p *process) (target, error) {
		t := target{name: name, address: address, process: p, request: mysqlCommand(mysqlQuery, sql), open: func(a string) (net.Conn, error) { return mysqlConn(a, "") }}
		if prepared {
			t.request, t.open = mysqlExecution(4711), func(a string) (net.Conn, error) { return mysqlConn(a, strings.Replace(sql, "4711", "?", 1)) }
		}
		c, err := t.open(m.direct)
		if err != nil {
			return t, err
		}
		defer c.Close()
		reply, err := mysqlAsk(c, t.request)
		t.reply = len(reply)
		return t, err
	}
	var targets []target
	for _, x := range []struct {
		name, address, sql string
		p                  *process
	}{{"direct", m.direct, mariaPassed, nil}, {"relay", m.relayed, mariaPassed, m.relay}, {"bypass", m.through, mariaPassed, m.larder}, {"hit", m.through, mariaKept, m.larder}, {"stub", m.stubbed, mariaKept, m.stub}} {
		t, err := of(x.name, x.address, x.sql, x.p)
		if err != nil {
			return fmt.Errorf("%s: %w", x.name, err)
		}
		targets = append(targets, t)
	}
	rates, err := b.compare(name, n, slices.Clone(targets)...)
	if err != nil || b.just != "" {
		return err
	}
	direct := 0.0
	if n > 1 {
		direct = 3
	}
	b.results.Ratios = append(b.results.Ratios,
		ratio(name, "bypass", "relay", rates["bypass"], rates["relay"], 1), ratio(name, "bypass", "direct", rates["bypass"], rates["direct"], 0),
		ratio(name, "hit", "stub", rates["hit"], rates["stub"], 0.9), ratio(name, "hit", "direct", rates["hit"], rates["direct"], direct))
	for _, what := range []string{"direct", "hit"} {
		b.results.Figures = append(b.results.Figures, Figure{Case: name, What: what, Value: median(rates[what]), Unit: "per second"})
	}
	return nil
}
