package link

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
)

// Mode says what is asked of the connection to the origin.
type Mode string

// The modes, as clients of the database know them.
const (
	Disable    Mode = "disable"
	Require    Mode = "require"     // encrypted, to whomever
	VerifyCA   Mode = "verify-ca"   // whose certificate a known authority has signed
	VerifyFull Mode = "verify-full" // and that names the host
)

// TLS makes the configuration for a mode; nil for none. Roots are the authorities trusted, nil for the system's;
// own, if not nil, is the certificate that is shown when the origin asks for one.
func TLS(mode Mode, host string, roots *x509.CertPool, own *tls.Certificate) *tls.Config {
	if mode == Disable || mode == "" {
		return nil
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host, RootCAs: roots}
	if own != nil {
		c.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return own, nil }
	}
	switch mode {
	case Require:
		c.InsecureSkipVerify = true
	case VerifyCA:
		c.InsecureSkipVerify = true // the name alone is not looked at: the chain is, here
		c.VerifyConnection = func(s tls.ConnectionState) error {
			o := x509.VerifyOptions{Roots: roots, Intermediates: x509.NewCertPool()}
			for _, cert := range s.PeerCertificates[1:] {
				o.Intermediates.AddCert(cert)
			}
			_, err := s.PeerCertificates[0].Verify(o)
			return err
		}
	}
	return c
}

// Secured is an encrypted connection to an origin.
type Secured struct {
	*tls.Conn
	// Shown is set if a certificate of the larder's was asked for and shown.
	Shown bool
}

// ErrNoTLS says that an origin does not offer what the settings ask for.
var ErrNoTLS = errors.New("it does not offer TLS, which mode in [origin.tls] asks for")

// Secure begins TLS with an origin that has agreed to it.
func Secure(c net.Conn, cfg *tls.Config) (*Secured, error) {
	o := &Secured{}
	cfg = cfg.Clone()
	if own := cfg.GetClientCertificate; own != nil {
		cfg.GetClientCertificate = func(i *tls.CertificateRequestInfo) (*tls.Certificate, error) {
			cert, err := own(i)
			o.Shown = err == nil && cert != nil && len(cert.Certificate) > 0
			return cert, err
		}
	}
	o.Conn = tls.Client(c, cfg)
	if err := o.Handshake(); err != nil {
		return nil, fmt.Errorf("TLS with the database: %w", err)
	}
	return o, nil
}

// Hint says what to look at after an origin could not be reached.
func Hint(err error) string {
	var authority x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var alert tls.AlertError
	switch {
	case errors.As(err, &authority):
		return "The database's certificate is signed by an authority that the larder does not know: set ca in [origin.tls] of the larder's configuration to that authority's certificate."
	case errors.As(err, &host):
		return "The database's certificate is for another host than the larder's address for it: set host in [origin.tls] of the larder's configuration to the name in the certificate, or mode = \"verify-ca\"."
	case errors.As(err, &invalid):
		return "The database's certificate is not valid at this time or for this use: look at its dates, and at the clocks of both machines."
	case errors.As(err, &alert):
		return "The database refused the larder's TLS: look at certificate and key in [origin.tls] of the larder's configuration, and at the database's log."
	case errors.Is(err, ErrNoTLS):
		return "Turn TLS on in the database, or set mode = \"disable\" in [origin.tls] of the larder's configuration."
	}
	return "Check that the database runs, and the larder's --origin, or address in [[origin]] of its configuration."
}
