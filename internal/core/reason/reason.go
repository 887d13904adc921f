// Package reason says why a result is not kept, or why a statement passes at one moment. A reason is a code, by which
// the program decides, with what it speaks of. Its sentence is made here, for people, and nothing is decided by it.
package reason

import "strings"

// Reason says why. Reasons are comparable; the zero Reason says nothing.
type Reason struct {
	Code Code
	// Detail is the name or text that the code's sentence speaks of, where it speaks of one.
	Detail string
	// Way is how the statement comes to what has the reason, from the statement inwards. It is empty for the statement
	// itself.
	Way Way
}

// Of gives the reason of a code that speaks of nothing in particular.
func Of(c Code) Reason { return Reason{Code: c} }

// About gives the reason of a code with what it speaks of.
func About(c Code, detail string) Reason { return Reason{Code: c, Detail: detail} }

// Some says whether there is a reason.
func (r Reason) Some() bool { return r.Code != None }

// Behind gives the reason as it is for a statement that comes to what has it by a way.
func (r Reason) Behind(w Way) Reason {
	r.Way = w + r.Way
	return r
}

// OfTime says whether the reason rests on the current time alone: who accepts an age in results may accept it.
func (r Reason) OfTime() bool { return codes[r.Code].kind&ofTime != 0 }

// String gives the sentence for people, without a capital or a full stop.
func (r Reason) String() string {
	var b strings.Builder
	for step, name := range r.Way.steps() {
		put(&b, steps[step], name)
	}
	put(&b, codes[r.Code].text, r.Detail)
	return b.String()
}

// Clause gives the sentence so that it fits behind "it".
func (r Reason) Clause() string {
	if r.Way == "" && codes[r.Code].kind&does == 0 {
		return "bypasses: " + r.String()
	}
	return r.String()
}

// put writes a text with a name in the place of its %s.
func put(b *strings.Builder, text, name string) {
	before, after, ok := strings.Cut(text, "%s")
	b.WriteString(before)
	if ok {
		b.WriteString(name)
		b.WriteString(after)
	}
}

// most bounds a list: a statement may name tens of thousands of things that each are a reason, and further ones tell
// nobody anything.
const most = 64

// Add appends a reason to a list that does not have it yet. To a long one it adds no more, but for the first that does not
// rest on the time alone.
func Add(list []Reason, r Reason) []Reason {
	other := false
	for _, have := range list {
		if have == r {
			return list
		}
		other = other || !have.OfTime()
	}
	if len(list) >= most && (other || r.OfTime()) {
		return list
	}
	return append(list, r)
}

// Sentences gives the sentences of a list. It is nil for none.
func Sentences(list []Reason) []string {
	var out []string
	for _, r := range list {
		out = append(out, r.String())
	}
	return out
}
