package main

import (
	"errors"
	"time"

	"jollylarder/internal/core/analysis"
	pgcatalog "jollylarder/internal/core/catalog/postgres"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/rules"
)

// accounting measures what all that is counted of a hit costs, against the processor time of a whole one.
func (b *bench) accounting() error {
	const name = "accounting"
	now := time.Now()
	e, err := larder.New(engine.Options{Dialect: dialect.Dialect}, now)
	if err != nil {
		return err
	}
	e.SetRules(rules.NewSet([]rules.Rule{{Pattern: dialect.Dialect.Syntax.Of(keptPoint), Action: rules.Cache, ControlSample: -1}}))
	s := e.NewSession(engine.Identity{Database: "postgres", User: "postgres", Application: "bench"})
	s.Asking(engine.NeedSettings|engine.NeedCatalog, now)
	s.Learned(engine.Settings{Values: []string{"UTC"}, Isolation: analysis.ReadCommitted})
	described, err := pgcatalog.Describe([]pgcatalog.Row{{What: "relation", Schema: "public", Name: "kept_fares", Flags: "r"}, {What: "columns", Schema: "public", Name: "kept_fares", OtherName: "fare id\n fare"}})
	if err != nil {
		return err
	}
	s.LearnedCatalog(described, now)
	r := &engine.Request{Statement: s.Read([]byte(keptPoint)).Clone(), Shape: 'q'}
	t := s.Begin(r, now)
	t.Sent(now)
	t.End(engine.Result{Took: time.Millisecond, Fetch: time.Millisecond, Rows: 1, Bytes: 60, Reply: make([]byte, 60)}, now)
	s.Ready(s.State())
	f, err := b.hits(1)
	if err != nil {
		return err
	}
	defer f.close()
	var shares, costs []float64
	const each = 100_000
	for range b.rounds {
		used, answered := b.larder.processor(), f.answered
		if _, err := f.run(b.slice); err != nil {
			return err
		}
		whole := float64((b.larder.processor() - used).Nanoseconds()) / float64(f.answered-answered)
		began := time.Now()
		for range each {
			s.Begin(r, now).Drop()
		}
		dropped := time.Now()
		for i := range each {
			t := s.Begin(r, now)
			if t.Step() != engine.StepAnswer {
				return errors.New("what was cached is not a hit")
			}
			t.End(engine.Result{Took: 30 * time.Microsecond, Bytes: 60}, now.Add(time.Duration(i)*20*time.Microsecond))
		}
		cost := float64((time.Since(dropped) - dropped.Sub(began)).Nanoseconds()) / each
		if whole > 0 {
			shares, costs = append(shares, cost/whole), append(costs, cost)
		}
	}
	if len(shares) == 0 {
		return errors.New("the system says nothing of processor time")
	}
	b.results.Figures = append(b.results.Figures,
		Figure{Case: name, What: "all that is counted of a hit", Value: median(costs), Unit: "ns"},
		Figure{Case: name, What: "as a part of its processor time", Value: median(shares), Unit: "times"}.atMost(0.05))
	return nil
}
