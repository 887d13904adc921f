package rules

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"jollylarder/internal/core/bytesize"
)

// Put gives a rules file's text with a rule put in place of the one of a name, or added if the name is empty: at the
// end, or before the first general rule that would decide in its place, or leave that to the larder for some callers.
// Comments, order and every other rule stay as they are.
func Put(text []byte, name string, r Rule) ([]byte, error) {
	return edit(text, func(set *Set, b blocks) (blocks, []Rule, error) {
		want := slices.Clone(set.rules)
		if name == "" {
			r.named = r.Name != "" && (r.Name != string(r.Pattern) || r.Action == Advised)
			at := slices.IndexFunc(set.rules, func(o Rule) bool {
				return r.Pattern != "" && o.Pattern == "" && (o.When.None() || o.Action == Advised) &&
					(o.Text == "" || r.Statement != "" && like(r.Statement, o.Text))
			})
			if at < 0 {
				at = len(want)
			}
			return b.insert(at, blockOf(r)), slices.Insert(want, at, r), nil
		}
		at, err := set.place(name)
		if err != nil {
			return nil, nil, err
		}
		old := set.rules[at]
		r.named = r.Name != "" && (r.Name != old.Name || old.named || r.Action == Advised)
		place := b.place("rule", at)
		b[place].lines = strings.SplitAfter(change(strings.Join(b[place].lines, ""), old.pairs(), r.pairs()), "\n")
		want[at] = r
		return b, want, nil
	})
}

// PutBefore gives a rules file's text with a rule added right before the one of a name.
func PutBefore(text []byte, name string, r Rule) ([]byte, error) {
	return edit(text, func(set *Set, b blocks) (blocks, []Rule, error) {
		at, err := set.place(name)
		if err != nil {
			return nil, nil, err
		}
		r.named = r.Name != "" && r.Name != string(r.Pattern)
		return b.insert(at, blockOf(r)), slices.Insert(slices.Clone(set.rules), at, r), nil
	})
}

// Remove gives the file's text without the rule of a name.
func Remove(text []byte, name string) ([]byte, error) {
	return edit(text, func(set *Set, b blocks) (blocks, []Rule, error) {
		at, err := set.place(name)
		if err != nil {
			return nil, nil, err
		}
		place := b.place("rule", at)
		return slices.Delete(b, place, place+1), slices.Delete(slices.Clone(set.rules), at, at+1), nil
	})
}

// Move gives the file's text with the rule of a name so many places further down, or up.
func Move(text []byte, name string, by int) ([]byte, error) {
	return edit(text, func(set *Set, b blocks) (blocks, []Rule, error) {
		at, err := set.place(name)
		if err != nil {
			return nil, nil, err
		}
		to := min(max(at+by, 0), len(set.rules)-1)
		want := slices.Clone(set.rules)
		r := want[at]
		want = slices.Insert(slices.Delete(want, at, at+1), to, r)
		place := b.place("rule", at)
		moved := b[place]
		return slices.Delete(b, place, place+1).insert(to, moved), want, nil
	})
}

func (s *Set) place(name string) (int, error) {
	at := slices.IndexFunc(s.rules, func(r Rule) bool { return r.Name == name })
	if at < 0 {
		return 0, fmt.Errorf("there is no rule %q: jollylarder rules list lists all", name)
	}
	return at, nil
}

// edit changes a file's text, and makes sure that the change is the one that was meant, and no other.
func edit(text []byte, f func(*Set, blocks) (blocks, []Rule, error)) ([]byte, error) {
	set, err := Parse(text)
	if err != nil {
		return nil, err
	}
	text = bytes.TrimPrefix(text, mark)
	if len(bytes.TrimSpace(text)) == 0 {
		text = []byte(Heading)
	}
	if n := bytes.Count(text, []byte("\r\n")); n > 0 && n == bytes.Count(text, []byte("\n")) { // and is to stay so
		out, err := edit(bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")), f)
		return bytes.ReplaceAll(out, []byte("\n"), []byte("\r\n")), err
	}
	b := split(string(text))
	if n := len(set.rules); b.place("rule", n) >= 0 || n > 0 && b.place("rule", n-1) < 0 {
		return nil, errors.New("the rules are not written as [[rule]] tables: edit the file by hand, and apply it")
	}
	b, want, err := f(set, b)
	if err != nil {
		return nil, err
	}
	var out strings.Builder
	for _, x := range b {
		for _, l := range x.lines {
			out.WriteString(l)
		}
	}
	back, err := Parse([]byte(out.String()))
	if err != nil {
		return nil, fmt.Errorf("the rules file cannot be changed: %w", err)
	}
	if len(back.rules) != len(want) ||
		!slices.EqualFunc(back.rules, want, func(a, b Rule) bool { return reflect.DeepEqual(a.bare(), b.bare()) }) {
		return nil, errors.New(
			"the rules file cannot be edited in place: edit it by hand, and apply it",
		)
	}
	return []byte(out.String()), nil
}

// bare gives a rule without what is not written of it, and with nothing for what is empty.
func (r Rule) bare() Rule {
	if !r.named {
		r.Name = ""
	}
	for _, list := range []*[]string{&r.Tables, &r.OnlyTables, &r.AlsoReads, &r.NeverTables} {
		if len(*list) == 0 {
			*list = nil
		}
	}
	if len(r.When.Labels) == 0 {
		r.When.Labels = nil
	}
	if len(r.NeverPatterns) == 0 {
		r.NeverPatterns = nil
	}
	return r
}

// insert puts the block of a rule in, before the rule of an index, or behind all rules.
func (b blocks) insert(at int, x block) blocks {
	place := b.place("rule", at)
	if place < 0 {
		place = len(b)
	}
	before := &b[place-1].lines
	if n := len(*before); n > 0 && (*before)[n-1] != "" && !strings.HasSuffix((*before)[n-1], "\n") {
		(*before)[n-1] += "\n"
	}
	blank := true
	for _, l := range *before {
		blank = l == "" && blank || l != "" && strings.TrimSpace(l) == ""
	}
	if !blank {
		*before = append(*before, "\n")
	}
	if n := len(x.lines); place < len(b) && n > 0 && strings.TrimSpace(x.lines[n-1]) != "" {
		x.lines = append(x.lines, "\n")
	}
	return slices.Insert(b, place, x)
}

// blockOf writes a rule.
func blockOf(r Rule) block {
	lines := []string{"[[rule]]\n"}
	for _, p := range r.pairs() {
		lines = append(lines, p.key+" = "+p.value+"\n")
	}
	return block{"rule", lines}
}

// pair is a key with its value in TOML.
type pair struct{ key, value string }

// pairs gives what is written of a rule, in the order in which it is.
func (r Rule) pairs() (out []pair) {
	add := func(is bool, key, value string) {
		if is {
			out = append(out, pair{key, value})
		}
	}
	add(r.named, "name", quote(r.Name))
	add(r.Pattern != "", "pattern", quote(string(r.Pattern)))
	add(r.Text != "", "text", quote(r.Text))
	add(len(r.Tables) > 0, "tables", quoteAll(r.Tables))
	add(len(r.OnlyTables) > 0, "only_tables", quoteAll(r.OnlyTables))
	add(!r.When.None(), "when", r.When.toml())
	add(true, "action", quote(string(r.Action)))
	advised := r.Action == Advised
	add(advised, "max_ttl", quote(FormatTTL(r.TTL)))
	add(r.MinSaved > 0, "min_saved", quote(r.MinSaved.String()))
	add(advised && r.MemoryShare > 0, "max_memory", quote(FormatMemory(r.MemoryShare)))
	add(len(r.NeverTables) > 0, "never_tables", quoteAll(r.NeverTables))
	add(len(r.NeverPatterns) > 0, "never_patterns", quoteAll(r.NeverPatterns))
	add(!advised && (r.Action == Cache || r.TTL != 0), "ttl", quote(FormatTTL(r.TTL)))
	add(r.TTLOnly, "mode", quote(TTLOnly))
	add(r.SizeLimit > 0, "size_limit", quote(bytesize.Format(int64(r.SizeLimit))))
	add(!advised && r.MemoryShare > 0, "memory_share", quote(FormatMemory(r.MemoryShare)))
	add(r.SkipEmpty, "empty_results", "false")
	add(r.TimeFunctions, "time_functions", "true")
	add(r.ReadCommitted, "in_transaction", quote(AsReadCommitted))
	add(len(r.AlsoReads) > 0, "also_reads", quoteAll(r.AlsoReads))
	add(r.Refetch, "refetch", "true")
	add(r.WarmUp > 0, "warm_up", fmt.Sprint(r.WarmUp))
	add(r.AcrossUsers, "across_users", "true")
	add(r.ControlSample != 0, "control_sample", number(r.Sample()))
	add(r.GoOn, "on_stale", quote(Continue))
	add(r.Paused, "paused", "true")
	add(r.Note != "", "note", quote(r.Note))
	add(r.Statement != "", "statement", quote(r.Statement))
	return out
}

func number(f float64) string {
	out, _ := toml.Marshal(map[string]float64{"f": f})
	return strings.TrimPrefix(strings.TrimSpace(string(out)), "f = ")
}

func (c Conditions) toml() string {
	var parts []string
	add := func(key, value string) {
		if value != "" {
			parts = append(parts, key+" = "+quote(value))
		}
	}
	add("application", c.Application)
	add("user", c.User)
	add("database", c.Database)
	if c.Client.IsValid() {
		add("client", FormatNetwork(c.Client))
	}
	var labels []string
	for k, v := range c.Labels {
		labels = append(labels, quote(k)+" = "+quote(v))
	}
	if slices.Sort(labels); len(labels) > 0 {
		parts = append(parts, "label = { "+strings.Join(labels, ", ")+" }")
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// FormatNetwork writes a network as ParseNetwork reads it.
func FormatNetwork(n netip.Prefix) string {
	if n.Bits() == n.Addr().BitLen() {
		return n.Addr().String()
	}
	return n.String()
}

// change gives a block's text with some of its keys changed, and everything else as it was.
func change(text string, old, now []pair) string {
	type splice struct {
		from, to int
		text     string
	}
	var edits []splice
	have, tables := items(text)
	for _, o := range old {
		i := slices.IndexFunc(now, func(p pair) bool { return p.key == o.key })
		if i >= 0 && now[i].value == o.value {
			continue
		}
		first := true
		for _, it := range have {
			if it.key != o.key {
				continue
			}
			if first && i >= 0 && !strings.Contains(text[it.line:it.value], ".") {
				edits = append(edits, splice{it.value, it.end, now[i].value})
			} else {
				edits = append(edits, splice{it.line, it.next, ""})
			}
			first = first && strings.Contains(text[it.line:it.value], ".")
		}
		if first { // it is written as a table within, or as several keys with dots
			if o.key == "when" && tables < len(text) {
				edits = append(edits, splice{tables, tables + endOfTables(text[tables:]), ""})
			}
			if i >= 0 {
				// It is put in anew.
				old = slices.DeleteFunc(slices.Clone(old), func(p pair) bool { return p.key == o.key })
			}
		}
	}
	for i, p := range now {
		if slices.ContainsFunc(old, func(o pair) bool { return o.key == p.key }) {
			continue
		}
		at := -1
		for j := i - 1; j >= 0 && at < 0; j-- { // behind what stands before it in order
			for _, it := range have {
				if it.key == now[j].key {
					at = it.next
				}
			}
		}
		if at < 0 {
			at = head.FindStringIndex(text)[0]
			at += lineLength(text[at:])
		}
		line := p.key + " = " + p.value + "\n"
		if at > 0 && text[at-1] != '\n' {
			line = "\n" + strings.TrimSuffix(line, "\n")
		}
		edits = append(edits, splice{at, at, line})
	}
	// From the end to the beginning; at one place, what is taken out first, and then what is put in, the last first.
	slices.Reverse(edits)
	slices.SortStableFunc(edits, func(a, b splice) int {
		return cmp.Or(cmp.Compare(b.from, a.from), cmp.Compare(b.to-b.from, a.to-a.from))
	})
	for _, e := range edits {
		text = text[:e.from] + e.text + text[e.to:]
	}
	return text
}

// endOfTables gives how much of a text belongs to the tables that it begins with, and not to blanks and comments at its
// end.
func endOfTables(text string) int {
	end := 0
	at := 0
	for _, l := range strings.SplitAfter(text, "\n") {
		at += len(l)
		if t := strings.TrimSpace(l); t != "" && !strings.HasPrefix(t, "#") {
			end = at
		}
	}
	return end
}

func quoteAll[T ~string](list []T) string {
	var out []string
	for _, s := range list {
		out = append(out, quote(string(s)))
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// quote writes a TOML string on one line. What JSON escapes, TOML reads, and it wants one character more to be.
func quote(s string) string {
	var out strings.Builder
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s)
	return strings.ReplaceAll(strings.TrimSpace(out.String()), "\x7f", `\u007f`)
}
