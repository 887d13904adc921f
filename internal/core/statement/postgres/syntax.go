// Package postgres says how PostgreSQL writes SQL. Source: the server's scan.l.
package postgres

import "jollylarder/internal/core/statement"

// Syntax is that of a session in which a backslash within quotes is nothing special: with
// standard_conforming_strings on.
var Syntax = statement.NewSyntax(statement.Lexical{
	Quotes: []statement.Quote{text, name},
	Prefixes: []statement.Prefix{
		{Letters: "e", Quote: statement.Quote{Mark: '\'', Backslash: true}},
		{Letters: "b", Quote: text}, {Letters: "x", Quote: text}, {Letters: "n", Quote: text},
		{Letters: "u&", Quote: text, Encoded: true}, // its escapes may be changed by UESCAPE
		{Letters: "u&", Quote: name, Encoded: true},
	},
	DollarQuotes:   true,
	Joins:          statement.JoinsAcrossLines,
	NestedComments: true,
	NameChars:      "$",
	Operators:      "+-*/<>=~!@#%^&|`?",
	Unusual:        "~!@#%^&|`?",
	Radixes:        "xob",
	DigitGroups:    true,
	Reserved:       reserved,
	NowWords:       []string{"now", "today", "tomorrow", "yesterday"},
	Conceal:        withoutSettings,
})

var (
	text = statement.Quote{Mark: '\''}
	name = statement.Quote{Mark: '"', Name: true}
)

func reserved(word []byte) bool {
	switch string(word) {
	case "all", "and", "any", "array", "as", "between", "by", "case", "distinct", "else", "except", "fetch", "from",
		"having", "ilike", "in", "intersect", "is", "like", "limit", "not", "offset", "on", "or", "order", "returning",
		"select", "similar", "some", "symmetric", "then", "union", "using", "values", "when", "where":
		return true
	}
	return false
}
