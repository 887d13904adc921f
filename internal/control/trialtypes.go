package control

import "jollylarder/internal/trial"

// Trial asks for a live trial: keeping is off and on in turns, on the traffic that comes.
type Trial struct {
	Slice  float64 `json:"slice_ms"`
	Rounds int     `json:"rounds"`
}

// TrialLine is one line of the answer: how far it is, or what it came to.
type TrialLine struct {
	Done    float64       `json:"done"`
	Doing   string        `json:"doing,omitempty"`
	Result  *trial.Result `json:"result,omitempty"`
	Problem string        `json:"problem,omitempty"`
}
