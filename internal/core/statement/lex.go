package statement

import (
	"bytes"
	"strings"
)

// lexer splits the bytes of a statement into tokens, at the same places as the server's own scanner does, as far as a
// Syntax says where that is.
type lexer struct {
	syn *Syntax
	src []byte
	pos int // behind the token that was read last

	run     int  // the end of a run of signs from which the last operator was cut, or less
	newline bool // the white space before the token held a line break
	escapes bool // an escape was met that could hide a letter

	// The last block comment, without its marks. Its end is 0 if there was none.
	commentStart, commentEnd int
}

type tokenKind uint8

const (
	none tokenKind = iota // the end
	word
	quoted // "name"
	number
	text
	parameter // $1, or our own placeholder
	operator
	opening // ( [
	closing // ) ]
	comma
	dot
	dots // .. which is also our own mark behind an element or a row
	cast // ::
	semicolon
)

// next reads one token and says where it begins; it ends at pos.
func (l *lexer) next() (kind tokenKind, start int) {
	l.newline = false
	if l.pos >= len(l.src) {
		return none, l.pos
	}
	c := l.src[l.pos]
	syn := l.syn
	if syn.blank[c] {
		if !l.skipBlank() {
			return none, l.pos
		}
		c = l.src[l.pos]
	}
	start = l.pos
	switch syn.class[c] {
	case letter:
		return l.wordOrPrefixed(c), start
	case digit:
		if syn.NumberNames && l.numberName() {
			return word, start
		}
		l.number()
		return number, start
	case operatorChar, operatorChar | unusualChar:
		l.operator()
		return operator, start
	}
	l.pos++
	if q := syn.quote[c]; q != nil {
		l.quoted(q.Mark, q.Backslash)
		return kindOf(q), start
	}
	switch c {
	case '?':
		if syn.QuestionMark {
			return parameter, start
		}
	case ',':
		return comma, start
	case '.':
		switch p := l.peek(0); {
		case syn.class[p] == digit && !(syn.NumberNames && l.endsName(start)):
			l.pos--
			l.number()
			return number, start
		case p == '.':
			l.pos++
			return dots, start
		}
		return dot, start
	case '(', '[':
		return opening, start
	case ')', ']':
		return closing, start
	case '$':
		return l.dollar(start), start
	case ';':
		return semicolon, start
	case ':':
		switch l.peek(0) {
		case ':':
			l.pos++
			return cast, start
		case '=':
			l.pos++
		}
	}
	return operator, start // NUL and other control bytes too: the server will refuse them, in its own words
}

func kindOf(q *Quote) tokenKind {
	if q.Name {
		return quoted
	}
	return text
}

func (l *lexer) peek(n int) byte {
	if l.pos+n < len(l.src) {
		return l.src[l.pos+n]
	}
	return 0
}

// skipBlank passes over white space and comments; false at the end.
func (l *lexer) skipBlank() bool {
	for l.pos < len(l.src) {
		switch c := l.src[l.pos]; {
		case l.syn.class[c] == space:
			if c == '\n' || c == '\r' {
				l.newline = true
			}
			l.pos++
		case c == '-' && l.dashes(l.pos), c == '#' && l.syn.HashComments:
			l.newline = true
			end := bytes.IndexAny(l.src[l.pos:], l.syn.LineEnds)
			if end < 0 {
				l.pos = len(l.src)
				return false
			}
			l.pos += end
		case c == '/' && l.peek(1) == '*':
			l.skipBlockComment()
		default:
			return true
		}
	}
	return false
}

// dashes says whether two of them at a place begin a comment.
func (l *lexer) dashes(pos int) bool {
	if pos+1 >= len(l.src) || l.src[pos] != '-' || l.src[pos+1] != '-' {
		return false
	}
	return !l.syn.DashNeedsBlank || pos+2 == len(l.src) || l.src[pos+2] <= ' ' || l.src[pos+2] == 0x7f
}

// skipBlockComment passes over a comment, which may hold comments.
func (l *lexer) skipBlockComment() {
	l.commentStart = l.pos + 2
	depth := 0
	for l.pos < len(l.src) {
		switch {
		case l.src[l.pos] == '/' && l.peek(1) == '*' && (depth == 0 || l.syn.NestedComments):
			depth++
			l.pos += 2
		case l.src[l.pos] == '*' && l.peek(1) == '/':
			depth--
			l.pos += 2
			if depth == 0 {
				l.commentEnd = l.pos - 2
				return
			}
		default:
			l.pos++
		}
	}
	l.commentEnd = 0 // it never ends: the server will refuse it
}

// wordOrPrefixed reads a name or keyword, or what has a letter before its quote.
func (l *lexer) wordOrPrefixed(c byte) tokenKind {
	for i := range l.syn.prefixes[c] {
		p := &l.syn.prefixes[c][i]
		n := len(p.Letters)
		if n == 2 && l.peek(1) != p.Letters[1] || l.peek(n) != p.Mark {
			continue
		}
		l.pos += n + 1
		l.quoted(p.Mark, p.Backslash)
		l.escapes = l.escapes || p.Encoded && !p.Name
		return kindOf(&p.Quote)
	}
	pos, wordChar := l.pos, &l.syn.wordChar
	for pos < len(l.src) && wordChar[l.src[pos]] != 0 {
		pos++
	}
	l.pos = pos
	return word
}

// endsName says whether a name ends at a place.
func (l *lexer) endsName(pos int) bool {
	if pos == 0 {
		return false
	}
	q := l.syn.quote[l.src[pos-1]]
	return l.syn.wordChar[l.src[pos-1]] != 0 || q != nil && q.Name
}

// numberName reads a name that begins with a digit. It is false, and has read nothing, if a number stands there.
func (l *lexer) numberName() bool {
	pos, wordChar := l.pos, &l.syn.wordChar
	at := func(i int) byte {
		if i < len(l.src) {
			return l.src[i]
		}
		return 0
	}
	if pos == 0 || l.src[pos-1] != '.' || !l.endsName(pos-1) {
		end := pos
		for l.syn.class[at(end)] == digit {
			end++
		}
		switch c := at(end); {
		case wordChar[c] == 0:
			return false
		case (c == 'x' || c == 'b') && end == pos+1 && l.src[pos] == '0':
			from := end + 1
			for end = from; c == 'x' && l.hexDigit(at(end)) || at(end)|1 == '1'; end++ {
			}
			if end > from && wordChar[at(end)] == 0 {
				return false
			}
		case c|0x20 == 'e' && (l.syn.class[at(end+1)] == digit || (at(end+1) == '+' || at(end+1) == '-') && l.syn.class[at(end+2)] == digit):
			return false
		}
	}
	for wordChar[at(pos)] != 0 {
		pos++
	}
	l.pos = pos
	return true
}

// number reads an integer, a decimal or an exponent. A word stuck to it is a token of its own: some servers refuse it,
// for others "1from t" is "1 from t".
func (l *lexer) number() {
	class := &l.syn.class
	if l.src[l.pos] == '0' {
		switch radix := l.peek(1) | 0x20; {
		case strings.IndexByte(l.syn.Radixes, radix) < 0:
		case radix == 'x':
			if l.hexDigit(l.peek(2)) {
				for l.pos += 2; l.hexDigit(l.peek(0)); l.pos++ {
				}
				return
			}
		default:
			if c := l.peek(2); class[c] == digit || c == '_' && l.syn.DigitGroups {
				l.pos += 2
				l.digits()
				return
			}
		}
	}
	l.digits()
	if l.peek(0) == '.' && l.peek(1) != '.' {
		l.pos++
		l.digits()
	}
	if l.peek(0)|0x20 == 'e' {
		after := 1
		if c := l.peek(1); c == '+' || c == '-' {
			after = 2
		}
		if class[l.peek(after)] == digit {
			l.pos += after
			l.digits()
		}
	}
}

func (l *lexer) digits() {
	class := &l.syn.class
	for l.pos < len(l.src) {
		c := l.src[l.pos]
		if class[c] != digit && (c != '_' || !l.syn.DigitGroups || class[l.peek(1)] != digit) {
			return
		}
		l.pos++
	}
}

func (l *lexer) hexDigit(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f' || c == '_' && l.syn.DigitGroups
}

// quoted reads up to the closing quote, the opening one having been read; a doubled quote is a quote.
func (l *lexer) quoted(quote byte, backslash bool) {
	if !backslash {
		for l.pos < len(l.src) {
			c := l.src[l.pos]
			l.pos++
			if c == quote {
				if l.peek(0) != quote {
					return
				}
				l.pos++
			}
		}
		return
	}
	for l.pos < len(l.src) {
		c := l.src[l.pos]
		l.pos++
		if c == '\\' {
			switch l.peek(0) {
			case '\\', '\'', '"', 'n', 'r', 't':
			default:
				l.escapes = true
			}
			if l.pos < len(l.src) {
				l.pos++
			}
			continue
		}
		if c == quote {
			if l.peek(0) != quote {
				return
			}
			l.pos++
		}
	}
}

// dollar reads $1, $$text$$, $tag$text$tag$, or our own placeholder; the first dollar sign has been read.
func (l *lexer) dollar(start int) tokenKind {
	class := &l.syn.class
	if class[l.peek(0)] == digit {
		for class[l.peek(0)] == digit {
			l.pos++
		}
		return parameter
	}
	tag := l.pos
	for tag < len(l.src) && class[l.src[tag]]&(letter|digit) != 0 {
		tag++
	}
	if l.syn.DollarQuotes && tag < len(l.src) && l.src[tag] == '$' {
		mark := l.src[start : tag+1]
		body := tag + 1
		end := bytes.Index(l.src[body:], mark)
		if end < 0 {
			l.pos = len(l.src)
		} else {
			l.pos = body + end + len(mark)
		}
		return text
	}
	return parameter
}

// operator reads an operator the way the server does: the longest run, cut before a comment, and without + or - at
// its end unless it also holds a character that standard SQL operators do not.
func (l *lexer) operator() {
	start, class := l.pos, &l.syn.class
	if start < l.run { // all that is left of it are + and -
		l.pos++
		return
	}
	unusual := false
	for l.pos < len(l.src) {
		c := l.src[l.pos]
		if class[c]&operatorChar == 0 ||
			l.pos > start && (l.dashes(l.pos) || c == '/' && l.peek(1) == '*') {
			break
		}
		if class[c]&unusualChar != 0 {
			unusual = true
		}
		l.pos++
	}
	l.run = l.pos
	for !unusual && l.pos > start+1 && (l.src[l.pos-1] == '+' || l.src[l.pos-1] == '-') {
		l.pos--
	}
}
