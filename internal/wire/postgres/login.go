package postgres

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"net"

	"jollylarder/internal/wire/link"
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
	link.Admission
	clientTLS bool
	sameCert  bool // the larder shows clients the certificate that the origin shows it

	challenged bool // the origin has asked for proof
	asked      bool // and waits for the client's response
	bound      bool // it has offered channel binding, and the client was not offered it
	initial    bool // the client's next message chooses a mechanism
}

func newAuth(set *link.Settings, client, origin net.Conn) auth {
	var a auth
	_, encrypted := client.(*tls.Conn)
	a.clientTLS = encrypted
	shown := false
	if o, ok := origin.(*link.Secured); ok {
		shown = o.Shown
		if certs := o.ConnectionState().PeerCertificates; encrypted && len(certs) > 0 {
			for _, mine := range set.ClientTLS.Certificates {
				a.sameCert = a.sameCert || len(mine.Certificate) > 0 && bytes.Equal(mine.Certificate[0], certs[0].Raw)
			}
		}
	}
	a.Admission = link.NewAdmission(set, client, origin, shown, false)
	return a
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
		if why := a.Refuses(user); why != "" && !a.challenged {
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
