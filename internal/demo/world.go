// Package demo makes Skerrow Ferries: a made-up company with boats between made-up islands, its database, and the
// traffic of its five applications. Everything is made from a fixed seed.
package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// Today is the day on which the demo plays.
var Today = time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC)

var (
	portNames  = []string{"Skerrow", "Hallan", "Nessay", "Brannoch", "Orsa", "Tarvit", "Lunna", "Muckle Wick", "Stroman", "Eddra", "Fethan", "Greyholm"}
	islands    = []string{"Great Skerrow", "Hallan", "Nessay", "Brannoch", "Great Skerrow", "Tarvit", "Lunna", "Wick Holms", "Stroman", "Eddra", "Fethan", "Wick Holms"}
	vessels    = []string{"Petrel", "Eider", "Merganser", "Fulmar", "Dunlin", "Turnstone", "Guillemot", "Shearwater"}
	givenNames = []string{"Ines", "Torvald", "Maren", "Callum", "Sunniva", "Edda", "Ruairi", "Oona", "Halvard", "Brigit", "Sorley", "Tove"}
	families   = []string{"Strand", "Quoy", "Harrow", "Vik", "Tangen", "Ness", "Garth", "Linga", "Moss", "Fair", "Holm", "Skaill"}
	states     = []string{"open", "open", "open", "open", "late", "full"}
)

const (
	routeCount     = 24
	daysOfSailings = 10
	perDay         = 8
	passengerCount = 1500
	bookingCount   = 12000
)

// load fills a database with the schema and its data.
func load(ctx context.Context, c connection, schema string, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 1))
	if err := c.run(ctx, schema); err != nil {
		return fmt.Errorf("making the tables: %w", err)
	}
	l := loader{ctx: ctx, c: c}
	for i, n := range portNames {
		l.row("ports", i+1, n, islands[i], 1+r.IntN(4))
	}
	for i, n := range vessels {
		l.row("vessels", i+1, n, 120+20*r.IntN(15), 10*r.IntN(8))
	}
	for i := range routeCount {
		from := i % len(portNames)
		to := (from + 1 + r.IntN(len(portNames)-1)) % len(portNames)
		l.row("routes", i+1, from+1, to+1, 20+5*r.IntN(30))
	}
	sailing := 0
	for day := range daysOfSailings {
		for route := range routeCount {
			for n := range perDay {
				sailing++
				at := Today.AddDate(0, 0, day).Add(6*time.Hour + time.Duration(n*115+r.IntN(40))*time.Minute)
				l.row("sailings", sailing, route+1, 1+r.IntN(len(vessels)), at, states[r.IntN(len(states))], r.IntN(200))
			}
		}
	}
	for i := range routeCount {
		for j, class := range []string{"adult", "child", "car", "bicycle", "cabin"} {
			l.row("fares", i*5+j+1, i+1, class, fmt.Sprintf("%.2f", float64(300+r.IntN(4000))/100))
		}
	}
	for i := range passengerCount {
		l.row("passengers", i+1, card(i), givenNames[r.IntN(len(givenNames))]+" "+families[r.IntN(len(families))], 1+r.IntN(len(portNames)))
	}
	for i := range bookingCount {
		l.row("bookings", i+1, 1+r.IntN(sailing), 1+r.IntN(passengerCount), 1+r.IntN(4), Today.Add(-time.Duration(r.IntN(20000))*time.Minute))
	}
	for i := range 600 {
		l.row("tide_readings", i+1, 1+i%len(portNames), Today.Add(-time.Duration(i)*time.Minute), fmt.Sprintf("%.2f", 1+3*r.Float64()))
	}
	for i := range 18 {
		l.row("notices", i+1, 1+r.IntN(len(portNames)), []string{"Lift out of order", "Sea swell expected after noon", "Tea room open till six", "Car deck check-in closes early"}[r.IntN(4)], Today.Add(-time.Duration(i)*time.Hour))
	}
	l.flush()
	return l.err
}

func card(i int) string { return fmt.Sprintf("SK-%05d", 10007+i*13) }

// loader gathers rows into statements of some hundred rows.
type loader struct {
	ctx   context.Context
	c     connection
	table string
	rows  []string
	err   error
}

func (l *loader) row(table string, values ...any) {
	if table != l.table || len(l.rows) >= 400 {
		l.flush()
		l.table = table
	}
	var parts []string
	for _, v := range values {
		switch v := v.(type) {
		case int:
			parts = append(parts, fmt.Sprint(v))
		case time.Time:
			parts = append(parts, "'"+v.Format("2006-01-02 15:04:05")+"'")
		default:
			parts = append(parts, "'"+strings.ReplaceAll(fmt.Sprint(v), "'", "''")+"'")
		}
	}
	l.rows = append(l.rows, "("+strings.Join(parts, ", ")+")")
}

func (l *loader) flush() {
	if len(l.rows) == 0 || l.err != nil {
		return
	}
	l.err = l.c.run(l.ctx, "insert into "+l.table+" values "+strings.Join(l.rows, ", "))
	l.rows = nil
}
