package daemon

import (
	"errors"
	"fmt"
	"reflect"
	"slices"

	"jollylarder/internal/config"
)

// Reload takes over a configuration, and reads the rules, certificates and keys again. If anything in it is wrong,
// nothing is changed. Open connections go on. What only a restart can change is left as it was, and logged.
func (l *Larder) Reload(cfg config.Config) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.sameOrigins(cfg); err != nil {
		return err
	}
	sets, err := settings(cfg)
	if err != nil {
		return err
	}
	text, set, err := readRules(l.cfg.Rules)
	if err != nil {
		return err
	}
	fetch, feed := false, false
	for i := range cfg.Origins {
		o, have := &cfg.Origins[i], &l.cfg.Origins[i]
		fetch = fetch || o.FetchUser != have.FetchUser || o.FetchPassword != have.FetchPassword
		feed = feed || !reflect.DeepEqual(o.Feed, have.Feed)
		o.FetchUser, o.FetchPassword, o.Feed = have.FetchUser, have.FetchPassword, have.Feed
	}
	for _, c := range []struct {
		key     string
		changed bool
	}{
		{"origin.fetch", fetch}, {"origin.feed", feed}, {"control", cfg.Control != l.cfg.Control},
		{"overhead", cfg.Overhead != l.cfg.Overhead}, {"max_result_size", cfg.MaxResultSize != l.cfg.MaxResultSize}, {"profile", cfg.Profile != l.cfg.Profile}, {"metrics", cfg.Metrics != l.cfg.Metrics},
		{"rules", cfg.Rules != l.cfg.Rules}, {"state", cfg.State != l.cfg.State}, {"control_tcp", cfg.ControlTCP != l.cfg.ControlTCP},
	} {
		if c.changed {
			l.log.Warn("a change of the configuration needs a restart", "key", c.key)
		}
	}
	cfg.Control, cfg.MaxResultSize, cfg.Profile, cfg.Overhead = l.cfg.Control, l.cfg.MaxResultSize, l.cfg.Profile, l.cfg.Overhead
	cfg.State, cfg.ControlTCP, cfg.Metrics, cfg.Rules = l.cfg.State, l.cfg.ControlTCP, l.cfg.Metrics, l.cfg.Rules
	for i, o := range l.origins {
		o.server.Configure(sets[i].Settings)
	}
	if cfg.Memory != l.cfg.Memory {
		l.engine.SetLimit(cfg.Memory)
	}
	l.book.begin(cfg.Rules, text, set, "file")
	l.cfg = cfg
	return nil
}

// sameOrigins says whether a configuration stands before the same databases, on the same addresses.
func (l *Larder) sameOrigins(cfg config.Config) error {
	if len(cfg.Origins) != len(l.cfg.Origins) {
		return errors.New("origins cannot be added or taken away while the larder runs: restart it")
	}
	for i, o := range cfg.Origins {
		have := l.cfg.Origins[i]
		if o.Name != have.Name || o.Protocol != have.Protocol || o.Address != have.Address || !slices.Equal(o.Listen, have.Listen) {
			return fmt.Errorf(
				"name, protocol, address or listen of origin %q cannot be changed while the larder runs: restart it",
				have.Name,
			)
		}
	}
	return nil
}
