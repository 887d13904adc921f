package rules

import (
	"regexp"
	"strings"
)

// blocks are the lines of a file cut before each rule and declaration: the first is what stands before them, of no
// kind; each other has the comments right above it.
type blocks []block

type block struct {
	kind  string // rule or declare
	lines []string
}

var head = regexp.MustCompile(`(?m)^[ \t]*\[\[\s*(rule|declare)\s*\]\]`)

func split(text string) blocks {
	b := blocks{{}}
	for _, line := range strings.SplitAfter(text, "\n") {
		if m := head.FindStringSubmatch(line); m != nil {
			last := len(b) - 1
			lines := b[last].lines
			above := len(lines)
			for above > 0 && strings.HasPrefix(strings.TrimSpace(lines[above-1]), "#") && (last > 0 || above < len(lines) || blankAbove(lines)) {
				above--
			}
			if above == 0 && last == 0 {
				above = len(lines) // comments from the first line on are the file's own
			}
			b = append(b, block{m[1], append([]string{}, lines[above:]...)})
			b[last].lines = lines[:above]
		}
		b[len(b)-1].lines = append(b[len(b)-1].lines, line)
	}
	return b
}

func blankAbove(lines []string) bool {
	for _, l := range lines {
		if strings.TrimSpace(l) == "" {
			return true
		}
	}
	return false
}

// place gives the index of block i of a kind, or -1.
func (b blocks) place(kind string, i int) int {
	for at := range b {
		if b[at].kind == kind {
			if i == 0 {
				return at
			}
			i--
		}
	}
	return -1
}

// at finds where in the file a key of rule or declaration i stands, or its own line.
func (b blocks) at(kind string, i int, key string) (line, column int) {
	place := b.place(kind, i)
	if place < 0 {
		return 1, 1
	}
	before := 0
	for _, x := range b[:place] {
		before += len(x.lines)
	}
	top := 1
	for n, l := range b[place].lines {
		t := strings.TrimSpace(l)
		if rest, ok := strings.CutPrefix(t, key); ok && strings.HasPrefix(strings.TrimLeft(rest, " \t"), "=") ||
			ok && strings.HasPrefix(rest, ".") ||
			strings.HasPrefix(t, "["+kind+"."+key) {
			return before + n + 1, len(l) - len(strings.TrimLeft(l, " \t")) + 1
		}
		if head.MatchString(l) {
			top = n + 1
		}
	}
	return before + top, 1
}

// item is a key of a block with its value, by places in the block's text.
type item struct {
	key              string // what stands before the first dot of it
	line, value, end int    // where its line begins, and its value, and where that ends
	next             int    // where the next line begins
}

// items gives the keys of a block's text in their order, up to the first table within it, and where that begins: at the
// end if there is none.
func items(text string) (out []item, tables int) {
	at := 0
	for _, line := range strings.SplitAfter(text, "\n") { // up to the heading
		at += len(line)
		if head.MatchString(line) {
			break
		}
	}
	for at < len(text) {
		line := at
		rest := strings.TrimLeft(text[at:], " \t")
		at = len(text) - len(rest)
		switch {
		case rest == "" || rest[0] == '#' || rest[0] == '\n' || rest[0] == '\r':
			at += lineLength(rest)
			continue
		case rest[0] == '[':
			return out, line
		}
		equals := strings.IndexByte(rest, '=')
		if equals < 0 {
			return out, line
		}
		key, _, _ := strings.Cut(strings.TrimSpace(rest[:equals]), ".")
		value := at + equals + 1
		value += len(text[value:]) - len(strings.TrimLeft(text[value:], " \t"))
		end := value + valueLength(text[value:])
		at = end + lineLength(text[end:])
		out = append(out, item{strings.Trim(key, `"' `), line, value, end, at})
	}
	return out, len(text)
}

func lineLength(text string) int {
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		return i + 1
	}
	return len(text)
}

// valueLength gives how long the TOML value is that a text begins with, which is well-formed.
func valueLength(text string) int {
	depth, end := 0, 0
	for at := 0; at < len(text); {
		c := text[at]
		switch {
		case strings.HasPrefix(text[at:], `"""`) || strings.HasPrefix(text[at:], `'''`):
			closing := strings.Index(text[at+3:], text[at:at+3])
			if closing < 0 {
				return len(text)
			}
			at += closing + 6
			for at < len(text) && text[at] == c { // quotes that belong to the string's end
				at++
			}
		case c == '"' || c == '\'':
			for at++; at < len(text) && text[at] != c; at++ {
				if c == '"' && text[at] == '\\' {
					at++
				}
			}
			at++
		case c == '#' && depth == 0, c == '\n' && depth == 0:
			return end
		case c == '#':
			at += lineLength(text[at:])
			continue
		default:
			switch c {
			case '[', '{':
				depth++
			case ']', '}':
				depth--
			}
			at++
		}
		if c != ' ' && c != '\t' && c != '\r' {
			end = min(at, len(text))
		}
	}
	return end
}
