package daemon

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"

	"jollylarder/internal/config"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/protocol"
	"jollylarder/internal/wire/link"
)

// originSettings are the settings of one origin.
type originSettings struct {
	name     string
	protocol *protocol.Protocol
	link.Settings
}

// dialects gives those of all origins, by name.
func dialects(sets []originSettings) map[string]*dialect.Dialect {
	out := map[string]*dialect.Dialect{}
	for _, s := range sets {
		out[s.name] = s.protocol.Dialect
	}
	return out
}

// settings makes the settings of every origin, reading certificates and keys. All that is wrong is said at once.
func settings(cfg config.Config) ([]originSettings, error) {
	var all []originSettings
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
			wrong("--listen, or listen", errors.New("there is nothing to listen on: expected an address such as 127.0.0.1:6543"))
		}
		s := link.Settings{
			Unchallenged: link.Unchallenged(
				o.UnchallengedLogins,
			), MaxConnections: o.Connections, StartupTimeout: o.StartupTimeout,
			ConnectTimeout: o.ConnectTimeout, IdleTimeout: o.IdleTimeout, LostTimeout: o.LostTimeout, MaxMessageSize: int(o.MaxMessageSize) + 1,
			BeginDelay: o.BeginDelay, RequireTLS: o.Clients.TLS == "required", ProxyHeader: o.ProxyHeader,
		}
		if s.BeginDelay == 0 {
			s.BeginDelay = -1 // never, where the zero value of the settings means the default
		}
		kind, err := protocol.Named(o.Protocol)
		wrong("protocol", err)
		s.ClientTLS, err = clientTLS(o.Clients, kind)
		wrong("TLS from clients", err)
		s.OriginTLS, err = originTLS(o)
		wrong("TLS to the database", err)
		s.Catalog, err = account(o.CatalogUser, o.CatalogPassword)
		wrong("the account for reading catalogs", err)
		s.Fetch, err = account(o.FetchUser, o.FetchPassword)
		wrong("the account for fetching ahead", err)
		_, err = account(o.Feed.User, o.Feed.Password)
		wrong("the account for the change feed", err)
		all = append(all, originSettings{o.Name, kind, s})
	}
	return all, errors.Join(problems...)
}

func account(user, passwordFile string) (*link.Account, error) {
	if user == "" {
		return nil, nil
	}
	a := &link.Account{User: user}
	if passwordFile != "" {
		text, err := os.ReadFile(passwordFile)
		if err != nil {
			return nil, err
		}
		a.Password = strings.TrimRight(string(text), "\r\n")
	}
	return a, nil
}

// controlTCP makes what the control API needs over TCP: TLS, and the token by which it is opened.
func controlTCP(cfg config.Config) (*tls.Config, string, error) {
	c := cfg.ControlTCP
	if c.Listen == "" {
		return nil, "", nil
	}
	cert, err := tls.LoadX509KeyPair(c.Certificate, c.Key)
	if err != nil {
		return nil, "", fmt.Errorf("control_tcp: %w", err)
	}
	text, err := os.ReadFile(c.TokenFile)
	if err != nil {
		return nil, "", fmt.Errorf("control_tcp: cannot read the token: %w", err)
	}
	token := strings.TrimSpace(string(text))
	if len(token) < leastToken {
		return nil, "", fmt.Errorf(
			"control_tcp: the token in %s has %d characters: expected at least %d, as openssl rand -hex 32 makes them",
			c.TokenFile,
			len(token),
			leastToken,
		)
	}
	return &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}, token, nil
}

// leastToken is how long a token must be at least: shorter ones can be guessed.
const leastToken = 20

// serveControlTCP opens the control API on TCP, if that is wanted.
func (l *Larder) serveControlTCP(cfg config.Config) error {
	set, token, err := controlTCP(cfg)
	if err != nil || set == nil {
		return err
	}
	ln, err := net.Listen("tcp", cfg.ControlTCP.Listen)
	if err != nil {
		return fmt.Errorf("listening for the control API: %w: choose another address for control_tcp.listen", err)
	}
	l.controlAddress = ln.Addr().String()
	l.close = append(l.close, func() { ln.Close() })
	l.wg.Go(func() { l.complain(l.api.ServeTCP(ln, set, token)) })
	return nil
}

func clientTLS(c config.ClientTLS, kind *protocol.Protocol) (*tls.Config, error) {
	if c.TLS == "off" || c.TLS == "" {
		return nil, nil
	}
	cert, err := tls.LoadX509KeyPair(c.Certificate, c.Key)
	if err != nil {
		return nil, err
	}
	t := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: c.Minimum}
	if kind != nil && kind.ALPN != "" {
		t.NextProtos = []string{kind.ALPN}
	}
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
	return link.TLS(link.Mode(o.TLS.Mode), host, roots, own), nil
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
