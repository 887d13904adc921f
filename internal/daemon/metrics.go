package daemon

import (
	"fmt"
	"net"
	"net/http"
	"time"

	"golang.org/x/net/netutil"

	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/feed"
	"jollylarder/internal/metrics"
)

// serveMetrics exposes metrics at an address, if there is one.
func (l *Larder) serveMetrics(address string) error {
	if address == "" {
		return nil
	}
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf(
			"exposing metrics: %w: choose another address with --metrics, or metrics in the configuration",
			err,
		)
	}
	l.metricsAddress = ln.Addr().String()
	mux := http.NewServeMux()
	mux.Handle(
		"GET /metrics",
		metrics.Handler(metrics.Source{Engine: l.engine, Clients: l.Clients, Feeds: l.measuredFeeds}),
	)
	l.healthHandlers(mux)
	s := &http.Server{
		Handler:           mux,
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       time.Minute,
		WriteTimeout:      time.Minute,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
	}
	l.atEnd = append(l.atEnd, func() { s.Close() })
	l.wg.Go(func() { _ = s.Serve(netutil.LimitListener(ln, controlserver.MostConnections)) })
	return nil
}

func (l *Larder) measuredFeeds() (out []metrics.Feed) {
	for _, f := range l.feeds {
		x := f.Status()
		out = append(
			out,
			metrics.Feed{
				Origin:    f.origin,
				Database:  f.database,
				Lag:       x.Lag,
				Known:     !x.At.IsZero(),
				Following: x.Mode == feed.Stream || x.Mode == feed.Poll,
				Gaps:      float64(x.Gaps),
				Held:      float64(x.Held),
			},
		)
	}
	return out
}
