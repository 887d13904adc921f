package postgres

import pg "github.com/pganalyze/pg_query_go/v6"

// Split splits a text into its statements, which have a semicolon behind them.
func Split(text string) ([]string, error) { return pg.SplitWithScanner(text, true) }
