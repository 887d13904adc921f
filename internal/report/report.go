// Package report makes a report for people who were not there: what was waited, what was spared, and how that is known.
package report

import (
	"context"
	"fmt"
	"math"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/control/client"
)

// Report is what is reported. Durations are in milliseconds, as in the API.
type Report struct {
	Made   time.Time     `json:"made"`
	From   time.Time     `json:"from"`
	To     time.Time     `json:"to"`
	Larder string        `json:"larder"` // where it listens
	Origin string        `json:"origin"`
	Proof  control.Proof `json:"proof"`
	// Method says in a sentence how it was measured.
	Method string `json:"method"`
	// Fresh says how fresh the answers were, in sentences.
	Fresh   []string        `json:"fresh"`
	Changes []control.Entry `json:"changes"` // of the rules, with what was foretold and came true
	Cached  int             `json:"cached_results"`
	Bytes   int64           `json:"cached_bytes"`
	Limit   int64           `json:"cache_limit_bytes"`
}

// EmptyError is a stretch in which nothing was counted.
type EmptyError struct{ From, To time.Time }

func (e *EmptyError) Error() string {
	return fmt.Sprintf("there are no counts from %s to %s: no statements ran, or the statistics were removed. Statistics are written at the end of each minute: use --since start for the first minute, or a longer period", stamp(e.From), stamp(e.To))
}

func stamp(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

// Gather asks a larder for a report on a stretch of time: "start", "minute", or a length such as 24h.
func Gather(ctx context.Context, c *client.Client, since string) (*Report, error) {
	st, err := c.Status(ctx)
	if err != nil {
		return nil, err
	}
	p, err := c.Prove(ctx, since)
	if err != nil {
		return nil, err
	}
	if p.Sums.Calls() == 0 {
		return nil, &EmptyError{p.From, p.At}
	}
	g, err := c.Guard(ctx)
	if err != nil {
		return nil, err
	}
	history, err := c.History(ctx, 50)
	if err != nil {
		return nil, err
	}
	r := &Report{Made: p.At, From: p.From, To: p.At, Larder: st.Listen, Origin: st.Origin, Proof: p, Cached: st.Cached, Bytes: st.CachedBytes, Limit: st.CachedLimit}
	if len(p.Series) > 0 && p.Series[0].At.After(r.From) {
		r.From = p.Series[0].At
	}
	for _, e := range history {
		if !e.At.Before(p.From) && e.Kind != "start" {
			r.Changes = append(r.Changes, e)
		}
	}
	r.Method = Method
	r.Fresh = r.fresh(&g)
	return r, nil
}

// Method is how what was spared is measured.
const Method = "Time waited is measured from a statement's arrival at the larder to the last byte of its reply. A hit saves the time of the last fetch of the same result, less its own time. " +
	"The time that the larder added to misses is subtracted. As a check, control samples ask the database for a fixed share of the hits: " +
	"this measures the database's time now, with a 95% interval. Before and after compares with the time that the same patterns waited before they were cached; other changes in that time affect it too."

func (r *Report) fresh(g *control.Guard) (out []string) {
	p := &r.Proof
	out = append(out, fmt.Sprintf("%s results were dropped because of writes.", count(p.Drops)))
	switch {
	case p.Compared == 0:
		out = append(out, "No control sample was taken.")
	case p.Stale == 0:
		out = append(out, fmt.Sprintf("%s answers were compared with the database's: none was stale.", count(p.Compared)))
	default:
		out = append(out, fmt.Sprintf("%s answers were compared with the database's: %s stale, with no write that explains it.", count(p.Compared), count(p.Stale)))
	}
	for _, x := range g.Promise {
		if x.Level != "well" {
			out = append(out, x.Text)
		}
	}
	return out
}

func count(n uint64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// seconds writes milliseconds for people.
func seconds(ms float64) string {
	s := ms / 1000
	switch a := math.Abs(s); {
	case a < 10:
		return fmt.Sprintf("%.2f s", s)
	case a < 120:
		return fmt.Sprintf("%.1f s", s)
	case a < 2*3600:
		return fmt.Sprintf("%.1f min", s/60)
	}
	return fmt.Sprintf("%.1f h", s/3600)
}

func millis(ms float64) string {
	switch {
	case ms == 0:
		return "–"
	case ms < 1:
		return fmt.Sprintf("%.0f µs", 1000*ms)
	case ms < 1000:
		return fmt.Sprintf("%.1f ms", ms)
	}
	return fmt.Sprintf("%.2f s", ms/1000)
}

func percent(part, whole float64) string {
	if whole <= 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f%%", 100*part/whole)
}

// way writes one way of measuring.
func way(w *control.Way) string {
	if w == nil {
		return "–"
	}
	out := seconds(w.Saved)
	if w.Error > 0 {
		out += " ± " + seconds(w.Error)
	}
	if w.Covers < 0.995 {
		out += fmt.Sprintf(" of %.0f%%", 100*w.Covers)
	}
	return out
}
