// Package statement reads the bytes of a SQL statement once and gives what everything else is keyed by:
// the pattern it belongs to, and the exact statement within that pattern.
//
// It is a lexer and not a parser. It must split a statement at the same places as the server's own scanner does,
// or two different statements could become one; where the two could disagree, more is kept in the text, never less.
package statement

import (
	"bytes"
	"slices"
)

// Placeholder stands in a pattern's text for every literal and every parameter.
// No server accepts a bare dollar sign as a token, so it cannot be mistaken for something that was written.
const Placeholder = "$"

// Repeat follows a placeholder or a row that may stand any number of times: in ($..), values ($, $)..
const Repeat = ".."

// Kind says how a literal was written.
type Kind uint8

// The kinds of literals.
const (
	Number    Kind = iota // 1, 2.5e3, 0x1F
	Text                  // 'it', E'it', $$it$$, B'01', X'1F', U&'it'
	Parameter             // $1
)

// Literal is one literal or parameter of a statement: the bytes [Start, End) of what was read.
type Literal struct {
	Start, End int
	Kind       Kind
}

// Scan is what reading one statement gave. Its zero value is ready; it is meant to be used again and again,
// since its buffers are kept: what it holds is valid until the next Read. It is not safe for concurrent use.
type Scan struct {
	// Pattern is the normalised text: unquoted names and keywords in lower case, one blank between tokens,
	// no comments, literals and parameters as Placeholder, lists of them as one with Repeat.
	Pattern []byte
	// Exact is the normalised text with every literal as it was written and no list shortened. Two statements
	// with the same Exact are the same statement to the server.
	Exact []byte
	// Literals are the literals and parameters in the order they stand.
	Literals []Literal
	// MayMeanNow is set when a literal holds a word that date and time types read as the current time
	// ('now', 'today', ...), or is written so that this cannot be ruled out without decoding it.
	MayMeanNow bool

	src []byte
	pos int

	last      tokenKind // what the token before was
	lastStart int       // where it begins in Pattern
	newline   bool      // white space since the last token held a line break

	depth int
	lists []list // open parentheses of IN
	rows  rows
}

type tokenKind uint8

const (
	none tokenKind = iota
	word
	quoted
	literal
	text
	operator
	opening // ( [
	closing // ) ]
	comma
	dot
	cast // ::
	semicolon
)

// list follows the elements of IN (...): equal elements in a row become one.
type list struct {
	depth      int
	start, end int // in Pattern: the last element that was kept; start is -1 before the first
	element    int // in Pattern: where the element being read begins
	comma      int // in Pattern: the comma before it
	distinct   int
}

// rows follows VALUES (...), (...): equal rows become one.
type rows struct {
	active             bool
	depth              int
	start, end         int // in Pattern: the last row that was kept
	rowStart, rowComma int // in Pattern: the row being read, and where the comma before it is
}

// Read reads one statement, or a string of several, as it came from the client.
func (s *Scan) Read(sql []byte) {
	*s = Scan{
		Pattern: s.Pattern[:0], Exact: s.Exact[:0], Literals: s.Literals[:0], lists: s.lists[:0],
		src: sql,
	}
	for s.skipBlank() {
		s.token()
	}
	s.Pattern = trimEnd(s.Pattern)
	s.Exact = trimEnd(s.Exact)
}

// trimEnd takes away semicolons at the end: they change nothing.
func trimEnd(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == ';' || b[len(b)-1] == ' ') {
		b = b[:len(b)-1]
	}
	return b
}

// skipBlank passes over white space and comments; false at the end.
func (s *Scan) skipBlank() bool {
	s.newline = false
	if s.pos < len(s.src) && s.src[s.pos] == ' ' { // nearly always one blank
		s.pos++
	}
	for s.pos < len(s.src) {
		c := s.src[s.pos]
		if class[c]&(letter|digit) != 0 {
			return true
		}
		switch {
		case class[c]&space != 0:
			if c == '\n' || c == '\r' {
				s.newline = true
			}
			s.pos++
		case c == '-' && s.peek(1) == '-':
			s.newline = true
			end := bytes.IndexAny(s.src[s.pos:], "\n\r")
			if end < 0 {
				s.pos = len(s.src)
				return false
			}
			s.pos += end
		case c == '/' && s.peek(1) == '*':
			s.skipBlockComment()
		default:
			return true
		}
	}
	return false
}

// skipBlockComment passes over a comment, which may hold comments.
func (s *Scan) skipBlockComment() {
	depth := 0
	for s.pos < len(s.src) {
		switch {
		case s.src[s.pos] == '/' && s.peek(1) == '*':
			depth++
			s.pos += 2
		case s.src[s.pos] == '*' && s.peek(1) == '/':
			depth--
			s.pos += 2
			if depth == 0 {
				return
			}
		default:
			s.pos++
		}
	}
}

func (s *Scan) peek(n int) byte {
	if s.pos+n < len(s.src) {
		return s.src[s.pos+n]
	}
	return 0
}

// token reads the token at pos, which is no white space.
func (s *Scan) token() {
	start := s.pos
	c := s.src[start]
	switch {
	case class[c]&letter != 0:
		s.wordOrPrefixed(start, c)
	case class[c]&digit != 0, c == '.' && class[s.peek(1)]&digit != 0:
		s.number()
		s.emitLiteral(start, Number)
	case c == '\'':
		s.quoted('\'', false)
		s.emitLiteral(start, Text)
	case c == '"':
		s.quoted('"', false)
		s.emit(quoted, start)
	case c == '$':
		s.dollar(start)
	case c == '(' || c == '[':
		s.pos++
		s.open(start)
	case c == ')' || c == ']':
		s.pos++
		s.close(start)
	case c == ',':
		s.pos++
		s.endElement()
		s.emit(comma, start)
	case c == ';':
		s.pos++
		s.rows = rows{}
		s.emit(semicolon, start)
	case c == '.':
		s.pos++
		if s.peek(0) == '.' {
			s.pos++
			if s.rows.active && s.last == closing || s.inList() {
				return // our own mark behind a row or an element, read back
			}
		}
		s.emit(dot, start)
	case c == ':':
		s.pos++
		kind := operator
		switch s.peek(0) {
		case ':':
			s.pos++
			kind = cast
		case '=':
			s.pos++
		}
		s.emit(kind, start)
	case class[c]&operatorChar != 0:
		s.operator()
		s.emit(operator, start)
	default: // NUL and other control bytes: the server will refuse them, in its own words
		s.pos++
		s.emit(operator, start)
	}
}

// wordOrPrefixed reads a name or keyword, or a literal with a letter before its quote.
func (s *Scan) wordOrPrefixed(start int, c byte) {
	if s.peek(1) == '\'' {
		switch c {
		case 'e', 'E':
			s.pos++
			s.quoted('\'', true)
			s.emitLiteral(start, Text)
			return
		case 'b', 'B', 'x', 'X', 'n', 'N':
			s.pos++
			s.quoted('\'', false)
			s.emitLiteral(start, Text)
			return
		}
	}
	if (c == 'u' || c == 'U') && s.peek(1) == '&' {
		switch s.peek(2) {
		case '\'':
			s.pos += 2
			s.quoted('\'', false)
			s.MayMeanNow = true // its escapes are not decoded here, and may be changed by UESCAPE
			s.emitLiteral(start, Text)
			return
		case '"':
			s.pos += 2
			s.quoted('"', false)
			s.emit(quoted, start)
			return
		}
	}
	i := s.pos
	for src := s.src; i < len(src) && class[src[i]]&(letter|digit|dollar) != 0; i++ {
	}
	s.pos = i
	s.emit(word, start)
}

// number reads an integer, a decimal or an exponent; letters stuck to it belong to it, since servers differ on them.
func (s *Scan) number() {
	for s.pos < len(s.src) {
		c := s.src[s.pos]
		switch {
		case class[c]&(digit|letter) != 0:
			s.pos++
			if (c == 'e' || c == 'E') && (s.peek(0) == '+' || s.peek(0) == '-') && class[s.peek(1)]&digit != 0 {
				s.pos++
			}
		case c == '.' && s.peek(1) != '.':
			s.pos++
		default:
			return
		}
	}
}

// quoted reads up to the closing quote; a doubled quote is a quote.
func (s *Scan) quoted(quote byte, backslash bool) {
	s.pos++
	for s.pos < len(s.src) {
		c := s.src[s.pos]
		s.pos++
		if c == '\\' && backslash {
			switch s.peek(0) {
			case '\\', '\'', '"', 'n', 'r', 't':
			default:
				s.MayMeanNow = true // an escape could hide a letter
			}
			if s.pos < len(s.src) {
				s.pos++
			}
			continue
		}
		if c == quote {
			if s.peek(0) != quote {
				return
			}
			s.pos++
		}
	}
}

// dollar reads $1, $$text$$, $tag$text$tag$, or our own placeholder.
func (s *Scan) dollar(start int) {
	s.pos++
	if class[s.peek(0)]&digit != 0 {
		for class[s.peek(0)]&(digit|letter) != 0 {
			s.pos++
		}
		s.emitLiteral(start, Parameter)
		return
	}
	tag := s.pos
	for tag < len(s.src) && class[s.src[tag]]&(letter|digit) != 0 {
		tag++
	}
	if tag < len(s.src) && s.src[tag] == '$' {
		mark := s.src[start : tag+1]
		body := tag + 1
		end := bytes.Index(s.src[body:], mark)
		if end < 0 {
			s.pos = len(s.src)
		} else {
			s.pos = body + end + len(mark)
		}
		s.emitLiteral(start, Text)
		return
	}
	s.emitLiteral(start, Parameter)
}

// operator reads an operator the way the server does: the longest run, cut before a comment, and without + or - at
// its end unless it also holds a character that standard SQL operators do not.
func (s *Scan) operator() {
	start := s.pos
	unusual := false
	for s.pos < len(s.src) {
		c := s.src[s.pos]
		if class[c]&operatorChar == 0 || s.pos > start && (c == '-' && s.peek(1) == '-' || c == '/' && s.peek(1) == '*') {
			break
		}
		if class[c]&unusualChar != 0 {
			unusual = true
		}
		s.pos++
	}
	for !unusual && s.pos > start+1 && (s.src[s.pos-1] == '+' || s.src[s.pos-1] == '-') {
		s.pos--
	}
}

// emit adds the token [start, pos) to both texts.
func (s *Scan) emit(kind tokenKind, start int) {
	tok := s.src[start:s.pos]
	s.separateExact(kind)
	s.separate(kind)
	at := len(s.Pattern)
	if kind == word {
		s.Pattern = slices.Grow(s.Pattern, len(tok))[:at+len(tok)]
		dst := s.Pattern[at:]
		for i, c := range tok {
			dst[i] = lower[c]
		}
		s.Exact = append(s.Exact, dst...)
	} else {
		s.Pattern = append(s.Pattern, tok...)
		s.Exact = append(s.Exact, tok...)
	}
	if s.rows.active && s.depth == s.rows.depth && kind != comma {
		s.rows.active = false
	}
	if len(tok) == 6 && kind == word && string(s.Pattern[at:]) == "values" {
		s.rows = rows{active: true, depth: s.depth, start: -1}
	}
	if kind == comma {
		if s.rows.active && s.depth == s.rows.depth {
			s.rows.rowComma = at
		}
		if s.inList() {
			l := &s.lists[len(s.lists)-1]
			l.comma, l.element = at, at+2
		}
	}
	s.last, s.lastStart = kind, at
}

// emitLiteral adds a literal: its bytes to Exact, a placeholder to Pattern.
func (s *Scan) emitLiteral(start int, kind Kind) {
	tok := s.src[start:s.pos]
	s.Literals = append(s.Literals, Literal{Start: start, End: s.pos, Kind: kind})
	class := literal
	if kind == Text {
		class = text
		if mayMeanNow(tok) {
			s.MayMeanNow = true
		}
		if s.last == text { // two strings in a row: the server joins them when a line break stands between
			s.MayMeanNow = true
			if s.newline {
				s.Exact = append(append(s.Exact, '\n'), tok...)
				return
			}
		}
	}
	s.separateExact(class)
	s.Exact = append(s.Exact, tok...)
	if kind == Number && s.foldSign() {
		s.last, s.lastStart = class, len(s.Pattern)-1
		return
	}
	s.separate(class)
	s.lastStart = len(s.Pattern)
	s.Pattern = append(s.Pattern, Placeholder...)
	s.last = class
}

// foldSign makes the sign before a number part of the literal, so that -1 and a parameter that is -1 are one pattern.
// It does so only where the sign cannot be a subtraction.
func (s *Scan) foldSign() bool {
	if s.last != operator || len(s.Pattern)-s.lastStart != 1 {
		return false
	}
	if c := s.Pattern[s.lastStart]; c != '-' && c != '+' {
		return false
	}
	before := bytes.TrimRight(s.Pattern[:s.lastStart], " ")
	if len(before) == 0 {
		return false
	}
	end := before[len(before)-1]
	switch {
	case end == '(' || end == ',' || end == '[':
	case class[end]&operatorChar != 0:
	case class[end]&letter != 0:
		if !reserved(lastWord(before)) {
			return false
		}
	default:
		return false
	}
	s.Pattern = append(s.Pattern[:s.lastStart], Placeholder...)
	return true
}

func (s *Scan) open(start int) {
	in := s.src[start] == '(' && s.last == word && string(s.Pattern[s.lastStart:]) == "in"
	row := s.rows.active && s.depth == s.rows.depth && s.src[start] == '('
	if row {
		s.rows.active = false // emit would end it: a parenthesis is no comma
	}
	s.emit(opening, start)
	s.depth++
	if row {
		s.rows.active = true
		s.rows.rowStart = len(s.Pattern) - 1
	}
	if in {
		s.lists = append(s.lists, list{depth: s.depth, start: -1, element: len(s.Pattern)})
	}
}

func (s *Scan) close(start int) {
	if s.inList() {
		s.endElement()
		l := s.lists[len(s.lists)-1]
		s.lists = s.lists[:len(s.lists)-1]
		if l.distinct == 1 && !query(s.Pattern[l.start:]) && bytes.Contains(s.Pattern[l.start:], []byte(Placeholder)) {
			s.Pattern = append(s.Pattern, Repeat...)
		}
	}
	if s.depth > 0 {
		s.depth--
	}
	row := s.rows.active && s.depth == s.rows.depth && s.src[start] == ')'
	if row {
		s.rows.active = false
	}
	s.emit(closing, start)
	if row {
		s.endRow()
	}
}

func (s *Scan) inList() bool {
	return len(s.lists) > 0 && s.lists[len(s.lists)-1].depth == s.depth
}

// endElement joins the element just read to the one before when both read the same.
func (s *Scan) endElement() {
	if !s.inList() {
		return
	}
	l := &s.lists[len(s.lists)-1]
	if l.element > len(s.Pattern) {
		return // two commas in a row: the server will say so
	}
	if l.start >= 0 && bytes.Equal(s.Pattern[l.start:l.end], s.Pattern[l.element:]) {
		s.Pattern = s.Pattern[:l.comma]
		return
	}
	l.start, l.end = l.element, len(s.Pattern)
	l.distinct++
}

// endRow joins the row just read to the one before when both read the same.
func (s *Scan) endRow() {
	r := &s.rows
	r.active = true
	row := s.Pattern[r.rowStart:]
	if r.start >= 0 && bytes.Equal(row, s.Pattern[r.start:r.end]) {
		s.Pattern = s.Pattern[:r.rowComma]
		s.lastStart = len(s.Pattern) - 1
		return
	}
	r.start, r.end = r.rowStart, len(s.Pattern)
	s.Pattern = append(s.Pattern, Repeat...)
}

// separateExact puts one blank between tokens: that is never wrong, and nobody reads it.
func (s *Scan) separateExact(tokenKind) {
	if s.last != none {
		s.Exact = append(s.Exact, ' ')
	}
}

// separate puts a blank into Pattern where a reader expects one. What it leaves out cannot join two tokens into one:
// a bracket, comma or dot is a token by itself wherever it stands.
func (s *Scan) separate(kind tokenKind) {
	switch {
	case s.last == none, s.last == opening, s.last == dot, s.last == cast:
		return
	case kind == comma, kind == dot, kind == cast, kind == semicolon, kind == closing:
		return
	case kind == opening:
		if s.last == quoted || s.last == word && !spaceBeforeParen(s.Pattern[s.lastStart:]) {
			return
		}
	}
	s.Pattern = append(s.Pattern, ' ')
}

func lastWord(b []byte) []byte {
	i := len(b)
	for i > 0 && class[b[i-1]]&(letter|digit|dollar) != 0 {
		i--
	}
	return b[i:]
}

// query says whether what stands in an IN list is one query and not a list.
func query(b []byte) bool {
	for _, start := range []string{"select", "with", "values", "table", "("} {
		if bytes.HasPrefix(b, []byte(start)) {
			return start != "(" || bytes.HasPrefix(b, []byte("(select"))
		}
	}
	return false
}
