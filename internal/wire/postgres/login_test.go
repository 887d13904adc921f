package postgres_test

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/privatepg"
	"jollylarder/internal/wire/link"
	wire "jollylarder/internal/wire/postgres"
)

// secured is a database that asks for a password, speaks TLS, and takes certificates.
type secured struct {
	t      *testing.T
	ca     *privatepg.Authority
	server *privatepg.Server
	pair   tls.Certificate // the database's own
	dir    string
}

func newSecured(t *testing.T) *secured {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	dir, err := os.MkdirTemp("", "larder-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) // other users are to reach the sockets in it
	s := &secured{t: t, dir: dir}
	s.ca, err = privatepg.NewAuthority("Skerrow Ferries")
	require.NoError(t, err)
	cert, key, err := s.ca.Issue("127.0.0.1")
	require.NoError(t, err)
	s.pair, err = tls.X509KeyPair(cert, key)
	require.NoError(t, err)
	s.server, err = privatepg.Options{
		HBA: "hostssl all certain 127.0.0.1/32 cert\nhostnossl all certain 127.0.0.1/32 reject\nhost all trusted 127.0.0.1/32 trust\nlocal all trusted trust\nlocal all all peer map=everyone\n" +
			"host all postgres 127.0.0.1/32 trust\nhost all all 127.0.0.1/32 scram-sha-256",
		Settings: []string{"ssl=on", "ssl_cert_file=server.pem", "ssl_key_file=server-key.pem", "ssl_ca_file=ca.pem"},
		Files:    map[string][]byte{"server.pem": cert, "server-key.pem": key, "ca.pem": s.ca.PEM, "pg_ident.conf": []byte("everyone /^.*$ harbour\n")},
	}.Start()
	require.NoError(t, err)
	t.Cleanup(s.server.Stop)
	admin := connect(t, s.server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	_, err = admin.Exec(ctx, "set password_encryption = 'scram-sha-256'; create role ines login password 'herring'; create role certain login; create role trusted login; create role harbour login")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "ca.pem"), s.ca.PEM, 0o644))
	return s
}

// larder starts one before the database, and gives its address.
func (s *secured) larder(origin, listen string, set link.Settings) string {
	e, err := engine.New(engine.Options{Dialect: faulty()}, time.Now())
	require.NoError(s.t, err)
	ln, err := net.Listen(link.Network(listen), listen)
	require.NoError(s.t, err)
	srv := wire.New(link.Options{Engine: e, Origin: origin})
	srv.Configure(set)
	go func() { _ = srv.Serve(ln) }()
	s.t.Cleanup(func() {
		ln.Close()
		srv.Close()
	})
	return ln.Addr().String()
}

func (s *secured) originTLS(mode link.Mode) *tls.Config {
	return link.TLS(mode, "127.0.0.1", s.ca.Pool(), nil)
}

func clientTLS(pair tls.Certificate) *tls.Config {
	return &tls.Config{Certificates: []tls.Certificate{pair}, NextProtos: []string{wire.ALPN}}
}

// psql logs in and gives the answer, or what psql says.
func (s *secured) psql(address, user string, options ...string) string {
	host, port, _ := net.SplitHostPort(address)
	if link.Network(address) == "unix" {
		host, port = filepath.Dir(address), strings.TrimPrefix(filepath.Base(address), ".s.PGSQL.")
	}
	conninfo := fmt.Sprintf("host=%s port=%s user=%s dbname=postgres %s", host, port, user, strings.Join(options, " "))
	cmd := exec.Command(s.server.Program("psql"), "-X", "-At", "-w", "-c", "select current_user", conninfo)
	cmd.Env = append(os.Environ(), "PGPASSWORD=herring", "PGSSLROOTCERT="+filepath.Join(s.dir, "ca.pem"))
	out, _ := cmd.CombinedOutput()
	return strings.TrimSpace(string(out))
}

// What of SCRAM works in each combination of TLS on the two sides, with a client on libpq.
func TestChannelBindingInEveryCombination(t *testing.T) {
	s := newSecured(t)
	other, err := s.ca.Pair("127.0.0.1")
	require.NoError(t, err)
	const ok = "ines"
	for _, c := range []struct {
		name                     string
		clients, origin          *tls.Config
		disable, prefer, require string // what a client that is set so gets
	}{
		{"plain, plain", nil, nil, ok, ok, "channel binding"},
		{"plain, TLS", nil, s.originTLS(link.Require), ok, ok, "channel binding"},
		{"TLS, plain", clientTLS(other), nil, ok, ok, "channel binding is required, but server did not offer"},
		{"TLS, TLS with the database's certificate", clientTLS(s.pair), s.originTLS(link.VerifyFull), ok, ok, ok},
		{"TLS, TLS with another certificate", clientTLS(other), s.originTLS(link.VerifyCA), ok, "channel_binding=disable", "channel binding is required, but server did not offer"},
	} {
		t.Run(c.name, func(t *testing.T) {
			address := s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{ClientTLS: c.clients, OriginTLS: c.origin})
			mode := "sslmode=disable"
			if c.clients != nil {
				mode = "sslmode=verify-full"
			}
			for binding, want := range map[string]string{"disable": c.disable, "prefer": c.prefer, "require": c.require} {
				assert.Contains(t, s.psql(address, "ines", mode, "channel_binding="+binding), want, binding)
			}
			url := fmt.Sprintf("postgres://ines:herring@%s/postgres?%s&sslrootcert=%s", address, mode, filepath.Join(s.dir, "ca.pem"))
			conn, err := pgx.Connect(ctx, url)
			if c.prefer == ok {
				require.NoError(t, err)
				conn.Close(ctx)
			}
			_, err = pgx.Connect(ctx, strings.Replace(url, "herring", "wrong", 1))
			assert.Error(t, err)
		})
	}
}

func TestTLSFromClients(t *testing.T) {
	s := newSecured(t)
	set := link.Settings{ClientTLS: clientTLS(s.pair), RequireTLS: true}
	address := s.larder(s.server.Address(), "127.0.0.1:0", set)
	assert.Contains(t, s.psql(address, "ines", "sslmode=disable"), `set tls = "offered"`, "refused, with the setting named")
	assert.Equal(t, "ines", s.psql(address, "ines", "sslmode=verify-full", "channel_binding=disable"))
	url := fmt.Sprintf("postgres://ines:herring@%s/postgres?sslmode=verify-full&sslrootcert=%s", address, filepath.Join(s.dir, "ca.pem"))
	direct, err := pgx.Connect(ctx, url+"&sslnegotiation=direct")
	require.NoError(t, err, "TLS without asking")
	assert.Equal(t, "ines", one(t, direct, "select current_user::text"))
	stop := cancelling(direct)
	_, err = direct.Exec(ctx, "select pg_sleep(20)")
	stop()
	assert.ErrorContains(t, err, "57014")
	assert.Equal(t, "ines", one(t, direct, "select current_user::text"))
	direct.Close(ctx)

	_, err = tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}})
	assert.Error(t, err, "without asking, but for another protocol")
	unnamed, err := tls.Dial("tcp", address, &tls.Config{InsecureSkipVerify: true})
	if err == nil {
		_, err = unnamed.Read(make([]byte, 1))
		assert.Error(t, err)
	}

	plain := s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{})
	_, err = pgx.Connect(ctx, strings.Replace(url, address, plain, 1))
	assert.ErrorContains(t, err, "refused TLS")
	raw, err := net.Dial("tcp", plain)
	require.NoError(t, err)
	_, _ = raw.Write([]byte{0x16, 3, 1, 0, 200, 1, 0, 0})
	answer := make([]byte, 500)
	n, _ := raw.Read(answer)
	assert.Contains(t, string(answer[:n]), "no certificate is configured")
}

func TestTLSToTheOrigin(t *testing.T) {
	s := newSecured(t)
	stranger, err := privatepg.NewAuthority("Somebody else")
	require.NoError(t, err)
	for want, origin := range map[string]*tls.Config{
		"ines":                               link.TLS(link.VerifyFull, "127.0.0.1", s.ca.Pool(), nil),
		"signed by unknown":                  link.TLS(link.VerifyCA, "127.0.0.1", stranger.Pool(), nil),
		"wanted to match db.skerrow.example": link.TLS(link.VerifyFull, "db.skerrow.example", s.ca.Pool(), nil),
	} {
		got := s.psql(s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{OriginTLS: origin}), "ines")
		assert.Contains(t, got, want)
	}
	got := s.psql(s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{OriginTLS: link.TLS(link.VerifyCA, "db.skerrow.example", s.ca.Pool(), nil)}), "ines")
	assert.Equal(t, "ines", got, "verify-ca does not look at the name")
	got = s.psql(s.larder(server.Address(), "127.0.0.1:0", link.Settings{OriginTLS: s.originTLS(link.Require)}), "postgres")
	assert.Contains(t, got, "does not offer TLS, which mode in [origin.tls] asks for")
}

// Whom the database lets in without proof it lets in for the larder's address, user or certificate.
func TestWhoIsLetInWithoutProof(t *testing.T) {
	s := newSecured(t)
	mine, err := s.ca.Pair("certain")
	require.NoError(t, err)
	shown := link.TLS(link.VerifyFull, "127.0.0.1", s.ca.Pool(), &mine)
	asks := clientTLS(s.pair)
	asks.ClientCAs, asks.ClientAuth = s.ca.Pool(), tls.VerifyClientCertIfGiven
	for _, name := range []string{"certain", "ines"} {
		cert, key, err := s.ca.Issue(name)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, name+".pem"), cert, 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, name+"-key.pem"), key, 0o600))
	}
	with := func(name string) []string {
		return []string{"sslmode=verify-full", "channel_binding=disable", "sslcert=" + filepath.Join(s.dir, name+".pem"), "sslkey=" + filepath.Join(s.dir, name+"-key.pem")}
	}
	tcp := s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{})
	assert.Equal(t, "trusted", s.psql(tcp, "trusted"), "from the same host")
	nobody := s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{Unchallenged: link.Nobody})
	assert.Contains(t, s.psql(nobody, "trusted"), `unchallenged_logins = "anybody"`)
	assert.Equal(t, "ines", s.psql(nobody, "ines"), "who gives a password is let in everywhere")

	cert := s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{ClientTLS: asks, OriginTLS: shown})
	assert.Equal(t, "certain", s.psql(cert, "certain", with("certain")...))
	assert.Contains(t, s.psql(cert, "certain", with("ines")...), `the client's own names "ines"`)
	assert.Contains(t, s.psql(cert, "certain", "sslmode=require", "channel_binding=disable"), "the client has shown none")
	assert.Contains(t, s.psql(cert, "certain", "sslmode=disable"), "the client has shown none")
	assert.Contains(t, s.psql(cert, "trusted", "sslmode=disable"), "the client has shown none", "what the database went by is not known")
	assert.Equal(t, "ines", s.psql(cert, "ines", with("ines")...), "with a password besides")

	socket := filepath.Join(s.dir, ".s.PGSQL.7432")
	overUnix := s.larder(s.server.Socket(), "127.0.0.1:0", link.Settings{})
	assert.Contains(t, s.psql(overUnix, "harbour"), "the larder's operating system user", "a client over TCP is nobody's peer")
	assert.Contains(t, s.psql(overUnix, "trusted"), "the larder's operating system user")
	s.larder(s.server.Socket(), socket, link.Settings{})
	assert.Equal(t, "harbour", s.psql(socket, "harbour"), "over Unix sockets on both sides, as the same user")
	if os.Getuid() == 0 {
		u, err := user.Lookup("nobody")
		require.NoError(t, err)
		require.NoError(t, os.Chmod(socket, 0o777))
		cmd := exec.Command("setpriv", "--reuid="+u.Uid, "--clear-groups", s.server.Program("psql"), "-X", "-At", "-w", "-c", "select current_user",
			fmt.Sprintf("host=%s port=7432 user=harbour dbname=postgres", s.dir))
		out, _ := cmd.CombinedOutput()
		assert.Contains(t, string(out), "which is not the client's", "another user of the system")
	}
	assert.Equal(t, "harbour", s.psql(s.larder(s.server.Socket(), "127.0.0.1:0", link.Settings{Unchallenged: link.Anybody}), "harbour"))
}

// Who is not let in runs nothing, also when the statement is sent along with the first message, or in another protocol.
func TestWhoIsNotLetInRunsNothing(t *testing.T) {
	s := newSecured(t)
	admin := connect(t, s.server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	_, err := admin.Exec(ctx, "create table touched (n int); grant all on touched to public")
	require.NoError(t, err)
	address := s.larder(s.server.Address(), "127.0.0.1:0", link.Settings{Unchallenged: link.Nobody})
	insert, err := query("insert into touched values (1)").Encode(nil)
	require.NoError(t, err)
	begin := func(user string) net.Conn {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		first := "user\x00" + user + "\x00database\x00postgres\x00\x00"
		_, err = c.Write(append(append([]byte{0, 0, 0, byte(8 + len(first)), 0, 3, 0, 0}, first...), insert...))
		require.NoError(t, err)
		return c
	}
	for range 20 {
		assert.Contains(t, told(t, begin("trusted")), "unchallenged_logins")
	}
	assert.Contains(t, told(t, begin("ines")), "expected SASL response", "a database that asks for proof judges by itself")
	other, err := net.Dial("tcp", address)
	require.NoError(t, err)
	_, err = other.Write([]byte{0, 0, 0, 8, 0, 2, 0, 0})
	require.NoError(t, err)
	assert.Contains(t, told(t, other), "unsupported frontend protocol 2.0", "the database refuses it in its own words")
	assert.Equal(t, "0", one(t, admin, "select count(*) from touched"))
}
