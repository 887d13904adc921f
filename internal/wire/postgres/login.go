package postgres

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"net"
	"os"

	"jollylarder/internal/peer"
	"jollylarder/internal/wire/link"
	"jollylarder/internal/wire/socket"
)

// The login is the origin's: its challenges and the client's responses are relayed as they come, and nothing of them is
// remembered. Three things are seen to, since the connection that the origin sees is the larder's and not the client's.
//
// Channel binding ties a SCRAM login to the TLS connection it is made over. Where TLS ends at the larder, that can only
// be kept up if the larder shows the origin's own certificate; else it is not offered.
//
// A client that would have bound its login, and was not offered it, says so within what it signs, and an origin that
// had offered it must refuse. That is said to the client in words that name the remedy.
//
// An origin that lets somebody in without a challenge does so for where the connection comes from, or for the
// certificate it came with. Both are the larder's. Unchallenged says for whom that may hold.

// Codes of an authentication request.
const (
	authOK   = 0
	authSASL = 10
	// authFinal carries the server's own proof, to which there is no response.
	authFinal = 12
)

const (
	mechanism      = "SCRAM-SHA-256"
	boundMechanism = "SCRAM-SHA-256-PLUS"
)

// auth is what the login of one session rests on.
type auth struct {
	unchallenged link.Unchallenged
	clientTLS    bool
	sameCert     bool   // the larder shows clients the certificate that the origin shows it
	shown        bool   // the larder showed the origin a certificate
	certUser     string // the name in the client's certificate, which was verified; empty for none
	near         bool   // SameHost holds for the connection
	far          string // or why it does not

	challenged bool // the origin has asked for proof
	asked      bool // and waits for the client's response
	bound      bool // it has offered channel binding, and the client was not offered it
	initial    bool // the client's next message chooses a mechanism
}

func newAuth(set *link.Settings, client, origin net.Conn) auth {
	a := auth{unchallenged: set.Unchallenged}
	c, encrypted := client.(*tls.Conn)
	a.clientTLS = encrypted
	if encrypted {
		if chains := c.ConnectionState().VerifiedChains; len(chains) > 0 {
			a.certUser = chains[0][0].Subject.CommonName
		}
	}
	if o, ok := origin.(*originTLS); ok {
		a.shown = o.shown
		if certs := o.ConnectionState().PeerCertificates; encrypted && len(certs) > 0 {
			for _, mine := range set.ClientTLS.Certificates {
				a.sameCert = a.sameCert || len(mine.Certificate) > 0 && bytes.Equal(mine.Certificate[0], certs[0].Raw)
			}
		}
	}
	a.near, a.far = near(client, origin)
	return a
}

// near says whether a client is as close to the larder as the larder is to the origin, or why it is not.
func near(client, origin net.Conn) (ok bool, why string) {
	if u, ok := socket.Under(origin).(*net.UnixConn); ok && u != nil {
		cu, ok := socket.Under(client).(*net.UnixConn)
		if !ok {
			return false, "it is reached over a Unix socket, where the database sees the larder's operating system user"
		}
		if uid, ok := peer.User(cu); !ok || uid != os.Getuid() {
			return false, "it sees the larder's operating system user, which is not the client's"
		}
		return true, ""
	}
	if _, ok := socket.Under(client).(*net.UnixConn); ok {
		return true, ""
	}
	host, _, err := net.SplitHostPort(client.RemoteAddr().String())
	mine, _, err2 := net.SplitHostPort(client.LocalAddr().String())
	if err == nil && err2 == nil && (host == mine || net.ParseIP(host).IsLoopback()) {
		return true, ""
	}
	return false, "it sees the larder's address, and the client is on another host"
}

// admits says why a client that the origin let in without a challenge is not let in after all, or "".
func (a *auth) admits(user string) (why string) {
	switch {
	case a.challenged, a.unchallenged == link.Anybody:
		return ""
	case a.unchallenged == link.Nobody:
		return "this larder refuses such logins"
	case a.shown && a.certUser == "":
		return "it was shown the larder's certificate, and the client has shown none"
	case a.shown && a.certUser != user:
		return fmt.Sprintf("it was shown the larder's certificate, and the client's own names %q", a.certUser)
	case a.shown:
		return ""
	case !a.near:
		return a.far
	}
	return ""
}

// authentication takes an authentication request from the origin and says whether the client is to get it as it is.
func (s *session) authentication(o *outbound, body []byte) (forward bool) {
	if len(body) < 4 {
		return true
	}
	a := &s.auth
	switch code := binary.BigEndian.Uint32(body); code {
	case authOK:
		user := s.startup.identity.User
		if why := a.admits(user); why != "" {
			s.server.Logger().Warn(
				"a login was refused that the database let in without proof",
				"user",
				user,
				"client",
				s.address(),
				"why",
				why,
			)
			s.forward(o, o.pos)
			s.end(
				"28000",
				"jolly larder: the database lets "+user+" in without a password, but "+why,
				"If that is meant, set unchallenged_logins = \"anybody\" for this origin in the larder's configuration; "+
					"else have the database ask for a password from where the larder connects.",
			)
			s.room.Broadcast()
			return false
		}
		a.asked = false
	case authSASL:
		a.challenged, a.initial = true, true
		s.asks()
		if a.clientTLS && a.sameCert {
			return true
		}
		kept, dropped := withoutBinding(body[4:])
		if !dropped {
			return true
		}
		a.bound = true
		if s.forward(o, o.pos) {
			s.writeClient(frame(nil, 'R', body[:4], kept))
		}
		return false
	case authFinal:
	default:
		a.challenged = true
		s.asks()
	}
	return true
}

// asks notes that the origin waits for a response of the client's. It is called with mu held.
func (s *session) asks() {
	s.auth.asked = true
	s.room.Broadcast()
}

// longestResponse is the longest message that is taken from a client before its login has ended, in bytes: the server's
// own limit for a response, and the message's header.
const longestResponse = 65535 + headerLen

// loggingIn deals with what a client sends before its login has ended. Nothing of it is looked at but responses: one
// for each time the origin has asked. All else is held back, unread: an origin that asks for no proof would run a
// statement at once, before the larder could refuse the client; and who is not let in at all must not make the larder
// read SQL. False ends the session.
func (s *session) loggingIn() (more bool) {
	s.mu.Lock()
	for s.login && !s.auth.asked && !s.originGone && !s.clientGone {
		s.room.Wait()
	}
	s.admitted = !s.login
	gone := s.originGone || s.clientGone
	s.mu.Unlock()
	if gone || s.admitted {
		return !gone
	}
	head := s.in.unread()
	n := binary.BigEndian.Uint32(head[1:])
	if n < 4 || n >= longestResponse {
		s.refuse(
			"08P01",
			fmt.Sprintf("jolly larder: before the login has ended a message of %d bytes has come", uint64(n)+1),
			"",
		)
		return false
	}
	total := int(n) + 1
	if s.in.want = total; len(head) < total {
		return true
	}
	// A message of another type goes on as well, for the origin to refuse.
	if head[0] == 'p' && !s.password(head[headerLen:total]) {
		return false
	}
	s.mu.Lock()
	s.auth.asked = false
	s.mu.Unlock()
	s.in.pos += total
	return s.send(s.in.take())
}

// withoutBinding takes the mechanism that binds to a channel out of a list.
func withoutBinding(list []byte) (kept []byte, dropped bool) {
	for {
		name, rest, ok := cstring(list)
		if !ok || len(name) == 0 {
			return append(kept, 0), dropped
		}
		if string(name) == boundMechanism {
			dropped = true
		} else {
			kept = append(append(kept, name...), 0)
		}
		list = rest
	}
}

// password looks at a client's response during the login; false ends the session.
func (s *session) password(body []byte) bool {
	s.mu.Lock()
	initial, bound := s.auth.initial, s.auth.bound
	s.auth.initial = false
	s.mu.Unlock()
	if !initial || !bound {
		return true
	}
	name, rest, ok := cstring(body)
	if !ok || string(name) != mechanism || len(rest) < 5 || rest[4] != 'y' {
		return true
	}
	s.refuse(
		"28000",
		"jolly larder: the client wants to bind its login to its TLS connection, which ends at the larder; the database would refuse it",
		"Set channel_binding=disable in the client's connection, or give the larder the database's own certificate and key in [origin.clients], "+
			"or let the larder reach the database without TLS (mode = \"disable\" in [origin.tls]).",
	)
	return false
}
