package control

import "time"

// Stock is what memory is used for.
type Stock struct {
	At      time.Time `json:"at"`
	Limit   int64     `json:"limit_bytes"`
	Bytes   int64     `json:"cached_bytes"`
	Results int       `json:"results"`
	// Beside is the part of Bytes that is no result, but what is needed to tell what a write changes.
	Beside int64 `json:"dependency_bytes"`
	// Configured is the limit of the configuration, when another has been set since.
	Configured int64     `json:"configured_bytes"`
	Largest    int64     `json:"max_result_bytes"`
	Overhead   Overhead  `json:"overhead"`
	Process    Process   `json:"process"`
	Patterns   []Stocked `json:"patterns"`
	Ages       []AgeBand `json:"ages"`
	Shares     []Share   `json:"shares,omitempty"`
	// Hour is what became of results in each of the last 60 whole minutes, the oldest first.
	Hour []StockStep `json:"hour"`
}

// StockStep is one minute: how many results made room for others, came to the end of their TTL, and were dropped by
// writes; how many of those that went had never been used; and what all results took on average, in bytes.
type StockStep struct {
	At      time.Time `json:"at"`
	Evicted uint64    `json:"evicted"`
	Expired uint64    `json:"expired"`
	Dropped uint64    `json:"dropped"`
	Unused  uint64    `json:"never_used"`
	Bytes   int64     `json:"cached_bytes"`
}

// Overhead is the memory for what is no kept result, in bytes: what is known of patterns, texts that come again byte
// for byte, what sessions have prepared, send and are sent, and the samples that foretell what keeping would bring.
type Overhead struct {
	Limit    int64        `json:"limit_bytes"`
	Patterns OverheadPart `json:"patterns"`
	Texts    OverheadPart `json:"texts"`
	Sessions OverheadPart `json:"sessions"`
	Samples  OverheadPart `json:"samples"`
}

// Used is the sum of what is used.
func (o Overhead) Used() int64 {
	return o.Patterns.Used + o.Texts.Used + o.Sessions.Used + o.Samples.Used
}

// OverheadPart is one part of it.
type OverheadPart struct {
	Used  int64 `json:"used_bytes"`
	Limit int64 `json:"limit_bytes"`
}

// Process is the larder's whole process.
type Process struct {
	Machine  int64 `json:"machine_bytes"`  // of real memory that the machine has; 0 where the system does not say
	Group    int64 `json:"group_bytes"`    // of real memory that its control group may take; 0 without a limit
	Resident int64 `json:"resident_bytes"` // of real memory, as the system says; 0 where it does not
	Heap     int64 `json:"heap_bytes"`     // what is in use of it by the program, with what waits to be collected
	// Descriptors is how many files and connections it has open, of DescriptorLimit; 0 where the system does not say.
	Descriptors     int `json:"descriptors"`
	DescriptorLimit int `json:"descriptor_limit"`
	// Collections is how often memory was collected, PauseP50 and so on for how long everything stood still for it.
	Collections uint64  `json:"collections"`
	PauseP50    float64 `json:"pause_p50_ms"`
	PauseP99    float64 `json:"pause_p99_ms"`
	PauseMost   float64 `json:"pause_most_ms"`
}

// Stocked is what became of one pattern's results.
type Stocked struct {
	ID      string `json:"id"`
	Text    string `json:"text"`
	Rule    string `json:"rule,omitempty"`
	Results int    `json:"results"`
	Bytes   int64  `json:"bytes"`
	Hits    uint64 `json:"hits"`
	Minute  uint64 `json:"hits_minute"`
	// Stored is how many results were kept since the larder began; of those that are gone, Unused were never used,
	// Evicted made room for others, Expired came to the end of their TTL, and Dropped were dropped by writes.
	Stored  uint64 `json:"stored"`
	Unused  uint64 `json:"never_used"`
	Evicted uint64 `json:"evicted"`
	Expired uint64 `json:"expired"`
	Dropped uint64 `json:"dropped"`
	// TooLarge is how many were not kept for their size, and Largest the largest of those, in bytes.
	TooLarge uint64 `json:"too_large"`
	Largest  int64  `json:"max_bytes,omitempty"`
}

// AgeBand is how many kept results are at most so old, and older than those of the band before.
type AgeBand struct {
	UpTo        float64 `json:"up_to_ms"` // 0 for any age
	Results     float64 `json:"results"`
	Bytes       float64 `json:"bytes"`
	Unused      float64 `json:"not_used_yet"`
	UnusedBytes float64 `json:"not_used_yet_bytes"`
}

// Share is the memory that one rule has to itself.
type Share struct {
	Rule  string `json:"rule"`
	Bytes int64  `json:"bytes"`
	Limit int64  `json:"limit_bytes"`
}

// MemoryCurve is what is foretold for memories of several sizes, the smallest first.
type MemoryCurve struct {
	At   time.Time `json:"at"`
	Span float64   `json:"span_ms"`
	// Calls is how many calls a minute the rules are about.
	Calls  float64       `json:"calls_a_minute"`
	Points []MemoryPoint `json:"points"`
}

// MemoryPoint is one size.
type MemoryPoint struct {
	Limit   int64 `json:"limit_bytes"`
	Present bool  `json:"present,omitempty"`
	// Share is the share of the calls that rules match, and Rules that of each rule's.
	Share  float64            `json:"share"`
	Rules  map[string]float64 `json:"rules"`
	Saved  float64            `json:"saved_ms"` // a minute
	Memory float64            `json:"memory_bytes"`
	Full   bool               `json:"full"` // results are pushed out
}

// CurveLine is one line of the answer to a request for a curve: how much is done, or the curve.
type CurveLine struct {
	Done    float64      `json:"done"`
	Curve   *MemoryCurve `json:"curve,omitempty"`
	Problem string       `json:"problem,omitempty"`
}

// Limit asks for another limit of memory, until the larder is started again. One below what is in use is refused unless
// Evict says that results may be pushed out.
type Limit struct {
	Bytes int64 `json:"bytes"`
	Evict bool  `json:"evict,omitempty"`
}
