// Package control is the API by which a running larder is watched and told what to keep: HTTP and JSON on a Unix
// socket. The terminal application knows nothing but this.
//
// Durations are in milliseconds, with fractions; times are RFC 3339; sizes are in bytes.
package control

import (
	"slices"
	"time"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/trial"
)

// Sums are counts and times over some stretch.
type Sums struct {
	Hits      uint64  `json:"hits"`
	Misses    uint64  `json:"misses"`
	Bypasses  uint64  `json:"bypasses"`
	Writes    uint64  `json:"writes"`
	Waited    float64 `json:"waited_ms"`           // by clients, for all replies
	Hit       float64 `json:"hit_waited_ms"`       // the part of Waited that hits took
	Saved     float64 `json:"saved_ms"`            // waiting that hits avoided, by the last fetch of each result
	Cacheable float64 `json:"cacheable_waited_ms"` // the part of Waited at the origin on results that a rule could have kept
	Own       float64 `json:"added_ms"`            // what the larder added to misses; Saved is less it
	Follow    float64 `json:"shared_fetch_ms"`     // the part of Hit in which hits waited for another's fetch
	Samples   uint64  `json:"samples"`             // control samples
	// SampleTook is what the origin took for the control samples, in sum, and SampleSquares the sum of the squares.
	SampleTook    float64 `json:"sample_took_ms"`
	SampleSquares float64 `json:"sample_squares_ms2"`
}

// Counted gives the same as the ledger has it, as far as it is told.
func (s Sums) Counted() (out ledger.Sums) {
	d := func(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }
	out.Count = [4]uint64{s.Hits, s.Misses, s.Bypasses, s.Writes}
	out.Waited[ledger.Hit] = d(s.Hit)
	out.Saved, out.Own, out.Followed = d(s.Saved), d(s.Own), d(s.Follow)
	out.Samples = ledger.Samples{Count: s.Samples, Took: s.SampleTook, Squares: s.SampleSquares}
	return out
}

// Calls is the number of statements.
func (s Sums) Calls() uint64 { return s.Hits + s.Misses + s.Bypasses + s.Writes }

// Successor is a process that was started to take over from the larder.
type Successor struct {
	Process int `json:"process"`
	// Problem is why it has not taken over; it is empty while that is not known.
	Problem string `json:"problem,omitempty"`
}

// Status is the larder as a whole.
type Status struct {
	Version string `json:"version"`
	// Process is the number of the larder's process.
	Process int `json:"process"`
	// Successor is the process that was last started to take over, or nil.
	Successor *Successor `json:"successor,omitempty"`
	// ShowsValues says whether literals and parameters may be asked for.
	ShowsValues bool      `json:"shows_values"`
	State       string    `json:"state"`          // watching, keeping or held
	Note        string    `json:"note,omitempty"` // what is special about it, such as the demo's stand-in
	Began       time.Time `json:"began"`
	Now         time.Time `json:"now"`
	Listen      string    `json:"listen"`
	Origin      string    `json:"origin"`
	Origins     []Origin  `json:"origins"`
	Clients     int       `json:"clients"`
	Rules       int       `json:"rules"`
	Paused      int       `json:"rules_paused"`
	RulesAt     string    `json:"rules_file,omitempty"`
	Revision    string    `json:"revision"` // of the rules
	// Outside is set when the rules file is another than what is in force, with what somebody made of it.
	Outside *Outside `json:"outside,omitempty"`
	// You is who asks, and Drafted how many changes his draft makes.
	You     string `json:"you"`
	Drafted int    `json:"drafted"`
	// Problems says what does not work of the larder itself, such as a disk that is full; traffic goes on.
	Problems []string `json:"problems,omitempty"`
	Fetching []Fetch  `json:"fetching,omitempty"`
	Feeds    []Feed   `json:"feeds,omitempty"`
	// Stale is how many control samples found an old answer.
	Stale uint64 `json:"stale_answers"`
	// StoresValues says whether inputs may be remembered, to be fetched at the start.
	StoresValues bool `json:"stores_values"`
	// Forgetful is set when history, drafts and numbers end with the program, since it was given no place for them.
	Forgetful bool `json:"forgetful,omitempty"`

	Cached      int    `json:"cached_results"`
	CachedBytes int64  `json:"cached_bytes"`
	CachedLimit int64  `json:"cache_limit_bytes"`
	Drops       uint64 `json:"drops"`

	Minute Sums `json:"minute"` // the last minute
	Total  Sums `json:"total"`  // since it began

	Applications []Application `json:"applications"`
	Running      []Running     `json:"running"`
	Databases    []Database    `json:"databases"`
	Tables       []Table       `json:"tables"`
}

// Unfollowed says whether there is no change feed for any origin.
func (s *Status) Unfollowed() bool {
	return len(s.Origins) > 0 && !slices.ContainsFunc(s.Origins, func(o Origin) bool { return !o.Unfollowed })
}

// OnlyWatched says whether no result of any origin is ever cached.
func (s *Status) OnlyWatched() bool {
	return len(s.Origins) > 0 && !slices.ContainsFunc(s.Origins, func(o Origin) bool { return !o.OnlyWatched })
}

// Origin is one database server that the larder stands before.
type Origin struct {
	Name     string   `json:"name,omitempty"`
	Protocol string   `json:"protocol"`
	Address  string   `json:"address"`
	Listen   []string `json:"listen"`
	Clients  int      `json:"clients"`
	// OnlyWatched is set if its statements are watched and never cached, and Unfollowed if there is no change feed for this
	// kind of database.
	OnlyWatched bool `json:"only_watched,omitempty"`
	Unfollowed  bool `json:"unfollowed,omitempty"`
}

// Feed is how the changes of one database are followed, whoever makes them.
type Feed struct {
	Origin   string `json:"origin,omitempty"`
	Database string `json:"database"` // empty where the whole server is followed
	Mode     string `json:"mode"`     // stream or poll; empty while there is neither
	Problem  string `json:"problem,omitempty"`
	// LagMS is how long after its commit a change is known at most: as measured at At with a stream, or by the servers'
	// ways with a poll.
	LagMS        float64    `json:"lag_ms"`
	At           *time.Time `json:"at,omitempty"`
	Held         int64      `json:"slot_bytes,omitempty"`
	Bound        int64      `json:"max_slot_bytes,omitempty"`
	Transactions uint64     `json:"transactions"`
	Rows         uint64     `json:"rows"`
	Gaps         uint64     `json:"gaps"` // how often something may have been left out, and everything was dropped
	Polled       []string   `json:"polled,omitempty"`
}

// Where names what is followed: a database, with its origin's name before it if that has one, or a whole server.
func (f *Feed) Where() string { return Where(f.Origin, f.Database) }

// Where names a database, or a whole server where the database has no name.
func Where(origin, database string) string {
	switch {
	case database == "" && origin == "":
		return "the whole server"
	case database == "":
		return "all of " + origin
	case origin == "":
		return database
	}
	return origin + "/" + database
}

// Fetch is what was fetched ahead from one origin.
type Fetch struct {
	Origin string `json:"origin,omitempty"`
	Done   uint64 `json:"done"`
	Failed uint64 `json:"failed"`
	Why    string `json:"why,omitempty"` // the last could not be
}

// Application is one lane: an application and its last minute, second by second, the oldest first.
type Application struct {
	Name    string `json:"name"`
	Minute  Sums   `json:"minute"`
	Total   Sums   `json:"total"`
	Seconds []Sums `json:"seconds"`
}

// Running is a statement that is under way.
type Running struct {
	Application string  `json:"application"`
	User        string  `json:"user,omitempty"`
	Database    string  `json:"database,omitempty"`
	Client      string  `json:"client,omitempty"`
	Pattern     string  `json:"pattern"`
	Text        string  `json:"text"`
	Outcome     string  `json:"outcome"`
	Reason      string  `json:"reason,omitempty"`
	For         float64 `json:"for_ms"`
}

// Database is one database that was connected to.
type Database struct {
	Name    string `json:"name"`
	Catalog bool   `json:"catalog_known"`
	// Whole says whether the catalog is one by which views, functions and the like can be followed.
	Whole  bool     `json:"catalog_whole"`
	Tables []string `json:"tables,omitempty"`
}

// Table is what writes to one table did; the empty name stands for writes that may have changed any.
type Table struct {
	Name     string     `json:"name"`
	Writes   uint64     `json:"writes"`
	Minute   uint64     `json:"writes_last_minute"`
	Drops    uint64     `json:"drops"`
	LastDrop *time.Time `json:"last_drop,omitempty"`
}

// Pattern is one statement pattern with its numbers.
type Pattern struct {
	ID     string  `json:"id"`
	Text   string  `json:"text"`
	Verb   string  `json:"verb"`
	Reads  []Reach `json:"reads,omitempty"`
	Writes []Reach `json:"writes,omitempty"`
	// Pins are the columns fixed to values, as schema.table.column.
	Pins []string `json:"by_key,omitempty"`
	// Merged is how many rare patterns are counted in this one, which stands for them.
	Merged uint64 `json:"merged,omitempty"`
	// Cacheable says whether a rule could keep its results; if not, Reasons says why.
	Cacheable bool     `json:"cacheable"`
	Reasons   []string `json:"reasons,omitempty"`
	Rule      *Rule    `json:"rule,omitempty"`
	// NotChosen says why the larder does not choose it, where its rule leaves that to the larder.
	NotChosen string `json:"not_chosen,omitempty"`

	Minute Sums   `json:"minute"`
	Total  Sums   `json:"total"`
	Slots  []Sums `json:"slots"` // the last minute in slots of five seconds, the oldest first
	Rows   uint64 `json:"rows"`
	Bytes  uint64 `json:"bytes"`
	Failed uint64 `json:"failed"`
	Drops  uint64 `json:"drops"`

	Cached      int   `json:"cached_results"`
	CachedBytes int64 `json:"cached_bytes"`

	Origin   *Distribution `json:"origin,omitempty"`   // how long replies took from the origin
	Memory   *Distribution `json:"memory,omitempty"`   // and from memory
	Bypassed []Reason      `json:"bypassed,omitempty"` // why its statements passed, since it was first seen
	// Lately is what became of its calls in the last hour, or since it was first seen.
	Lately *Lately `json:"lately,omitempty"`
	// Hour is what was counted of it in each of the last 60 whole minutes, where it is told in full.
	Hour []ProofStep `json:"hour,omitempty"`

	Advice  *Advice  `json:"advice,omitempty"`
	Outlook *Outlook `json:"forecast,omitempty"`
	Callers []Caller `json:"callers,omitempty"`
	// WritesMinute is how many writes of the last minute touch its tables.
	WritesMinute uint64 `json:"writes_last_minute"`
}

// Plan is how a database runs the statements of a pattern, whatever their values are, as an account was told.
type Plan struct {
	Database string   `json:"database"`
	User     string   `json:"user"`
	Lines    []string `json:"lines"`
}

// Reach is a table that a pattern reads or writes, and the way to it from the statement inwards; no steps for one that
// the statement names.
type Reach struct {
	Table string   `json:"table"`
	How   []string `json:"how,omitempty"`
}

// PatternList is the answer to a question for patterns.
type PatternList struct {
	Patterns []Pattern `json:"patterns"`
	Matching int       `json:"matching"` // how many there are that match, of which Patterns are the first
	All      int       `json:"all"`
	Rare     uint64    `json:"rare"` // patterns that are not told apart any more
}

// Advice is what to do about a pattern.
type Advice struct {
	Kind     string   `json:"kind"` // keep, not worth it, not possible, watch longer, decided
	Sentence string   `json:"sentence"`
	For      []string `json:"for,omitempty"`
	Against  []string `json:"against,omitempty"`
	Could    []string `json:"could,omitempty"` // what would make it possible, or more worth it
	TTL      string   `json:"ttl,omitempty"`
	Hits     float64  `json:"hits"`     // the share of calls, from 0 to 1
	Error    float64  `json:"error"`    // half of its interval of 95%
	Saved    float64  `json:"saved_ms"` // a minute
	Memory   float64  `json:"memory_bytes"`
	Watch    float64  `json:"watch_ms,omitempty"`
}

// Outlook is what can be foretold of a pattern. Shares are from 0 to 1.
type Outlook struct {
	Followed float64 `json:"shared_fetch_ms"`
	Calls    float64 `json:"calls"`         // of followed inputs
	Inputs   float64 `json:"inputs"`        // different ones in use, estimated
	Repeats  float64 `json:"repeats"`       // share of calls
	Half     float64 `json:"half_of_calls"` // the share of inputs that half of the calls ask for
	Compared float64 `json:"compared"`
	Changed  float64 `json:"changed"`
	Unseen   float64 `json:"changed_without_write"` // with no write seen
	Steps    []Step  `json:"steps"`
}

// Step is one lifetime.
type Step struct {
	TTL    string  `json:"ttl"`
	Hits   float64 `json:"hits"`
	Error  float64 `json:"error"`
	Aged   float64 `json:"hits_without_writes"` // hits if writes dropped nothing
	Live   float64 `json:"results"`             // results that would be kept
	Stayed float64 `json:"stayed"`              // results that were found changed after at most so long
}

// Caller is who sends statements of a pattern.
type Caller struct {
	Application string `json:"application"`
	User        string `json:"user,omitempty"`
	Database    string `json:"database,omitempty"`
	Calls       uint64 `json:"calls"`
}

// Saveable is the waiting of the last minute that a rule spares, or could spare as far as that is foretold, in
// milliseconds.
func (p *Pattern) Saveable() float64 {
	if (p.Rule == nil || p.Rule.Action == "advised") && p.Advice != nil && (p.Advice.Kind == "cache" || p.Advice.Kind == "not worth it") {
		return p.Advice.Saved
	}
	return p.Minute.Cacheable + p.Minute.Saved
}

// Distribution is how a set of durations is spread.
type Distribution struct {
	P50     float64  `json:"p50_ms"`
	P90     float64  `json:"p90_ms"`
	P99     float64  `json:"p99_ms"`
	Buckets []Bucket `json:"buckets,omitempty"`
}

// Bucket counts durations from From up to To.
type Bucket = trial.Bucket

// Reason is how often statements passed for one reason.
type Reason struct {
	Reason string `json:"reason"`
	Count  uint64 `json:"count"`
	// Share is that of all calls, from 0 to 1.
	Share float64 `json:"share"`
	// Would says what one setting or rule would turn them into hits, where one would.
	Would string `json:"would_help,omitempty"`
}

// Lately is what became of a pattern's calls in the last hour, or since it was first seen; Span is how long that is, or
// 0 for the latter.
type Lately struct {
	Span     float64  `json:"span_ms"`
	Calls    uint64   `json:"calls"`
	Hits     uint64   `json:"hits"`
	Misses   uint64   `json:"misses"`
	Bypassed []Reason `json:"bypassed,omitempty"`
}

// Drop asks for results to be taken out: all, those of one pattern or one rule, or those that rest on one table.
type Drop struct {
	Rule    string `json:"rule,omitempty"`
	All     bool   `json:"all,omitempty"`
	Pattern string `json:"pattern,omitempty"`
	Table   string `json:"table,omitempty"`
}

// Dropped is the answer to Drop.
type Dropped struct {
	Results int `json:"results"`
}

// Event is one line of the stream: a statement's end, or a drop, or a count of events that were left out.
type Event struct {
	At          time.Time `json:"at"`
	Kind        string    `json:"kind"` // statement, drop or lost
	Pattern     string    `json:"pattern,omitempty"`
	Text        string    `json:"text,omitempty"`
	Outcome     string    `json:"outcome,omitempty"`
	Reason      string    `json:"reason,omitempty"`
	Application string    `json:"application,omitempty"`
	User        string    `json:"user,omitempty"`
	Database    string    `json:"database,omitempty"`
	Client      string    `json:"client,omitempty"`
	Took        float64   `json:"took_ms,omitempty"`
	Saved       float64   `json:"saved_ms,omitempty"`
	Age         float64   `json:"age_ms,omitempty"`
	Rows        int       `json:"rows,omitempty"`
	Bytes       int       `json:"bytes,omitempty"`
	Failed      bool      `json:"failed,omitempty"`
	// Labels are those in the statement's comment.
	Labels map[string]string `json:"labels,omitempty"`
	// Statement and Values are the statement with its literals and its parameters, only if values were asked for.
	Statement string   `json:"statement,omitempty"`
	Values    []string `json:"values,omitempty"`
	// Parameters are the same as they were sent, Types the names of their types as declared, and Protocol how they were
	// sent: what a recording needs.
	Parameters []trial.Parameter `json:"parameters,omitempty"`
	Types      []string          `json:"types,omitempty"`
	Protocol   string            `json:"protocol,omitempty"`
	Table      string            `json:"table,omitempty"`
	Count      uint64            `json:"count,omitempty"` // results dropped, or events left out
}

// ProblemType is the media type of Problem.
const ProblemType = "application/problem+json"

// Problem is the body of every answer that is not a success, as RFC 9457 has it. Its type is "about:blank" and left out:
// the status says what kind of problem it is. Detail says what is wrong and what to do.
type Problem struct {
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
}

// WhoHeader is what a client over TCP says who it is by: the user of its own system. It is what he says, and is shown
// so.
const WhoHeader = "Larder-User"
