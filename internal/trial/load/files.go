package load

import (
	"bytes"
	"context"
	"fmt"
	"os"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/trial"
)

// Open reads the statements of a file: a recording, if it begins like one, or else SQL.
func Open(path string) ([]trial.Statement, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		_, list, err := trial.ReadRecording(path, bytes.NewReader(text))
		return list, err
	}
	return ReadFile(path, string(text))
}

// Prepare makes ready a trial that is asked for, or says what is wrong with it.
func Prepare(w trial.Wanted) (run func(context.Context) (*trial.Result, error), err error) {
	list, err := Open(w.File)
	if err != nil {
		return nil, fmt.Errorf("file: %w", err)
	}
	list, leftOut, err := Sort(list, w.Writes)
	if err != nil {
		return nil, err
	}
	t := Load{
		Direct:     w.Direct,
		Through:    w.Through,
		Statements: list,
		Clients:    w.Clients,
		Length:     w.Length,
		Rounds:     w.Rounds,
		OptOut:     engine.OptOutComment,
		Count:      w.Count,
		Progress:   w.Progress,
	}
	return func(ctx context.Context) (*trial.Result, error) {
		r, err := t.Run(ctx)
		r.LeftOut = leftOut
		return &r, err
	}, nil
}
