package rules

import (
	"regexp"
	"slices"
	"strings"

	"jollylarder/internal/core/tomlproblem"
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

// sets says whether a block gives a value to a key.
func (b block) sets(key string) bool {
	list, _ := items(strings.Join(b.lines, ""))
	return slices.ContainsFunc(list, func(x item) bool { return x.key == key })
}

// of gives the places of the blocks in which values of a wrong kind stand, and the lines of those.
func (b blocks) of(problems []tomlproblem.Problem) (out, lines map[int]bool) {
	out, lines = map[int]bool{}, map[int]bool{}
	for _, p := range problems {
		line := 0
		if p.Unknown == nil {
			lines[p.Line] = true
		}
		for at := range b {
			if line += len(b[at].lines); p.Unknown == nil && p.Line <= line {
				out[at] = true
				break
			}
		}
	}
	return out, lines
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
		end := value + tomlproblem.ValueLength(text[value:])
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
