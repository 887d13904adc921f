// Package explain says what the larder makes of one statement: its pattern, what it reads and writes and how that is
// known, and whether its result could be kept.
package explain

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// Table is a table that a statement reads or writes, and the way to it from the statement inwards; no steps for one
// that the statement names.
type Table struct {
	Table string   `json:"table"`
	How   []string `json:"how"`
}

// Explanation is what is known of a statement.
type Explanation struct {
	Pattern statement.ID `json:"pattern"`
	Text    string       `json:"text"`
	Reads   []Table      `json:"reads"`
	Writes  []Table      `json:"writes"`
	Pins    []string     `json:"by key"`
	// Cacheable is nil where it cannot be said without asking a database.
	Cacheable *bool             `json:"cacheable"`
	Reasons   []string          `json:"reasons"`
	Labels    map[string]string `json:"labels"`
	// Calls is what became of the pattern's calls, where a larder was asked.
	Calls *Calls `json:"calls,omitempty"`
}

// Calls is what became of a pattern's calls over some time.
type Calls struct {
	Over     time.Duration `json:"over_ns"` // or 0, since they were first seen
	Calls    uint64        `json:"calls"`
	Hits     uint64        `json:"hits"`
	Misses   uint64        `json:"misses"`
	Bypassed []Bypassed    `json:"bypassed"`
}

// Bypassed is why some calls passed, and what would have helped, if anything would.
type Bypassed struct {
	Reason string `json:"reason"`
	Calls  uint64 `json:"calls"`
	Would  string `json:"would_help,omitempty"`
}

// Database is what a statement is held against.
type Database struct {
	Schema catalog.Schema
	Path   []string
	// Declared is what is declared of each pattern.
	Declared func(id statement.ID, text string) catalog.Declaration
}

// Statement explains one of a dialect, as sessions write it that set nothing else; db is nil if no database was asked.
func Statement(sql string, d *dialect.Dialect, db *Database) Explanation {
	scan := statement.Scan{Syntax: d.Syntax}
	scan.Read([]byte(sql))
	text := d.Syntax.Normalise([]byte(sql))
	x := Explanation{Pattern: d.Syntax.ID(text), Text: string(text), Reads: []Table{}, Writes: []Table{}, Labels: map[string]string{}}
	for _, l := range statement.Labels(scan.Comment) {
		x.Labels[l.Key] = l.Value
	}
	f := d.Facts(d.Syntax, sql)
	var r *catalog.Resolved
	if db == nil {
		r = catalog.Named(f)
	} else {
		h := catalog.Hints{Path: db.Path}
		if db.Declared != nil {
			h.Declared = db.Declared(x.Pattern, x.Text)
		}
		r = db.Schema.Resolve(f, h)
	}
	for _, t := range r.Reads {
		x.Reads = append(x.Reads, Table{t, append([]string{}, r.ReadHow[t]...)})
	}
	if r.System {
		x.Reads = append(x.Reads, Table{"the system catalogs", []string{"until a definition changes"}})
	}
	for _, t := range r.Writes {
		x.Writes = append(x.Writes, Table{t, append([]string{}, r.WrittenHow[t]...)})
	}
	if r.Everything {
		x.Writes = append(x.Writes, Table{"any table", []string{"unknown effects"}})
	}
	x.Pins = append([]string{}, r.Pins...)
	x.Reasons = append([]string{}, reason.Sentences(r.Reasons)...)
	if scan.MayMeanNow && f.Plain() {
		x.Reasons = append(x.Reasons, reason.Of(reason.ValueMayMeanTime).String())
	}
	yes := len(x.Reasons) == 0
	switch {
	case !yes || db != nil:
		x.Cacheable = &yes
	default:
		x.Reasons = append(x.Reasons, unasked(f)...)
	}
	return x
}

// unasked says what could not be known without a database.
func unasked(f *analysis.Facts) []string {
	var out []string
	for _, n := range f.Reads {
		out = append(out, fmt.Sprintf("not known without a database: whether %s is a table, a view or something else", n))
	}
	if len(f.BuiltIns) > 0 {
		out = append(out, "not known without a database: whether it has functions of its own named "+strings.Join(f.BuiltIns, ", "))
	}
	if len(out) == 0 {
		out = append(out, "not known without a database: whether it defines operators or casts of its own")
	}
	return out
}

// lines says what became of calls.
func (c *Calls) lines() (out []string) {
	since := "since it was first seen"
	if c.Over > 0 {
		since = "in the last minute"
		if n := c.Over.Round(time.Minute).Minutes(); n > 1 {
			since = fmt.Sprintf("in the last %.0f minutes", n)
		}
	}
	if c.Calls == 0 {
		return []string{"none " + since}
	}
	share := func(n uint64) string { return fmt.Sprintf("%.0f%%", 100*float64(n)/float64(c.Calls)) }
	out = append(out, fmt.Sprintf("%d %s: %s hits, %s misses", c.Calls, since, share(c.Hits), share(c.Misses)))
	for _, p := range c.Bypassed {
		text := share(p.Calls) + " bypass: " + p.Reason
		if p.Would != "" {
			text += "; what would help: " + p.Would
		}
		out = append(out, text)
	}
	return out
}

// Print writes an explanation for people.
func (x *Explanation) Print(w io.Writer) {
	line := func(label string, texts ...string) {
		for i, t := range texts {
			if i > 0 {
				label = ""
			}
			fmt.Fprintf(w, "%-10s %s\n", label, t)
		}
	}
	tables := func(list []Table) (out []string) {
		widest := 0
		for _, t := range list {
			widest = max(widest, len(t.Table))
		}
		for _, t := range list {
			how := "named in the statement"
			if len(t.How) > 0 {
				how = strings.Join(t.How, ", ")
			}
			out = append(out, fmt.Sprintf("%-*s  %s", widest, t.Table, how))
		}
		return append(out, "nothing")[:max(len(out), 1)]
	}
	line("pattern", string(x.Pattern))
	line("text", x.Text)
	line("reads", tables(x.Reads)...)
	line("writes", tables(x.Writes)...)
	if len(x.Pins) > 0 {
		line("by key", x.Pins...)
	}
	switch {
	case x.Cacheable == nil:
		line("cacheable", "perhaps: its text says nothing against it")
	case *x.Cacheable:
		line("cacheable", "yes")
	default:
		line("cacheable", "no")
	}
	line("because", x.Reasons...)
	if x.Calls != nil {
		line("calls", x.Calls.lines()...)
	}
	for _, k := range slices.Sorted(maps.Keys(x.Labels)) {
		line("label", k+" = "+x.Labels[k])
	}
}
