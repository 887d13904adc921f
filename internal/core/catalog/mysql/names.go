package mysql

import (
	"slices"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/reason"
)

// Names is a schema of which nothing is known: each name is that of a table, in the schema that is written with it, or
// else in that which its session uses. Nothing is cached by it: any table may be a view, and any write may do more.
type Names struct{}

// Same implements catalog.Description.
func (Names) Same(o catalog.Description) bool { return o == Names{} }

// Explained implements catalog.Description.
func (Names) Explained(after catalog.Description, _ []*catalog.Defined, _ bool) bool {
	return after == Names{}
}

// Schema implements catalog.Description.
func (Names) Schema() catalog.Schema { return Names{} }

// Resolve implements catalog.Schema.
func (Names) Resolve(f *analysis.Facts, h catalog.Hints) *catalog.Resolved {
	out := &catalog.Resolved{
		Reasons: slices.Clone(f.Reasons), System: f.System, AnyRows: f.AnyRows,
		Settings: f.Effect&analysis.Settings != 0, Beyond: f.Effect&(analysis.Unknown|analysis.Shared) != 0,
	}
	if f.Effect&(analysis.Unknown|analysis.Schema) != 0 {
		out.Anything()
	}
	full := func(n analysis.Name) string {
		if n.Schema == "" && len(h.Path) > 0 {
			n.Schema = h.Path[0]
		}
		return n.String()
	}
	for _, n := range f.Functions {
		out.Everything = true
		out.Reasons = reason.Add(out.Reasons, reason.Of(reason.UnknownTables).Behind(reason.Way("").Calls().Function(n.String())))
	}
	out.Reasons = reason.Add(out.Reasons, reason.Of(reason.NoAccount))
	for _, n := range f.Reads {
		out.Reads = append(out.Reads, full(n))
	}
	for _, w := range f.Writes {
		out.Writes = append(out.Writes, full(w.Name))
	}
	for _, list := range []*[]string{&out.Reads, &out.Writes} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return out
}

// With implements catalog.Schema. What is declared of functions has no effect where nothing is cached.
func (n Names) With(map[string]catalog.Declaration) catalog.Schema { return n }

// Whole implements catalog.Schema.
func (Names) Whole() bool { return false }

// Tables implements catalog.Schema.
func (Names) Tables() []string { return nil }

// Ambiguous implements catalog.Schema.
func (Names) Ambiguous() bool { return true }

// PathMatters implements catalog.Schema.
func (Names) PathMatters(*analysis.Facts) bool { return false }

// Temporary implements catalog.Schema.
func (Names) Temporary(analysis.Name) bool { return false }

// Checks implements catalog.Schema.
func (Names) Checks() bool { return true }

// Numbered implements catalog.Schema.
func (Names) Numbered(uint32) string { return "" }

// Told implements catalog.Schema.
func (Names) Told(string, string) catalog.Told { return catalog.ToldLess }

// PinColumns implements catalog.Schema.
func (Names) PinColumns(string, string) []catalog.Column { return nil }

// Assigned implements catalog.Schema.
func (Names) Assigned(string, string, []string, []string) []string { return nil }
