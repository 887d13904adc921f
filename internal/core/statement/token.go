package statement

// TokenKind is what a token of a statement is.
type TokenKind uint8

// The kinds of tokens.
const (
	OtherToken   TokenKind = iota // an operator, or any other sign
	WordToken                     // a keyword, or a name without quotes
	NameToken                     // a name in quotes
	LiteralToken                  // a literal or a parameter
	OpeningToken                  // ( or [
	ClosingToken
	CommaToken
	DotToken
	SemicolonToken
)

var tokenKinds = map[tokenKind]TokenKind{
	word: WordToken, quoted: NameToken, number: LiteralToken, text: LiteralToken, parameter: LiteralToken,
	opening: OpeningToken, closing: ClosingToken, comma: CommaToken, dot: DotToken, semicolon: SemicolonToken,
}

// Token is one of a statement: the bytes [Start, End) of it.
type Token struct {
	Start, End int
	Kind       TokenKind
}

// Tokens splits a statement. Comments are left out.
func (s *Syntax) Tokens(sql []byte) (out []Token) {
	l := lexer{syn: s, src: sql}
	for {
		kind, start := l.next()
		if kind == none {
			return out
		}
		out = append(out, Token{start, l.pos, tokenKinds[kind]})
	}
}
