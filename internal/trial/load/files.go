package load

import (
	"bytes"
	"context"
	"fmt"
	"os"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
)

// Open reads the statements of a file: a recording, if it begins like one, or else SQL of a protocol.
func Open(path string, p *protocol.Protocol) ([]trial.Statement, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		_, list, err := trial.ReadRecording(path, bytes.NewReader(text))
		return list, err
	}
	return ReadFile(path, string(text), p)
}

// Protocol gives that of the URLs of a database, which may be empty, and of the larder before it.
func Protocol(direct, through string) (*protocol.Protocol, error) {
	p, err := protocol.OfURL(through, protocol.Tried)
	if err != nil || direct == "" {
		return p, err
	}
	d, err := protocol.OfURL(direct, protocol.Tried)
	if err == nil && d != p {
		err = fmt.Errorf("the database is of %s, and what is asked through the larder of %s: expected one and the same", d.Title, p.Title)
	}
	return p, err
}

// Prepare makes ready a trial that is asked for, or says what is wrong with it.
func Prepare(w trial.Wanted) (run func(context.Context) (*trial.Result, error), err error) {
	p, err := Protocol(w.Direct, w.Through)
	if err != nil {
		return nil, err
	}
	list, err := Open(w.File, p)
	if err != nil {
		return nil, fmt.Errorf("file: %w", err)
	}
	list, leftOut, err := Sort(list, p, w.Writes)
	if err != nil {
		return nil, err
	}
	t := Load{
		Protocol:   p,
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
