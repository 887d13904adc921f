package link

import (
	"crypto/tls"
	"crypto/x509"
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
