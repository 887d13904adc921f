package freshcheck

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// step is one of a script. They are done one after the other; what is begun and not awaited goes on meanwhile.
type step struct {
	session int
	kind    kind
	sql     string
	mode    int // of the protocol: how the statement is sent
}

// kind is what a step does.
type kind int

const (
	read       kind = iota // ask, and judge the answer
	write                  // or anything else that is not judged
	beginHeld              // have the reply to a statement held back, once the database has run it
	beginStuck             // have a statement held back on its way to the database
	release                // let it go on
	cutOrigin              // cut the larder's connection to the database
	cutClient              // cut the client's connection
	cutLate                // cut the larder's connection while a statement is on its way, which arrives later
	arrives                // now
	later                  // let as much time pass as a write of unknown outcome needs to settle
	around                 // write past the larder
)

func (s step) String() string {
	switch s.kind {
	case read:
		return fmt.Sprintf("%d asks   %s   (%s)", s.session, s.sql, modes[s.mode])
	case write:
		return fmt.Sprintf("%d sends  %s   (%s)", s.session, s.sql, modes[s.mode])
	case beginHeld:
		return fmt.Sprintf("%d sends  %s   and its reply is held back", s.session, s.sql)
	case beginStuck:
		return fmt.Sprintf("%d sends  %s   and is held back itself", s.session, s.sql)
	case release:
		return fmt.Sprintf("%d is let go on", s.session)
	case cutOrigin:
		return fmt.Sprintf("%d loses its connection to the database", s.session)
	case cutClient:
		return fmt.Sprintf("%d goes away", s.session)
	case cutLate:
		return fmt.Sprintf("%d loses its connection to the database, with its statement on its way", s.session)
	case arrives:
		return "what was on its way arrives"
	case later:
		return "a while passes"
	default:
		return fmt.Sprintf("around: %s", s.sql)
	}
}

// Script is a list of steps as they are shown.
type Script []step

func (s Script) String() string {
	var out strings.Builder
	for _, x := range s {
		out.WriteString("  " + x.String() + "\n")
	}
	return out.String()
}

// sessionCount is how many clients there are.
const sessionCount = 4

// newScript makes a random one of n steps.
// It is long, as it has a case of its own for each kind there is.
func newScript(w *world, r *rand.Rand, n int, next *int64, feed bool) Script {
	var out Script
	hot := make([]string, 6) // what is asked again and again, or there would be no hits
	for i := range hot {
		hot[i] = fill(w.reads[r.IntN(len(w.reads))], r, next)
	}
	reads, stay, definitions := 900, 25, 1
	if w.generated { // which has more to try
		reads, stay, definitions = 780, 8, 8
	}
	var held, inBlock [sessionCount]bool
	late := false // something is on its way that its sender does not wait for
	for len(out) < n {
		if len(w.sequences) > 0 && r.IntN(100) == 0 && held == [sessionCount]bool{} {
			out = append(out, w.sequences[r.IntN(len(w.sequences))].steps(w, r, next)...)
			continue
		}
		s := step{session: r.IntN(sessionCount), mode: r.IntN(len(modes))}
		var sql string
		switch p := r.IntN(1000); {
		case late && r.IntN(8) == 0:
			s.kind, late = arrives, false
		case held[s.session]:
			if r.IntN(3) > 0 { // nothing is held back for long
				continue
			}
			s.kind = release
			held[s.session] = false
		case inBlock[s.session] && r.IntN(6) == 0:
			s.kind = write
			sql = []string{"commit", "commit", "rollback"}[r.IntN(3)]
			inBlock[s.session] = false
		case r.IntN(1000) < definitions:
			s.kind = write
			if len(w.rare) == 0 {
				continue
			}
			sql = w.rare[r.IntN(len(w.rare))]
		case p < reads:
			s.kind = read
			i := r.IntN(len(hot))
			sql = hot[i]
			if r.IntN(4) > 0 { // the same is mostly asked the same way
				s.mode = i % len(modes)
			}
			if r.IntN(stay) == 0 {
				hot[i] = fill(w.reads[r.IntN(len(w.reads))], r, next)
				sql = hot[i]
			}
		case p < 956:
			s.kind = write
			if sql = w.writes[r.IntN(len(w.writes))]; r.IntN(40) == 0 && len(w.wild) > 0 {
				sql = w.wild[r.IntN(len(w.wild))]
			}
			switch sql {
			case "begin":
				inBlock[s.session] = true
			case "commit", "rollback":
				inBlock[s.session] = false
			}
		case p < 968:
			s.kind = write
			if len(w.session) == 0 {
				continue
			}
			sql = w.session[r.IntN(len(w.session))]
			inBlock[s.session] = inBlock[s.session] || strings.HasPrefix(sql, "begin")
			for _, back := range w.back { // or soon all would be different
				if r.IntN(3) == 0 && strings.HasPrefix(sql, "set ") {
					out = append(out, step{session: s.session, kind: write, sql: back})
				}
			}
		case p < 990:
			s.kind = []kind{beginHeld, beginStuck}[r.IntN(2)]
			held[s.session] = true
			sql = w.writes[r.IntN(len(w.writes))]
			if r.IntN(2) == 0 {
				sql = hot[r.IntN(len(hot))]
			} else if r.IntN(4) == 0 {
				sql = "commit"
			}
		case p < 991:
			s.kind = cutOrigin
			inBlock[s.session] = false
		case p < 992 && len(out) > 0 && out[len(out)-1].kind == beginStuck:
			s = step{session: out[len(out)-1].session, kind: cutLate}
			held[s.session], inBlock[s.session] = false, false
			late = true
		case p < 992:
			s.kind = cutOrigin
			inBlock[s.session] = false
		case p < 994:
			s.kind = cutClient
			inBlock[s.session] = false
		case p < 995:
			s.kind = later
		default:
			if !feed {
				continue
			}
			s.kind = around
			sql = w.around[r.IntN(len(w.around))]
		}
		s.sql = fill(sql, r, next)
		out = append(out, s)
	}
	return out
}

// steps gives a sequence as it is done by some of the clients.
func (q sequence) steps(w *world, r *rand.Rand, next *int64) (out Script) {
	who := r.Perm(sessionCount)
	mode := r.IntN(len(modes))
	for _, x := range q {
		client, sql, _ := strings.Cut(x, ":")
		s := step{session: who[client[0]-'0'], kind: write, sql: fill(sql, r, next), mode: mode}
		if slices.Contains(w.reads, sql) {
			s.kind = read
		}
		out = append(out, s)
	}
	return out
}

// shrink takes out of a failing script what it does not need to fail. Fails says whether a script does; it is asked so
// often at most.
func shrink(s Script, most int, fails func(Script) bool) Script {
	for size := max(len(s)/2, 1); ; size = size / 2 {
		for at := 0; at < len(s) && most > 0; {
			shorter := slices.Concat(s[:at], s[min(at+size, len(s)):])
			most--
			if len(shorter) > 0 && fails(shorter) {
				s = shorter
			} else {
				at += size
			}
		}
		if size <= 1 || most <= 0 {
			return s
		}
	}
}
