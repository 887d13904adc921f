// Package protocol is the table of the databases that a larder can stand before: for each what the daemon, its
// configuration, and the commands need to listen, connect, describe, render, follow and ask. What the engine needs is
// its dialect.
package protocol

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/feed"
	"jollylarder/internal/trial"
	"jollylarder/internal/wire/link"
)

// Protocol is one kind of database.
type Protocol struct {
	// Name is by which an origin names it in the configuration, and recordings do; Title is how people call it.
	Name, Title string
	// Schemes are those of URLs of its databases, and Port is where its servers listen unless they say otherwise.
	Schemes []string
	Port    string
	// ALPN is the protocol's name in TLS's negotiation, or empty where it has none.
	ALPN string
	// Dialect is what the engine needs of it.
	Dialect *dialect.Dialect
	// NeedsAccount is set if its servers tell the whole schema to no account but one of the larder's own.
	NeedsAccount bool
	// ProxyHeader is set if its servers can be told where clients come from, by a header of the PROXY protocol.
	ProxyHeader bool

	// New makes what stands between clients and one origin.
	New func(link.Options) link.Server
	// Fetch makes what fetches ahead for one of its servers, on an account of the larder's own.
	Fetch func(link.Server, link.Account) *link.Fetcher
	// Follow makes what follows the changes of a database behind one of its servers.
	Follow func(link.Server, link.Account, feed.Options) feed.Follower

	// Describe reads the schema of a database, and the search path in effect there.
	Describe func(ctx context.Context, url string) (catalog.Description, []string, error)
	// Plan connects to a database to work out how its changes can be followed.
	Plan func(ctx context.Context, url string) (feed.Planner, error)
	// Look logs in to the origin of one of its servers on an account of the larder's own. Whole reads the schema of a database
	// there as the larder does, and PlanAs is Plan on such an account. The database counts where each is for itself.
	Look   func(ctx context.Context, s link.Server, a link.Account, database string) (Look, error)
	Whole  func(ctx context.Context, s link.Server, a link.Account, database string) error
	PlanAs func(ctx context.Context, s link.Server, a link.Account, database string) (feed.Planner, error)
	// Explain asks one of its servers for a plan, on an account of the larder's own; nil where that is not supported.
	Explain func(context.Context, link.Server, link.Account, link.PlanQuestion) ([]string, error)
	// KeepsWrites is set if some of its tables keep what is rolled back.
	KeepsWrites bool
	// Dial connects to a database, or to a larder before one, for a trial.
	Dial func(ctx context.Context, url, application string) (trial.Client, error)
	// Split splits the text of a file into its statements.
	Split func(text string) ([]string, error)

	// Render gives the parameters of a statement, as the engine has them: for people, and as they were sent, with the
	// names of the types that were declared for them, which may be fewer. A type without a name is empty.
	Render func(types, bound []byte) Rendered
}

// Rendered are the parameters of a statement.
type Rendered struct {
	Values     []string
	Parameters []trial.Parameter
	Types      []string
}

// OnlyWatches says whether statements for one of its servers are only watched, and none is cached: where it takes an
// account of the larder's own to know what they do, and there is none.
func (p *Protocol) OnlyWatches(account bool) bool { return p.NeedsAccount && !account }

// All are the protocols there are. The first is that of an origin which names none.
var All = []*Protocol{PostgreSQL, MySQL}

// Names gives the names of all protocols.
func Names() (names []string) {
	for _, p := range All {
		names = append(names, p.Name)
	}
	return names
}

// Named gives the protocol of a name; an empty name stands for the first.
func Named(name string) (*Protocol, error) {
	if name == "" {
		return All[0], nil
	}
	if i := slices.IndexFunc(All, func(p *Protocol) bool { return p.Name == name }); i >= 0 {
		return All[i], nil
	}
	return nil, fmt.Errorf("%q is no protocol of this larder: expected one of %s", name, strings.Join(Names(), ", "))
}

// OfURL gives the protocol of a database's URL, if it can do what is wanted of it. One without a scheme is of the first,
// which may have a way of its own to write where a database is.
func OfURL(url string, can func(*Protocol) bool) (*Protocol, error) {
	scheme, _, is := strings.Cut(url, "://")
	if !is {
		return All[0], nil
	}
	var schemes, titles []string
	for _, p := range All {
		if can(p) {
			schemes, titles = append(schemes, p.Schemes[0]+"://"), append(titles, p.Title)
		}
	}
	for _, p := range All {
		switch is := slices.Contains(p.Schemes, strings.ToLower(scheme)); {
		case is && !can(p):
			return nil, fmt.Errorf("%s:// is of %s, with which the larder cannot do this yet: expected a database of %s", scheme, p.Title, strings.Join(titles, " or "))
		case is:
			return p, nil
		}
	}
	return nil, fmt.Errorf("a URL that begins with %s:// is of no database that this larder knows: expected %s", scheme, strings.Join(schemes, " or "))
}

// What can be wanted of a protocol. Described has its schema read, Followed its changes followed, and Tried has trials.
var (
	Described = func(p *Protocol) bool { return p.Describe != nil }
	Followed  = func(p *Protocol) bool { return p.Plan != nil }
	Tried     = func(p *Protocol) bool { return p.Dial != nil && p.Split != nil }
)
