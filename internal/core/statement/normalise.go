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

// Normalise gives the text of the pattern that a statement belongs to: unquoted names and keywords in lower case, one
// blank between tokens, no comments, literals and parameters as Placeholder, lists of them as one with Repeat.
// It is what people read and what a pattern's ID is made of; the way of a known statement goes by its Shape.
func (s *Syntax) Normalise(sql []byte) []byte {
	n := normaliser{lex: lexer{syn: s, src: sql}}
	for {
		behind := n.lex.pos
		kind, start := n.lex.next()
		n.spaced = start > behind
		if kind == none {
			text := trimEnd(n.out)
			if s.Conceal != nil {
				text = s.Conceal(text)
			}
			return text
		}
		n.token(kind, start)
	}
}

type normaliser struct {
	lex lexer
	out []byte

	last      tokenKind // what the token before was; a literal is a number, a text or a parameter
	lastStart int       // where it begins in out
	spaced    bool      // something stands between it and the one at hand

	depth int
	lists []list // open parentheses of IN
	rows  rows
}

// list follows the elements of IN (...): equal elements in a row become one.
type list struct {
	depth      int
	start, end int // in out: the last element that was kept; start is -1 before the first
	element    int // in out: where the element being read begins
	comma      int // in out: the comma before it
	distinct   int
}

// rows follows VALUES (...), (...): equal rows become one.
type rows struct {
	active, inside     bool // VALUES was read, and now a row of it
	depth              int
	start, end         int // in out: the last row that was kept
	rowStart, rowComma int // in out: the row being read, and where the comma before it is
}

func (n *normaliser) token(kind tokenKind, start int) {
	switch kind {
	case number, text, parameter:
		n.literal(kind)
	case opening:
		n.open(start)
	case closing:
		n.close(start)
	case comma:
		n.endElement()
		n.emit(comma, start)
	case semicolon:
		n.rows = rows{}
		n.emit(semicolon, start)
	case dots:
		if n.rows.active && n.last == closing || n.inList() {
			return // our own mark behind a row or an element, read back
		}
		n.emit(dot, start)
	default:
		n.emit(kind, start)
	}
}

// emit adds the token that begins at start.
func (n *normaliser) emit(kind tokenKind, start int) {
	tok := n.lex.src[start:n.lex.pos]
	n.separate(kind)
	at := len(n.out)
	if kind == word {
		n.out = n.lex.syn.appendWord(slices.Grow(n.out, len(tok)), tok, n.last)
	} else {
		n.out = append(n.out, tok...)
	}
	if n.rows.active && n.depth == n.rows.depth && kind != comma {
		n.rows.active = false
	}
	if len(tok) == 6 && kind == word && string(n.out[at:]) == "values" {
		n.rows = rows{active: true, depth: n.depth, start: -1}
	}
	if kind == comma {
		if n.rows.active && n.depth == n.rows.depth {
			n.rows.rowComma = at
		}
		if n.inList() {
			l := &n.lists[len(n.lists)-1]
			l.comma, l.element = at, at+2
		}
	}
	n.last, n.lastStart = kind, at
}

// literal adds a placeholder.
func (n *normaliser) literal(kind tokenKind) {
	if kind == text && n.last == text && n.lex.syn.joins(n.lex.newline) {
		return // the server joins the two
	}
	if kind == number && n.foldSign() {
		n.last, n.lastStart = kind, len(n.out)-1
		return
	}
	n.separate(kind)
	n.lastStart = len(n.out)
	n.out = append(n.out, Placeholder...)
	n.last = kind
}

// foldSign makes the sign before a number part of the literal, so that -1 and a parameter that is -1 are one pattern.
// It does so only where the sign cannot be a subtraction.
func (n *normaliser) foldSign() bool {
	if n.last != operator || len(n.out)-n.lastStart != 1 {
		return false
	}
	if c := n.out[n.lastStart]; c != '-' && c != '+' {
		return false
	}
	before := bytes.TrimRight(n.out[:n.lastStart], " ")
	if len(before) == 0 {
		return false
	}
	end := before[len(before)-1]
	switch {
	case end == '(' || end == ',' || end == '[':
	case n.lex.syn.class[end]&operatorChar != 0:
	case n.lex.syn.class[end]&letter != 0:
		if !n.lex.syn.Reserved(n.lex.syn.lastWord(before)) {
			return false
		}
	default:
		return false
	}
	n.out = append(n.out[:n.lastStart], Placeholder...)
	return true
}

func (n *normaliser) open(start int) {
	round := n.lex.src[start] == '('
	in := round && n.last == word && string(n.out[n.lastStart:]) == "in"
	row := round && n.rows.active && n.depth == n.rows.depth
	if row {
		n.rows.active = false // emit would end it: a parenthesis is no comma
	}
	n.emit(opening, start)
	n.depth++
	if row {
		n.rows.active = true
		n.rows.rowStart, n.rows.inside = len(n.out)-1, true
	}
	if in {
		n.lists = append(n.lists, list{depth: n.depth, start: -1, element: len(n.out)})
	}
}

func (n *normaliser) close(start int) {
	if n.inList() {
		n.endElement()
		l := n.lists[len(n.lists)-1]
		n.lists = n.lists[:len(n.lists)-1]
		if l.distinct == 1 && !query(n.out[l.start:]) && bytes.Contains(n.out[l.start:], []byte(Placeholder)) {
			n.out = append(n.out, Repeat...)
		}
	}
	if n.depth > 0 {
		n.depth--
	}
	row := n.rows.active && n.rows.inside && n.depth == n.rows.depth && n.lex.src[start] == ')'
	if row {
		n.rows.active = false
	}
	n.emit(closing, start)
	if row {
		n.endRow()
	}
}

func (n *normaliser) inList() bool {
	return len(n.lists) > 0 && n.lists[len(n.lists)-1].depth == n.depth
}

// endElement joins the element just read to the one before when both read the same.
func (n *normaliser) endElement() {
	if !n.inList() {
		return
	}
	l := &n.lists[len(n.lists)-1]
	if l.element > len(n.out) {
		return // two commas in a row: the server will say so
	}
	if l.start >= 0 && bytes.Equal(n.out[l.start:l.end], n.out[l.element:]) {
		n.out = n.out[:l.comma]
		return
	}
	l.start, l.end = l.element, len(n.out)
	l.distinct++
}

// endRow joins the row just read to the one before when both read the same.
func (n *normaliser) endRow() {
	r := &n.rows
	r.active, r.inside = true, false
	row := n.out[r.rowStart:]
	if r.start >= 0 && bytes.Equal(row, n.out[r.start:r.end]) {
		n.out = n.out[:r.rowComma]
		n.lastStart = len(n.out) - 1
		return
	}
	r.start, r.end = r.rowStart, len(n.out)
	n.out = append(n.out, Repeat...)
}

// separate puts a blank where a reader expects one. What it leaves out cannot join two tokens into one: a bracket,
// comma or dot is a token by itself wherever it stands.
func (n *normaliser) separate(kind tokenKind) {
	switch {
	case n.last == none, n.last == opening, n.last == dot, n.last == cast:
		return
	case kind == comma, kind == dot, kind == cast, kind == semicolon, kind == closing:
		return
	case kind == opening:
		touches := !n.spaced || n.lex.syn.CallsTouch == nil || n.last != word || !n.lex.syn.CallsTouch(n.out[n.lastStart:])
		if touches && (n.last == quoted || n.last == word && !spaceBeforeParen(n.out[n.lastStart:])) {
			return
		}
	}
	n.out = append(n.out, ' ')
}

// trimEnd takes away semicolons at the end: they change nothing.
func trimEnd(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == ';' || b[len(b)-1] == ' ') {
		b = b[:len(b)-1]
	}
	return b
}

func (s *Syntax) lastWord(b []byte) []byte {
	i := len(b)
	for i > 0 && s.wordChar[b[i-1]] != 0 {
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

// Parameterised gives the text of a pattern as SQL that a server's grammar accepts: a parameter in the place of every
// literal, and lists and rows that may repeat once.
func (s *Syntax) Parameterised(text []byte) string {
	lex := lexer{syn: s, src: text}
	var out []byte
	for end := 0; ; end = lex.pos {
		kind, start := lex.next()
		switch kind {
		case none:
			return string(out)
		case dots:
			continue
		}
		out = append(out, text[end:start]...)
		switch {
		case kind != parameter:
			out = append(out, text[start:lex.pos]...)
		case s.QuestionMark:
			out = append(out, '?')
		default:
			out = append(append(out, text[start:lex.pos]...), '1')
		}
	}
}
