package mysql_test

import (
	"bytes"
	"crypto/sha1"
	"crypto/tls"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/user"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/core/engine"
	core "jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/privatemaria"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/mysql"
)

var (
	server    *privatemaria.Server
	authority *privatepg.Authority
)

// setup makes the accounts of the server, beside root, who has no password, and what tests ask for.
var setup = []string{
	"create user ines identified by 'Quay#7'", "create user tern", "grant all on *.* to ines", "grant all on *.* to tern",
	"create database skerrow", "create table skerrow.berths (id int primary key, ship varchar(40)) engine=innodb",
	"insert into skerrow.berths select seq, concat('ship ', seq) from skerrow.seq_1_to_300",
	"create procedure skerrow.twice() begin select 1; select 2, 3; end",
}

func TestMain(m *testing.M) {
	code := func() int {
		var err error
		if authority, err = privatepg.NewAuthority("harbour"); err != nil {
			panic(err)
		}
		cert, key, err := authority.Issue("localhost")
		if err != nil {
			panic(err)
		}
		server, err = privatemaria.Options{
			Files: map[string][]byte{"cert.pem": cert, "key.pem": key},
			Settings: []string{"ssl-cert=$dir/cert.pem", "ssl-key=$dir/key.pem", "local-infile=1", "proxy-protocol-networks=127.0.0.1", "log-bin", "server-id=1",
				"max-allowed-packet=64M", "plugin-maturity=experimental",
				"performance-schema=ON", "performance-schema-instrument=wait/lock/metadata/sql/mdl=ON"},
		}.Start()
		if err != nil && (!errors.Is(err, privatemaria.ErrMissing) || os.Getenv("CI") != "") {
			panic(err)
		}
		if server != nil {
			defer server.Stop()
			db, err := sql.Open("mysql", "root@tcp("+server.Address()+")/")
			if err != nil {
				panic(err)
			}
			defer db.Close()
			own := "create user " + self() + "@localhost identified via unix_socket"
			if self() == "root" {
				own = "alter user root@localhost identified via unix_socket or mysql_native_password using ''"
			}
			for _, q := range append(setup, own, "grant all on skerrow.* to "+self()+"@localhost") {
				if _, err := db.Exec(q); err != nil {
					panic(q + ": " + err.Error())
				}
			}
		}
		return m.Run()
	}()
	os.Exit(code)
}

// self is who the tests run as.
func self() string {
	u, err := user.Current()
	if err != nil {
		return "root"
	}
	return u.Username
}

// larder is one before the server.
type larder struct {
	t       testing.TB
	server  *wire.Server
	core    *core.Larder
	address string
}

// newLarder makes a larder with some settings.
func newLarder(t testing.TB, set link.Settings) *larder { return newLarderBefore(t, "", set) }

func newLarderBefore(t testing.TB, origin string, set link.Settings) *larder {
	return newLarderWith(t, link.Options{Origin: origin}, set)
}

func newLarderWith(t testing.TB, o link.Options, set link.Settings) *larder {
	origin := o.Origin
	if origin == "" {
		if server == nil {
			t.Skip("no MariaDB here")
		}
		origin = server.Address()
	}
	e, err := core.New(engine.Options{Dialect: dialect.Dialect, Misuse: func(what string) { t.Error(what) }}, time.Now())
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	if origin == "itself" {
		origin = ln.Addr().String()
	}
	o.Engine, o.Origin = e.Engine, origin
	srv := wire.New(o)
	srv.Configure(set)
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(ln) }()
	t.Cleanup(func() {
		ln.Close()
		srv.Close()
		require.NoError(t, <-ended)
		e.Close()
	})
	return &larder{t, srv, e, ln.Addr().String()}
}

// listens has each client that connects be served, and gives where.
func listens(t testing.TB, serve func(net.Conn)) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	return ln.Addr().String()
}

// keepsAll has everything be cached that can be.
func (l *larder) keepsAll() {
	l.core.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Hour, ControlSample: -1}}))
}

// hits is how many statements were answered from memory.
func (l *larder) hits() uint64 { return l.core.Ledger.Total.Total().Count[ledger.Hit] }

// clientTLS are the settings of a larder that offers TLS.
func clientTLS(t testing.TB) *tls.Config {
	cert, err := authority.Pair("localhost")
	require.NoError(t, err)
	return &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
}

// connect opens a connection with a driver.
func connect(t testing.TB, address, user, password, options string) *sql.DB {
	return connectTo(t, address, user, password, "skerrow?"+options)
}

// connectTo does it to a database, with options behind its name, or to none.
func connectTo(t testing.TB, address, user, password, database string) *sql.DB {
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@%s(%s)/%s", user, password, link.Network(address), address, database))
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	t.Cleanup(func() { db.Close() })
	return db
}

// asks gives the one value that a query has.
func asks(db *sql.DB, query string) (value string, err error) {
	err = db.QueryRow(query).Scan(&value)
	return value, err
}

// refusal is what a server or a larder has said.
func refusal(t testing.TB, err error) *driver.MySQLError {
	var e *driver.MySQLError
	require.ErrorAs(t, err, &e)
	return e
}

// talk is a connection over which a test sends bytes as it likes.
type talk struct {
	t testing.TB
	net.Conn
	nonce []byte
}

// capabilities are those of a talk: protocol 4.1, long passwords, several statements and results, plugins.
const capabilities = 1 | 1<<9 | 1<<13 | 1<<15 | 1<<16 | 1<<17 | 1<<18 | 1<<19 | 1<<7 | 1<<3 | 1<<2

// say logs a user in with native passwords, and with further capabilities.
func say(t testing.TB, address, user, password string, further uint32) *talk {
	c, err := net.Dial(link.Network(address), address)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	x := &talk{t: t, Conn: c}
	_, greeting := x.packet()
	end := bytes.IndexByte(greeting[1:], 0) + 2
	x.nonce = append(bytes.Clone(greeting[end+4:end+12]), greeting[end+31:end+43]...)
	body := binary.LittleEndian.AppendUint32(nil, capabilities|further)
	body = binary.LittleEndian.AppendUint32(body, 1<<24)
	body = append(append(body, 45), make([]byte, 23)...)
	body = append(append(body, user...), 0)
	proof := x.proof(password)
	body = append(append(body, byte(len(proof))), proof...)
	body = append(append(body, "skerrow\x00"...), "mysql_native_password\x00"...)
	x.send(1, body)
	return x
}

// proof answers the challenge of the connection.
func (x *talk) proof(password string) []byte {
	if password == "" {
		return nil
	}
	one := sha1.Sum([]byte(password))
	two := sha1.Sum(one[:])
	three := sha1.Sum(append(bytes.Clone(x.nonce), two[:]...))
	for i := range three {
		three[i] ^= one[i]
	}
	return three[:]
}

// packet reads one.
func (x *talk) packet() (number byte, body []byte) {
	require.NoError(x.t, x.SetReadDeadline(time.Now().Add(time.Minute)))
	number, body, err := take(x)
	require.NoError(x.t, err)
	return number, body
}

// take reads a packet.
func take(r io.Reader) (number byte, body []byte, err error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	body = make([]byte, int(head[0])|int(head[1])<<8|int(head[2])<<16)
	_, err = io.ReadFull(r, body)
	return head[3], body, err
}

func (x *talk) send(number byte, body []byte) *talk {
	_, err := x.Write(packet(number, body))
	require.NoError(x.t, err)
	return x
}

// together sends commands in one piece, so that none can have been answered before the last has come.
func (x *talk) together(commands ...[]byte) *talk {
	var all []byte
	for _, c := range commands {
		all = append(all, packet(0, c)...)
	}
	_, err := x.Write(all)
	require.NoError(x.t, err)
	return x
}

func packet(number byte, body []byte) []byte {
	n := len(body)
	return append([]byte{byte(n), byte(n >> 8), byte(n >> 16), number}, body...)
}

// ok reads that the login has ended well.
func (x *talk) ok() *talk {
	_, body := x.packet()
	require.Equal(x.t, byte(0), body[0], "%q", body)
	return x
}

// theEnd is asked for at the end of what is said.
const theEnd = "select 'the very end'"

// hear reads until the answer to theEnd has come, or the connection has ended.
func (x *talk) hear() string {
	var all []byte
	buffer := make([]byte, 1<<16)
	for {
		require.NoError(x.t, x.SetReadDeadline(time.Now().Add(time.Minute)))
		n, err := x.Read(buffer)
		all = append(all, buffer[:n]...)
		tail := all[max(0, len(all)-60):] // the row, and what stands behind it
		if at := bytes.LastIndex(tail, []byte("\x0cthe very end")); at >= 0 && ended(tail[at+13:]) {
			return string(all)
		}
		if err != nil {
			require.NotErrorIs(x.t, err, os.ErrDeadlineExceeded, "%q", all)
			return string(all) + "(ended)"
		}
	}
}

// ended says whether the packet behind the last row has come.
func ended(b []byte) bool { return len(b) >= 4 && len(b) >= 4+int(b[0]) }
