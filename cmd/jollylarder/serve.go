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
	check                                                                                    bool
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
SIGTERM stops it at once.`,
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
			return serve(cfg, load)
		},
	}
	fs := c.Flags()
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
	fs.BoolVar(&f.check, "check", false, "check the configuration, rules and certificates, and exit")
	return c
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

// serve runs a larder until the program is told to end.
func serve(cfg config.Config, load func() (config.Config, error)) error {
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	var level slog.LevelVar
	log := logger(cfg.Log, &level)
	slog.SetDefault(log)
	if cfg.Profile != "" {
		stop, err := profiler(cfg.Profile)
		if err != nil {
			return err
		}
		defer stop()
	}
	for _, w := range cfg.Warnings {
		log.Warn(w)
	}
	l, err := daemon.Start(cfg, daemon.Options{Log: log})
	if err != nil {
		return err
	}
	defer l.Close()
	if cfg.Control == "" && cfg.ControlTCP.Listen == "" {
		log.Info("there is no control socket: terminals and commands cannot reach this larder, and rules change by the file and SIGHUP alone; --control larder.sock makes one")
	}
	log.Info("the larder is running", "origins", summary(cfg), "rules", len(l.Engine().Rules().List()), "control", cfg.Control)
	for s := range signals {
		if s != syscall.SIGHUP {
			break
		}
		again, err := load()
		if err == nil {
			err = l.Reload(again)
		}
		if err != nil {
			log.Error("the configuration was not reloaded", "problem", err)
			continue
		}
		setLevel(again.Log, &level)
		log.Info("the configuration was reloaded", "rules", len(l.Engine().Rules().List()))
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		for s := range signals {
			if s != syscall.SIGHUP {
				cancel()
			}
		}
	}()
	log.Info("the larder stops when its busy clients have finished", "clients", l.Clients(), "at most", cfg.DrainTimeout)
	l.Drain(ctx)
	if n := l.Clients(); n > 0 {
		log.Warn("clients that are still busy are disconnected", "clients", n)
	}
	log.Info("the larder has stopped")
	return nil
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
