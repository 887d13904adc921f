package trial

import (
	"bytes"
	"os"
)

// Open reads the statements of a file: a recording, if it begins like one, or else SQL.
func Open(path string) ([]Statement, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		_, list, err := ReadRecording(path, bytes.NewReader(text))
		return list, err
	}
	return ReadFile(path, string(text))
}
