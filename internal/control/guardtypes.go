package control

import "time"

// Guard is what is known of whether anything old may be answered.
type Guard struct {
	// Promise says in words what is promised at this moment.
	Promise []Promise      `json:"promise"`
	Feeds   []Feed         `json:"feeds"`
	Samples Samples        `json:"samples"`
	Drops   Drops          `json:"drops"`
	Stale   []Stale        `json:"stale"`  // the latest first
	Tables  []GuardedTable `json:"tables"` // those written most first
	Writes  []SeenWrite    `json:"writes"` // the latest first that dropped something
	Unknown []UnknownWrite `json:"unknown"`
	Servers []ServerChange `json:"servers"` // the latest last for each origin
	// Hour is what was counted in each of the last 60 whole minutes of the table that was asked for, HourOf.
	HourOf string      `json:"hour_of,omitempty"`
	Hour   []TableStep `json:"hour,omitempty"`
}

// TableStep is one minute of a table: the writes to it, and the results that they dropped.
type TableStep struct {
	At     time.Time `json:"at"`
	Writes uint64    `json:"writes"`
	Drops  uint64    `json:"drops"`
}

// ServerChange is the moment when another database server was found to answer than before, or, with Lost, when a
// connection ended without a word. Everything that was kept of it was dropped.
type ServerChange struct {
	At     time.Time `json:"at"`
	Origin string    `json:"origin,omitempty"`
	Lost   bool      `json:"lost"`
	Before string    `json:"before"`
	After  string    `json:"after,omitempty"`
}

// Promise is one sentence of what is promised. Level is well, age where an answer may be old within a bound that
// somebody has chosen or a feed has, and trouble where something is wrong.
type Promise struct {
	Level string `json:"level"`
	Text  string `json:"text"`
}

// Samples are the control samples so far. Explained are those that differed since something was written meanwhile, and
// Unordered those of statements that do not say which rows they want.
type Samples struct {
	Taken     uint64 `json:"taken"`
	Equal     uint64 `json:"equal"`
	Explained uint64 `json:"explained"`
	Unordered uint64 `json:"unordered"`
	Stale     uint64 `json:"stale"`
}

// Drops are the dropped results that were fetched again: how many were other ones then, and how many the same.
type Drops struct {
	Changed uint64 `json:"changed"`
	Same    uint64 `json:"same"`
}

// Stale is an answer that was found to be old.
type Stale struct {
	At       time.Time `json:"at"`
	Database string    `json:"database"`
	Pattern  string    `json:"pattern"`
	Text     string    `json:"text"`
	Rule     string    `json:"rule"`
	Tables   []string  `json:"tables"`
	AgeMS    float64   `json:"age_ms"`
	Paused   bool      `json:"paused"`
}

// GuardedTable is one table, with what its writes did and what rests on it.
type GuardedTable struct {
	Table
	Narrow  uint64       `json:"narrow_writes"` // of which it was known what rows they alter
	Around  uint64       `json:"direct_writes"`
	Cached  int          `json:"cached_results"`
	Read    []ReadBy     `json:"read_by"`
	Written []PatternRef `json:"written_by"`
}

// PatternRef names a pattern.
type PatternRef struct {
	ID   string `json:"id"`
	Text string `json:"text"`
}

// ReadBy is a pattern whose results rest on a table. By are the columns whose values tell its rows apart; without any
// it rests on all of them, but perhaps on some Columns only.
type ReadBy struct {
	PatternRef
	By      []string `json:"by,omitempty"`
	Columns []string `json:"columns,omitempty"`
	How     []string `json:"how,omitempty"`
	Cached  int      `json:"cached_results"`
	Rule    string   `json:"rule,omitempty"`
	// Dropped is how many of its results writes to the table dropped, and Refetch how long the origin takes to give so
	// many again, in milliseconds, at the pattern's mean.
	Dropped uint64  `json:"dropped"`
	Refetch float64 `json:"refetch_ms"`
}

// SeenWrite is a write, or a transaction, that dropped something. One without a pattern was told by a change feed;
// Around is set if no client of the larder made it.
type SeenWrite struct {
	At          time.Time     `json:"at"`
	Database    string        `json:"database"`
	Pattern     *PatternRef   `json:"pattern,omitempty"`
	Application string        `json:"application,omitempty"`
	Around      bool          `json:"direct,omitempty"`
	Tables      []string      `json:"tables"`
	By          []string      `json:"by,omitempty"`
	Dropped     []DroppedFrom `json:"dropped"`
	Stayed      int           `json:"stayed"` // results that depend on the same tables, and stayed
}

// DroppedFrom is how many results of a pattern were dropped.
type DroppedFrom struct {
	PatternRef
	Results int `json:"results"`
}

// UnknownWrite is a pattern of which it is not known what it writes, so that each of its statements drops everything.
type UnknownWrite struct {
	PatternRef
	Why   string `json:"why"`
	Calls uint64 `json:"calls"`
	// Functions are those that a declaration in the rules file could speak of.
	Functions []string `json:"functions,omitempty"`
}

// The levels of a promise.
const (
	Well    = "well"
	Age     = "age"
	Trouble = "trouble"
)
