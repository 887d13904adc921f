package statement

import "bytes"

// Depth gives a bound for how many levels the tree of a statement has, in the order of tens: the most tokens that can
// hold each other. A grammar's reader may take time or stack for each level, and for each level above it, so that a
// statement is best not handed to it that is deeper than anybody writes.
//
// Tokens between two commas, or between AND and OR, can hold each other, and so can what stands in brackets and around
// them; those on two sides of a comma cannot. Only chains of UNION and JOIN go on across a comma.
func (s *Syntax) Depth(sql []byte) int {
	l := lexer{syn: s, src: sql}
	levels := make([]depthLevel, 1, 16)
	for {
		kind, start := l.next()
		top := &levels[len(levels)-1]
		end := false
		switch kind {
		case none:
			for len(levels) > 1 {
				levels = closeLevel(levels)
			}
			return levels[0].depth()
		case comma, semicolon:
			top.part()
			continue
		case opening:
			levels = append(levels, depthLevel{})
			continue
		case closing:
			end = true
		case word:
			switch w := sql[start:l.pos]; {
			case len(w) > len("intersect"):
			case bytes.EqualFold(w, []byte("and")), bytes.EqualFold(w, []byte("or")):
				top.part()
				continue
			case bytes.EqualFold(w, []byte("case")):
				levels = append(levels, depthLevel{isCase: true})
				continue
			case bytes.EqualFold(w, []byte("end")):
				end = top.isCase
			case bytes.EqualFold(w, []byte("union")),
				bytes.EqualFold(w, []byte("intersect")),
				bytes.EqualFold(w, []byte("except")),
				bytes.EqualFold(w, []byte("join")):
				top.chain++
			}
		}
		if end && len(levels) > 1 {
			levels = closeLevel(levels)
			continue
		}
		top.tokens++
	}
}

// depthLevel is what stands in one pair of brackets, or between CASE and END.
type depthLevel struct {
	isCase bool
	tokens int // of the present part
	inner  int // the depth of the deepest brackets in it
	most   int // of the parts before it
	chain  int
}

// part ends the present part.
func (l *depthLevel) part() {
	l.most = max(l.most, l.tokens+l.inner)
	l.tokens, l.inner = 0, 0
}

func (l *depthLevel) depth() int { return max(l.most, l.tokens+l.inner) + l.chain }

// closeLevel goes back to the level around the last one.
func closeLevel(levels []depthLevel) []depthLevel {
	last := len(levels) - 1
	d, around := levels[last].depth(), &levels[last-1]
	around.tokens++
	around.inner = max(around.inner, d)
	return levels[:last]
}
