package main

import (
	"context"
	"fmt"
	"net/url"
	"time"

	"jollylarder/internal/demo"
)

// The demo's traffic is run for so long in each way, and so long before that for memory to fill. What is cached by hand
// or kept by a rule is for so long at most.
const (
	byHandLength = 20 * time.Second
	byHandTTL    = 10 * time.Second
)

// Judged is what came of the demo's reads in one way.
type Judged struct {
	Way string `json:"way"`
	demo.Judged
}

// byHand runs the demo's traffic without a cache, with one that the application has made itself, and with a larder.
func (b *bench) byHand() error {
	server := (&url.URL{Scheme: "postgres", User: url.User("postgres"), Host: b.direct, Path: "/postgres", RawQuery: "sslmode=disable"}).String()
	for _, w := range demo.Ways {
		got, err := demo.Judge(context.Background(), server, b.keyValue, w, byHandTTL, byHandLength)
		if err != nil {
			return fmt.Errorf("%s: %w", w, err)
		}
		b.results.ByHand = append(b.results.ByHand, Judged{string(w), got})
	}
	return nil
}
