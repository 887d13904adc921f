// Package filter is the small language by which statements and patterns are picked out: terms with blanks between, all
// of which must hold. A bare word is looked for in the statement's text; a field is compared by = != < or >:
//
//	app=quay-boards,crew-tablet outcome!=hit took>5ms label.route=/boards "order by"
package filter

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Field is something that can be compared.
type Field struct {
	Name, What string
	// Number is set for fields compared by < and > too; Duration for those whose numbers are times.
	Number, Duration bool
	// Values are those to choose from, where there are few.
	Values []string
	// Qualified is set for fields whose values are names within a schema: such a name may be begun without it.
	Qualified bool
}

// Subject is what a filter is held against. Texts gives a field's texts: none, one or several, any of which may match.
// Number gives a field's number: a time in milliseconds.
type Subject interface {
	Texts(field string) []string
	Number(field string) (float64, bool)
}

// Filter picks out subjects. The zero value picks all.
type Filter struct{ terms []term }

type term struct {
	field  string // empty for a bare word
	op     string // = != < >
	values []string
	number float64
}

// Error is what is wrong with a filter, and where: At counts characters from 0.
type Error struct {
	At      int
	Problem string
}

func (e *Error) Error() string { return fmt.Sprintf("at character %d: %s", e.At+1, e.Problem) }

// label is what the fields for labels begin with; the label's key follows.
const label = "label." // and for all labels' keys, asked of Complete's values

// Parse reads a filter, for subjects with the fields given.
func Parse(text string, fields []Field) (*Filter, error) {
	f := &Filter{}
	for _, w := range words(text) {
		t, err := parseTerm(w, fields)
		if err != nil {
			return nil, err
		}
		f.terms = append(f.terms, t)
	}
	return f, nil
}

type piece struct {
	at   int
	text string // quotes taken away, but for what stands in them
	// op is where the operator stands outside quotes, or -1.
	op    int
	opLen int
	open  bool // a quote was not closed
}

// words splits a filter at its blanks, not within quotes.
func words(text string) []piece {
	var out []piece
	var b strings.Builder
	cur := piece{at: -1, op: -1}
	quoted := false
	flush := func() {
		if cur.at >= 0 {
			cur.text, cur.open = b.String(), quoted
			out = append(out, cur)
		}
		b.Reset()
		cur = piece{at: -1, op: -1}
	}
	for i, c := range text {
		switch {
		case c == '"':
			quoted = !quoted
			if cur.at < 0 {
				cur.at = i
			}
			continue
		case c == ' ' && !quoted:
			flush()
			continue
		}
		if cur.at < 0 {
			cur.at = i
		}
		if !quoted && cur.op < 0 && b.Len() > 0 && strings.ContainsRune("=<>!", c) {
			cur.op, cur.opLen = b.Len(), 1
		} else if !quoted && cur.op == b.Len()-1 && c == '=' {
			cur.opLen = 2
		}
		b.WriteRune(c)
	}
	flush()
	return out
}

func parseTerm(p piece, fields []Field) (term, error) {
	if p.open {
		return term{}, &Error{p.at, "a quote is not closed"}
	}
	if p.op < 0 {
		return term{values: []string{strings.ToLower(p.text)}}, nil
	}
	t := term{field: p.text[:p.op], op: p.text[p.op : p.op+p.opLen]}
	value := p.text[p.op+p.opLen:]
	i := slices.IndexFunc(fields, func(f Field) bool {
		return f.Name == t.field || f.Name == label && strings.HasPrefix(t.field, label) && len(t.field) > len(label)
	})
	if i < 0 {
		return term{}, &Error{p.at, fmt.Sprintf("there is no %q to filter by: expected %s", t.field, names(fields))}
	}
	switch t.op {
	case "=", "!=":
	case "<", ">":
		if !fields[i].Number {
			return term{}, &Error{p.at + p.op, fmt.Sprintf("%s is no number: expected = or !=", t.field)}
		}
	default:
		return term{}, &Error{p.at + p.op, fmt.Sprintf("%q is not understood: expected =, !=, < or >", t.op)}
	}
	if value == "" {
		return term{}, &Error{p.at + p.op + p.opLen, "a value is missing behind " + t.field + t.op}
	}
	if fields[i].Number {
		n, err := number(value, fields[i].Duration)
		if err != nil {
			return term{}, &Error{p.at + p.op + p.opLen, err.Error()}
		}
		t.number = n
	}
	for v := range strings.SplitSeq(value, ",") {
		v = strings.ToLower(v)
		if list := fields[i].Values; len(list) > 0 && !slices.Contains(list, v) {
			return term{}, &Error{
				p.at + p.op + p.opLen,
				fmt.Sprintf("%s is never %q: expected %s", t.field, v, strings.Join(list, ", ")),
			}
		}
		t.values = append(t.values, v)
	}
	return t, nil
}

func number(text string, duration bool) (float64, error) {
	if duration {
		d, err := time.ParseDuration(text)
		if err != nil {
			return 0, fmt.Errorf("%q is no time: expected something like 5ms or 1.5s", text)
		}
		return float64(d) / float64(time.Millisecond), nil
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is no number: expected one such as 12 or 0.5", text)
	}
	return n, nil
}

func names(fields []Field) string {
	var out []string
	for _, f := range fields {
		name := f.Name
		if name == label {
			name += "…"
		}
		out = append(out, name)
	}
	return strings.Join(out, ", ")
}

// Empty says whether the filter picks everything.
func (f *Filter) Empty() bool { return f == nil || len(f.terms) == 0 }

// Match says whether a subject is picked.
func (f *Filter) Match(s Subject) bool {
	if f == nil {
		return true
	}
	for i := range f.terms {
		if !f.terms[i].match(s) {
			return false
		}
	}
	return true
}

func (t *term) match(s Subject) bool {
	switch {
	case t.field == "":
		return slices.ContainsFunc(
			s.Texts("text"),
			func(have string) bool { return strings.Contains(strings.ToLower(have), t.values[0]) },
		)
	case t.op == "<" || t.op == ">":
		n, ok := s.Number(t.field)
		return ok && (t.op == "<" && n < t.number || t.op == ">" && n > t.number)
	}
	if n, ok := s.Number(t.field); ok {
		return (n == t.number) == (t.op == "=")
	}
	found := slices.ContainsFunc(s.Texts(t.field), func(have string) bool {
		have = strings.ToLower(have)
		return slices.ContainsFunc(t.values, func(want string) bool {
			if rest, ok := strings.CutSuffix(want, "*"); ok {
				return strings.HasPrefix(have, rest)
			}
			return have == want
		})
	})
	return found == (t.op == "=")
}

// Complete gives what the last word of a filter may go on to be: whole words, to be put in its place.
func Complete(text string, fields []Field, values func(field string) []string) (from int, choices []string) {
	from = strings.LastIndexByte(text, ' ') + 1
	last := text[from:]
	if i := strings.IndexAny(last, "=<>!"); i > 0 {
		op := last[i : i+1]
		if strings.HasPrefix(last[i:], "!=") {
			op = "!="
		}
		field, begun := last[:i], last[i+len(op):]
		if j := strings.LastIndexByte(begun, ','); j >= 0 {
			begun = begun[j+1:]
		}
		var list []string
		qualified := false
		for _, f := range fields {
			if f.Name == field {
				list, qualified = f.Values, f.Qualified
			}
		}
		if list == nil && values != nil {
			list = values(field)
		}
		for _, v := range list {
			_, alone, _ := strings.Cut(v, ".")
			if (strings.HasPrefix(v, strings.ToLower(begun)) || qualified && strings.HasPrefix(alone, strings.ToLower(begun))) && v != begun {
				choices = append(choices, last[:len(last)-len(begun)]+v)
			}
		}
		return from, choices
	}
	for _, f := range fields {
		if f.Name == label && strings.HasPrefix(last, label) && values != nil { // the keys that were seen
			for _, k := range values(label) {
				if strings.HasPrefix(label+k, last) {
					choices = append(choices, label+k+"=")
				}
			}
			continue
		}
		if strings.HasPrefix(f.Name, last) {
			word := f.Name
			if word != label {
				word += map[bool]string{true: ">", false: "="}[f.Number]
			}
			choices = append(choices, word)
		}
	}
	return from, choices
}

// OfStatements are the fields of a statement that has ended.
var OfStatements = []Field{
	{Name: "app", What: "application_name of the connection"},
	{Name: "user", What: "user it logged in as"},
	{Name: "db", What: "database"},
	{Name: "client", What: "client's address; 10.1.* for all that begin so"},
	{Name: "pattern", What: "pattern's id"},
	{Name: "outcome", What: "what became of it", Values: []string{"hit", "miss", "bypass", "write"}},
	{Name: "reason", What: "the reason for a bypass"},
	{Name: label, What: "value of a label in its comment"},
	{Name: "took", What: "how long its client waited", Number: true, Duration: true},
	{Name: "rows", What: "rows of its reply", Number: true},
	{Name: "bytes", What: "bytes of its reply", Number: true},
}

// OfPatterns are the fields of a pattern.
var OfPatterns = []Field{
	{Name: "app", What: "an application that sends it"},
	{Name: "user", What: "a user that sends it"},
	{Name: "db", What: "a database it is sent to"},
	{Name: "pattern", What: "its id"},
	{Name: "verb", What: "its kind: select, insert …"},
	{Name: "table", What: "a table it reads or writes", Qualified: true},
	{Name: "can", What: "whether its results could be cached", Values: []string{"yes", "no"}},
	{Name: "rule", What: "what a rule says of it", Values: []string{"cache", "bypass", "none"}},
	{
		Name:   "advice",
		What:   "what is advised; not, for not worth it and not possible",
		Values: []string{"cache", "not", "watch", "decided"},
	},
	{Name: "calls", What: "calls in the last minute", Number: true},
	{Name: "waited", What: "time waited in the last minute", Number: true, Duration: true},
	{Name: "took", What: "median time at the origin", Number: true, Duration: true},
}
