package rules

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"jollylarder/internal/core/statement"
)

// Heading begins a rules file that this program makes.
const Heading = `# Rules of Jolly Larder: which results are kept. Everything else passes to the database.
# Each [[rule]] names a pattern by its id:
#   verdict    "keep" or "never"
#   ttl        the longest a result is answered from memory: "30s", "5m", "1h30m", or "none"
#   note       why, for whoever reads this in a year
#   statement  the pattern's text, for people; nothing matches by it
# A write to a table that was read always drops its results, whatever the ttl.
`

// Error is what is wrong with a rules file and where. Line and Column count from 1.
type Error struct {
	Line, Column int
	Problem      string
}

func (e Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Problem)
}

type ruleTOML struct {
	Pattern   string  `toml:"pattern"`
	Verdict   string  `toml:"verdict"`
	TTL       *string `toml:"ttl"`
	Note      string  `toml:"note"`
	Statement string  `toml:"statement"`
}

// Parse reads a rules file. All that is wrong is reported at once, as Errors joined.
func Parse(text []byte) (*Set, error) {
	var doc struct {
		Rule []ruleTOML `toml:"rule"`
	}
	dec := toml.NewDecoder(strings.NewReader(string(text)))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&doc); err != nil {
		return nil, positions(err)
	}
	blocks := split(string(text))
	var list []Rule
	var problems []error
	seen := map[string]int{}
	for i, r := range doc.Rule {
		where := func(key, problem string) {
			line, column := blocks.at(i, key)
			problems = append(problems, Error{line, column, problem})
		}
		rule := Rule{Pattern: statement.ID(r.Pattern), Verdict: Verdict(r.Verdict), Note: r.Note, Statement: r.Statement}
		switch {
		case r.Pattern == "":
			where("pattern", `the rule has no pattern: expected pattern = "an id such as bado-kife-ruma"`)
		case !statement.ValidID(r.Pattern):
			where("pattern", fmt.Sprintf("pattern %q is not written like an id: expected something like bado-kife-ruma", r.Pattern))
		case seen[r.Pattern] > 0:
			where("pattern", fmt.Sprintf("pattern %s already has a rule in line %d, which decides", r.Pattern, seen[r.Pattern]))
		}
		seen[r.Pattern], _ = blocks.at(i, "pattern")
		switch {
		case rule.Verdict != Keep && rule.Verdict != Never:
			where("verdict", fmt.Sprintf(`verdict %q: expected "keep" or "never"`, r.Verdict))
		case rule.Verdict == Keep && r.TTL == nil:
			where("verdict", `a rule that keeps needs a ttl: expected ttl = "30s" or the like, or "none"`)
		}
		if r.TTL != nil {
			ttl, err := ParseTTL(*r.TTL)
			if err != nil {
				where("ttl", err.Error())
			}
			rule.TTL = ttl
		}
		list = append(list, rule)
	}
	if len(problems) > 0 {
		return nil, errors.Join(problems...)
	}
	return NewSet(list), nil
}

// positions turns the decoder's errors into ours.
func positions(err error) error {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) {
		var all []error
		for _, e := range strict.Errors {
			line, column := e.Position()
			all = append(all, Error{line, column, fmt.Sprintf("unknown key %s: expected pattern, verdict, ttl, note or statement in a [[rule]]", strings.Join(e.Key(), "."))})
		}
		return errors.Join(all...)
	}
	var wrong *toml.DecodeError
	if errors.As(err, &wrong) {
		line, column := wrong.Position()
		return Error{line, column, strings.TrimPrefix(wrong.Error(), "toml: ")}
	}
	return err
}

// blocks are the lines of a file cut before each rule: 0 is what stands before the first, i+1 is rule i with the
// comments right above it.
type blocks [][]string

var ruleHead = regexp.MustCompile(`^\s*\[\[\s*rule\s*\]\]`)

func split(text string) blocks {
	b := blocks{nil}
	for _, line := range strings.SplitAfter(text, "\n") {
		if ruleHead.MatchString(line) {
			last := len(b) - 1
			above := len(b[last])
			for above > 0 && strings.HasPrefix(strings.TrimSpace(b[last][above-1]), "#") && (last > 0 || above < len(b[0]) || blankAbove(b[0])) {
				above--
			}
			if above == 0 && last == 0 {
				above = len(b[0]) // comments from the first line on are the file's own
			}
			b = append(b, append([]string{}, b[last][above:]...))
			b[last] = b[last][:above]
		}
		b[len(b)-1] = append(b[len(b)-1], line)
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

// at finds where in the file a key of rule i stands, or the rule's own line.
func (b blocks) at(i int, key string) (line, column int) {
	if i+1 >= len(b) {
		return 1, 1
	}
	before := 0
	for _, lines := range b[:i+1] {
		before += len(lines)
	}
	head := 1
	for n, l := range b[i+1] {
		if strings.HasPrefix(strings.TrimSpace(l), key) {
			return before + n + 1, len(l) - len(strings.TrimLeft(l, " \t")) + 1
		}
		if ruleHead.MatchString(l) {
			head = n + 1
		}
	}
	return before + head, 1
}

// Put gives the file's text with a rule added at its end, or put in the place of the one for the same pattern.
// Comments, order and every other rule stay as they are.
func Put(text []byte, r Rule) ([]byte, error) {
	return edit(text, r.Pattern, r.toml())
}

// Remove gives the file's text without the rule for a pattern.
func Remove(text []byte, id statement.ID) ([]byte, error) {
	return edit(text, id, nil)
}

func edit(text []byte, id statement.ID, replacement []string) ([]byte, error) {
	set, err := Parse(text)
	if err != nil {
		return nil, err
	}
	if len(strings.TrimSpace(string(text))) == 0 {
		text = []byte(Heading)
	}
	b := split(string(text))
	if len(b) != len(set.rules)+1 {
		return nil, errors.New("the rules are not written as [[rule]] tables: edit the file by hand")
	}
	place := -1
	for i, r := range set.rules {
		if r.Pattern == id {
			place = i + 1
		}
	}
	switch {
	case place < 0 && replacement != nil:
		last := &b[len(b)-1]
		if n := len(*last); n > 0 && !strings.HasSuffix((*last)[n-1], "\n") && (*last)[n-1] != "" {
			(*last)[n-1] += "\n"
		}
		b = append(b, append([]string{"\n"}, replacement...))
	case place >= 0 && replacement == nil:
		b[place] = nil
	case place >= 0:
		var kept []string // comments above the rule, and what follows its keys
		for _, l := range b[place] {
			if ruleHead.MatchString(l) {
				break
			}
			kept = append(kept, l)
		}
		b[place] = append(append(kept, replacement...), trailing(b[place])...)
	}
	var out strings.Builder
	for _, lines := range b {
		for _, l := range lines {
			out.WriteString(l)
		}
	}
	if _, err := Parse([]byte(out.String())); err != nil {
		return nil, fmt.Errorf("the file cannot be changed without breaking it; edit it by hand: %w", err)
	}
	return []byte(out.String()), nil
}

// trailing gives the blank lines and comments at the end of a rule's block.
func trailing(lines []string) []string {
	end := len(lines)
	for end > 0 && (strings.TrimSpace(lines[end-1]) == "" || strings.HasPrefix(strings.TrimSpace(lines[end-1]), "#")) {
		end--
	}
	return lines[end:]
}

func (r Rule) toml() []string {
	lines := []string{"[[rule]]\n", fmt.Sprintf("pattern = %q\n", string(r.Pattern)), fmt.Sprintf("verdict = %q\n", string(r.Verdict))}
	if r.Verdict == Keep {
		lines = append(lines, fmt.Sprintf("ttl = %q\n", FormatTTL(r.TTL)))
	}
	if r.Note != "" {
		lines = append(lines, "note = "+quote(r.Note)+"\n")
	}
	if r.Statement != "" {
		lines = append(lines, "statement = "+quote(r.Statement)+"\n")
	}
	return lines
}

// quote writes a TOML string on one line.
func quote(s string) string {
	out, err := toml.Marshal(map[string]string{"s": s})
	if err != nil || strings.Count(string(out), "\n") > 1 {
		return fmt.Sprintf("%q", strings.ToValidUTF8(s, "?"))
	}
	return strings.TrimPrefix(strings.TrimSpace(string(out)), "s = ")
}
