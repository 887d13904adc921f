package postgres

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
)

// Row is one row of a schema's description, as a server gives it. Its meaning depends on What, and is read by read:
//
//	relation   Schema.Name has Flags: its kind, then letters, see flagLetters
//	child      Schema.Name has the child Other by inheritance or partitioning
//	reference  Schema.Name is referred to by Other; Flags are the letters of ON UPDATE and ON DELETE, and behind a blank
//	           the columns referred to, a line for each
//	trigger    on Schema.Name; Flags is the server's number for its kind; Other is its function
//	part       Schema.Name reads Other: Flags is v for a view, r for a rewrite rule, p for row security
//	call       Schema.Name calls the function Other: Flags as above, or w for what a write does; or t for a type's check
//	view       Schema.Name is defined by the query in OtherName
//	policy     a condition of Schema.Name's row security stands in OtherName
//	rule       Schema.Name has the rewrite rule in OtherName; Flags is the server's number for what it is on
//	columns    of Schema.Name, in OtherName: a line for each, its flags and its name: n, t, u or y
//	           for how it is compared, d for a date with or without a time, h for a time alone, c for a value with fields, o where a
//	           unique index compares otherwise, g for a generated and i for an identity column
//	key        a unique key of Schema.Name: its columns, a line for each, in OtherName, and its index in Flags
//	function   Schema.Name; Flags are its volatility, its kind, and p if it has a search path of its own; OtherSchema is
//	           its language, OtherName its definition, or of one in C the library and its name there
//	granted    Schema.Name may be read by the roles in the readers row named Flags
//	readers    the roles that may read what is granted as Name is: a line with its number for each, in OtherName
//	event      functions are called by definitions
//	aggregate  Schema.Name is made of the function Other
//	operator   Name has the function Other, or only the volatility in Flags; Name "cast" stands for casts that nobody has to ask for, and
//	           "cast to" with a type's name for those that somebody has to
//	type       Schema.Name; Flags are its kind and its input's volatility; Other is what a domain is made of, or what it is a
//	           range of
//	typed      the relation or type Schema.Name has a column of the type Other, which is no system type, or an array of it
//	system     the server's own tables and views, in OtherName: a line for each, with its schema
//	schemas    the names and privileges of all schemas, in OtherName
//	reach      there are ways to other databases
//	equality   there is an operator = by which values that are told apart may be compared
//	restricted not everybody may use all of the server's own functions, types and schemas
//	number     the number of the function Schema.Name is Flags
//	numbers    the numbers of the server's own functions, in OtherName: a line for each, with its name
//	settings   the server's own settings that sessions can change, in OtherName: a line with its name for each
//	builtin    the server's own functions, in OtherName: a line for each, its volatility and its name
//
// A description may lack whatever its server could not say; the first kind of relation row then carries more flags.
type Row struct {
	What, Schema, Name, Flags, OtherSchema, OtherName string
}

// record is what a row of a description says: one of the types below.
type record any

// fullName is the name of a relation, function or type with its schema.
type fullName struct{ schema, name string }

func (n fullName) String() string { return n.schema + "." + n.name }

type (
	relationRecord struct {
		fullName
		kind  byte // the server's letter: r for a table, v for a view, and so on
		flags flags
	}
	// childRecord says that a relation has a child by inheritance or partitioning.
	childRecord struct{ parent, child fullName }
	// referenceRecord says that a relation is referred to by another.
	referenceRecord struct {
		to, from           fullName
		onUpdate, onDelete byte
		columns            []string // that are referred to, or nil where they are not known
	}
	triggerRecord struct {
		on, function fullName
		events       analysis.Events
		rewrites     bool // it is called before, or instead of, the writing of each row
	}
	// partRecord says that a part of a relation reads another.
	partRecord struct {
		of   fullName
		by   partOf
		read fullName
	}
	// callRecord says that a part of a relation calls a function.
	callRecord struct {
		of       fullName
		by       partOf
		function fullName
	}
	viewRecord struct {
		fullName
		query string
	}
	policyRecord struct {
		of        fullName
		condition string
	}
	ruleRecord struct {
		of         fullName
		on         analysis.Events
		definition string
	}
	columnsRecord struct {
		of   fullName
		list []column
	}
	// keyRecord is a unique key.
	keyRecord struct {
		of      fullName
		index   string
		columns []string
	}
	functionRecord struct {
		fullName
		volatility, kind byte
		ownPath          bool // it has a search path of its own
		language         string
		definition       string // or of one in C the library and its name there
	}
	// grantedRecord says that a relation may be read by the roles that a readersRecord names.
	grantedRecord struct {
		fullName
		readers string
	}
	readersRecord struct {
		key   string
		roles []string // their numbers
	}
	// aggregateRecord says that a function is made of another.
	aggregateRecord struct{ aggregate, of fullName }
	// operatorRecord is an operator's function, or only its volatility where the function's name is empty.
	operatorRecord struct {
		name       string // or "cast" for a cast that nobody has to ask for, or castTo with a type's name
		function   fullName
		volatility byte // 0 where it is not known
	}
	typeRecord struct {
		fullName
		kind  byte     // 0 where it is not known
		input byte     // the volatility of its input
		base  fullName // what a domain is made of, or what it is a range of
	}
	// checkRecord is a function in a type's checks.
	checkRecord struct{ of, function fullName }
	// typedRecord says that a relation or type has a column of a type that is no system type, or an array of it.
	typedRecord struct{ of, column fullName }
	// numberRecord is a function's number.
	numberRecord struct {
		fullName
		number uint32
	}
	// numbersRecord are the numbers of the server's own functions, and their names.
	numbersRecord map[uint32]string
	// systemRecord are the names of the server's own tables and views, with their schemas.
	systemRecord []string
	// builtinRecord are the volatilities of the server's own functions, by name.
	builtinRecord map[string]byte
	// propertyRecord is something that holds for all of the database.
	propertyRecord byte
	// otherRecord is what descriptions are only compared by.
	otherRecord struct{}
)

// The properties of a database.
const (
	hasEventTriggers propertyRecord = iota // functions are called by definitions
	isRestricted                           // not everybody may use all of the server's own functions, types and schemas
	reachesOthers                          // there are ways to other databases
	hasEquality                            // there is an operator = by which values that are told apart may be compared
)

// partOf is the part of a relation that reads or calls something, by the letter that rows have for it.
type partOf byte

// The parts of a relation.
const (
	byView   partOf = 'v'
	byRule   partOf = 'r'
	byPolicy partOf = 'p'
	byWrite  partOf = 'w' // what a write does: defaults, checks and the like
)

// flags say of a relation what its kind does not. They add up.
type flags uint8

// The flags of a relation.
const (
	rowSecurity flags = 1 << iota
	timeTZ            // it has a column whose reading depends on today's date

	// These are given where the description does not say the rest.
	inherits   // it has child tables or is one
	hasRules   //
	triggers   //
	defining   // a trigger's function may change the schema: it runs SQL made at run time, or is no SQL
	calling    // a default, check, view body or policy calls a function that may write
	functional // such a thing calls a function of the database at all, or one that changes settings
)

// rulesLetter is the letter of hasRules.
const rulesLetter = "U"

// flagLetters are the letters that rows have for flags.
var flagLetters = map[byte]flags{
	'S': rowSecurity,
	'Z': timeTZ,
	'I': inherits,
	'U': hasRules,
	'T': triggers,
	'X': defining,
	'D': calling,
	'F': functional,
}

var errRow = errors.New("a row of a description that says nothing known")

// read gives what a row says. What a row leaves out that some servers cannot say is not an error.
func (r Row) read() (record, error) {
	at, other := fullName{r.Schema, r.Name}, fullName{r.OtherSchema, r.OtherName}
	switch r.What {
	case "relation":
		if r.Flags == "" {
			return nil, fmt.Errorf("%w: relation %s has no kind", errRow, at)
		}
		out := relationRecord{fullName: at, kind: r.Flags[0]}
		for i := range r.Flags[1:] {
			f, ok := flagLetters[r.Flags[1+i]]
			if !ok {
				return nil, fmt.Errorf("%w: relation %s has flags %q", errRow, at, r.Flags)
			}
			out.flags |= f
		}
		return out, nil
	case "child":
		return childRecord{at, other}, nil
	case "reference":
		if len(r.Flags) < 2 {
			return nil, fmt.Errorf("%w: reference to %s is %q", errRow, at, r.Flags)
		}
		out := referenceRecord{to: at, from: other, onUpdate: r.Flags[0], onDelete: r.Flags[1]}
		if len(r.Flags) > 3 {
			out.columns = strings.Split(r.Flags[3:], "\n")
		}
		return out, nil
	case "trigger":
		return triggerRecord{at, other, triggerEvents(r.Flags), rewrites(r.Flags)}, nil
	case "part", "call":
		switch {
		case r.What == "call" && r.Flags == "t":
			return checkRecord{at, other}, nil
		case len(r.Flags) != 1:
			return nil, fmt.Errorf("%w: a %s of %s by %q", errRow, r.What, at, r.Flags)
		case r.What == "part":
			return partRecord{at, partOf(r.Flags[0]), other}, nil
		}
		return callRecord{at, partOf(r.Flags[0]), other}, nil
	case "view":
		return viewRecord{at, r.OtherName}, nil
	case "policy":
		return policyRecord{at, r.OtherName}, nil
	case "rule":
		return ruleRecord{
			at,
			map[string]analysis.Events{"2": analysis.Update, "3": analysis.Insert, "4": analysis.Delete}[r.Flags],
			r.OtherName,
		}, nil
	case "columns":
		return columnsRecord{at, readColumns(r.OtherName)}, nil
	case "key":
		return keyRecord{at, r.Flags, strings.Split(r.OtherName, "\n")}, nil
	case "granted":
		return grantedRecord{at, r.Flags}, nil
	case "readers":
		return readersRecord{r.Name, strings.Split(r.OtherName, "\n")}, nil
	}
	return r.readOther(at, other)
}

// readOther gives what a row says that is about no relation.
// It has many branches, as it has a case of its own for each kind there is.
func (r Row) readOther(at, other fullName) (record, error) {
	switch r.What {
	case "function":
		out := functionRecord{
			fullName:   at,
			volatility: 'v',
			language:   r.OtherSchema,
			definition: r.OtherName,
			ownPath:    strings.Contains(r.Flags, "p"),
		}
		if r.Flags != "" {
			out.volatility = r.Flags[0]
		}
		if len(r.Flags) > 1 {
			out.kind = r.Flags[1]
		}
		return out, nil
	case "aggregate":
		return aggregateRecord{at, other}, nil
	case "operator":
		out := operatorRecord{name: r.Name, function: other}
		if len(r.Flags) == 1 {
			out.volatility = r.Flags[0]
		}
		return out, nil
	case "type":
		out := typeRecord{fullName: at, base: other}
		if r.Flags != "" {
			out.kind = r.Flags[0]
		}
		if len(r.Flags) == 2 {
			out.input = r.Flags[1]
		}
		return out, nil
	case "typed":
		return typedRecord{at, other}, nil
	case "number":
		n, err := strconv.ParseUint(r.Flags, 10, 32)
		if err != nil {
			return nil, fmt.Errorf("%w: the number of %s is %q", errRow, at, r.Flags)
		}
		return numberRecord{at, uint32(n)}, nil
	case "numbers":
		out := numbersRecord{}
		for line := range strings.SplitSeq(r.OtherName, "\n") {
			number, name, _ := strings.Cut(line, " ")
			if n, err := strconv.ParseUint(number, 10, 32); err == nil {
				out[uint32(n)] = name
			}
		}
		return out, nil
	case "system":
		return systemRecord(strings.Split(r.OtherName, "\n")), nil
	case "builtin":
		out := builtinRecord{}
		for line := range strings.SplitSeq(r.OtherName, "\n") {
			if v, name, ok := strings.Cut(line, " "); ok && len(v) == 1 {
				out[name] = v[0]
			}
		}
		return out, nil
	case "event":
		return hasEventTriggers, nil
	case "restricted":
		return isRestricted, nil
	case "reach":
		return reachesOthers, nil
	case "equality":
		return hasEquality, nil
	case "settings", "schemas", "mark", "span": // the last two are the Reader's
		return otherRecord{}, nil
	}
	return nil, fmt.Errorf("%w: %q", errRow, r.What)
}

// readColumns reads a line for each column: its flags and its name.
func readColumns(text string) (list []column) {
	for line := range strings.SplitSeq(text, "\n") {
		letters, name, ok := strings.Cut(line, " ")
		if !ok {
			continue
		}
		c := column{Name: name}
		for _, letter := range letters {
			switch letter {
			case 'n':
				c.Type = freshness.Integer
			case 't':
				c.Type = freshness.Text
			case 'u':
				c.Type = freshness.UUID
			case 'y':
				c.Type = freshness.Date
			case 'd':
				c.Dated, c.Stamp = true, true
			case 'h':
				c.Dated = true
			case 'c':
				c.Composite = true
			case 'o':
				c.Odd = true
			case 'g':
				c.Generated = true
			case 'i':
				c.Identity = true
			}
		}
		list = append(list, c)
	}
	return list
}

// triggerEvents reads the server's number for a trigger's kind. Source: TRIGGER_TYPE_* in the server's pg_trigger.h.
func triggerEvents(number string) (e analysis.Events) {
	n, err := strconv.ParseUint(number, 10, 31)
	if err != nil {
		return analysis.Insert | analysis.Update | analysis.Delete | analysis.Truncate
	}
	for bit, event := range map[uint64]analysis.Events{4: analysis.Insert, 8: analysis.Delete, 16: analysis.Update, 32: analysis.Truncate} {
		if n&bit != 0 {
			e |= event
		}
	}
	return e
}

// rewrites says whether the server's number for a trigger's kind is of one that may change what is written: it is
// called for each row, and not after it.
func rewrites(number string) bool {
	n, err := strconv.Atoi(number)
	return err != nil || n&1 != 0 && n&(2|64) != 0
}
