// Package mysql says how MariaDB and MySQL write SQL. Sources: sql_lex.cc of MariaDB 10.11, and "Language Structure" in
// both manuals.
package mysql

import (
	"bytes"
	"slices"

	"jollylarder/internal/core/statement"
)

// Mode is how a session reads quotes, as its sql_mode says. Modes add up.
type Mode uint8

// The modes.
const (
	ANSIQuotes         Mode = 1 << iota // double quotes are those of names
	NoBackslashEscapes                  // a backslash within quotes is nothing special
	modes              = 1 << iota
)

// Syntax is that of a session in the mode that servers begin with.
var Syntax = Of(0)

var syntaxes = func() (out [modes]*statement.Syntax) {
	for m := range Mode(modes) {
		out[m] = syntax(m)
	}
	return out
}()

// Of gives the syntax of a mode.
func Of(m Mode) *statement.Syntax { return syntaxes[m%modes] }

// ModeOf gives the mode of a syntax.
func ModeOf(syntax *statement.Syntax) Mode { return Mode(max(slices.Index(syntaxes[:], syntax), 0)) }

func syntax(m Mode) *statement.Syntax {
	name := "mysql"
	backslash := m&NoBackslashEscapes == 0
	double := statement.Quote{Mark: '"', Backslash: backslash}
	if m&ANSIQuotes != 0 {
		name += "-ansi"
		double = statement.Quote{Mark: '"', Name: true}
	}
	if !backslash {
		name += "-plain"
	}
	return statement.NewSyntax(statement.Lexical{
		Name:   name,
		Quotes: []statement.Quote{{Mark: '\'', Backslash: backslash}, double, {Mark: '`', Name: true}},
		Prefixes: []statement.Prefix{
			{Letters: "b", Quote: statement.Quote{Mark: '\''}}, {Letters: "x", Quote: statement.Quote{Mark: '\''}},
			{Letters: "n", Quote: statement.Quote{Mark: '\'', Backslash: backslash}},
		},
		QuestionMark: true, Joins: statement.JoinsAlways,
		HashComments: true, DashNeedsBlank: true, LineEnds: "\n",
		NameChars: "$", NameStarts: "@", NumberNames: true,
		CallsTouch: func(word []byte) bool { return touching[string(bytes.ToLower(word))] },
		Keyword:    func(word []byte) bool { return keywords[string(word)] },
		Operators:  "+-*/<>=!%&|^~", Radixes: "xb",
		Reserved: func(word []byte) bool { return beforeExpressions[string(word)] },
	})
}

// touching are the functions that a server takes for such only with a bracket right behind the name, unless its sql_mode
// has IGNORE_SPACE. Source: sql_functions in lex.h of MariaDB 10.11, and "Function Name Parsing and Resolution" in MySQL's
// manual.
var touching = statement.Words(`
	adddate bit_and bit_or bit_xor cast count curdate curtime date_add date_sub extract group_concat json_arrayagg
	json_objectagg max mid min now position session_user std stddev stddev_pop stddev_samp subdate substr substring sum
	sysdate system_user trim variance var_pop var_samp cume_dist dense_rank first_value lag lead last_value median
	nth_value ntile percent_rank percentile_cont percentile_disc rank row_number`)

// keywords are the words that neither MariaDB 10.11 nor MySQL 8 takes for a name without quotes. Others may be names, of
// which the case counts.
var keywords = statement.Words(`
	add all alter analyze and as asc between bigint binary blob both by call cascade case change char character
	check collate column constraint continue convert create cross current_date current_role current_time
	current_timestamp current_user cursor databases day_hour day_microsecond day_minute day_second decimal default
	delayed delete desc describe distinct distinctrow div double drop dual else elseif enclosed escaped except
	exists exit explain false fetch float float4 float8 for force foreign from fulltext grant group having
	high_priority hour_microsecond hour_minute hour_second if ignore in index infile inner inout insert int int1
	int2 int3 int4 int8 integer intersect interval into is iterate join key keys kill leading leave left like
	limit linear lines load localtime localtimestamp lock long longblob longtext low_priority match maxvalue
	mediumblob mediumint mediumtext middleint minute_microsecond minute_second mod natural not no_write_to_binlog
	null numeric on optimize optionally or order out outer outfile over partition precision primary procedure
	range read real recursive references regexp release rename repeat replace require restrict revoke right rlike
	rows row_number second_microsecond select set show smallint spatial sql sqlexception sqlstate sqlwarning
	sql_big_result sql_calc_found_rows sql_small_result ssl starting straight_join table terminated then tinyblob
	tinyint tinytext to trailing trigger true union unique unlock unsigned update usage use using utc_date
	utc_time utc_timestamp values varbinary varchar varcharacter varying when where while with write xor
	year_month zerofill`)

// beforeExpressions are the keywords that an expression follows.
var beforeExpressions = statement.Words(`
	all and as asc between by case desc distinct div else except from having in intersect interval is like limit mod
	not on or regexp return rlike select set then union using values when where xor`)
