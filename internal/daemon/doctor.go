package daemon

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/protocol"
	"jollylarder/internal/wire/link"
)

// State is what a check comes to.
type State string

// The states, from the best to the worst.
const (
	Fine      State = "ok"
	Unchecked State = "not checked"
	Doubtful  State = "warning"
	Bad       State = "problem"
)

// Finding is one thing that was looked at.
type Finding struct {
	// Subject is what kind of thing it is, and About which one, where there are several.
	Subject string `json:"subject"`
	About   string `json:"about,omitempty"`
	State   State  `json:"state"`
	// Found is what was found, and Remedy what to do about it, unless all is well.
	Found  string `json:"found"`
	Remedy string `json:"remedy,omitempty"`
}

// Examination is all that was looked at, in its order.
type Examination struct {
	Worst    State     `json:"worst"`
	Findings []Finding `json:"findings"`
}

// doctor looks at what a larder needs.
type doctor struct {
	cfg      config.Config
	database string
	api      *client.Client // of the larder that runs by this configuration; nil if none does
	running  *control.Status
	process  control.Process // of that, or of this program
	whose    string          // the process is
	out      Examination
}

// Examine looks at all that a larder with a configuration needs: files, accounts and their rights, change feeds, clocks,
// descriptors, memory and rules; and at what a larder that runs by it says of itself. It changes nothing.
// Accounts are tried with a database; if none is given, with one that is followed or that clients use.
func Examine(ctx context.Context, cfg config.Config, database string) Examination {
	d := &doctor{cfg: cfg, database: database, out: Examination{Worst: Fine}, whose: "this shell's", process: thisProcess()}
	sets, err := settings(cfg)
	d.configuration(err)
	d.larder(ctx)
	d.rules(ctx)
	d.state()
	d.descriptors()
	d.memory()
	for i := range cfg.Origins {
		d.listeners(&cfg.Origins[i])
		if err == nil {
			d.origin(ctx, &cfg.Origins[i], &sets[i])
		}
	}
	return d.out
}

// Unreadable is what comes of a configuration that cannot be read.
func Unreadable(err error) Examination {
	d := &doctor{out: Examination{Worst: Fine}}
	d.configuration(err)
	return d.out
}

func (d *doctor) says(c Finding) {
	order := []State{Fine, Unchecked, Doubtful, Bad}
	if slices.Index(order, c.State) > slices.Index(order, d.out.Worst) {
		d.out.Worst = c.State
	}
	d.out.Findings = append(d.out.Findings, c)
}

func (d *doctor) configuration(err error) {
	_, _, control := controlTCP(d.cfg)
	if err = errors.Join(err, control); err != nil {
		d.says(Finding{"configuration", "", Bad, err.Error(), "correct it: docs/configuration.md describes every key"})
		return
	}
	for _, w := range d.cfg.Warnings {
		d.says(Finding{"configuration", "", Doubtful, w, "change it if it is not meant so"})
	}
	d.says(Finding{"configuration", "", Fine, fmt.Sprintf("origins: %d", len(d.cfg.Origins)), ""})
}

// larder asks a larder that runs by this configuration.
func (d *doctor) larder(ctx context.Context) {
	if d.cfg.Control == "" {
		d.says(Finding{"larder", "", Unchecked, "there is no control socket by which one that runs could be asked", `set control in the configuration, such as "/run/jollylarder/larder.sock"`})
		return
	}
	api := client.NewClient(d.cfg.Control)
	s, err := api.Status(ctx)
	if err != nil {
		remedy := "start it to have this checked, too"
		if errors.Is(err, os.ErrPermission) {
			remedy = "run this as root, or as the user that the larder runs as"
		}
		d.says(Finding{"larder", "", Unchecked, err.Error(), remedy})
		return
	}
	d.api, d.running = api, &s
	if stock, err := api.Stock(ctx); err == nil {
		d.process, d.whose = stock.Process, "the larder's"
	}
	d.says(Finding{"larder", "", Fine, fmt.Sprintf("version %s runs since %s: %s, clients: %d", s.Version, s.Began.Local().Format("2006-01-02 15:04"), s.State, s.Clients), ""})
	if s.Version != Version {
		d.says(Finding{"larder", "", Doubtful, fmt.Sprintf("version %s runs, and this program is of version %s", s.Version, Version), "restart the larder to have the new version run"})
	}
	for _, p := range s.Problems {
		d.says(Finding{"larder", "", Bad, p, "the log says more"})
	}
	for _, x := range s.Databases {
		if x.Name != "" && !x.Catalog {
			d.says(Finding{"schema", x.Name, Doubtful, "it is not known: nothing of this database is cached", "wait some seconds; if that does not help, name an account in [origin.catalog], or look at the log"})
		}
	}
	if s.Stale > 0 {
		d.says(Finding{"larder", "", Bad, fmt.Sprintf("control samples found stale answers: %d", s.Stale), "look at Guard in the terminal, and at docs/operations.md, After a stale answer"})
	}
	if o := s.Outside; o != nil {
		d.says(Finding{"larder", "", Doubtful, "the rules file was edited, and is not in force" + after(": ", o.Problem), "take it over in Decide, or send the larder SIGHUP"})
	}
	for _, f := range s.Fetching {
		if f.Failed > 0 {
			d.says(Finding{"fetching ahead", f.Origin, Doubtful, fmt.Sprintf("results that could not be fetched: %d; the last one: %s", f.Failed, f.Why), "give [origin.fetch] the account of the application, if that is the reason"})
		}
	}
}

// after gives a text behind a separator, or nothing if there is no text.
func after(separator, text string) string {
	if text == "" {
		return ""
	}
	return separator + text
}

func (d *doctor) rules(ctx context.Context) {
	if d.cfg.Rules == "" {
		d.says(Finding{"rules", "", Doubtful, "there is no rules file: rules end with the process", `set rules in the configuration, such as "rules.toml"`})
		return
	}
	text, set, err := readRules(d.cfg.Rules)
	if err != nil {
		d.says(Finding{"rules", "", Bad, err.Error(), "correct the file; until then the larder does not start, and one that runs goes on by the rules that it has"})
		return
	}
	var doubts []string
	if d.api != nil {
		if checked, err := d.api.Check(ctx, string(text)); err == nil {
			doubts = checked.Warnings
		}
	} else {
		for _, x := range set.Doubts() {
			doubts = append(doubts, "rule "+x.Rule+": "+x.Text)
		}
	}
	for _, x := range doubts {
		d.says(Finding{"rules", "", Doubtful, x, "change the rule, or remove it"})
	}
	for _, r := range set.List() {
		if r.Paused {
			d.says(Finding{"rules", r.Name, Doubtful, "the rule is paused", "resume it in Decide when the reason for that is gone"})
		}
	}
	caching := "nothing is cached until one says so"
	if set.Caches() {
		caching = d.cfg.Rules
	} else if slices.ContainsFunc(set.List(), func(r rules.Rule) bool { return r.Action == rules.Advised && !r.Paused }) {
		caching = "the larder chooses what is cached"
	}
	d.says(Finding{"rules", "", Fine, fmt.Sprintf("rules: %d; %s", len(set.List()), caching), ""})
}

func (d *doctor) state() {
	if d.cfg.State == "" {
		d.says(Finding{"state", "", Doubtful, "history, drafts and statistics end with the process", "set state in the configuration to a directory"})
		return
	}
	f, err := os.CreateTemp(d.cfg.State, ".doctor-*")
	switch {
	case errors.Is(err, os.ErrNotExist) && d.running == nil:
		d.says(Finding{"state", "", Unchecked, "there is no directory " + d.cfg.State + " yet", "none is needed: the larder makes it, if it may"})
		return
	case err != nil:
		d.says(Finding{"state", "", Bad, err.Error(), "create the directory for the larder's user, with chmod 700, and run this as that user"})
		return
	}
	f.Close()
	_ = os.Remove(f.Name())
	d.says(Finding{"state", "", Fine, d.cfg.State + " can be written to", ""})
}

// ownDescriptors is what the larder itself may have open, beside two for each client.
const ownDescriptors = 100

func (d *doctor) descriptors() {
	open, limit := d.process.Descriptors, d.process.DescriptorLimit
	if limit == 0 {
		d.says(Finding{"descriptors", "", Unchecked, "the system does not say how many there may be", "see that there are two for each client"})
		return
	}
	clients, bounded := 0, true
	for _, o := range d.cfg.Origins {
		clients += o.Connections
		bounded = bounded && o.Connections > 0
	}
	room := max(limit-ownDescriptors, 0) / 2
	found := fmt.Sprintf("%s limit is %d: enough for %d clients", d.whose, limit, room)
	if d.api != nil {
		found += fmt.Sprintf("; %d are open", open)
	}
	c := Finding{"descriptors", "", Fine, found, ""}
	const raise = "raise LimitNOFILE in the systemd unit, or ulimit -n"
	switch {
	case open > limit*9/10:
		c.State, c.Remedy = Bad, raise+", and restart the larder"
	case bounded && clients > room:
		c.State, c.Found, c.Remedy = Bad, found+fmt.Sprintf(", and max_connections allows %d", clients), raise+", or lower max_connections"
	case !bounded && room < 2000:
		c.State, c.Remedy = Doubtful, raise+", or set max_connections so that clients are turned away with a message"
	}
	d.says(c)
}

func (d *doctor) memory() {
	wants, has, whose := d.cfg.Memory+d.cfg.Overhead, d.process.Machine, "this machine"
	if bound := d.process.Group; bound > 0 && bound < has {
		has, whose = bound, "the control group"
	}
	c := Finding{"memory", "", Fine, fmt.Sprintf("memory and overhead may take %s of the %s of %s", bytesize.About(wants), bytesize.About(has), whose), ""}
	const lower = "lower memory or overhead in the configuration"
	switch {
	case has == 0:
		c.State, c.Found = Unchecked, "the system does not say how much there is"
	case wants > has*9/10:
		c.State, c.Remedy = Bad, lower+": the larder would be ended for want of memory"
	case wants > has/2:
		c.State, c.Remedy = Doubtful, lower+", if a database or an application runs here, too"
	}
	d.says(c)
}

func (d *doctor) listeners(o *config.Origin) {
	for _, address := range o.Listen {
		if d.running != nil {
			continue // it has them
		}
		if err := vacant(address); err != nil {
			d.says(Finding{"listener", address, Bad, err.Error(), "end what listens there, or choose another address; if it is a socket unit of systemd for the larder, all is well"})
			continue
		}
		d.says(Finding{"listener", address, Fine, "it is free", ""})
	}
}

// longestLook bounds what is asked of one origin. To read a large schema takes a while.
const longestLook = time.Minute

// origin looks at a database server: whether it can be reached, its accounts, its clock and its change feed.
func (d *doctor) origin(ctx context.Context, o *config.Origin, set *originSettings) {
	about := cmp.Or(o.Name, o.Address)
	kind := set.protocol
	s := kind.New(link.Options{Origin: o.Address, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	defer s.Close()
	s.Configure(set.Settings)
	ctx, stop := context.WithTimeout(ctx, longestLook)
	defer stop()
	follows, _ := account(o.Feed.User, o.Feed.Password) // which settings has read before
	if set.Catalog == nil && set.Fetch == nil && follows == nil {
		if err := s.Reach(ctx); err != nil {
			d.says(unreached(about, o, err))
			return
		}
		d.says(Finding{"origin", about, Fine, "something listens at " + o.Address, ""})
		d.says(Finding{"clock", about, Unchecked, "the larder has no account to ask the database with", "none is needed; an account in [origin.catalog] would allow it"})
	}
	database := d.tried(o)
	seen := false
	for _, x := range []struct {
		section string
		account *link.Account
	}{{"catalog", set.Catalog}, {"fetch", set.Fetch}, {"feed", follows}} {
		if x.account == nil {
			continue
		}
		look, err := kind.Look(ctx, s, *x.account, database)
		switch {
		case err != nil && onTheWay(err):
			d.says(unreached(about, o, err))
			return // nor can the others log in
		case err != nil:
			d.says(Finding{
				"account", about + " [origin." + x.section + "]", Bad, "the user " + x.account.User + " cannot log in: " + err.Error(),
				"correct user and password_file in [origin." + x.section + "], or the account in the database; where each database is for itself, " + database + " was tried, and --database tries another",
			})
			continue
		}
		if !seen {
			seen = true
			d.says(Finding{"origin", about, Fine, kind.Title + " answers: " + shorter(look.Version), ""})
			d.clock(about, &look)
		}
		c := Finding{"account", about + " [origin." + x.section + "]", Fine, "the user " + x.account.User + " can log in", ""}
		if x.section == "catalog" {
			if err := kind.Whole(ctx, s, *x.account, database); err != nil {
				c.State, c.Found, c.Remedy = Bad, err.Error(), "give the account what it lacks: without the whole schema nothing is cached"
			} else {
				c.Found += ", and read the schema"
			}
		}
		d.says(c)
	}
	if set.Catalog == nil && kind.NeedsAccount {
		d.says(Finding{"account", about + " [origin.catalog]", Doubtful, "there is none: statements are only watched", "create an account that may see the whole schema, and name it in [origin.catalog]"})
	}
	d.feed(ctx, s, about, o, kind, follows)
}

// unreached is what is said of an origin that cannot be reached, or not within TLS.
func unreached(about string, o *config.Origin, err error) Finding {
	return Finding{"origin", about, Bad, "it cannot be reached at " + o.Address + ": " + err.Error(), link.Hint(err)}
}

// onTheWay says whether an error is one of the network or of TLS, and not the server's.
func onTheWay(err error) bool {
	var network net.Error
	var certificate *tls.CertificateVerificationError
	return errors.As(err, &network) || errors.As(err, &certificate) || errors.Is(err, link.ErrNoTLS)
}

// tried is the database with which accounts are tried.
func (d *doctor) tried(o *config.Origin) string {
	switch {
	case d.database != "":
		return d.database
	case len(o.Feed.Databases) > 0:
		return o.Feed.Databases[0]
	case d.running != nil:
		for _, x := range d.running.Databases {
			name := strings.TrimPrefix(x.Name, o.Name+"/")
			if name != "" && x.Name == control.Where(o.Name, name) {
				return name
			}
		}
	}
	return "postgres" // which servers have
}

// shorter gives the first words of what a server says of itself.
func shorter(version string) string {
	text, _, _ := strings.Cut(version, ", compiled")
	return text
}

// driftAllowed is by how much clocks may differ before that is worth a word. No result is valid for longer for it: the larder
// measures times, and does not compare clocks.
const driftAllowed = 2 * time.Second

func (d *doctor) clock(about string, l *protocol.Look) {
	ahead := l.Ahead()
	if ahead.Abs() <= driftAllowed {
		d.says(Finding{"clock", about, Fine, "the database's clock shows the same time as this machine's", ""})
		return
	}
	which := "ahead of"
	if ahead < 0 {
		which = "behind"
	}
	d.says(Finding{"clock", about, Doubtful, fmt.Sprintf("the database's clock is %s %s this machine's", ahead.Abs().Round(time.Millisecond), which), "have both follow a time server: no result is older for it, but times in the history and in logs do not agree"})
}

func (d *doctor) feed(ctx context.Context, s link.Server, about string, o *config.Origin, kind *protocol.Protocol, a *link.Account) {
	if a == nil {
		d.says(Finding{"feed", about, Doubtful, "there is none: direct writes are not seen", "jollylarder feed setup prepares the database for one; none is needed if all writes go through the larder"})
		return
	}
	if d.running != nil {
		for i := range d.running.Feeds {
			if f := &d.running.Feeds[i]; f.Origin == o.Name {
				d.says(followed(f))
			}
		}
		return
	}
	databases := o.Feed.Databases
	if kind.Dialect.Realm == dialect.Server {
		databases = []string{""}
	}
	for _, database := range databases {
		d.says(d.prepared(ctx, s, about+after("/", database), o, kind, *a, database))
	}
}

// followed judges a feed that runs.
func followed(f *control.Feed) Finding {
	c := Finding{"feed", f.Where(), Fine, fmt.Sprintf("mode %s, lag %.0f ms, gaps: %d", f.Mode, f.LagMS, f.Gaps), ""}
	switch {
	case f.Problem != "":
		c.State, c.Found, c.Remedy = Bad, f.Problem, "jollylarder feed setup shows what the database lacks"
	case f.Mode == "":
		c.State, c.Found, c.Remedy = Doubtful, "it has not begun", "wait some seconds, and look at the log"
	case f.Bound > 0 && f.Held > f.Bound/2:
		c.State, c.Remedy = Doubtful, fmt.Sprintf("the server retains %s of its log for the slot, of %s: look why the larder is behind", bytesize.About(f.Held), bytesize.About(f.Bound))
	case f.LagMS > 60_000:
		c.State, c.Remedy = Doubtful, "look at the load of the database and of the larder: direct writes are seen that late"
	}
	return c
}

// prepared says whether a database is ready to be followed.
func (d *doctor) prepared(ctx context.Context, s link.Server, about string, o *config.Origin, kind *protocol.Protocol, a link.Account, database string) Finding {
	c := Finding{"feed", about, Fine, "the database is ready for it", ""}
	if o.Feed.Mode == "poll" {
		c.Found = "the database's counters of changes are read"
		return c
	}
	setup := "jollylarder feed setup --database URL shows how, and does it with --yes"
	p, err := kind.PlanAs(ctx, s, a, database)
	if err != nil {
		c.State, c.Found, c.Remedy = Bad, err.Error(), setup
		return c
	}
	defer p.Close()
	names := p.UsualNames()
	names.Slot, names.Publication, names.Role = cmp.Or(o.Feed.Slot, names.Slot), cmp.Or(o.Feed.Publication, names.Publication), a.User
	plan, err := p.SetUp(ctx, names)
	switch {
	case err != nil:
		c.State, c.Found, c.Remedy = Bad, err.Error(), setup
	case len(plan.Obstacles) > 0:
		c.State, c.Found, c.Remedy = Bad, strings.Join(plan.Obstacles, "; "), setup
	case len(plan.Steps) > 0:
		c.State, c.Found, c.Remedy = Bad, "still to be done: "+strings.Join(plan.Steps, "; "), setup
	}
	return c
}
