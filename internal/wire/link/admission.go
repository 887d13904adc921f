package link

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"

	"jollylarder/internal/peer"
	"jollylarder/internal/wire/socket"
)

// Admission says who is let in that an origin has let in without proof: it did so for where the connection comes from,
// or for the certificate it came with, and both are the larder's.
type Admission struct {
	unchallenged Unchallenged
	shown        bool   // the larder showed the origin a certificate
	certUser     string // the name in the client's certificate, which was verified; empty for none
	near         bool   // SameHost holds for the connection
	far          string // or why it does not
}

// NewAdmission says so of a client's connection and the one to the origin that belongs to it. Shown is set if a
// certificate of the larder's was asked for and shown to the origin; told, if the origin knows the client's own address.
func NewAdmission(set *Settings, client, origin net.Conn, shown, told bool) Admission {
	a := Admission{unchallenged: set.Unchallenged, shown: shown}
	if c, ok := client.(*tls.Conn); ok {
		if chains := c.ConnectionState().VerifiedChains; len(chains) > 0 {
			a.certUser = chains[0][0].Subject.CommonName
		}
	}
	if a.near, a.far = near(client, origin); told && a.far == farHost {
		a.near, a.far = true, ""
	}
	return a
}

// farHost is why a client of another host is not near.
const farHost = "it sees the larder's address, and the client is on another host"

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
	return false, farHost
}

// Refuses says why a user whom the origin let in without proof is not let in after all, or nothing.
func (a *Admission) Refuses(user string) (why string) {
	switch {
	case a.unchallenged == Anybody:
		return ""
	case a.unchallenged == Nobody:
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
