package look

import "strings"

// clauses begin a line of their own; the longer come first.
var clauses = [][]string{
	{"left", "join"}, {"right", "join"}, {"full", "join"}, {"inner", "join"}, {"cross", "join"}, {"order", "by"}, {"group", "by"},
	{"on", "conflict"}, {"select"}, {"from"}, {"join"}, {"where"}, {"having"}, {"limit"}, {"offset"}, {"union"}, {"values"}, {"set"},
	{"returning"}, {"insert", "into"}, {"update"}, {"delete", "from"}, {"and"}, {"or"},
}

// SQL lays out a pattern's text: a clause to a line, wrapped to a width, the clause's words set off from the rest.
func (l *Look) SQL(text string, width int) []string {
	words := strings.Fields(text)
	type line struct {
		head string
		rest []string
	}
	var lines []line
	depth := 0
	for i := 0; i < len(words); i++ {
		w := words[i]
		if depth == 0 {
			if n := clauseAt(words[i:]); n > 0 {
				lines = append(lines, line{head: strings.Join(words[i:i+n], " ")})
				i += n - 1
				continue
			}
		}
		depth += strings.Count(w, "(") - strings.Count(w, ")")
		if len(lines) == 0 {
			lines = append(lines, line{})
		}
		last := &lines[len(lines)-1]
		last.rest = append(last.rest, w)
	}
	const indent = 9
	var out []string
	for _, ln := range lines {
		head := l.Slate.Render(Right(ln.head, indent-1))
		if Width(ln.head) > indent-1 {
			head = l.Slate.Render(ln.head)
		}
		for j, part := range Wrap(strings.Join(ln.rest, " "), width-max(indent, Width(ln.head)+1)) {
			if j > 0 {
				head = strings.Repeat(" ", indent-1)
			}
			out = append(out, head+" "+l.Cream.Render(part))
		}
	}
	return out
}

// clauseAt gives how many words of a clause's head stand here.
func clauseAt(words []string) int {
	for _, c := range clauses {
		if len(words) < len(c) {
			continue
		}
		same := true
		for i, w := range c {
			same = same && words[i] == w
		}
		if same {
			return len(c)
		}
	}
	return 0
}
