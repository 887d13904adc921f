package analysis

import "unsafe"

// Bytes is about how much memory the facts take, for who has to bound that.
func (f *Facts) Bytes() int64 {
	if f == nil {
		return 0
	}
	n := int64(unsafe.Sizeof(*f))
	for _, list := range [...][]Name{f.Reads, f.Functions, f.Types, f.Again, f.Rewritten, f.Drops, f.Grants} {
		n += int64(len(list)) * int64(unsafe.Sizeof(Name{})+perText)
	}
	for _, w := range f.Writes {
		n += int64(unsafe.Sizeof(w)) + perText + int64(len(w.Sets))*perText
	}
	for _, list := range [...][]string{f.BuiltIns, f.Columns, f.Operators, f.CastTo} {
		n += int64(len(list)) * perText
	}
	for _, r := range f.Reasons {
		n += int64(unsafe.Sizeof(r)) + int64(len(r.Detail)+len(r.Way))
	}
	for _, list := range [...][]*Ref{f.Refs, f.DateCasts, f.Shifted} {
		n += int64(len(list)) * int64(unsafe.Sizeof(Ref{})+perText)
	}
	for _, d := range f.Defines {
		n += int64(unsafe.Sizeof(d)) + int64(len(d.Names))*int64(unsafe.Sizeof(Name{})+perText)
	}
	n += int64(
		len(f.Fields),
	)*int64(
		unsafe.Sizeof(Field{})+perText,
	) + int64(
		len(f.Variables),
	)*int64(
		unsafe.Sizeof(VariableType{})+perText,
	)
	for _, p := range f.Pins {
		n += int64(
			unsafe.Sizeof(p),
		) + int64(
			len(p.Values),
		)*int64(
			unsafe.Sizeof(PinValue{}),
		) + int64(
			len(p.Via),
		)*int64(
			unsafe.Sizeof(Ref{})+perText,
		) + 2*perText
	}
	return n + f.Prepared.Bytes() + f.Code.Bytes()
}

// perText is what a short text takes with the slice's or the allocator's part of it.
const perText = 32
