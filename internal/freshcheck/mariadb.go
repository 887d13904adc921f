package freshcheck

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/feed"
	feeds "jollylarder/internal/feed/mysql"
	"jollylarder/internal/privatemaria"
	"jollylarder/internal/protocol"
	"jollylarder/internal/wire/link"
)

// MariaDB is the checker's view of MariaDB. A world has two databases of such a server, and an account and a role.
var MariaDB Database = mariaDB{}

// MariaDBOptions are those of a server that the checker needs: with the log for a feed, and locks that nobody waits for.
var MariaDBOptions = privatemaria.Options{Settings: []string{
	"log-bin", "server-id=1", "binlog-format=ROW", "binlog-row-metadata=FULL", "innodb-lock-wait-timeout=0", "lock-wait-timeout=0", "max-statement-time=5", "sync-binlog=0", "character-set-server=utf8mb4", "log-bin-trust-function-creators=1",
}}

type mariaDB struct{}

func (mariaDB) protocol() *protocol.Protocol { return protocol.MySQL }

func (mariaDB) account() *link.Account { return &link.Account{User: "root"} }

// gone takes away what a world has.
func (mariaDB) gone(admin conn, name string) {
	for range 200 { // until those that it had have ended, with what they had locked
		for k := range 4 {
			admin.ask(fmt.Sprintf("xa rollback '%sx%d'", name, k), 0)
		}
		failed := false
		for _, sql := range []string{"drop database if exists " + name + "_n", "drop database if exists " + name, "drop user if exists " + name + "_u", "drop role if exists " + name + "_r"} {
			got := admin.ask(sql, 0)
			failed = failed || strings.HasPrefix(got, refused)
		}
		if !failed {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
}

func (d mariaDB) create(address, name string, schema []string) (drop func(), err error) {
	admin, err := d.connect(address, "", "freshcheck")
	if err != nil {
		return nil, err
	}
	admin.ask("set foreign_key_checks = 0", 0)
	d.gone(admin, name)
	drop = func() {
		d.gone(admin, name)
		admin.close()
	}
	defer func(drop func()) {
		if err != nil {
			drop()
		}
	}(drop)
	for _, sql := range []string{"create database {db}", "create database {db}_n", "create user {db}_u", "grant all on {db}.* to {db}_u", "grant all on {db}_n.* to {db}_u", "create role {db}_r", "grant {db}_r to root@localhost"} {
		if got := admin.ask(d.local(sql, address, name), 0); strings.HasPrefix(got, refused) {
			return nil, fmt.Errorf("%s: %s", sql, got)
		}
	}
	own, err := d.connect(address, name, "freshcheck")
	if err != nil {
		return nil, err
	}
	defer own.close()
	own.ask("set lock_wait_timeout = 10", 0) // for those who look at all tables there are
	for _, sql := range schema {
		if got := own.ask(d.local(sql, address, name), 0); strings.HasPrefix(got, refused) {
			return nil, fmt.Errorf("%s: %s", sql, got)
		}
	}
	return drop, nil
}

func (mariaDB) connect(address, database, name string) (conn, error) {
	c, err := dialMariaDB(address, database, name)
	if err != nil {
		return nil, err
	}
	return c, nil
}

func (mariaDB) local(sql, _, database string) string {
	return strings.ReplaceAll(sql, "{db}", database)
}

func (mariaDB) world(r *rand.Rand) *world { return newMariaWorld(r) }

func (mariaDB) generated(r *rand.Rand, features ...string) *world {
	return newMariaGenerated(r, features...)
}

func (mariaDB) plain(sql string) bool {
	word, _, _ := strings.Cut(sql, " ")
	return !slices.Contains([]string{"begin", "start", "set", "use", "xa", "lock", "create", "prepare", "handler", changesUser, entersDatabase}, word)
}

func (mariaDB) harmless() string { return "select 'is it known'" }

func (mariaDB) forever() (list []string) {
	for k := range 4 {
		list = append(list, fmt.Sprintf("xa rollback '{db}x%d'", k))
	}
	return list
}

// login relays the greeting and the answer to it. The name is an attribute of that. Source: "Connection Phase" in MySQL's
// internals manual.
func (mariaDB) login(larder, server net.Conn) (name string, err error) {
	if _, err = relayPacket(server, larder); err != nil {
		return "", err
	}
	answer, err := relayPacket(larder, server)
	if err != nil {
		return "", err
	}
	if _, behind, found := bytes.Cut(answer, []byte(nameAttribute)); found && len(behind) > 0 && len(behind) > int(behind[0]) {
		name = string(behind[1 : 1+behind[0]])
	}
	return name, nil
}

// nameAttribute is that by which a client tells its name.
const nameAttribute = "program_name"

func relayPacket(from, to net.Conn) ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(from, head); err != nil {
		return nil, err
	}
	size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if size > 1<<16 {
		return nil, errors.New("no packet of a login")
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(from, body); err != nil {
		return nil, err
	}
	_, err := to.Write(append(head, body...))
	return body, err
}

// replies counts the replies that have come to their ends. It knows nothing of what was asked: a statement that is
// prepared is taken to be so with the first packet of the reply.
func (mariaDB) replies() func([]byte) int {
	var head []byte // of the packet that is arriving, with as much of its body as counts
	size, skip := 0, 0
	var reply replyEnds
	return func(b []byte) (ready int) {
		for len(b) > 0 {
			if skip > 0 {
				n := min(skip, len(b))
				b, skip = b[n:], skip-n
				continue
			}
			head = append(head, b[0])
			b = b[1:]
			if len(head) < 4 {
				continue
			}
			size = int(head[0]) | int(head[1])<<8 | int(head[2])<<16
			if n := min(size, 32); len(head) == 4+n {
				skip = size - n
				if reply.packet(head[3], size, head[4:]) {
					ready++
				}
				head = head[:0]
			}
		}
		return ready
	}
}

// replyEnds follows replies packet by packet.
type replyEnds struct {
	within  bool // a reply has begun, and has not ended
	columns int  // so many are still to be described, or the end of that, and then rows follow
	rows    bool
}

// The flags of a server's status that count here.
const (
	statusInTransaction = 1
	statusMoreResults   = 8
)

// packet takes one, of which it sees the beginning, and says whether a reply ends with it.
func (e *replyEnds) packet(number byte, size int, body []byte) (ended bool) {
	if number == 1 {
		*e = replyEnds{within: true}
	}
	if !e.within || len(body) == 0 {
		return false
	}
	switch first := body[0]; {
	case first == 0xff:
		e.within = false
	case e.columns > 0:
		e.columns--
		e.rows = e.columns == 0
		return false
	case e.rows && first == 0xfe && size == 5 && len(body) == 5:
		e.within = body[3]&statusMoreResults != 0
		e.rows = false
	case e.rows:
		return false
	case first == 0xfe: // a challenge
		return false
	case first == 0:
		e.within = okStatus(body)&statusMoreResults != 0
	default:
		n, _ := lengthEncoded(body)
		e.columns = int(n) + 1 // and the end of their descriptions
		return false
	}
	return !e.within
}

// okStatus gives the status that an OK packet tells.
func okStatus(body []byte) (status uint16) {
	at := 1
	for range 2 {
		if at >= len(body) {
			return 0
		}
		_, n := lengthEncoded(body[at:])
		at += n
	}
	if at+2 > len(body) {
		return 0
	}
	return uint16(body[at]) | uint16(body[at+1])<<8
}

// lengthEncoded reads a number, and gives how many bytes it has. Source: "Integer Types" in MySQL's internals manual.
func lengthEncoded(b []byte) (value uint64, size int) {
	size = 1
	switch b[0] {
	case 0xfc:
		size = 3
	case 0xfd:
		size = 4
	case 0xfe:
		size = 9
	default:
		return uint64(b[0]), 1
	}
	if len(b) < size {
		return 0, size
	}
	for i := size - 1; i > 0; i-- {
		value = value<<8 | uint64(b[i])
	}
	return value, size
}

func (mariaDB) follow(address, _ string, to *engine.Engine) (feed.Follower, error) {
	return &feeds.Follower{
		Options: feed.Options{Feed: to.Feed("", ""), Mode: feed.Stream, Log: quiet, ProbeEvery: 2 * time.Millisecond},
		Config: func() *driver.Config {
			cfg := driver.NewConfig()
			cfg.User, cfg.Net, cfg.Addr = "root", "tcp", address
			cfg.DialFunc = (&net.Dialer{}).DialContext
			return cfg
		},
	}, nil
}

func (mariaDB) unfollow(string, string) bool { return true } // it leaves nothing there
