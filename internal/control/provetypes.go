package control

import "time"

// Proof is what was spared over some stretch of time, and how that is known.
type Proof struct {
	At    time.Time `json:"at"`
	From  time.Time `json:"from"`
	Since string    `json:"since"` // as it was asked for: "minute", "start", "change" or a length
	// Counted is "start" where the rules have not changed since, and "minute" where they changed within the last one or two, if what
	// came since the last change was asked for.
	Counted string `json:"counted,omitempty"`
	// Step is how long one of Series lasts.
	Step  float64   `json:"step_ms"`
	Sums  Sums      `json:"sums"`
	Saved ThreeWays `json:"saved"`
	Drops uint64    `json:"drops"`
	// Compared is how many control samples were taken, and Stale how many of them found an old answer.
	Compared uint64      `json:"compared"`
	Stale    uint64      `json:"stale_answers"`
	Series   []ProofStep `json:"series"`

	// Memory and Origin are how long answers took since the larder began, of the patterns that some were answered from
	// memory of: those from memory, and those from the origin.
	Memory *Distribution `json:"memory,omitempty"`
	Origin *Distribution `json:"origin,omitempty"`

	Patterns     []Proved `json:"patterns"`
	Rules        []Proved `json:"rules"`
	Applications []Proved `json:"applications"`
	// Minutes is how many minutes numbers were found of, where the stretch is a length.
	Minutes uint64 `json:"minutes,omitempty"`
}

// ThreeWays is what was spared, measured in three ways, in milliseconds.
type ThreeWays struct {
	// Fetches is by the last fetch of each result.
	Fetches float64 `json:"by_last_fetch_ms"`
	// Sample is by the control samples, and Error half of its interval of 95%; Covers is the share of the hits that
	// there were enough of them for, and Like what Fetches says of those alone.
	Sample *Way `json:"by_control_sample,omitempty"`
	// Before is by what calls waited while nothing was kept.
	Before *Way `json:"by_before_and_after,omitempty"`
}

// Way is one way of measuring.
type Way struct {
	Saved  float64 `json:"saved_ms"`
	Error  float64 `json:"error_ms,omitempty"`
	Covers float64 `json:"covers"`
	Like   float64 `json:"by_last_fetch_ms"`
}

// ProofStep is one step of time.
type ProofStep struct {
	At     time.Time `json:"at"`
	Calls  uint64    `json:"calls"`
	Hits   uint64    `json:"hits"`
	Waited float64   `json:"waited_ms"`
	Saved  float64   `json:"saved_ms"`
	Could  float64   `json:"cacheable_waited_ms"`
	// P50 and P99 are what half of the calls waited at most, and 99 % of them; of the minutes of a pattern, and left
	// out where that is not known.
	P50 float64 `json:"p50_ms,omitempty"`
	P99 float64 `json:"p99_ms,omitempty"`
}

// Proved is what was spared of one pattern, rule or application.
type Proved struct {
	Name string `json:"name"`
	Text string `json:"text,omitempty"`
	Sums
	Ways ThreeWays `json:"saved"`
	// BeforeMean and AfterMean are what one call waited for on average while it was not kept, and while it was; 0 where
	// that is not known.
	BeforeMean float64 `json:"before_mean_ms,omitempty"`
	AfterMean  float64 `json:"after_mean_ms,omitempty"`
	// SampleMean is what the origin takes now on average, with half of its interval of 95%.
	SampleMean  float64 `json:"sample_mean_ms,omitempty"`
	SampleError float64 `json:"sample_mean_error_ms,omitempty"`
}

// The stretches that are no lengths.
const (
	LastMinute = "minute"
	SinceStart = "start"
	// SinceChange is the last change of the rules, or the start if there was none.
	SinceChange = "change"
)
