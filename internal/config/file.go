package config

import (
	"cmp"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"jollylarder/internal/core/bytesize"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/tomlproblem"
	"jollylarder/internal/protocol"
)

// The file as it is written. Every key is described in docs/configuration.md.
type fileTOML struct {
	Rules           *string      `toml:"rules"`
	FollowRules     *bool        `toml:"follow_rules"`
	State           *string      `toml:"state"`
	Control         *string      `toml:"control"`
	ControlTCP      controlTOML  `toml:"control_tcp"`
	Memory          *string      `toml:"memory"`
	Overhead        *string      `toml:"overhead"`
	MaxResultSize   *string      `toml:"max_result_size"`
	DrainTimeout    *string      `toml:"drain_timeout"`
	HandoverTimeout *string      `toml:"handover_timeout"`
	KeepWarm        *bool        `toml:"keep_warm"`
	ShowValues      *bool        `toml:"show_values"`
	StoreValues     *bool        `toml:"store_values"`
	Profile         *string      `toml:"profile"`
	Metrics         *string      `toml:"metrics"`
	Log             logTOML      `toml:"log"`
	Origin          []originTOML `toml:"origin"`
}

type controlTOML struct {
	Listen      *string `toml:"listen"`
	Certificate *string `toml:"certificate"`
	Key         *string `toml:"key"`
	TokenFile   *string `toml:"token_file"`
}

type logTOML struct {
	Level  *string `toml:"level"`
	Format *string `toml:"format"`
}

type originTOML struct {
	Name               *string        `toml:"name"`
	Protocol           *string        `toml:"protocol"`
	ProxyHeader        *bool          `toml:"proxy_header"`
	Address            *string        `toml:"address"`
	Listen             []string       `toml:"listen"`
	MaxConnections     *int64         `toml:"max_connections"`
	StartupTimeout     *string        `toml:"startup_timeout"`
	ConnectTimeout     *string        `toml:"connect_timeout"`
	IdleTimeout        *string        `toml:"idle_timeout"`
	LostTimeout        *string        `toml:"lost_client_timeout"`
	BeginDelay         *string        `toml:"begin_delay"`
	MaxMessageSize     *string        `toml:"max_message_size"`
	UnchallengedLogins *string        `toml:"unchallenged_logins"`
	TLS                originTLSTOML  `toml:"tls"`
	Clients            clientsTLSTOML `toml:"clients"`
	Catalog            accountTOML    `toml:"catalog"`
	Fetch              accountTOML    `toml:"fetch"`
	Feed               feedTOML       `toml:"feed"`
}

type feedTOML struct {
	User         *string  `toml:"user"`
	PasswordFile *string  `toml:"password_file"`
	Databases    []string `toml:"databases"`
	Mode         *string  `toml:"mode"`
	Slot         *string  `toml:"slot"`
	Publication  *string  `toml:"publication"`
	MaxSlotSize  *string  `toml:"max_slot_size"`
	PollEvery    *string  `toml:"poll_interval"`
}

type accountTOML struct {
	User         *string `toml:"user"`
	PasswordFile *string `toml:"password_file"`
}

type originTLSTOML struct {
	Mode        *string `toml:"mode"`
	CA          *string `toml:"ca"`
	Certificate *string `toml:"certificate"`
	Key         *string `toml:"key"`
	Host        *string `toml:"host"`
}

type clientsTLSTOML struct {
	TLS           *string `toml:"tls"`
	Certificate   *string `toml:"certificate"`
	Key           *string `toml:"key"`
	MinTLSVersion *string `toml:"min_tls_version"`
	CA            *string `toml:"ca"`
}

// Error is what is wrong with a configuration file and where. Line and Column count from 1.
type Error struct {
	File         string
	Line, Column int
	Problem      string
}

func (e Error) Error() string {
	return fmt.Sprintf("%s, line %d, column %d: %s", e.File, e.Line, e.Column, e.Problem)
}

// Read reads a configuration file. Paths in it are taken from where it lies.
func Read(path string) (Config, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return Config{}, fmt.Errorf("cannot read the configuration: %w", err)
	}
	return parse(path, text, true)
}

// Parse reads a configuration file's text, without looking whether the files that it names are there. All that is wrong
// is reported at once, as Errors joined.
func Parse(path string, text []byte) (Config, error) { return parse(path, text, false) }

func parse(path string, text []byte, look bool) (Config, error) {
	if len(text) > largestFile {
		return Config{}, fmt.Errorf("%s is larger than %d MiB: expected a configuration, as docs/configuration.md describes", path, largestFile>>20)
	}
	doc, problems := decode(path, text)
	r := &reader{path: path, where: locate(text), problems: problems, look: look}
	c := Default()
	r.file(&doc, &c)
	if len(r.problems) > 0 {
		slices.SortStableFunc(r.problems, func(a, b error) int { return cmp.Compare(lineOf(a), lineOf(b)) })
		return Config{}, errors.Join(r.problems...)
	}
	return c, nil
}

// largestFile is the largest configuration that is read, in bytes.
const largestFile = 1 << 20

// lineOf gives the line that an error is about, or 0.
func lineOf(err error) int {
	var e Error
	if errors.As(err, &e) {
		return e.Line
	}
	return 0
}

// decode reads a file's text, and says all that is wrong with it as far as the decoder knows.
func decode(path string, text []byte) (fileTOML, []error) {
	doc, wrong, whole := tomlproblem.Decode[fileTOML](text)
	if !whole {
		doc = fileTOML{}
	}
	var problems []error
	for _, p := range wrong {
		if p.Unknown != nil {
			p.Text = fmt.Sprintf("there is no key %s: docs/configuration.md lists them all", strings.Join(p.Unknown, "."))
		}
		problems = append(problems, Error{path, p.Line, p.Column, p.Text})
	}
	return doc, problems
}

// locate gives where each key stands, by its path: "origin.1.tls.mode".
func locate(text []byte) map[string]unstable.Position {
	found := map[string]unstable.Position{}
	tables := map[string]int{}
	var p unstable.Parser
	p.Reset(text)
	prefix := ""
	for p.NextExpression() {
		e := p.Expression()
		var keys []string
		var at unstable.Range
		for it := e.Key(); it.Next(); {
			if keys == nil {
				at = it.Node().Raw
			}
			keys = append(keys, string(it.Node().Data))
		}
		if keys == nil {
			continue
		}
		name := strings.Join(keys, ".")
		switch e.Kind {
		case unstable.ArrayTable:
			prefix = fmt.Sprintf("%s.%d", name, tables[name])
			tables[name]++
			found[prefix] = p.Shape(at).Start
		case unstable.Table:
			if n := tables[keys[0]]; n > 0 {
				name = strings.Join(append([]string{keys[0], fmt.Sprint(n - 1)}, keys[1:]...), ".")
			}
			prefix = name
			found[prefix] = p.Shape(at).Start
		case unstable.KeyValue:
			found[strings.TrimPrefix(prefix+"."+name, ".")] = p.Shape(at).Start
		}
	}
	return found
}

// reader turns what is written into what is meant.
type reader struct {
	path     string
	where    map[string]unstable.Position
	problems []error
	warnings []string
	look     bool // whether the files that are named are there
}

// wrong notes a problem at a key, or at the table around it if the key is missing.
func (r *reader) wrong(key, format string, args ...any) {
	at := unstable.Position{Line: 1, Column: 1}
	for k := key; k != ""; k = k[:max(strings.LastIndexByte(k, '.'), 0)] {
		if p, ok := r.where[k]; ok {
			at = p
			break
		}
	}
	r.problems = append(r.problems, Error{r.path, at.Line, at.Column, fmt.Sprintf(format, args...)})
}

func (r *reader) text(key string, from *string, to *string, allowed ...string) {
	if from == nil {
		return
	}
	if len(allowed) > 0 && !slices.Contains(allowed, *from) {
		r.wrong(key, "%s = %q: expected one of %s", last(key), *from, strings.Join(allowed, ", "))
	}
	*to = *from
}

func last(key string) string { return key[strings.LastIndexByte(key, '.')+1:] }

// file reads a path to a file.
func (r *reader) filePath(from *string, to *string) {
	if from == nil || *from == "" {
		return
	}
	*to = *from
	if !filepath.IsAbs(*to) {
		*to = filepath.Join(filepath.Dir(r.path), *to)
	}
}

// there reads the path of a file that must be there.
func (r *reader) there(key string, from *string, to *string) {
	r.filePath(from, to)
	if *to == "" || from == nil || !r.look {
		return
	}
	f, err := os.Open(*to)
	if err != nil {
		var why *fs.PathError
		if errors.As(err, &why) {
			err = why.Err
		}
		r.wrong(key, "%s = %q cannot be read: %v", last(key), *from, err)
		return
	}
	f.Close()
}

// secret is there for a file that is nobody else's business. One that every user of the system may read is taken, with
// a warning: containers often bring them so.
func (r *reader) secret(key string, from *string, to *string) {
	r.there(key, from, to)
	if *to == "" || from == nil || !r.look {
		return
	}
	if info, err := os.Stat(*to); err == nil && info.Mode().Perm()&0o004 != 0 {
		r.warnings = append(
			r.warnings,
			fmt.Sprintf(
				"%s, line %d: %s: every user of this system may read %s: run chmod 600 on it",
				r.path,
				r.where[key].Line,
				last(key),
				*to,
			),
		)
	}
}

func (r *reader) file(f *fileTOML, c *Config) {
	defer func() { c.Warnings = r.warnings }()
	r.filePath(f.Rules, &c.Rules)
	r.filePath(f.Control, &c.Control)
	r.size("memory", f.Memory, &c.Memory, 1<<20)
	r.size("overhead", f.Overhead, &c.Overhead, 16<<20)
	r.size("max_result_size", f.MaxResultSize, &c.MaxResultSize, 1)
	if c.MaxResultSize > c.Memory {
		r.wrong(
			"max_result_size",
			"max_result_size %s is more than the memory for all results, which is %s: expected less",
			bytesize.Format(c.MaxResultSize),
			bytesize.Format(c.Memory),
		)
	}
	r.duration("drain_timeout", f.DrainTimeout, &c.DrainTimeout)
	r.duration("handover_timeout", f.HandoverTimeout, &c.HandoverTimeout)
	for from, to := range map[*bool]*bool{f.ShowValues: &c.ShowValues, f.StoreValues: &c.StoreValues, f.FollowRules: &c.FollowRules, f.KeepWarm: &c.KeepWarm} {
		if from != nil {
			*to = *from
		}
	}
	r.filePath(f.State, &c.State)
	if c.StoreValues && c.State == "" {
		r.wrong("store_values", `store_values = true needs a place to store them: expected state = "a directory"`)
	}
	if c.KeepWarm && c.State == "" {
		r.wrong("keep_warm", `keep_warm = true needs a directory in which larders find each other: expected state = "a directory"`)
	}
	r.controlTCP(&f.ControlTCP, &c.ControlTCP)
	r.address("profile", f.Profile, &c.Profile)
	r.address("metrics", f.Metrics, &c.Metrics)
	r.text("log.level", f.Log.Level, &c.Log.Level, "debug", "info", "warn", "error")
	r.text("log.format", f.Log.Format, &c.Log.Format, "text", "json")
	if len(f.Origin) == 0 {
		return
	}
	c.Origins = nil
	for i := range f.Origin {
		c.Origins = append(c.Origins, r.origin(fmt.Sprintf("origin.%d", i), &f.Origin[i], len(f.Origin) > 1))
	}
	if c.KeepWarm && !slices.ContainsFunc(c.Origins, func(o Origin) bool { return o.FetchUser != "" }) {
		r.wrong("keep_warm", "keep_warm = true needs an account to fetch by: expected user in [origin.fetch]")
	}
	for i, o := range c.Origins {
		for j, other := range c.Origins {
			if a := ownAddress(o.Address, other.Listen); a != "" {
				r.wrong(
					fmt.Sprintf("origin.%d.address", i),
					"address = %q: that is where this larder itself listens (%s, of origin %d), so that every connection would come back to it: expected the database's address",
					o.Address,
					a,
					j+1,
				)
			}
		}
	}
	names, addresses := map[string]bool{}, map[string]bool{}
	for i, o := range c.Origins {
		if names[o.Name] {
			r.wrong(fmt.Sprintf("origin.%d.name", i), "name = %q: another origin has that name already", o.Name)
		}
		names[o.Name] = true
		for _, a := range o.Listen {
			if addresses[a] && !strings.HasSuffix(a, ":0") {
				r.wrong(fmt.Sprintf("origin.%d.listen", i), "listen: %q is listened on already", a)
			}
			addresses[a] = true
		}
	}
}

func (r *reader) controlTCP(f *controlTOML, c *ControlTCP) {
	r.address("control_tcp.listen", f.Listen, &c.Listen)
	r.there("control_tcp.certificate", f.Certificate, &c.Certificate)
	r.secret("control_tcp.key", f.Key, &c.Key)
	r.secret("control_tcp.token_file", f.TokenFile, &c.TokenFile)
	set := c.Listen != "" || c.Certificate != "" || c.Key != "" || c.TokenFile != ""
	if set && (c.Listen == "" || c.Certificate == "" || c.Key == "" || c.TokenFile == "") {
		r.wrong(
			"control_tcp",
			"control_tcp needs listen, certificate, key and token_file: the API over TCP always needs TLS and a token",
		)
	}
	if IsPath(c.Listen) {
		r.wrong("control_tcp.listen", "listen = %q: expected host:port; for a Unix socket there is control", c.Listen)
	}
}

var originName = regexp.MustCompile(`^[A-Za-z0-9_-]{1,40}$`)

func (r *reader) origin(key string, f *originTOML, named bool) Origin {
	o := defaultOrigin()
	at := func(k string) string { return key + "." + k }
	r.text(at("name"), f.Name, &o.Name)
	switch {
	case f.Name == nil && named:
		r.wrong(key, "an origin beside others needs a name")
	case f.Name != nil && !originName.MatchString(o.Name):
		r.wrong(at("name"), "name = %q: expected up to 40 letters, digits, _ or -", o.Name)
	}
	r.text(at("protocol"), f.Protocol, &o.Protocol, protocol.Names()...)
	switch {
	case f.Address == nil:
		r.wrong(key, `the origin has no address: expected address = "host:port", or the path of a Unix socket`)
	default:
		r.address(at("address"), f.Address, &o.Address)
	}
	if len(f.Listen) == 0 {
		r.wrong(at("listen"), `the origin has nothing to listen on: expected listen = ["127.0.0.1:7432"] or the like`)
	}
	for i := range f.Listen {
		var a string
		r.address(at("listen"), &f.Listen[i], &a)
		o.Listen = append(o.Listen, a)
	}
	if f.MaxConnections != nil {
		if *f.MaxConnections < 0 || *f.MaxConnections > 1<<20 {
			r.wrong(
				at("max_connections"),
				"max_connections = %d: expected a number from 0, for no limit, to %d",
				*f.MaxConnections,
				1<<20,
			)
		}
		o.Connections = int(*f.MaxConnections)
	}
	r.duration(at("startup_timeout"), f.StartupTimeout, &o.StartupTimeout)
	r.duration(at("connect_timeout"), f.ConnectTimeout, &o.ConnectTimeout)
	r.duration(at("idle_timeout"), f.IdleTimeout, &o.IdleTimeout)
	r.duration(at("lost_client_timeout"), f.LostTimeout, &o.LostTimeout)
	r.duration(at("begin_delay"), f.BeginDelay, &o.BeginDelay)
	r.size(at("max_message_size"), f.MaxMessageSize, &o.MaxMessageSize, 1<<10)
	r.text(at("unchallenged_logins"), f.UnchallengedLogins, &o.UnchallengedLogins, "same-host", "anybody", "nobody")
	r.originTLS(at("tls"), &f.TLS, &o)
	r.clients(at("clients"), &f.Clients, &o.Clients)
	r.account(at("catalog"), &f.Catalog, &o.CatalogUser, &o.CatalogPassword)
	r.account(at("fetch"), &f.Fetch, &o.FetchUser, &o.FetchPassword)
	r.feed(at("feed"), &f.Feed, &o.Feed)
	r.fits(key, f, &o)
	if f.TLS.Certificate != nil && o.Clients.CA == "" && o.UnchallengedLogins == "same-host" {
		r.wrong(
			at("tls.certificate"),
			"the larder presents a certificate to the database, which may let in every client of the larder: "+
				"have clients show theirs by clients.ca, or say unchallenged_logins = \"nobody\" or \"anybody\"",
		)
	}
	return o
}

func (r *reader) feed(key string, f *feedTOML, o *Feed) {
	r.account(key, &accountTOML{f.User, f.PasswordFile}, &o.User, &o.Password)
	o.Databases = f.Databases
	r.text(key+".mode", f.Mode, &o.Mode, "stream", "poll")
	r.text(key+".slot", f.Slot, &o.Slot)
	r.text(key+".publication", f.Publication, &o.Publication)
	r.size(key+".max_slot_size", f.MaxSlotSize, &o.MaxSlotSize, 1<<20)
	r.duration(key+".poll_interval", f.PollEvery, &o.PollEvery)
	switch {
	case o.User == "" && (f.Databases != nil || f.Mode != nil):
		r.wrong(key, `a change feed needs an account: expected user = "a role that may replicate"`)
	case o.Slot != "" && len(f.Databases) > 1:
		r.wrong(
			key+".slot",
			"slot = %q: each database needs a slot of its own, so leave it out where there are several",
			o.Slot,
		)
	}
}

func (r *reader) account(key string, f *accountTOML, user, password *string) {
	r.text(key+".user", f.User, user)
	r.secret(key+".password_file", f.PasswordFile, password)
	if *password != "" && *user == "" {
		r.wrong(key, `a password file without a user: expected user = "the account's name"`)
	}
}

// fits checks that what an origin is to have is there for its protocol.
func (r *reader) fits(key string, f *originTOML, o *Origin) {
	kind, err := protocol.Named(o.Protocol)
	if err != nil {
		return // it is said already
	}
	if f.ProxyHeader != nil {
		o.ProxyHeader = *f.ProxyHeader
	}
	if o.ProxyHeader && !kind.ProxyHeader {
		r.wrong(key+".proxy_header", "proxy_header = true: servers of %s take no such header; remove it", kind.Title)
	}
	if o.Feed.User != "" {
		r.followed(key+".feed", &f.Feed, kind)
	}
}

// followed checks that a feed says what to follow, and says nothing that its protocol has no use for.
func (r *reader) followed(key string, f *feedTOML, kind *protocol.Protocol) {
	if kind.Dialect.Realm == dialect.Database {
		if len(f.Databases) == 0 {
			r.wrong(key, `a change feed needs to know what to follow: expected databases = ["a database"]`)
		}
		return
	}
	for _, x := range []struct {
		name string
		said bool
	}{
		{"databases", f.Databases != nil}, {"slot", f.Slot != nil}, {"publication", f.Publication != nil},
		{"max_slot_size", f.MaxSlotSize != nil}, {"poll_interval", f.PollEvery != nil},
	} {
		if x.said {
			r.wrong(key+"."+x.name, "%s has no use with protocol = %q, where a feed follows the whole server: remove it", x.name, kind.Name)
		}
	}
	if f.Mode != nil && *f.Mode == "poll" {
		r.wrong(key+".mode", `mode = "poll": servers of %s have no counters of changes; expected "stream"`, kind.Title)
	}
}

func (r *reader) originTLS(key string, f *originTLSTOML, o *Origin) {
	t := &o.TLS
	r.text(key+".mode", f.Mode, &t.Mode, "disable", "require", "verify-ca", "verify-full")
	r.there(key+".ca", f.CA, &t.CA)
	r.there(key+".certificate", f.Certificate, &t.Certificate)
	r.secret(key+".key", f.Key, &t.Key)
	r.text(key+".host", f.Host, &t.Host)
	if (t.Certificate == "") != (t.Key == "") {
		r.wrong(key, "certificate and key are needed together")
	}
	if t.Mode == "disable" && (t.CA != "" || t.Certificate != "" || t.Host != "") {
		r.wrong(
			key+".mode",
			`mode = "disable" leaves the other keys of this table without effect: take them out, or set another mode`,
		)
	}
	if t.Mode != "disable" && IsPath(o.Address) {
		r.wrong(key+".mode", `mode = %q: over a Unix socket the database does not speak TLS; set "disable"`, t.Mode)
	}
}

var versions = map[string]uint16{"1.2": tls.VersionTLS12, "1.3": tls.VersionTLS13}

func (r *reader) clients(key string, f *clientsTLSTOML, t *ClientTLS) {
	r.text(key+".tls", f.TLS, &t.TLS, "off", "offered", "required")
	r.there(key+".certificate", f.Certificate, &t.Certificate)
	r.secret(key+".key", f.Key, &t.Key)
	r.there(key+".ca", f.CA, &t.CA)
	minimum := "1.2"
	r.text(key+".min_tls_version", f.MinTLSVersion, &minimum, "1.2", "1.3")
	t.Minimum = versions[minimum]
	switch {
	case t.TLS == "off" && (t.Certificate != "" || t.Key != "" || t.CA != ""):
		r.wrong(
			key,
			`with tls = "off" no certificate is used: set tls = "offered" or "required", or take the files out`,
		)
	case t.TLS != "off" && (t.Certificate == "" || t.Key == ""):
		r.wrong(key, "tls = %q needs a certificate and its key", t.TLS)
	}
}
