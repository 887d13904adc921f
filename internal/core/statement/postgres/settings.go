package postgres

import (
	"bytes"

	"jollylarder/internal/core/statement"
)

// withoutSettings takes the value of a setting out of a normalised text, and puts a placeholder there. Values of
// settings may be written without quotes, and may be secrets: SET app.token = abc, ALTER ROLE r SET app.token TO abc.
func withoutSettings(text []byte) []byte {
	first, rest, _ := bytes.Cut(text, []byte(" "))
	at := 0
	switch string(first) {
	case "set":
	case "alter":
		i := bytes.Index(rest, []byte(" set "))
		if i < 0 {
			return text
		}
		at = len(first) + 1 + i + 1
	default:
		return text
	}
	equal := bytes.Index(text[at:], []byte(" = "))
	to := bytes.Index(text[at:], []byte(" to "))
	switch {
	case equal < 0 && to < 0:
		return text
	case equal < 0 || to >= 0 && to < equal:
		at += to + len(" to ")
	default:
		at += equal + len(" = ")
	}
	end := len(text)
	if i := bytes.IndexByte(text[at:], ';'); i >= 0 {
		end = at + i
		for end > at && (text[end-1] == ' ' || text[end-1] == '\n') {
			end--
		}
	}
	out := append(append([]byte{}, text[:at]...), statement.Placeholder...)
	if behind := text[end:]; len(bytes.Trim(behind, " ;\n")) > 0 { // several statements in one string
		i := bytes.IndexByte(behind, ';') + 1
		for i < len(behind) && (behind[i] == ' ' || behind[i] == '\n') {
			i++
		}
		return append(append(out, behind[:i]...), withoutSettings(behind[i:])...)
	}
	return append(out, text[end:]...)
}
