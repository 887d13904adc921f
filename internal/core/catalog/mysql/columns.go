package mysql

import (
	"math"
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/statement"
)

// column is a column of a table.
type column struct {
	name      string
	is        freshness.Type
	room      catalog.Room // of values that are stored as they are given
	numbers   bool         // the server gives it a number where none, or 0, is given
	generated bool
}

// key is a unique key. Parts is set for one of parts of columns alone.
type key struct {
	columns []string
	parts   bool
}

// integers are the types of whole numbers, with the lowest and highest of each, and the highest of those without a sign.
// Those of eight bytes go on beyond what is read here.
var integers = map[string]struct{ low, high, unsigned int64 }{
	"tinyint": {math.MinInt8, math.MaxInt8, math.MaxUint8}, "smallint": {math.MinInt16, math.MaxInt16, math.MaxUint16},
	"mediumint": {-1 << 23, 1<<23 - 1, 1<<24 - 1}, "int": {math.MinInt32, math.MaxInt32, math.MaxUint32},
	"bigint": {math.MinInt64, math.MaxInt64, math.MaxInt64},
}

var characters = statement.Words("char varchar tinytext text mediumtext longtext")

func columnOf(c Column) column {
	out := column{name: c.Name, generated: c.Expression != "", numbers: strings.Contains(c.Extra, "auto_increment")}
	kind, rest, _ := strings.Cut(c.Type, "(")
	kind, more, _ := strings.Cut(kind, " ")
	switch limits, whole := integers[kind]; {
	case whole:
		out.is, out.room = freshness.Integer, catalog.Room{Low: limits.low, High: limits.high}
		if strings.Contains(rest+more, "unsigned") {
			out.room = catalog.Room{Low: 0, High: limits.unsigned}
		}
		if out.numbers {
			out.room.Low = 1
		}
	case characters[kind] && Folds(c.Collation):
		out.is, out.room = freshness.Text, catalog.Room{Long: c.Length}
		if strings.HasSuffix(kind, "text") { // whose length is one in bytes
			out.room.Long /= 4
		}
	}
	return out
}

// folding are the collations, behind the name of the character set, in which two texts of printable ASCII are equal only
// if they are so without regard to case and to blanks at the end. Tests hold this against a server.
var folding = statement.Words(`general_ci general_nopad_ci general1400_as_ci unicode_ci unicode_nopad_ci unicode_520_ci unicode_520_nopad_ci
	uca1400_ai_ci uca1400_ai_cs uca1400_as_ci uca1400_as_cs uca1400_nopad_ai_ci uca1400_nopad_ai_cs uca1400_nopad_as_ci uca1400_nopad_as_cs
	swedish_ci swedish_nopad_ci general_cs bin nopad_bin`)

// Folds says whether two texts of printable ASCII are equal in a collation only if they are so without regard to case and
// to blanks at the end.
func Folds(collation string) bool {
	set, rest, _ := strings.Cut(strings.ToLower(collation), "_")
	switch set {
	case "utf8mb4", "utf8mb3", "utf8", "ascii":
		return folding[rest] && rest != "swedish_ci" && rest != "swedish_nopad_ci" // which is another there
	case "latin1":
		return folding[rest]
	}
	return false
}

// column gives a column by its name, of which the case does not count; nil if there is none.
func (t *table) column(name string) *column {
	for i := range t.columns {
		if strings.EqualFold(t.columns[i].name, name) {
			return &t.columns[i]
		}
	}
	return nil
}

// unique gives the columns of the unique keys of whole columns.
func (t *table) unique() (list [][]string) {
	for _, k := range t.keys {
		if !k.parts {
			list = append(list, k.columns)
		}
	}
	return list
}

// sole says whether a column is one of the only unique key of a table: what collides with a row that is added has its
// value in it.
func (t *table) sole(c *column) bool {
	return len(t.keys) == 1 && !t.keys[0].parts && slices.Contains(t.keys[0].columns, c.name)
}

// Told implements catalog.Schema. A server's log does not have the rows that a reference changes, nor where those of a
// table are that shares them with others.
func (s *Schema) Told(schema, name string) catalog.Told {
	t := s.tables[s.fold(analysis.Name{Schema: schema, Name: name})]
	switch {
	case t == nil:
		return catalog.ToldTable
	case t.kind != plain && t.kind != sequence:
		return catalog.ToldLess
	case t.refers || s.shared:
		return catalog.ToldTable
	}
	return catalog.ToldRows
}

// PinColumns implements catalog.Schema.
func (s *Schema) PinColumns(schema, name string) (list []catalog.Column) {
	if t := s.tables[s.fold(analysis.Name{Schema: schema, Name: name})]; t != nil && t.kind == plain {
		for _, c := range t.columns {
			if c.is != freshness.NoType && !c.generated { // of these the log may say what they are not
				list = append(list, catalog.Column{Name: c.name, Type: c.is})
			}
		}
	}
	return list
}

// Assigned implements catalog.Schema. No result depends on some columns alone here.
func (s *Schema) Assigned(string, string, []string, []string) []string { return nil }
