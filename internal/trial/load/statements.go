package load

import (
	"fmt"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
)

// ReadFile splits the text of a file into its statements. Name is the file's, for what is wrong with it.
func ReadFile(name, text string, p *protocol.Protocol) ([]trial.Statement, error) {
	parts, err := p.Split(text)
	if err != nil {
		return nil, fmt.Errorf(
			"%s: it cannot be split into statements: %w: expected SQL statements ended by semicolons",
			name,
			err,
		)
	}
	var out []trial.Statement
	for _, sql := range parts {
		if sql = strings.TrimSpace(sql); sql != "" {
			out = append(out, trial.Statement{SQL: sql})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf(
			"%s: it contains no statement: expected SQL statements ended by semicolons",
			name,
		)
	}
	return out, nil
}

// RefusedError is a list of statements of which some may write, where writes are not allowed.
type RefusedError struct {
	First []string // the first of them, with what is not known of each
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf(
		"these statements may write: %s; nothing was run. --allow-writes runs each in a transaction that is rolled back",
		strings.Join(e.First, "; "),
	)
}

// Sort takes out what cannot be run in a trial, and says why. Statements that are not known to read only are refused
// with a RefusedError unless writes are allowed; then each is run in a transaction that is rolled back.
func Sort(list []trial.Statement, p *protocol.Protocol, allowWrites bool) (out []trial.Statement, leftOut []string, err error) {
	known := map[string]*analysis.Facts{}
	control, settings, others := 0, 0, 0
	var refused []string
	for _, s := range list {
		if s.Protocol != "" && s.Protocol != p.Name {
			others++
			continue
		}
		f := known[s.SQL]
		if f == nil {
			f = p.Dialect.Facts(p.Dialect.Syntax, s.SQL)
			known[s.SQL] = f
		}
		switch why := unsafe(f); {
		case transactions[f.Kind]:
			control++
			continue
		case f.Effect&^(analysis.Settings|analysis.Patience|analysis.Isolates) == 0 && sets[f.Kind]:
			settings++
			continue
		case f.Effect&(analysis.Schema|analysis.Commits) != 0 || len(f.Defines) > 0 || alone[f.Kind]:
			return nil, nil, fmt.Errorf(
				"%q cannot be run in a trial, because it cannot be rolled back: remove it",
				short(s.SQL),
			)
		case why != "" && (!allowWrites || p.KeepsWrites):
			if len(refused) < 3 {
				refused = append(refused, fmt.Sprintf("%q %s", short(s.SQL), why))
			}
			continue
		case why != "":
			s.Writes = true
		}
		out = append(out, s)
	}
	switch {
	case len(refused) > 0 && p.KeepsWrites:
		return nil, nil, fmt.Errorf("these statements may write: %s; nothing was run. Writes to some tables of %s cannot be rolled back: remove these statements", strings.Join(refused, "; "), p.Title)
	case len(refused) > 0:
		return nil, nil, &RefusedError{refused}
	}
	if control > 0 {
		leftOut = append(
			leftOut,
			fmt.Sprintf("%d statements that begin or end transactions: each statement is run by itself", control),
		)
	}
	if settings > 0 {
		leftOut = append(leftOut, fmt.Sprintf("%d statements that set something for their session", settings))
	}
	if others > 0 {
		leftOut = append(leftOut, fmt.Sprintf("%d statements that are none of %s", others, p.Title))
	}
	switch {
	case len(list) == 0:
		return nil, nil, fmt.Errorf("there is no statement to run: expected some that read, separated by semicolons")
	case len(out) == 0:
		return nil, nil, fmt.Errorf("no statement is left to run; left out: %s", strings.Join(leftOut, "; "))
	}
	return out, leftOut, nil
}

// transactions are the kinds of what begins, divides and ends transactions, sets those of what sets something for its
// session, and alone those of some statements that run in none, or end one that is not the trial's.
var (
	transactions = map[analysis.Kind]bool{
		analysis.KindBegin:     true,
		analysis.KindCommit:    true,
		analysis.KindRollback:  true,
		analysis.KindSavepoint: true,
	}
	sets  = map[analysis.Kind]bool{analysis.KindSet: true, analysis.KindReset: true}
	alone = map[analysis.Kind]bool{
		analysis.KindVacuum: true, analysis.KindCommitPrepared: true, analysis.KindRollbackPrepared: true, analysis.KindPrepareTransaction: true,
		analysis.KindCheckpoint: true, analysis.KindCluster: true, analysis.KindReindex: true, analysis.KindCopy: true,
	}
)

// unsafe says why a statement is not known to read only, or nothing.
func unsafe(f *analysis.Facts) string {
	switch {
	case len(f.Writes) > 0:
		return "writes " + f.Writes[0].String()
	case f.Effect != 0:
		return "may do anything"
	case len(f.Functions) > 0:
		return "calls " + f.Functions[0].String() + ", which may write"
	}
	for _, r := range f.Reasons {
		if !r.OfTime() {
			return "may be no plain read: " + r.String()
		}
	}
	return ""
}

func short(sql string) string {
	sql = strings.Join(strings.Fields(sql), " ")
	if r := []rune(sql); len(r) > 80 {
		return string(r[:79]) + "…"
	}
	return sql
}
