package statement

// Lexical says how one kind of database writes SQL, in one mode of its sessions: what its scanner takes for a name, a
// literal or a comment. The lexer is driven by it.
type Lexical struct {
	// Name tells the patterns of this syntax from those of others in their IDs. One syntax may have none.
	Name string
	// Quotes are what stands between quotes, of which a doubled one is the quote itself.
	Quotes []Quote
	// Prefixes are the letters that may stand right before a quote and belong to it.
	Prefixes []Prefix
	// DollarQuotes is set where $tag$text$tag$ is a text.
	DollarQuotes bool
	// QuestionMark is set where a question mark is a parameter, and so none of Operators.
	QuestionMark bool
	// Joins says when two texts one behind the other are one value.
	Joins Joins
	// NestedComments is set where a block comment may hold others, HashComments where # begins one that ends with the
	// line, and DashNeedsBlank where -- does so only before white space.
	NestedComments, HashComments, DashNeedsBlank bool
	// LineEnds are the bytes that end a comment which goes to the end of its line; empty for a line feed and a carriage
	// return.
	LineEnds string
	// NameChars are the bytes that may stand inside a name beside letters, digits, the underscore and bytes above 127;
	// NameStarts are those of them that may begin one.
	NameChars, NameStarts string
	// NumberNames is set where a name may begin with a digit, and may be made of digits alone behind a dot.
	NumberNames bool
	// Keyword says whether a word in lower case is one of the language, where names are written in the case that counts;
	// nil where the case of unquoted names does not count.
	Keyword func(word []byte) bool
	// CallsTouch says of the name of a function, in whatever case, whether it is that only with a bracket right behind it,
	// and not with a blank between the two; nil means that there is no such function.
	CallsTouch func(word []byte) bool
	// Operators are the bytes of which operators are made. An operator ends before a + or - unless it has one of Unusual
	// as well.
	Operators, Unusual string
	// Radixes are the letters behind a 0 that begin a number of another base; DigitGroups is set where an underscore may
	// stand between digits.
	Radixes     string
	DigitGroups bool
	// Reserved says whether a word in lower case can only be a keyword where an expression may follow, so that a sign
	// after it cannot be a subtraction.
	Reserved func(word []byte) bool
	// NowWords are the words, in lower case, that types of date and time read as the moment of the call.
	NowWords []string
	// Conceal takes what may be a secret and is no literal out of a pattern's text; nil means that there is no such thing.
	Conceal func(text []byte) []byte
}

// Quote is what a quote begins, and ends.
type Quote struct {
	Mark byte
	// Name is set for a name; else it is a text.
	Name bool
	// Backslash is set where a backslash takes the next byte's meaning away.
	Backslash bool
}

// Prefix is written right before a quote.
type Prefix struct {
	// Letters are one letter, in lower case, or such a letter and a byte that is none.
	Letters string
	Quote
	// Encoded is set where the text is not what is written, beyond what a backslash does.
	Encoded bool
}

// Joins is when texts are one.
type Joins uint8

// The ways of joining.
const (
	JoinsNever       Joins = iota
	JoinsAcrossLines       // where a line break stands between them
	JoinsAlways
)

// Syntax is a Lexical made ready for reading. It does not change, and may be used by many at once.
type Syntax struct {
	Lexical

	class, wordChar [256]uint8
	quote           [256]*Quote
	prefixes        [256][]Prefix // by their first byte, of either case
	behindPrefix    [256]bool     // bytes that may follow the first letter of a prefix
	blank           [256]bool     // bytes that may begin white space or a comment
	nowStarts       [256]bool
}

// NewSyntax makes a syntax ready.
func NewSyntax(l Lexical) *Syntax {
	s := &Syntax{Lexical: l}
	if s.LineEnds == "" {
		s.LineEnds = "\n\r"
	}
	s.class, s.wordChar = s.tables()
	for _, q := range l.Quotes {
		s.quote[q.Mark] = &q
	}
	for _, p := range l.Prefixes {
		first, behind := p.Letters[0], p.Mark
		if len(p.Letters) > 1 {
			behind = p.Letters[1]
		}
		s.behindPrefix[behind] = true
		for _, c := range []byte{first, first - 'a' + 'A'} {
			s.prefixes[c] = append(s.prefixes[c], p)
		}
	}
	for c := range s.blank {
		s.blank[c] = s.class[c] == space || c == '-' || c == '/' || c == '#' && l.HashComments
	}
	for _, w := range l.NowWords {
		s.nowStarts[w[0]], s.nowStarts[w[0]-'a'+'A'] = true, true
	}
	return s
}

// The classes of bytes. Bytes above 127 are letters.
const (
	space uint8 = 1 << iota
	letter
	digit
	inName // may stand inside a name, not begin it
	operatorChar
	unusualChar // lets an operator end in + or -
)

// tables gives the class of each byte, and the byte as it is written in a normalised name, or 0 for all that cannot
// stand inside one.
func (s *Syntax) tables() (class, wordChar [256]uint8) {
	for i := range class {
		c := byte(i)
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c == '_', c >= 128:
			class[i] = letter
		case c >= '0' && c <= '9':
			class[i] = digit
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v':
			class[i] = space
		}
	}
	for _, c := range []byte(s.NameChars) {
		class[c] = inName
	}
	for _, c := range []byte(s.NameStarts) {
		class[c] = letter
	}
	for i := range class {
		if class[i]&(letter|digit|inName) != 0 {
			wordChar[i] = byte(i)
		}
		if i >= 'A' && i <= 'Z' && s.Keyword == nil {
			wordChar[i] = byte(i) + 'a' - 'A'
		}
	}
	for _, c := range []byte(s.Operators) {
		class[c] |= operatorChar
	}
	if s.QuestionMark {
		class['?'] = 0
	}
	for _, c := range []byte(s.Unusual) {
		class[c] |= unusualChar
	}
	return class, wordChar
}

// appendWord appends a word as it is normalised, behind a token.
func (s *Syntax) appendWord(out, word []byte, last tokenKind) []byte {
	at := len(out)
	for _, c := range word {
		out = append(out, s.wordChar[c])
	}
	s.fold(out, at, last)
	return out
}

// longestKeyword bounds what is held against the keywords, in bytes.
const longestKeyword = 40

// fold writes the word that a normalised text ends with, from a place on, in lower case if it is a keyword of a syntax in
// which the case of names counts. Behind a dot it is a name. The first word of a statement is a keyword, and so is what
// begins with START.
func (s *Syntax) fold(out []byte, at int, last tokenKind) {
	word := out[at:]
	if s.Keyword == nil || len(word) > longestKeyword || last == dot {
		return
	}
	var lower [longestKeyword]byte
	for i, c := range word {
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		lower[i] = c
	}
	if last == none || last == semicolon || at == len("start ") && string(out[:at]) == "start " || s.Keyword(lower[:len(word)]) {
		copy(word, lower[:])
	}
}

// joins says whether a text goes on the one before it.
func (s *Syntax) joins(newline bool) bool {
	return s.Joins == JoinsAlways || s.Joins == JoinsAcrossLines && newline
}
