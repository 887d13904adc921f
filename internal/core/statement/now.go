package statement

// mayMeanNow says whether a text holds a word that the server's date and time types read as the time of the call:
// now, today, tomorrow, yesterday. A text is judged without knowing the type it will get, so it may be an ordinary
// word; then it costs a hit, never an old answer.
func mayMeanNow(text []byte) bool {
	for i := 0; i < len(text); i++ {
		var word string
		switch text[i] | 0x20 {
		case 'n':
			word = "now"
		case 't':
			if i+2 < len(text) && text[i+2]|0x20 == 'm' {
				word = "tomorrow"
			} else {
				word = "today"
			}
		case 'y':
			word = "yesterday"
		default:
			continue
		}
		if i > 0 && asciiLetter(text[i-1]) || len(text)-i < len(word) {
			continue
		}
		j := 0
		for j < len(word) && text[i+j]|0x20 == word[j] {
			j++
		}
		if j == len(word) && (i+j == len(text) || !asciiLetter(text[i+j])) {
			return true
		}
	}
	return false
}

// MayMeanNow is the same question for a bound value in text format.
func MayMeanNow(value []byte) bool { return mayMeanNow(value) }

func asciiLetter(c byte) bool {
	c |= 0x20
	return c >= 'a' && c <= 'z'
}
