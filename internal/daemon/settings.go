package daemon

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"

	"jollylarder/internal/config"
	wire "jollylarder/internal/wire/postgres"
)

// settings makes the wire's settings of every origin, reading certificates and keys. All that is wrong is said at once.
func settings(cfg config.Config) ([]*wire.Settings, error) {
	var all []*wire.Settings
	var problems []error
	if len(cfg.Origins) == 0 {
		return nil, errors.New("there is no origin to stand before: set --origin, or [[origin]] in the configuration")
	}
	for _, o := range cfg.Origins {
		wrong := func(what string, err error) {
			if err == nil {
				return
			}
			if o.Name != "" {
				what = fmt.Sprintf("origin %s: %s", o.Name, what)
			}
			problems = append(problems, fmt.Errorf("%s: %w", what, err))
		}
		wrong("--origin, or address", config.CheckAddress(o.Address))
		for _, a := range o.Listen {
			wrong("--listen, or listen", config.CheckAddress(a))
		}
		if len(o.Listen) == 0 {
			wrong("--listen, or listen", errors.New("there is nothing to listen on"))
		}
		s := &wire.Settings{
			Unchallenged: wire.Unchallenged(o.UnchallengedLogins), MaxConnections: o.Connections, StartTime: o.StartTime,
			ConnectTime: o.ConnectTime, IdleTime: o.IdleTime, LostTime: o.LostTime, LargestMessage: int(o.LargestMessage) + 1,
			RequireTLS: o.Clients.TLS == "required",
		}
		var err error
		s.ClientTLS, err = clientTLS(o.Clients)
		wrong("TLS from clients", err)
		s.OriginTLS, err = originTLS(o)
		wrong("TLS to the database", err)
		all = append(all, s)
	}
	return all, errors.Join(problems...)
}

func clientTLS(c config.ClientTLS) (*tls.Config, error) {
	if c.TLS == "off" || c.TLS == "" {
		return nil, nil
	}
	cert, err := tls.LoadX509KeyPair(c.Certificate, c.Key)
	if err != nil {
		return nil, err
	}
	t := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: c.Minimum, NextProtos: []string{wire.ALPN}}
	if c.CA != "" {
		if t.ClientCAs, err = authorities(c.CA); err != nil {
			return nil, err
		}
		t.ClientAuth = tls.RequireAndVerifyClientCert
	}
	return t, nil
}

func originTLS(o config.Origin) (*tls.Config, error) {
	if o.TLS.Mode == "disable" || o.TLS.Mode == "" {
		return nil, nil
	}
	var roots *x509.CertPool
	var own *tls.Certificate
	var err error
	if o.TLS.CA != "" {
		if roots, err = authorities(o.TLS.CA); err != nil {
			return nil, err
		}
	}
	if o.TLS.Certificate != "" {
		cert, err := tls.LoadX509KeyPair(o.TLS.Certificate, o.TLS.Key)
		if err != nil {
			return nil, err
		}
		own = &cert
	}
	host := o.TLS.Host
	if host == "" {
		host, _, _ = net.SplitHostPort(o.Address)
	}
	return wire.OriginTLS(wire.TLSMode(o.TLS.Mode), host, roots, own), nil
}

func authorities(path string) (*x509.CertPool, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s: there is no certificate in it: expected a PEM file", path)
	}
	return pool, nil
}
