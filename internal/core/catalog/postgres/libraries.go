package postgres

import "strings"

// reviewed says whether a function in C is one that writes to no table, changes no setting and reads no table, by the
// library that it is from and the name that it has there, which its description gives with a blank between. Which of
// its results are not kept, its volatility says.
func reviewed(symbol string) bool {
	library, name, _ := strings.Cut(symbol, " ")
	library = strings.TrimPrefix(library, "$libdir/")
	names, known := libraries[library]
	return known && !names[name]
}

// libraries are those that come with the server whose functions were reviewed, each with the functions that do more.
// Source: the contrib directory of the server's sources.
var libraries = map[string]map[string]bool{
	"citext": nil, "hstore": nil, "ltree": nil, "pg_trgm": {"set_limit": true}, "fuzzystrmatch": nil, "cube": nil, "seg": nil, "isn": {"accept_weak_input": true}, "_int": nil, "btree_gin": nil, "btree_gist": nil, "unaccent": nil,
	"uuid-ossp": nil, "pgcrypto": nil, "moddatetime": nil, "insert_username": nil, "autoinc": nil, "earthdistance": nil, "intagg": nil, "dict_int": nil, "dict_xsyn": nil,
}
