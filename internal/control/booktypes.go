package control

import "time"

// Rule is one rule; docs/rules.md describes its keys.
type Rule struct {
	Name          string   `json:"name,omitempty"`
	Pattern       string   `json:"pattern,omitempty"`
	Text          string   `json:"text,omitempty"` // of patterns, with stars
	Tables        []string `json:"tables,omitempty"`
	OnlyTables    []string `json:"only_tables,omitempty"`
	When          *When    `json:"when,omitempty"`
	Action        string   `json:"action"` // cache, bypass or advised
	TTL           string   `json:"ttl,omitempty"`
	MaxTTL        string   `json:"max_ttl,omitempty"` // this and the next four are of an advised rule alone
	MinSaved      string   `json:"min_saved,omitempty"`
	MaxMemory     string   `json:"max_memory,omitempty"` // of the limit, such as 20%
	NeverTables   []string `json:"never_tables,omitempty"`
	NeverPatterns []string `json:"never_patterns,omitempty"`
	Mode          string   `json:"mode,omitempty"` // until written, which is also meant by nothing, or ttl only
	SizeLimit     string   `json:"size_limit,omitempty"`
	MemoryShare   string   `json:"memory_share,omitempty"`  // of the limit, such as 25%
	EmptyResults  *bool    `json:"empty_results,omitempty"` // nil for true
	TimeFunctions bool     `json:"time_functions,omitempty"`
	InTransaction string   `json:"in_transaction,omitempty"` // as isolated, which is also meant by nothing, or as read committed
	AlsoReads     []string `json:"also_reads,omitempty"`
	Refetch       bool     `json:"refetch,omitempty"`
	WarmUp        int      `json:"warm_up,omitempty"`
	AcrossUsers   bool     `json:"across_users,omitempty"`
	ControlSample *float64 `json:"control_sample,omitempty"` // nil for the usual share
	OnStale       string   `json:"on_stale,omitempty"`       // pause, which is also meant by nothing, or continue
	Paused        bool     `json:"paused,omitempty"`
	Note          string   `json:"note,omitempty"`
	Statement     string   `json:"statement,omitempty"` // the pattern's text, for people
	// Chosen is set where this is what the larder chose for a pattern within the advised rule of that name. It is not part
	// of a rule that is put.
	Chosen bool `json:"chosen,omitempty"`
}

// RuleReach is how many of the patterns that are known a rule matches, and for how many of these it may decide: for the
// others a rule above it does, whoever asks.
type RuleReach struct {
	Matches int `json:"matches"`
	Decides int `json:"decides"`
	// Chosen is how many patterns the larder has chosen within the rule, if it is advised.
	Chosen int `json:"chosen,omitempty"`
	// Minute and Total are what the rule has done in the last minute, and since the larder started; nil where it has done
	// nothing yet.
	Minute *Sums `json:"minute,omitempty"`
	Total  *Sums `json:"total,omitempty"`
}

// When is what must hold of a caller; what is empty holds for all.
type When struct {
	Application string            `json:"application,omitempty"`
	User        string            `json:"user,omitempty"`
	Database    string            `json:"database,omitempty"`
	Client      string            `json:"client,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
}

// RuleBook is the rules in force.
type RuleBook struct {
	// Revision is another for every text.
	Revision string `json:"revision"`
	File     string `json:"file,omitempty"`
	Text     string `json:"text"`
	Rules    []Rule `json:"rules"`
	// Reach says of each rule, in their order, what it is about of the patterns that are known.
	Reach []RuleReach `json:"reach,omitempty"`
	// Hour is what was counted of one rule, HourOf, in each of the last 60 whole minutes, where that was asked for.
	HourOf string      `json:"hour_of,omitempty"`
	Hour   []ProofStep `json:"hour,omitempty"`
	// Undo and Redo are the entries of the history whose rules an undo and a redo would put in force, or nil.
	Undo *Entry `json:"undo,omitempty"`
	Redo *Entry `json:"redo,omitempty"`
	// Outside is set when the file is another than what is in force.
	Outside *Outside `json:"outside,omitempty"`
}

// Outside is what somebody made of the rules file by other means than this program.
type Outside struct {
	Problem string       `json:"problem,omitempty"` // why it cannot be taken
	Changes []RuleChange `json:"changes,omitempty"`
	Lines   []string     `json:"lines,omitempty"` // the changes in words
}

// RuleChange is one difference between two lists of rules.
type RuleChange struct {
	Kind   string      `json:"kind"` // added, removed, changed, moved, or "declarations changed"
	Rule   string      `json:"rule,omitempty"`
	Before *Rule       `json:"before,omitempty"`
	After  *Rule       `json:"after,omitempty"`
	Keys   []KeyChange `json:"keys,omitempty"`
}

// KeyChange is one key's values, as the file has them; empty for none.
type KeyChange struct {
	Key    string `json:"key"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// FileProblem is what is wrong with a rules file, and where; lines and columns count from 1.
type FileProblem struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Problem string `json:"problem"`
}

// Checked is what was found in a rules file's text.
type Checked struct {
	Rules    int           `json:"rules"`
	Problems []FileProblem `json:"problems,omitempty"`
	Warnings []string      `json:"warnings,omitempty"`
	Changes  []RuleChange  `json:"changes,omitempty"` // from the rules in force to it
	Lines    []string      `json:"lines,omitempty"`   // the changes in words
}

// Draft is what somebody prepares.
type Draft struct {
	// Open says whether there is one; else the rest is what is in force.
	Open bool      `json:"open"`
	At   time.Time `json:"at,omitzero"`
	// Base is the revision it was begun from. Behind is set when that is no longer in force, and Meanwhile says what
	// was changed since.
	Base      string   `json:"base"`
	Behind    bool     `json:"behind,omitempty"`
	Meanwhile []string `json:"meanwhile,omitempty"`
	Text      string   `json:"text,omitempty"`
	Rules     []Rule   `json:"rules"`
	// Changes lead from what it was begun from to it.
	Changes []RuleChange `json:"changes"`
	Checked Checked      `json:"checked"`
}

// Edit is one edit of the caller's draft: a rule put in place of the one of a name, or added if the name is empty; one
// removed; or one moved so many places down, or up if it is negative.
type Edit struct {
	Name   string `json:"name,omitempty"`
	Put    *Rule  `json:"put,omitempty"`
	Remove bool   `json:"remove,omitempty"`
	Move   int    `json:"move,omitempty"`
}

// Apply asks for a text to be put in force: the one given, the file as somebody edited it, or else the caller's draft.
type Apply struct {
	Text *string `json:"text,omitempty"`
	File bool    `json:"file,omitempty"`
	// Base is the revision that the text was made from, if it is not known to be the present one.
	Base string `json:"base,omitempty"`
	Why  string `json:"why"`
}

// Undo asks for an earlier entry's rules to be put in force again: those before the last change that is in force if To
// is 0; or, as a redo, those that were undone last.
type Undo struct {
	To   int64  `json:"to,omitempty"`
	Base string `json:"base,omitempty"`
	Why  string `json:"why,omitempty"`
}

// Entry is one change of the rules, or one decision that the larder made within an advised rule.
type Entry struct {
	ID   int64     `json:"id"` // below zero for a decision of the larder, which no undo goes to
	At   time.Time `json:"at"`
	Kind string    `json:"kind"` // apply, undo, redo, file, start or choice
	// Restores is the entry whose rules an undo or a redo put in force.
	Restores int64  `json:"restores,omitempty"`
	Who      string `json:"who"`
	Why      string `json:"why,omitempty"`
	// Changes says what was changed, in words.
	Changes  []string  `json:"changes,omitempty"`
	Forecast *Forecast `json:"forecast,omitempty"`
	// Since is what came true since then, of the last change alone; Hour and Day in the first hour and the first day.
	Since *Measured `json:"since,omitempty"`
	Hour  *Measured `json:"hour,omitempty"`
	Day   *Measured `json:"day,omitempty"`
	Text  string    `json:"text,omitempty"` // when one is asked for
	// Choice is what the larder decided, of an entry of that kind.
	Choice *ChoiceChange `json:"choice,omitempty"`
	// Unchanged is set in the answer to what would have changed nothing, and so is not in the history.
	Unchanged bool `json:"unchanged,omitempty"`
}

// ChoiceChange is one decision that the larder made within an advised rule.
type ChoiceChange struct {
	Rule    string `json:"rule"`
	Pattern string `json:"pattern"`
	Text    string `json:"text,omitempty"`
	Kind    string `json:"kind"`             // chosen, lengthened, shortened or withdrawn
	Before  string `json:"before,omitempty"` // the TTLs; empty where it was not chosen
	After   string `json:"after,omitempty"`
	// Forecast is what was foretold of it, and Actual what came of it until the next decision, or in the first hour.
	Forecast *Rate `json:"forecast,omitempty"`
	Actual   *Rate `json:"actual,omitempty"`
}

// Rate is what a choice brings, a minute.
type Rate struct {
	Minutes float64 `json:"minutes,omitempty"` // over how many it was measured
	Calls   float64 `json:"calls"`
	Hits    float64 `json:"hits"`
	Saved   float64 `json:"saved_ms"`
	Memory  float64 `json:"memory_bytes,omitempty"`
}

// Share is the hit rate, from 0 to 1.
func (r *Rate) Share() float64 { return r.Hits / max(r.Calls, 1e-9) }

// Choice is a pattern that the larder has chosen within an advised rule, or has withdrawn and does not choose again for
// the time being.
type Choice struct {
	Rule    string `json:"rule"`
	Pattern string `json:"pattern"`
	Text    string `json:"text,omitempty"`
	TTL     string `json:"ttl,omitempty"` // empty for one that was withdrawn
	// Since is when it was chosen, Changed when it was last changed, and Until when it may be chosen again, if it was
	// withdrawn.
	Since   time.Time  `json:"since,omitzero"`
	Changed time.Time  `json:"changed"`
	Until   *time.Time `json:"until,omitempty"`
	// Forecast is what was foretold at the last change, and Actual what came since.
	Forecast *Rate `json:"forecast,omitempty"`
	Actual   *Rate `json:"actual,omitempty"`
	Cached   int   `json:"cached"` // results in memory
	Bytes    int64 `json:"cached_bytes"`
}

// Choices are what the larder has chosen within advised rules, and what it decided lately.
type Choices struct {
	Chosen []Choice `json:"chosen"` // what saves most first
	Lately []Entry  `json:"lately"` // the latest first
}

// Refusal asks the larder never to choose a pattern within an advised rule, or to be free to again if Off is set.
type Refusal struct {
	Pattern string `json:"pattern"`
	Off     bool   `json:"off,omitempty"`
	Why     string `json:"why,omitempty"`
}

// Adoption asks for a rule of its own for a pattern that the larder chose within an advised rule.
type Adoption struct {
	Pattern string `json:"pattern"`
	Why     string `json:"why,omitempty"`
}

// Outcome is what rules would do to the calls they are about. Calls, hits, spared waiting and drops are a minute's.
type Outcome struct {
	Patterns int     `json:"patterns"`
	Calls    float64 `json:"calls"`
	Hits     float64 `json:"hits"`
	Share    float64 `json:"share"`  // of hits, of those calls
	OfAll    float64 `json:"of_all"` // of hits, of all statements
	Saved    float64 `json:"saved_ms"`
	Origin   float64 `json:"origin_per_s"` // statements to the origin
	Drops    float64 `json:"drops"`
	Memory   float64 `json:"memory_bytes"`
	Age      float64 `json:"age_ms"`    // of answers, on average
	Oldest   float64 `json:"oldest_ms"` // what 99 in 100 are younger than
}

// Forecast is what a draft would do, beside what the rules in force do by the same reckoning.
type Forecast struct {
	At    time.Time `json:"at"`
	Span  float64   `json:"span_ms"` // of the traffic that was replayed
	Calls float64   `json:"calls"`   // of all statements, a minute
	Full  bool      `json:"full"`    // the limit of memory would be reached
	// Longest is the longest lifetime of the draft's rules, of those that have one: traffic that is shorter does not show
	// what it would bring.
	Longest float64        `json:"longest_ttl_ms,omitempty"`
	Present Outcome        `json:"present"`
	Draft   Outcome        `json:"draft"`
	Rules   []RuleForecast `json:"rules"`
}

// RuleForecast is the same for one rule; what is missing was not there, or matched nothing.
type RuleForecast struct {
	Rule    string   `json:"rule"`
	Present *Outcome `json:"present,omitempty"`
	Draft   *Outcome `json:"draft,omitempty"`
}

// ForecastLine is one line of the answer to a question for a forecast.
type ForecastLine struct {
	Done     float64   `json:"done"` // from 0 to 1
	Forecast *Forecast `json:"forecast,omitempty"`
	Problem  string    `json:"problem,omitempty"`
}

// Measured is what came true after a change: of all statements, a minute.
type Measured struct {
	Minutes int     `json:"minutes"`         // that were measured; 0 if it was not in force for a whole one
	Until   string  `json:"until,omitempty"` // why no longer
	Calls   float64 `json:"calls"`
	Hits    float64 `json:"hits"`
	OfAll   float64 `json:"of_all"`
	Saved   float64 `json:"saved_ms"`
	Origin  float64 `json:"origin_per_s"`
	Drops   float64 `json:"drops"`
	Memory  float64 `json:"memory_bytes"` // at the end
}

// Short says whether less traffic was replayed than a lifetime of the draft's lasts.
func (f *Forecast) Short() bool { return f.Span < f.Longest }

// Some says whether anything was measured.
func (m *Measured) Some() bool { return m != nil && m.Minutes > 0 }

// Saved is the most that the rule spares a minute, with the draft or without it, in milliseconds.
func (r *RuleForecast) Saved() (most float64) {
	for _, o := range []*Outcome{r.Present, r.Draft} {
		if o != nil {
			most = max(most, o.Saved)
		}
	}
	return most
}
