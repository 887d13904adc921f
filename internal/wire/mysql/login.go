package mysql

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1" // as the protocol has it
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// The login is the origin's: its challenges and the client's responses are relayed as they come, and nothing of them is
// remembered. Packets are numbered anew, since a client with TLS has sent one more than one without.
//
// Some ways to prove who one is send the password itself within TLS, and encrypt it by a key of the server's without.
// Where one side has TLS and the other has not, the larder does for each what the other end would have done: it knows the
// password for that moment.
//
// An origin that lets somebody in without proof does so for where the connection comes from. Admission says for whom that
// may hold.

// The ways to prove who one is that the larder knows.
const (
	wayNative  = "mysql_native_password"
	waySHA2    = "caching_sha2_password"
	waySHA256  = "sha256_password"
	wayUnnamed = wayNative // of a client that names none
)

// proofs are the ways in which a response that is not empty proves something, if the origin takes it.
var proofs = map[string]bool{
	wayNative: true, waySHA2: true, waySHA256: true, "mysql_old_password": true, "client_ed25519": true, "parsec": true,
	"mysql_clear_password": true, "dialog": true,
}

// What caching_sha2_password says beside its challenge.
const (
	shaKey      = 0x02 // the client asks for the server's key
	shaKnown    = 0x03 // the server knows the password already: no response follows
	shaPassword = 0x04 // the server asks for the password itself
)

// errRefused is that a client was told why it cannot begin, or the origin has told it.
var errRefused = errors.New("the login was refused")

// login is one under way.
type login struct {
	server         *Server
	set            *link.Settings
	own            bool // the larder itself logs in
	client, origin net.Conn
	greeting       *greeting
	intro          *introduction

	toClient, toOrigin byte // the number of the next packet for each
	way                string
	proved             bool
	status             uint16   // of the session that has begun
	values             []string // of its settings; nil if they are not known
}

// refuse tells the client why it cannot begin.
func (l *login) refuse(code uint16, state, message string) error {
	_ = l.client.SetWriteDeadline(time.Now().Add(time.Second))
	_, _ = l.client.Write(errorPacket(l.toClient, code, state, message))
	return errRefused
}

// The errors that clients are told. Source: the server's error numbers.
const (
	codeTooMany    = 1040
	codeDenied     = 1045
	codeHandshake  = 1043
	codeNeedsTLS   = 3159
	codeUnreached  = 2003
	stateTooMany   = "08004"
	stateDenied    = "28000"
	stateHandshake = "08S01"
	stateGeneral   = "HY000"
)

// greet relays the origin's first packet, and takes the client's. The client may have TLS from then on.
func (l *login) greet() error {
	_ = l.origin.SetReadDeadline(time.Now().Add(l.set.ConnectTimeout))
	n, body, err := readPacket(l.origin)
	if err != nil {
		return l.refuse(codeUnreached, stateGeneral, fmt.Sprintf("jolly larder cannot reach the database at %s: it did not begin: %v. %s", l.server.Origin, err, link.Hint(err)))
	}
	if len(body) > 0 && body[0] == markError {
		_, _ = l.client.Write(packet(n, body)) // it says why itself
		return errRefused
	}
	if l.greeting, err = parseGreeting(body); err != nil {
		return l.refuse(codeUnreached, stateGeneral, fmt.Sprintf("jolly larder's origin %s is no MariaDB or MySQL server: %v", l.server.Origin, err))
	}
	if l.set.OriginTLS != nil && l.greeting.caps&capTLS == 0 {
		return l.refuse(codeUnreached, stateGeneral, fmt.Sprintf("jolly larder cannot reach the database at %s: %v. %s", l.server.Origin, link.ErrNoTLS, link.Hint(link.ErrNoTLS)))
	}
	if _, err := l.client.Write(packet(n, l.greeting.offered(l.set.ClientTLS != nil).bytes())); err != nil {
		return err
	}
	l.toOrigin = n + 1
	_ = l.client.SetReadDeadline(time.Now().Add(l.set.StartupTimeout))
	if err := l.introduced(); err != nil {
		return err
	}
	_ = l.client.SetReadDeadline(time.Time{})
	return nil
}

// introduced reads who the client is, behind a request for TLS if it sends one.
func (l *login) introduced() error {
	for {
		n, body, err := readPacket(l.client)
		if err != nil {
			return err
		}
		l.toClient = n + 1
		_, encrypted := l.client.(*tls.Conn)
		if len(body) == introFixed && uint32(body[1])<<8&capTLS != 0 && !encrypted {
			if l.set.ClientTLS == nil {
				return l.refuse(codeHandshake, stateHandshake, "jolly larder: the client begins TLS, which was not offered: give the larder a certificate in [origin.clients] of its configuration, or connect without TLS")
			}
			conn := tls.Server(l.client, l.set.ClientTLS)
			if err := conn.Handshake(); err != nil {
				return fmt.Errorf("the client's TLS handshake: %w", err)
			}
			l.client = conn
			continue
		}
		if l.set.RequireTLS && !secure(l.client) {
			return l.refuse(codeNeedsTLS, stateGeneral, "jolly larder takes only connections with TLS here: connect with TLS, or set tls = \"offered\" in [origin.clients] of the larder's configuration")
		}
		if l.intro, err = parseIntroduction(body); err != nil {
			return l.refuse(codeHandshake, stateHandshake, "jolly larder: "+err.Error())
		}
		return nil
	}
}

// introduce tells the origin who the client is, within TLS if the settings say so.
func (l *login) introduce() error {
	body := l.intro.toOrigin(l.set.OriginTLS != nil)
	if l.set.OriginTLS != nil {
		if _, err := l.origin.Write(packet(l.toOrigin, body[:introFixed])); err != nil {
			return l.lost(err)
		}
		l.toOrigin++
		t, err := link.Secure(l.origin, l.set.OriginTLS)
		if err != nil {
			return l.refuse(codeUnreached, stateGeneral, fmt.Sprintf("jolly larder cannot reach the database at %s: %v. %s", l.server.Origin, err, link.Hint(err)))
		}
		l.origin = t
	}
	_ = l.origin.SetReadDeadline(time.Time{})
	if _, err := l.origin.Write(packet(l.toOrigin, body)); err != nil {
		return l.lost(err)
	}
	if l.way = l.intro.plugin; l.intro.caps&capPluginAuth == 0 {
		l.way = wayUnnamed
	}
	l.responded(l.intro.proof)
	return nil
}

func (l *login) lost(err error) error {
	return l.refuse(codeUnreached, stateGeneral, fmt.Sprintf("jolly larder lost the database at %s: %v", l.server.Origin, err))
}

// responded notes whether the client has proved anything, if the origin takes what it sent.
func (l *login) responded(response []byte) { l.proved = proofs[l.way] && len(response) > 0 }

// run relays the login up to its end, and gives what it ended with.
func (l *login) run() error {
	for {
		n, body, err := readPacket(l.origin)
		if err != nil {
			return l.lost(err)
		}
		l.toOrigin = n + 1
		if len(body) == 0 {
			return l.lost(fmt.Errorf("%w: an empty packet within a login", errProtocol))
		}
		switch body[0] {
		case markError:
			_, _ = l.client.Write(packet(l.toClient, body))
			return errRefused
		case markOK:
			if why := l.refuses(); why != "" {
				return l.notAdmitted(why)
			}
			var c conversation
			l.status, _ = c.took(&frame{start: body, length: len(body)})
			if err := l.asks(); err != nil {
				return l.lost(err)
			}
			_, err := l.client.Write(packet(l.toClient, body))
			return err
		case markEOF:
			l.switches(body)
			if l.way == waySHA256 && secure(l.client) != secure(l.origin) {
				return l.refuse(codeDenied, stateDenied, "jolly larder: sha256_password needs TLS on both sides of the larder or on neither: look at [origin.clients] and [origin.tls] of its configuration")
			}
		}
		if _, err := l.client.Write(packet(l.toClient, body)); err != nil {
			return err
		}
		l.toClient++
		if l.way == waySHA2 && bytes.Equal(body, []byte{markMore, shaKnown}) {
			continue
		}
		response, err := l.response()
		if err != nil {
			return err
		}
		l.responded(response)
		if l.way == waySHA2 && bytes.Equal(body, []byte{markMore, shaPassword}) && secure(l.client) != secure(l.origin) {
			if response, err = l.password(response); err != nil {
				return err
			}
		}
		_, err = l.origin.Write(packet(l.toOrigin, response))
		clear(response)
		if err != nil {
			return l.lost(err)
		}
		l.toOrigin++
	}
}

// showMode has a server say in its state how the session reads quotes: what it says behind a login leaves double quotes
// out. A query would leave its traces in the session.
const showMode = "set sql_mode = @@sql_mode"

// asks has the origin say what is needed of a session that has just begun: since when it has been running, the settings if
// anything is cached, and last how quotes are read. One that does not, as for an account whose password has expired, is
// taken at what it said before.
func (l *login) asks() error {
	if l.server.Engine == nil {
		return nil
	}
	reads := version(l.greeting.version)
	_ = l.origin.SetReadDeadline(time.Now().Add(l.set.StartupTimeout))
	defer func() { _ = l.origin.SetReadDeadline(time.Time{}) }()
	for again := true; again; {
		settings := l.server.Engine.Rules().Caches()
		out := packet(0, []byte{comStatistics})
		if settings {
			out = append(out, packet(0, append([]byte{comQuery}, l.server.question(reads)...))...)
		}
		if reads.MariaDB {
			out = append(out, packet(0, append([]byte{comQuery}, showMode...))...)
		}
		asked := l.server.Time()
		if _, err := l.origin.Write(out); err != nil {
			return err
		}
		_, body, err := readPacket(l.origin)
		if err != nil {
			return err
		}
		if uptime, ok := uptimeOf(body); ok {
			l.server.starting.reads(asked, l.server.Time(), uptime)
		}
		if again = false; settings {
			values, failure, err := readRow(l.origin, l.intro.caps&l.greeting.caps&capDeprecateEOF != 0)
			switch {
			case err != nil:
				return err
			case failure != nil:
				again = l.server.doesNotKnow(failure)
			case complete(values):
				l.values = values
			}
		}
		if !reads.MariaDB {
			continue
		}
		if _, body, err = readPacket(l.origin); err != nil {
			return err
		}
		if len(body) > 0 && body[0] == markOK {
			var c conversation
			l.status, _ = c.took(&frame{start: body, length: len(body)})
		}
	}
	return nil
}

// uptimeOf reads for how long a server has been running, from what it says of itself: "Uptime: 4711  Threads: 3 …".
func uptimeOf(said []byte) (uptime time.Duration, ok bool) {
	fields := strings.Fields(string(said))
	if len(fields) < 2 || fields[0] != "Uptime:" {
		return 0, false
	}
	n, err := strconv.Atoi(fields[1])
	return time.Duration(n) * time.Second, err == nil
}

// extensions are MariaDB's own capabilities in force.
func (l *login) extensions() uint32 {
	if l.intro.caps&capMySQL != 0 || len(l.intro.raw) < introFixed {
		return 0
	}
	return binary.LittleEndian.Uint32(l.intro.raw[introFixed-4:]) & l.greeting.ext &^ hiddenExt
}

// response reads what the client answers.
func (l *login) response() ([]byte, error) {
	_ = l.client.SetReadDeadline(time.Now().Add(l.set.StartupTimeout))
	defer func() { _ = l.client.SetReadDeadline(time.Time{}) }()
	n, body, err := readPacket(l.client)
	l.toClient = n + 1
	return body, err
}

// switches takes that the origin wants another proof.
func (l *login) switches(body []byte) {
	name, data, ok := word(body[1:])
	switch {
	case len(body) == 1:
		l.way = "mysql_old_password"
		return
	case !ok:
		l.way = ""
		return
	}
	l.way = string(name)
	if len(data) > 0 {
		l.greeting.nonce = data
	}
}

// trusts says whether whoever the client is, or becomes, is let in without proof if the origin does so.
func (l *login) trusts() bool {
	a := l.admission()
	return a.Refuses("") == ""
}

func (l *login) admission() link.Admission {
	o, _ := l.origin.(*link.Secured)
	return link.NewAdmission(l.set, l.client, l.origin, o != nil && o.Shown, l.set.ProxyHeader)
}

// refuses says why a client that the origin has let in is not let in after all, or nothing.
func (l *login) refuses() string {
	// Behind a Unix socket the origin may have taken the larder's own user for the proof, whatever the client has sent.
	_, local := socket.Under(l.origin).(*net.UnixConn)
	if l.proved && !local {
		return ""
	}
	a := l.admission()
	return a.Refuses(l.intro.user)
}

// notAdmitted says so to the client.
func (l *login) notAdmitted(why string) error {
	l.server.Logger().Warn("a login was refused that the database let in without proof", "user", l.intro.user, "client", l.client.RemoteAddr(), "why", why)
	return l.refuse(codeDenied, stateDenied, fmt.Sprintf("jolly larder refuses the user '%s': the database let it in without proof, and %s; give the account a password, or see unchallenged_logins in the larder's configuration", l.intro.user, why))
}

// secure says whether a connection counts as one that nobody else can read, as servers and clients see it.
func secure(c net.Conn) bool {
	switch c.(type) {
	case *tls.Conn, *link.Secured:
		return true
	}
	_, local := socket.Under(c).(*net.UnixConn)
	return local
}

// password makes of what a client sends for its password what the origin wants, where one of the two has TLS.
func (l *login) password(response []byte) ([]byte, error) {
	if secure(l.client) { // it has sent the password itself
		if _, err := l.origin.Write(packet(l.toOrigin, []byte{shaKey})); err != nil {
			return nil, l.lost(err)
		}
		n, body, err := readPacket(l.origin)
		if err != nil {
			return nil, l.lost(err)
		}
		l.toOrigin = n + 1
		if len(body) == 0 || body[0] != markMore {
			return nil, l.lost(fmt.Errorf("%w: there is no key where one is due", errProtocol))
		}
		defer clear(response)
		sent, err := encrypted(response, l.greeting.nonce, body[1:])
		if err != nil {
			return nil, l.lost(err)
		}
		return sent, nil
	}
	if !bytes.Equal(response, []byte{shaKey}) {
		return nil, l.refuse(codeDenied, stateDenied, "jolly larder: the client has encrypted its password by a key of the server's, and the larder's connection to that has TLS: connect with TLS, or have the client ask for the key")
	}
	key, err := ownKey()
	if err != nil {
		return nil, err
	}
	if _, err := l.client.Write(packet(l.toClient, append([]byte{markMore}, key.public...))); err != nil {
		return nil, err
	}
	l.toClient++
	sent, err := l.response()
	if err != nil {
		return nil, err
	}
	text, err := rsa.DecryptOAEP(sha1.New(), rand.Reader, key.private, sent, nil)
	if err != nil {
		return nil, l.refuse(codeDenied, stateDenied, "jolly larder: the client's password was not encrypted by the key that it was given")
	}
	return masked(text, l.greeting.nonce), nil
}

// masked is a password that a challenge is laid over, or the password that was under it.
func masked(text, nonce []byte) []byte {
	if n := len(nonce); n > 0 && nonce[n-1] == 0 {
		nonce = nonce[:n-1]
	}
	out := make([]byte, len(text))
	for i := range text {
		out[i] = text[i]
		if len(nonce) > 0 {
			out[i] ^= nonce[i%len(nonce)]
		}
	}
	return out
}

// encrypted encrypts a password by a server's key, which is written as PEM.
func encrypted(password, nonce, key []byte) ([]byte, error) {
	block, _ := pem.Decode(key)
	if block == nil {
		return nil, fmt.Errorf("%w: the server's key is not understood", errProtocol)
	}
	any, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the server's key: %w", err)
	}
	public, ok := any.(*rsa.PublicKey)
	if !ok {
		return nil, fmt.Errorf("%w: the server's key is not one of RSA", errProtocol)
	}
	return rsa.EncryptOAEP(sha1.New(), rand.Reader, public, masked(password, nonce), nil)
}

// pair is a key of the larder's own.
type pair struct {
	private *rsa.PrivateKey
	public  []byte // as PEM
}

// ownKey is by which clients without TLS encrypt passwords. It lasts as long as the process.
var ownKey = sync.OnceValues(func() (*pair, error) {
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKIXPublicKey(&private.PublicKey)
	if err != nil {
		return nil, err
	}
	return &pair{private, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})}, nil
})
