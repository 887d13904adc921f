package statement

import "crypto/sha256"

// ID is the name of a pattern: three words of two syllables, as in "bado-kife-ruma", fit for saying and typing.
// It is made from the pattern's text and its syntax alone, so that it is the same on every run and machine. About 2.6e11 names exist.
type ID string

const (
	consonants = "bdfghjklmnprstvz"
	vowels     = "aeiou"
)

// ID gives the ID of a pattern's normalised text.
func (s *Syntax) ID(pattern []byte) ID {
	if s.Name == "" {
		return Name(pattern)
	}
	return Name(append([]byte(s.Name+"\x00"), pattern...))
}

// Name gives the ID of what is of no syntax, and stands among patterns.
func Name(text []byte) ID {
	sum := sha256.Sum256(text)
	var n uint64
	for _, b := range sum[:8] {
		n = n<<8 | uint64(b)
	}
	name := make([]byte, 0, 14)
	for syllable := range 6 {
		if syllable == 2 || syllable == 4 {
			name = append(name, '-')
		}
		name = append(name, consonants[n%16], vowels[n/16%5])
		n /= 80
	}
	return ID(name)
}

// Of gives the ID of the pattern that a statement belongs to.
func (s *Syntax) Of(sql string) ID { return s.ID(s.Normalise([]byte(sql))) }

// ValidID says whether text is written like an ID.
func ValidID(text string) bool {
	if len(text) != 14 {
		return false
	}
	for i := range len(text) {
		c := text[i]
		switch {
		case i == 4 || i == 9:
			if c != '-' {
				return false
			}
		case i < 4 && i%2 == 0, i > 4 && i < 9 && i%2 == 1, i > 9 && i%2 == 0:
			if !contains(consonants, c) {
				return false
			}
		default:
			if !contains(vowels, c) {
				return false
			}
		}
	}
	return true
}

func contains(set string, c byte) bool {
	for i := range len(set) {
		if set[i] == c {
			return true
		}
	}
	return false
}
