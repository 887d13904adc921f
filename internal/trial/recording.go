package trial

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"
)

// Format and Version are what a recording's first line says. The format is described in docs/trials.md.
const (
	Format  = "jolly larder recording"
	Version = 1
)

// Head is a recording's first line.
type Head struct {
	Format  string    `json:"format"`
	Version int       `json:"version"`
	Began   time.Time `json:"began"`
	// Values says whether statements have their values: without them they cannot be asked again.
	Values bool `json:"values"`
}

// Line is one of its further lines: a statement, or the end.
type Line struct {
	At          float64     `json:"at_ms"`
	Session     string      `json:"session,omitempty"`
	Application string      `json:"application,omitempty"`
	User        string      `json:"user,omitempty"`
	Database    string      `json:"database,omitempty"`
	Pattern     string      `json:"pattern,omitempty"`
	SQL         string      `json:"sql,omitempty"`
	Parameters  []Parameter `json:"parameters,omitempty"`
	Types       []string    `json:"types,omitempty"`
	Protocol    string      `json:"protocol,omitempty"`
	Outcome     string      `json:"outcome,omitempty"`
	Took        float64     `json:"took_ms,omitempty"`

	// End is how many statements came before, in the last line, and Missed how many more there were that could not be
	// recorded.
	End    *int   `json:"end,omitempty"`
	Missed uint64 `json:"missed,omitempty"`
}

// Parameter is one bound value: null, a text, or an object with the bytes of its binary form in hexadecimal.
type Parameter struct {
	Value  []byte // nil for null
	Binary bool
}

// MarshalJSON writes it.
func (p Parameter) MarshalJSON() ([]byte, error) {
	switch {
	case p.Value == nil:
		return []byte("null"), nil
	case p.Binary:
		return json.Marshal(map[string]string{"binary": hex.EncodeToString(p.Value)})
	}
	return json.Marshal(string(p.Value))
}

// UnmarshalJSON reads it.
func (p *Parameter) UnmarshalJSON(b []byte) error {
	b = bytes.TrimSpace(b)
	switch {
	case bytes.Equal(b, []byte("null")):
		*p = Parameter{}
		return nil
	case len(b) > 0 && b[0] == '"':
		var s string
		if err := json.Unmarshal(b, &s); err != nil {
			return err
		}
		*p = Parameter{Value: append([]byte{}, s...)}
		return nil
	}
	var x struct {
		Binary *string `json:"binary"`
	}
	if err := json.Unmarshal(b, &x); err != nil || x.Binary == nil {
		return fmt.Errorf(`expected a parameter as null, "text" or {"binary": "hexadecimal"}`)
	}
	v, err := hex.DecodeString(*x.Binary)
	if err != nil {
		return fmt.Errorf("a parameter's binary form is not hexadecimal: %w", err)
	}
	*p = Parameter{Value: append([]byte{}, v...), Binary: true}
	return nil
}

// longestLine bounds a line of a recording, in bytes.
const longestLine = 64 << 20

// CutError is a recording that has no end: whoever wrote it was stopped.
type CutError struct {
	Name       string
	Statements int
}

func (e *CutError) Error() string {
	return fmt.Sprintf("%s was cut short: it has no last line; %d statements can be read", e.Name, e.Statements)
}

// ReadRecording reads a recording. One that was cut short gives what can be read of it, and a CutError.
func ReadRecording(name string, from io.Reader) (head Head, out []Statement, err error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, longestLine)
	if !lines.Scan() {
		return head, nil, fmt.Errorf("%s is empty: expected a recording", name)
	}
	if json.Unmarshal(lines.Bytes(), &head) != nil || head.Format != Format {
		return head, nil, fmt.Errorf("%s, line 1: expected %q as its format: it is not a recording", name, Format)
	}
	switch {
	case head.Version > Version:
		return head, nil, fmt.Errorf(
			"%s, line 1: it is of version %d, and this program reads up to %d: use a newer one",
			name,
			head.Version,
			Version,
		)
	case head.Version < 1:
		return head, nil, fmt.Errorf("%s, line 1: there is no version %d of recordings: record again with this version", name, head.Version)
	case !head.Values:
		return head, nil, fmt.Errorf(
			"%s has no values: its statements cannot be sent again. Record with --values, which needs show_values = true in the larder's configuration",
			name,
		)
	}
	n := 1
	ended := false
	for lines.Scan() {
		n++
		var x Line
		if err := json.Unmarshal(lines.Bytes(), &x); err != nil {
			if !lines.Scan() { // the last line was being written
				break
			}
			var wrong *json.UnmarshalTypeError
			if errors.As(err, &wrong) {
				err = fmt.Errorf("%s cannot be a JSON %s", cmp.Or(wrong.Field, "a line of a recording"), wrong.Value)
			}
			return head, nil, fmt.Errorf("%s, line %d: %w", name, n, err)
		}
		switch {
		case ended:
			return head, nil, fmt.Errorf("%s, line %d: there is more behind its end: record again", name, n)
		case x.End != nil:
			ended = true
			if *x.End != len(out) {
				return head, nil, fmt.Errorf(
					"%s, line %d: it says that %d statements came before, and %d did: some were taken out; record again",
					name,
					n,
					*x.End,
					len(out),
				)
			}
		case x.SQL == "":
			return head, nil, fmt.Errorf("%s, line %d: there is no sql in it: record again", name, n)
		default:
			out = append(
				out,
				Statement{
					SQL: x.SQL, Protocol: x.Protocol, Parameters: x.Parameters, Types: x.Types, At: x.At, Session: x.Session,
				},
			)
		}
	}
	if err := lines.Err(); err != nil {
		return head, nil, fmt.Errorf("%s, line %d: %w", name, n+1, err)
	}
	// They stand in the order in which they ended, and came in another.
	slices.SortStableFunc(out, func(a, b Statement) int { return cmp.Compare(a.At, b.At) })
	if !ended {
		return head, out, &CutError{name, len(out)}
	}
	return head, out, nil
}

// Writer writes a recording.
type Writer struct {
	to    *bufio.Writer
	enc   *json.Encoder
	began time.Time
	n     int
}

// NewWriter begins a recording.
func NewWriter(to io.Writer, began time.Time, values bool) (*Writer, error) {
	w := &Writer{to: bufio.NewWriter(to), began: began}
	w.enc = json.NewEncoder(w.to)
	w.enc.SetEscapeHTML(false)
	return w, w.enc.Encode(Head{Format, Version, began, values})
}

// Add writes a statement that began at a time.
func (w *Writer) Add(at time.Time, x Line) error {
	x.At = float64(at.Sub(w.began)) / float64(time.Millisecond)
	w.n++
	return w.enc.Encode(x)
}

// Statements is how many were written.
func (w *Writer) Statements() int { return w.n }

// End writes the last line; missed is how many statements could not be recorded.
func (w *Writer) End(missed uint64) error {
	if err := w.enc.Encode(Line{End: &w.n, Missed: missed, At: 0}); err != nil {
		return err
	}
	return w.to.Flush()
}
