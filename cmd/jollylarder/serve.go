package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"os"
	"os/signal"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/net/netutil"

	"jollylarder/internal/config"
	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/daemon"
	"jollylarder/internal/protocol"
)

// serveFlags are the flags of serve; each may also be given as a variable of the environment.
type serveFlags struct {
	config, origin, protocol, rules, state, control, memory, level, format, profile, metrics string
	listen                                                                                   []string
	check, takeOver                                                                          bool
}

const variablePrefix = "JOLLYLARDER_"

func serveCommand() *cobra.Command {
	var f serveFlags
	c := &cobra.Command{
		Use:   "serve [--config FILE | --listen ADDRESS --origin ADDRESS]",
		Short: "Run the proxy between applications and databases",
		Long: `Runs the proxy between applications and one or several databases. A flag takes precedence over an environment variable
(JOLLYLARDER_LISTEN for --listen), and that over the configuration file.

SIGHUP reloads the configuration, rules and certificates. SIGTERM stops the larder when busy clients have finished; a second
SIGTERM stops it at once. jollylarder hand-over replaces it by the program as it is installed now, and refuses no client.`,
		Example: `  jollylarder serve --listen 127.0.0.1:7432 --origin 127.0.0.1:5432 --rules rules.toml --control larder.sock
  jollylarder serve --config larder.toml --check
  jollylarder watch --control larder.sock`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := fromEnvironment(c.Flags()); err != nil {
				return err
			}
			load := func() (config.Config, error) { return f.load(c.Flags()) }
			cfg, err := load()
			if err != nil {
				return err
			}
			if f.check {
				if err := daemon.Check(cfg); err != nil {
					return err
				}
				for _, w := range cfg.Warnings {
					fmt.Fprintln(c.ErrOrStderr(), "warning:", w)
				}
				fmt.Fprintf(c.OutOrStdout(), "The configuration has no errors: %s.\n", summary(cfg))
				return nil
			}
			if f.takeOver && cfg.State == "" {
				return errors.New("--take-over needs state in the configuration, or --state: two larders find each other there")
			}
			return serve(cfg, load, f.takeOver)
		},
	}
	fs := c.Flags()
	f.define(fs)
	fs.BoolVar(&f.check, "check", false, "check the configuration, rules and certificates, and exit")
	fs.BoolVar(&f.takeOver, "take-over", false, "take over the clients' sockets from the larder that runs with the same state directory, if one does")
	return c
}

// define adds the flags, but for check.
func (f *serveFlags) define(fs *pflag.FlagSet) {
	fs.StringVar(&f.config, "config", "", "configuration file (default: none)")
	fs.StringSliceVar(&f.listen, "listen", nil, "address for the applications to connect to, or the path of a Unix socket (default 127.0.0.1:7432)")
	fs.StringVar(&f.origin, "origin", "", "address of the database server, or the path of its Unix socket (default: this machine, at the protocol's own port)")
	fs.StringVar(&f.protocol, "protocol", "", "protocol that the database speaks: "+strings.Join(protocol.Names(), " or ")+" (default "+protocol.All[0].Name+")")
	fs.StringVar(&f.rules, "rules", "", "rules file; created with the first rule if it does not exist (default: rules end with the process)")
	fs.StringVar(&f.state, "state", "", "directory for history, drafts and statistics (default: they end with the process)")
	fs.StringVar(&f.control, "control", "", "path of the control socket for the terminal and for scripts (default: none)")
	fs.StringVar(&f.memory, "memory", "", "memory limit for cached results, such as 64MiB (default 256MiB)")
	fs.StringVar(&f.level, "log-level", "", "debug, info, warn or error (default info)")
	fs.StringVar(&f.format, "log-format", "", "text or json (default text)")
	fs.StringVar(&f.metrics, "metrics", "", "address of the Prometheus metrics (default: none)")
	fs.StringVar(&f.profile, "profile", "", "address for Go's profiler (default: none)")
}

// fromEnvironment sets the flags that were not given from their variables.
func fromEnvironment(fs *pflag.FlagSet) error {
	var problems []error
	fs.VisitAll(func(f *pflag.Flag) {
		name := variablePrefix + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		if v, ok := os.LookupEnv(name); ok && !f.Changed && f.Name != "check" && f.Name != "help" {
			if err := fs.Set(f.Name, v); err != nil {
				problems = append(problems, fmt.Errorf("%s=%q: %w", name, v, err))
			}
		}
	})
	return errors.Join(problems...)
}

// load makes the configuration of the file and what was given besides.
func (f *serveFlags) load(fs *pflag.FlagSet) (config.Config, error) {
	c := config.Default()
	if f.config != "" {
		var err error
		if c, err = config.Read(f.config); err != nil {
			return c, err
		}
	}
	o := &c.Origins[0]
	if f.config != "" && o.Address == "" && !fs.Changed("origin") {
		return c, fmt.Errorf("%s names no origin: expected an [[origin]] with address and listen, or --origin beside it", f.config)
	}
	if len(c.Origins) > 1 && (fs.Changed("listen") || fs.Changed("origin") || fs.Changed("protocol")) {
		return c, fmt.Errorf("--listen, --origin and --protocol are for one origin, and %s has %d: set them there", f.config, len(c.Origins))
	}
	if fs.Changed("protocol") {
		o.Protocol = f.protocol
	}
	kind, err := protocol.Named(o.Protocol)
	if err != nil {
		return c, fmt.Errorf("--protocol: %w", err)
	}
	if fs.Changed("listen") {
		o.Listen = f.listen
	} else if len(o.Listen) == 0 {
		o.Listen = []string{"127.0.0.1:7432"}
	}
	if fs.Changed("origin") {
		o.Address = f.origin
	} else if o.Address == "" {
		o.Address = net.JoinHostPort("127.0.0.1", kind.Port)
	}
	for name, to := range map[string]*string{"rules": &c.Rules, "state": &c.State, "control": &c.Control, "profile": &c.Profile, "metrics": &c.Metrics, "log-level": &c.Log.Level, "log-format": &c.Log.Format} {
		if fs.Changed(name) {
			*to, _ = fs.GetString(name)
		}
	}
	if fs.Changed("memory") {
		n, err := bytesize.Parse(f.memory)
		if err == nil && n < 1<<20 {
			err = fmt.Errorf("%q: expected at least 1MiB", f.memory)
		}
		if err != nil {
			return c, fmt.Errorf("--memory %w", err)
		}
		c.Memory = n
	}
	return c, errors.Join(config.LeadsBack(c), checkLog(c.Log), checkAddress("--profile", c.Profile), checkAddress("--metrics", c.Metrics))
}

func checkLog(l config.Log) error {
	var level slog.Level
	if level.UnmarshalText([]byte(l.Level)) != nil || strings.ToLower(l.Level) != l.Level {
		return fmt.Errorf("--log-level %q: expected debug, info, warn or error", l.Level)
	}
	if l.Format != "text" && l.Format != "json" {
		return fmt.Errorf("--log-format %q: expected text or json", l.Format)
	}
	return nil
}

func checkAddress(flag, address string) error {
	if address == "" {
		return nil
	}
	if err := config.CheckAddress(address); err != nil {
		return fmt.Errorf("%s: %w", flag, err)
	}
	return nil
}

func summary(c config.Config) string {
	var s []string
	for _, o := range c.Origins {
		name := ""
		if o.Name != "" {
			name = o.Name + " "
		}
		s = append(s, fmt.Sprintf("%sat %s behind %s", name, o.Address, strings.Join(o.Listen, " and ")))
	}
	return strings.Join(s, "; ")
}

// logger makes the log, whose level can be changed.
func logger(l config.Log, level *slog.LevelVar) *slog.Logger {
	setLevel(l, level)
	o := &slog.HandlerOptions{Level: level}
	if l.Format == "json" {
		return slog.New(slog.NewJSONHandler(os.Stderr, o))
	}
	return slog.New(slog.NewTextHandler(os.Stderr, o))
}

func setLevel(l config.Log, level *slog.LevelVar) {
	var v slog.Level
	if v.UnmarshalText([]byte(l.Level)) == nil {
		level.Set(v)
	}
}

// service is a larder as a process of its own, from one to the next if another process cannot take over.
type service struct {
	log      *slog.Logger
	larder   *daemon.Larder
	leaving  sync.WaitGroup // larders before it, which serve their last clients
	mu       sync.Mutex     // of profiler
	profiler func()         // ends it
}

// serve runs a larder until the program is told to end, or another process has taken over.
func serve(cfg config.Config, load func() (config.Config, error), takeOver bool) error {
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	var level slog.LevelVar
	s := &service{log: logger(cfg.Log, &level)}
	slog.SetDefault(s.log)
	for _, w := range cfg.Warnings {
		s.log.Warn(w)
	}
	sockets, err := daemon.Inherit()
	if err != nil {
		return err
	}
	if err := s.start(cfg, daemon.Options{Sockets: sockets, TakeOver: takeOver}); err != nil {
		return err
	}
	defer func() { s.larder.Close() }()
	if cfg.Control == "" && cfg.ControlTCP.Listen == "" {
		s.log.Info("there is no control socket: terminals and commands cannot reach this larder, and rules change by the file and SIGHUP alone; --control larder.sock makes one")
	}
	ctx, stopNow := context.WithCancel(context.Background()) // which nobody waits for
	defer s.leaving.Wait()
	defer stopNow()
	for {
		select {
		case over := <-s.larder.HandedOver():
			if over.Err == nil {
				s.log.Info("another larder has taken over: this one ends with its last clients", "process", over.Process, "clients", s.larder.Clients(), "at most", s.larder.Config().HandoverTimeout)
				go func() { // like any other, it lets busy clients finish
					if told(signals) {
						s.stops()
						time.AfterFunc(s.larder.Config().DrainTimeout, stopNow)
					}
					if told(signals) {
						stopNow()
					}
				}()
				s.larder.Leave(ctx)
				s.ended()
				return nil
			}
			s.log.Error("the other larder has not taken over: this one goes on", "process", over.Process, "problem", over.Err)
			if err := s.goOn(ctx); err != nil {
				s.leaving.Wait()
				return err
			}
		case sig := <-signals:
			if sig != syscall.SIGHUP {
				go func() {
					if told(signals) {
						stopNow()
					}
				}()
				s.larder.Stopping()
				s.stops()
				s.larder.Drain(ctx)
				s.ended()
				return nil
			}
			s.reload(load, &level)
		}
	}
}

// told waits until the program is told to end.
func told(signals <-chan os.Signal) bool {
	for s := range signals {
		if s != syscall.SIGHUP {
			return true
		}
	}
	return false
}

// start starts a larder, and says so.
func (s *service) start(cfg config.Config, opts daemon.Options) error {
	opts.Log, opts.Successor = s.log, successor()
	opts.BeforeHandover = func() { // the other process opens it
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.profiler != nil {
			s.profiler()
		}
	}
	l, err := daemon.Start(cfg, opts)
	if err != nil {
		return err
	}
	s.larder = l
	if cfg.Profile != "" {
		stop, err := profiler(cfg.Profile)
		s.mu.Lock()
		s.profiler = stop
		s.mu.Unlock()
		switch {
		case err != nil && (opts.TakeOver || opts.Before != nil): // its clients are not to pay for that
			s.log.Error("the profiler is not open", "problem", err)
		case err != nil:
			l.Close()
			return err
		}
	}
	s.log.Info("the larder is running", "origins", summary(cfg), "rules", len(l.Engine().Rules().List()), "control", cfg.Control)
	l.Supervised()
	return nil
}

// goOn starts a larder with what another process has not taken over. The one before serves its last clients meanwhile.
func (s *service) goOn(ctx context.Context) error {
	before := s.larder
	s.leaving.Go(func() {
		before.Leave(ctx)
		before.Close()
	})
	return s.start(before.Config(), daemon.Options{Before: before})
}

// reload reads the configuration again.
func (s *service) reload(load func() (config.Config, error), level *slog.LevelVar) {
	s.larder.Reloading()
	cfg, err := load()
	if err == nil {
		err = s.larder.Reload(cfg)
	}
	s.larder.Reloaded()
	if err != nil {
		s.log.Error("the configuration was not reloaded", "problem", err)
		return
	}
	setLevel(cfg.Log, level)
	s.log.Info("the configuration was reloaded", "rules", len(s.larder.Engine().Rules().List()))
}

// stops says that the larder has been told to stop.
func (s *service) stops() {
	s.log.Info("the larder stops when its busy clients have finished", "clients", s.larder.Clients(), "at most", s.larder.Config().DrainTimeout)
}

// ended says that the larder has stopped, which is to be closed.
func (s *service) ended() {
	if n := s.larder.Clients(); n > 0 {
		s.log.Warn("clients that are still busy are disconnected", "clients", n)
	}
	s.log.Info("the larder has stopped")
}

// profiler serves Go's profiles.
func profiler(address string) (stop func(), err error) {
	mux := http.NewServeMux()
	mux.HandleFunc("/debug/pprof/", pprof.Index)
	mux.HandleFunc("/debug/pprof/profile", pprof.Profile)
	mux.HandleFunc("/debug/pprof/trace", pprof.Trace)
	mux.HandleFunc("/debug/pprof/symbol", pprof.Symbol)
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("opening the profiler: %w: choose another address with --profile", err)
	}
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	go func() { _ = s.Serve(netutil.LimitListener(ln, controlserver.MostConnections)) }()
	return func() { ln.Close() }, nil
}
