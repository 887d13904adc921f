// Package statement reads the bytes of a SQL statement once and gives what everything else is keyed by:
// the pattern it belongs to, and the exact statement within that pattern.
//
// It is a lexer and not a parser. It must split a statement at the same places as the server's own scanner does,
// or two different statements could become one; where the two could disagree, more is kept in the text, never less.
package statement

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
	// Joined is set for a text that goes on the one before: the two are one value.
	Joined bool
	// Place is the number of its placeholder in the shape, from 0: the same for all of a list.
	Place int32
	// Number is that of a parameter, from 1, as it is written, or as it is counted where it is a question mark. It is 0
	// for what is none.
	Number int32
}

// Scan is what reading one statement gave. It needs a Syntax, and is meant to be used again and again, since its
// buffers are kept: what it holds is valid until the next Read. It is not safe for concurrent use.
type Scan struct {
	// Syntax says how the statement is written.
	Syntax *Syntax
	// Exact is the statement with unquoted names and keywords in lower case, one blank between tokens (but before the
	// bracket of a call that touches its name, where that counts), no comments, and every literal as it was written. Two statements with the same Exact are the same statement to the server.
	Exact []byte
	// Shape is Exact with Placeholder for every literal, marked if it is a number behind an operator, and for lists of
	// nothing but literals. Statements of one shape are of one pattern; one pattern may have several shapes, of which
	// Normalise makes the same text.
	Shape []byte
	// Literals are the literals and parameters in the order they stand.
	Literals []Literal
	// MayMeanNow is set when a literal holds a word that date and time types read as the current time
	// ('now', 'today', ...), or is written so that this cannot be ruled out without decoding it.
	MayMeanNow bool
	// Comment is the inside of the last block comment, or empty: the bytes of what was read.
	Comment []byte
	// Start and End are where the first token begins in what was read, and the last ends.
	Start, End int

	lex lexer
}

// Read reads one statement, or a string of several, as it came from the client.
// It is long, as every byte of every statement goes through it, and calls on that way would cost.
func (s *Scan) Read(sql []byte) {
	// Nothing grows but by the blanks between tokens, each of which has at least one byte.
	if cap(s.Exact) < 2*len(sql)+2 {
		s.Exact = make([]byte, 2*len(sql)+2)
	}
	syn := s.Syntax
	s.Literals, s.MayMeanNow, s.lex = s.Literals[:0], false, lexer{syn: syn, src: sql}
	class, wordChar := &syn.class, &syn.wordChar
	sh := shaper{out: s.Shape[:0]}
	l := &s.lex
	out := s.Exact[:cap(s.Exact)]
	n := 0 // bytes in out
	marks := int32(0)
	last := none
	s.Start = 0
	end := 0
	for {
		pos := l.pos
		if pos < len(sql) && sql[pos] == ' ' { // nearly always one blank
			pos++
		}
		// Then it is mostly a word.
		if pos+1 < len(sql) && class[sql[pos]] == letter && !syn.behindPrefix[sql[pos+1]] {
			// What is stuck to a number stays so: only some servers accept it.
			if n == 0 {
				s.Start = pos
			}
			if n > 0 && (pos > l.pos || last != number && last != parameter) {
				out[n] = ' '
				n++
			}
			src, dst := sql[pos:], out[n:]
			dst = dst[:len(src)]
			i := 0
			for ; i < len(src); i++ {
				c := wordChar[src[i]]
				if c == 0 {
					break
				}
				dst[i] = c
			}
			if syn.Keyword != nil {
				syn.fold(out[:n+i], n, last)
			}
			n += i
			l.pos, last = pos+i, word
			end = l.pos
			continue
		}
		behind, before := l.pos, n
		l.pos = pos
		kind, start := l.next()
		if kind == none {
			break
		}
		tok := sql[start:l.pos]
		if end = l.pos; n == 0 {
			s.Start = start
		}
		joined := kind == text && last == text && syn.joins(l.newline)
		switch {
		case n == 0, kind == word && start == behind && (last == number || last == parameter),
			kind == opening && start == behind && last == word && syn.callTouches(out[:n]):
		case joined: // the server joins the two
			out[n] = '\n'
			n++
		default:
			out[n] = ' '
			n++
		}
		at := n
		switch {
		case kind == word: // one at the end, or before an ampersand
			for i, c := range tok {
				out[n+i] = wordChar[c]
			}
			syn.fold(out[:n+len(tok)], n, last)
			n += len(tok)
		case len(tok) == 1:
			out[n] = tok[0]
			n++
		default:
			n += copy(out[n:], tok)
		}
		switch kind {
		case text:
			s.MayMeanNow = s.MayMeanNow || last == text || syn.MayMeanNow(tok)
			fallthrough
		case number, parameter:
			lit := Literal{Start: start, End: l.pos, Kind: Kind(kind - number), Joined: joined, Place: sh.places}
			if kind == parameter {
				marks++
				if lit.Number = marks; tok[0] == '$' {
					lit.Number = numbered(tok[1:])
				}
			}
			s.Literals = append(s.Literals, lit)
			if joined {
				sh.copied, sh.end = n, n
			} else {
				sh.literal(out[:n], before, at, kind == number && last == operator)
			}
		case comma, closing:
			if sh.separator(kind == comma, before, n) {
				s.Literals[len(s.Literals)-1].Place = sh.places - 1
			}
		case opening:
			sh.opening(last == word, out[:n])
		}
		last = kind
	}
	s.MayMeanNow = (s.MayMeanNow || l.escapes) && len(syn.NowWords) > 0
	s.End = end
	s.Exact = trimEnd(out[:n])
	s.Shape = trimEnd(append(sh.out, out[min(sh.copied, n):n]...))
	s.Comment = nil
	if l.commentEnd > 0 {
		s.Comment = sql[l.commentStart:l.commentEnd]
	}
}

// callTouches says whether a text ends in the name of a function that is called only by a bracket right behind it.
func (syn *Syntax) callTouches(text []byte) bool {
	if syn.CallsTouch == nil {
		return false
	}
	at := len(text)
	for at > 0 && syn.wordChar[text[at-1]] != 0 {
		at--
	}
	return syn.CallsTouch(text[at:])
}

// numbered reads the number of a parameter; 0 for one that is too large, or is none.
func numbered(digits []byte) (n int32) {
	if len(digits) > 9 {
		return 0
	}
	for _, c := range digits {
		n = 10*n + int32(c-'0')
	}
	return n
}

// shaper makes a statement's shape of its exact text: it hears of every token but words and the like, which it finds
// copied with the rest.
type shaper struct {
	out    []byte
	copied int // bytes of the exact text that are in out
	places int32

	list    listState
	end     int // where the exact text ended with the last token that list tells of
	repeats int // where in out a list's element begins that may say nothing new; -1 for none
}

// listState is where a list of literals behind IN stands.
type listState uint8

const (
	noList listState = iota
	wantsLiteral
	hasLiteral
	wantsAnother
)

// at gives the state before a token, which is that of the last one only if nothing came in between.
func (sh *shaper) at(before int) listState {
	if sh.end != before {
		return noList
	}
	return sh.list
}

// literal takes one that begins at and ends with the exact text; before is where that ended before it.
func (sh *shaper) literal(exact []byte, before, at int, signed bool) {
	list := sh.at(before)
	sh.repeats = -1
	if list == wantsAnother {
		sh.repeats = len(sh.out)
	}
	sh.places++
	sh.out = append(append(sh.out, exact[sh.copied:at]...), Placeholder...)
	if signed {
		sh.out = append(sh.out, '#') // a number whose sign may be part of it, as a parameter's is not
	}
	sh.copied, sh.end, sh.list = len(exact), len(exact), noList
	if list == wantsLiteral || list == wantsAnother {
		sh.list = hasLiteral
	}
}

// separator takes a comma or a closing bracket: if it ends an element that was a literal as the one before, that is
// left out.
func (sh *shaper) separator(comma bool, before, end int) (leftOut bool) {
	list := sh.at(before)
	sh.list = noList
	if list != hasLiteral {
		return false
	}
	if sh.repeats >= 0 {
		sh.out = sh.out[:sh.repeats]
		sh.places--
		leftOut = true
	}
	if comma {
		sh.list, sh.end = wantsAnother, end
	}
	return leftOut
}

// opening takes an opening bracket, which the exact text ends with.
func (sh *shaper) opening(behindWord bool, exact []byte) {
	sh.list = noList
	if n := len(exact); behindWord && n >= 4 && exact[n-4] == 'i' && exact[n-3] == 'n' && exact[n-1] == '(' &&
		(n == 4 || exact[n-5] == ' ') {
		sh.list, sh.end = wantsLiteral, n
	}
}
