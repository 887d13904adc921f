package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// handCached is a connection of an application that caches by hand, as is usual: it asks a key-value server first, the
// database if nothing is there, and writes back what it was told, with a TTL.
type handCached struct {
	connection
	store *keyValue
	ttl   time.Duration
}

func (h handCached) rows(ctx context.Context, sql string, args ...any) ([]string, error) {
	key := fmt.Sprint("rows:", sql, args)
	if text, ok, err := h.store.get(key); err == nil && ok {
		var rows []string
		if json.Unmarshal(text, &rows) == nil {
			return rows, nil
		}
	}
	rows, err := h.connection.rows(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	if text, err := json.Marshal(rows); err == nil {
		_ = h.store.set(key, text, h.ttl)
	}
	return rows, nil
}
