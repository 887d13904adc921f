// Package control is the API by which a running larder is watched and told what to keep: HTTP and JSON on a Unix
// socket. The terminal application knows nothing but this.
//
// Durations are in milliseconds, with fractions; times are RFC 3339; sizes are in bytes.
package control

import "time"

// Sums are counts and times over some stretch.
type Sums struct {
	Hits    uint64  `json:"hits"`
	Misses  uint64  `json:"misses"`
	Passes  uint64  `json:"passes"`
	Writes  uint64  `json:"writes"`
	Waited  float64 `json:"waited_ms"`          // by clients, for all replies
	Hit     float64 `json:"hit_waited_ms"`      // the part of Waited that hits took
	Spared  float64 `json:"spared_ms"`          // waiting that hits avoided
	Keeping float64 `json:"keepable_waited_ms"` // the part of Waited at the origin on results that a rule could have kept
}

// Calls is the number of statements.
func (s Sums) Calls() uint64 { return s.Hits + s.Misses + s.Passes + s.Writes }

// Status is the larder as a whole.
type Status struct {
	Version string    `json:"version"`
	State   string    `json:"state"`          // watching, keeping or held
	Note    string    `json:"note,omitempty"` // what is special about it, such as the demo's stand-in
	Began   time.Time `json:"began"`
	Now     time.Time `json:"now"`
	Listen  string    `json:"listen"`
	Origin  string    `json:"origin"`
	Origins []Origin  `json:"origins"`
	Clients int       `json:"clients"`
	Rules   int       `json:"rules"`
	RulesAt string    `json:"rules_file,omitempty"`

	Kept      int    `json:"kept_results"`
	KeptBytes int64  `json:"kept_bytes"`
	KeptLimit int64  `json:"kept_limit"`
	Drops     uint64 `json:"drops"`

	Minute Sums `json:"minute"` // the last minute
	Total  Sums `json:"total"`  // since it began

	Applications []Application `json:"applications"`
	Running      []Running     `json:"running"`
	Databases    []Database    `json:"databases"`
	Tables       []Table       `json:"tables"`
}

// Origin is one database server that the larder stands before.
type Origin struct {
	Name    string   `json:"name,omitempty"`
	Address string   `json:"address"`
	Listen  []string `json:"listen"`
	Clients int      `json:"clients"`
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
	Pattern     string  `json:"pattern"`
	Text        string  `json:"text"`
	Outcome     string  `json:"outcome"`
	Reason      string  `json:"reason,omitempty"`
	For         float64 `json:"for_ms"`
}

// Database is one database that was connected to.
type Database struct {
	Name    string   `json:"name"`
	Catalog bool     `json:"catalog_known"`
	Tables  []string `json:"tables,omitempty"`
}

// Table is what writes to one table did; the empty name stands for writes that may have changed any.
type Table struct {
	Name     string     `json:"name"`
	Writes   uint64     `json:"writes"`
	Drops    uint64     `json:"drops"`
	LastDrop *time.Time `json:"last_drop,omitempty"`
}

// Pattern is one statement pattern with its numbers.
type Pattern struct {
	ID     string   `json:"id"`
	Text   string   `json:"text"`
	Verb   string   `json:"verb"`
	Reads  []string `json:"reads,omitempty"`
	Writes []string `json:"writes,omitempty"`
	// Keepable says whether a rule could keep its results; if not, Reasons says why.
	Keepable bool     `json:"keepable"`
	Reasons  []string `json:"reasons,omitempty"`
	Rule     *Rule    `json:"rule,omitempty"`

	Minute Sums   `json:"minute"`
	Total  Sums   `json:"total"`
	Slots  []Sums `json:"slots"` // the last minute in slots of five seconds, the oldest first
	Rows   uint64 `json:"rows"`
	Bytes  uint64 `json:"bytes"`
	Failed uint64 `json:"failed"`
	Drops  uint64 `json:"drops"`

	Kept      int   `json:"kept_results"`
	KeptBytes int64 `json:"kept_bytes"`

	Origin *Distribution `json:"origin,omitempty"` // how long replies took from the origin
	Memory *Distribution `json:"memory,omitempty"` // and from memory
	Passed []Reason      `json:"passed,omitempty"` // why its statements passed
}

// Spareable is the waiting of the last minute that a rule could spare or spares, in milliseconds.
func (p *Pattern) Spareable() float64 { return p.Minute.Keeping + p.Minute.Spared }

// Distribution is how a set of durations is spread.
type Distribution struct {
	P50     float64  `json:"p50_ms"`
	P90     float64  `json:"p90_ms"`
	P99     float64  `json:"p99_ms"`
	Buckets []Bucket `json:"buckets,omitempty"`
}

// Bucket counts durations from From up to To.
type Bucket struct {
	From  float64 `json:"from_ms"`
	To    float64 `json:"to_ms"`
	Count uint32  `json:"count"`
}

// Reason is how often statements passed for one reason.
type Reason struct {
	Reason string `json:"reason"`
	Count  uint64 `json:"count"`
}

// Rule is a decision about one pattern.
type Rule struct {
	Pattern string `json:"pattern"`
	Verdict string `json:"verdict"` // keep or never
	TTL     string `json:"ttl,omitempty"`
	Note    string `json:"note,omitempty"`
}

// Drop asks for results to be taken out: all, those of one pattern, or those that rest on one table.
type Drop struct {
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
	Spared      float64   `json:"spared_ms,omitempty"`
	Age         float64   `json:"age_ms,omitempty"`
	Rows        int       `json:"rows,omitempty"`
	Bytes       int       `json:"bytes,omitempty"`
	Failed      bool      `json:"failed,omitempty"`
	Table       string    `json:"table,omitempty"`
	Count       uint64    `json:"count,omitempty"` // results dropped, or events left out
}

// Problem is the body of every answer that is not a success: what is wrong and what to do.
type Problem struct {
	Problem string `json:"problem"`
}
