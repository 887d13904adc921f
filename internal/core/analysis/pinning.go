package analysis

import "slices"

// Pinning are the columns that the conditions of one query or write fix to literals. A table that is also mentioned
// elsewhere is not pinned by them, which is for Again to tell.
type Pinning struct {
	pins  []Pin
	equal [][2]*Ref // columns that must be equal
}

// Fix notes that a column must have one of some values; it may be nil.
func (x *Pinning) Fix(c *Ref, values []PinValue) {
	if c != nil {
		x.pins = append(x.pins, Pin{Ref: c, Values: values})
	}
}

// Equate notes that two columns must be equal; either may be nil.
func (x *Pinning) Equate(a, b *Ref) {
	if a != nil && b != nil {
		x.equal = append(x.equal, [2]*Ref{a, b})
	}
}

// mostFollowed bounds the work of Pins, which grows with the number of columns pinned times that of equal ones.
const mostFollowed = 10_000

// Pins gives the pins, among them those of columns that must be equal to pinned ones. Columns are the same here if they
// are written the same: that two ways of writing mean one is not looked for.
func (x *Pinning) Pins(of PinOf) []Pin {
	has := func(c *Ref) bool {
		return slices.ContainsFunc(x.pins, func(p Pin) bool { return slices.Equal(p.Ref.Path, c.Path) })
	}
	for i := 0; i < len(x.pins) && len(x.pins)*len(x.equal) <= mostFollowed; i++ { // it grows on the way
		p := x.pins[i]
		for _, e := range x.equal {
			for _, side := range [2][2]*Ref{{e[0], e[1]}, {e[1], e[0]}} {
				if slices.Equal(side[0].Path, p.Ref.Path) && !has(side[1]) {
					x.pins = append(x.pins, Pin{Ref: side[1], Values: p.Values, Via: append(slices.Clone(p.Via), p.Ref)})
				}
			}
		}
	}
	for i := range x.pins {
		x.pins[i].Of = of
	}
	return x.pins
}
