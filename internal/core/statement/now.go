package statement

// MayMeanNow says whether a text holds a word that the server's date and time types read as the time of the call. A
// text is judged without knowing the type it will get, so it may be an ordinary word; then it costs a hit, never an old
// answer.
func (s *Syntax) MayMeanNow(text []byte) bool {
	for i := range text {
		if s.nowStarts[text[i]] && (i == 0 || !asciiLetter(text[i-1])) {
			for _, word := range s.NowWords {
				if isWord(text[i:], word) {
					return true
				}
			}
		}
	}
	return false
}

// isWord says whether a text begins with a word in either case, and no letter behind it.
func isWord(text []byte, word string) bool {
	if len(text) < len(word) || len(text) > len(word) && asciiLetter(text[len(word)]) {
		return false
	}
	for i := range len(word) {
		if text[i]|0x20 != word[i] {
			return false
		}
	}
	return true
}

func asciiLetter(c byte) bool {
	c |= 0x20
	return c >= 'a' && c <= 'z'
}
