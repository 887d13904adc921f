package catalog

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// Unread gives what a pattern does to a database whose catalog has not been read: nothing is kept, and a write may
// change any table; whether it may have changed the schema is to be asked of the catalog when that has been read. A
// statement that only reads the tables it names, through functions known to be harmless, still changes nothing.
func Unread(f *analysis.Facts) *Resolved {
	out := &Resolved{Reasons: slices.Clone(f.Reasons)}
	if f.Effect&(analysis.Unknown|analysis.Schema|analysis.Shared) != 0 || len(f.Defines) > 0 {
		out.Anything()
		out.Beyond = f.Effect&(analysis.Unknown|analysis.Shared) != 0
	}
	// A table read may be a view, and an operator or a field a function: anything may write.
	if len(f.Writes) > 0 || len(f.Functions) > 0 || !freshness.Off(freshness.BlindReads) && mayCall(f) {
		out.Everything = true
	}
	out.SystemChanges = f.Effect&analysis.System != 0
	out.Settings = true // a table read may be a view, and that may call anything
	out.Reasons = reason.Add(out.Reasons, reason.Of(reason.CatalogUnread))
	return out
}

// mayCall says whether a statement may call a function of the database, as far as its text tells. Every query counts as
// one that compares; where it reads no table and names no type, that is by the server's own functions.
func mayCall(f *analysis.Facts) bool {
	return len(f.Reads)+len(f.Fields)+len(f.BuiltIns)+len(f.Types) > 0 ||
		slices.ContainsFunc(f.Operators, func(op string) bool { return op != "=" && op != "<" && op != ">" })
}

// Named gives what a pattern does as far as its text tells, for when there is no database to ask: tables by the names
// they are written with.
func Named(f *analysis.Facts) *Resolved {
	out := &Resolved{
		Reasons:    slices.Clone(f.Reasons),
		ReadHow:    map[string][]string{},
		WrittenHow: map[string][]string{},
	}
	if f.Effect&(analysis.Unknown|analysis.Schema) != 0 || len(f.Defines) > 0 {
		out.Anything()
	}
	out.System = f.System
	for _, n := range f.Reads {
		out.Reads = append(out.Reads, n.String())
	}
	for _, w := range f.Writes {
		out.Writes = append(out.Writes, w.String())
	}
	for _, n := range f.Functions {
		out.Reasons = append(
			out.Reasons,
			reason.Of(reason.UnknownTables).Behind(reason.Way("").Calls().Function(n.Name)),
		)
	}
	for _, t := range f.Types {
		out.Reasons = append(out.Reasons, reason.About(reason.CastsToUnknown, t.Name))
	}
	for _, p := range f.Pins {
		table, column := p.Guess()
		if pin := table.String() + "." + column; table.Name != "" && !slices.Contains(f.Again, table) &&
			!slices.Contains(out.Pins, pin) {
			out.Pins = append(out.Pins, pin)
		}
	}
	slices.Sort(out.Reads)
	slices.Sort(out.Writes)
	slices.Sort(out.Pins)
	return out
}
