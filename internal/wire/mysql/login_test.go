package mysql_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// A login needs nothing of the larder: with TLS on either side, on both or on none, it succeeds with the right password,
// and fails with the server's own words with a wrong one.
func TestLoginsAreTheServers(t *testing.T) {
	for _, near := range []bool{false, true} {
		for _, far := range []bool{false, true} {
			t.Run(fmt.Sprintf("TLS from the client %t, to the server %t", near, far), func(t *testing.T) {
				set, options := link.Settings{}, "tls=false"
				if near {
					set.ClientTLS, options = clientTLS(t), "tls=skip-verify"
				}
				if far {
					set.OriginTLS = link.TLS(link.VerifyCA, "localhost", authority.Pool(), nil)
				}
				l := newLarder(t, set)
				for user, password := range map[string]string{"ines": "Quay#7", "tern": "", "root": ""} {
					db := connect(t, l.address, user, password, options)
					got, err := asks(db, "select current_user()")
					require.NoError(t, err, user)
					assert.True(t, strings.HasPrefix(got, user+"@"), got)
					db = connect(t, l.address, user, "wrong", options)
					assert.Equal(t, uint16(1045), refusal(t, db.Ping()).Number, user)
					assert.Contains(t, refusal(t, db.Ping()).Message, "Access denied for user '"+user+"'@")
				}
				db := connect(t, l.address, "ines", "Quay#7", options)
				var name, cipher string
				require.NoError(t, db.QueryRow("show status like 'Ssl_cipher'").Scan(&name, &cipher))
				assert.Equal(t, far, cipher != "")
			})
		}
	}
}

// TLS that is asked for and not there is said with what to do.
func TestTLSThatIsNotThere(t *testing.T) {
	l := newLarder(t, link.Settings{ClientTLS: clientTLS(t), RequireTLS: true})
	err := refusal(t, connect(t, l.address, "ines", "Quay#7", "tls=false").Ping())
	assert.Contains(t, err.Message, `set tls = "offered"`)
	require.NoError(t, connect(t, l.address, "ines", "Quay#7", "tls=skip-verify").Ping())

	l = newLarder(t, link.Settings{})
	assert.ErrorIs(t, connect(t, l.address, "ines", "Quay#7", "tls=skip-verify").Ping(), driver.ErrNoTLS, "it is not offered")
	l = newLarder(t, link.Settings{OriginTLS: link.TLS(link.VerifyFull, "elsewhere", authority.Pool(), nil)})
	err = refusal(t, connect(t, l.address, "ines", "Quay#7", "").Ping())
	assert.Contains(t, err.Message, "set host in [origin.tls]")
}

// Nobody is let in without proof who would not have been let in by the server itself, whatever it says: not at the login,
// and not by a change of the user behind that.
func TestLoginsWithoutProof(t *testing.T) {
	l := newLarder(t, link.Settings{Unchallenged: link.Nobody})
	require.NoError(t, connect(t, l.address, "ines", "Quay#7", "").Ping())
	for _, user := range []string{"tern", "root"} {
		err := refusal(t, connect(t, l.address, user, "", "").Ping())
		assert.Equal(t, uint16(1045), err.Number)
		assert.Contains(t, err.Message, "unchallenged_logins")
	}
	change := func(x *talk, user, password, way string) []byte {
		proof := x.proof(password)
		body := append(append([]byte{0x11}, user...), 0, byte(len(proof)))
		body = append(append(body, proof...), "skerrow\x00\x2d\x00"...)
		return append(append(body, way...), 0)
	}
	x := say(t, l.address, "ines", "Quay#7", 0).ok()
	x.send(0, change(x, "ines", "Quay#7", "mysql_native_password"))
	for { // the server may ask for the proof again
		n, body := x.packet()
		if body[0] != 0xfe {
			require.Equal(t, byte(0), body[0], "%q", body)
			break
		}
		x.nonce = body[len("\xfemysql_native_password\x00") : len(body)-1]
		x.send(n+1, x.proof("Quay#7"))
	}
	x.send(0, append([]byte{3}, theEnd...))
	assert.NotContains(t, x.hear(), "(ended)")
	for name, attack := range map[string]func(x *talk){
		"a user without a password": func(x *talk) { x.send(0, change(x, "tern", "", "mysql_native_password")) },
		"another way named":         func(x *talk) { x.send(0, change(x, "tern", "guess", "dialog")) },
		"behind a query": func(x *talk) {
			_, _ = x.Write(append(packet(0, append([]byte{3}, "select 1"...)), packet(0, change(x, "tern", "", ""))...))
		},
		"behind what is no command":            func(x *talk) { x.send(0, []byte{0x77}).send(0, change(x, "tern", "", "mysql_native_password")) },
		"numbered as if it belonged to a file": func(x *talk) { x.send(2, change(x, "tern", "", "mysql_native_password")) },
		"behind an empty packet":               func(x *talk) { x.send(0, nil).send(0, change(x, "tern", "", "mysql_native_password")) },
	} {
		t.Run(name, func(t *testing.T) {
			x := say(t, l.address, "ines", "Quay#7", 0).ok()
			x.t = t
			attack(x)
			var all []byte
			for asked := false; ; {
				// Whatever the server asks for is answered with nothing, which is what this account has for a password.
				_ = x.SetReadDeadline(time.Now().Add(map[bool]time.Duration{false: 300 * time.Millisecond, true: time.Minute}[asked]))
				number, body, err := take(x)
				all = append(all, body...)
				switch {
				case err != nil && !asked && errors.Is(err, os.ErrDeadlineExceeded):
					asked = true
					_, _ = x.Write(packet(0, append([]byte{3}, "select current_user()"...)))
					continue
				case bytes.HasPrefix(body, []byte("\xfemysql_native_password")):
					_, _ = x.Write(packet(number+1, nil))
				}
				if err != nil || asked && bytes.Contains(all, []byte("@%")) {
					break
				}
			}
			assert.NotContains(t, string(all), "tern@")
		})
	}
}

// Over a Unix socket the server takes the larder's user of the operating system for the proof: clients of the network are
// not let in by that.
func TestTheLardersOwnUserIsNoProof(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	me := self()
	for _, password := range []string{"", "a guess"} {
		require.NoError(t, connect(t, server.Socket(), me, password, "").Ping(), "whatever is sent for a password")
		l := newLarderBefore(t, server.Socket(), link.Settings{})
		err := refusal(t, connect(t, l.address, me, password, "").Ping())
		assert.Contains(t, err.Message, "it is reached over a Unix socket, where the database sees the larder's operating system user")
		l = newLarderBefore(t, server.Socket(), link.Settings{Unchallenged: link.Anybody})
		require.NoError(t, connect(t, l.address, me, password, "").Ping())
	}
}

// With a header of the PROXY protocol the server sees where the client is.
func TestTheServerSeesTheClient(t *testing.T) {
	driver.RegisterDialContext("far", func(ctx context.Context, address string) (net.Conn, error) {
		d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 9)}}
		return d.DialContext(ctx, "tcp", address)
	})
	for header, want := range map[bool]string{true: "ines@127.0.0.9", false: "ines@localhost"} {
		l := newLarder(t, link.Settings{ProxyHeader: header})
		db, err := sql.Open("mysql", "ines:Quay#7@far("+l.address+")/skerrow")
		require.NoError(t, err)
		got, err := asks(db, "select user()")
		require.NoError(t, err)
		assert.Equal(t, want, got)
		db.Close()
	}
}
