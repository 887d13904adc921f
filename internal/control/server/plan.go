package server

import (
	"net/http"
	"slices"

	"jollylarder/internal/control"
	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/findings"
)

// planned are the kinds of statements that have plans.
var planned = []analysis.Kind{analysis.KindSelect, analysis.KindInsert, analysis.KindUpdate, analysis.KindDelete, analysis.KindMerge}

// plan answers how the origin runs a pattern's statements. A function of the database's own may be run while the server
// plans, with the privileges of the larder's account: such a statement's plan is not asked for.
func (s *server) plan(w http.ResponseWriter, r *http.Request) {
	p := s.find(w, r)
	if p == nil {
		return
	}
	database := r.URL.Query().Get("database")
	for _, c := range p.Numbers.Callers() {
		if database == "" && c.Database != ledger.Others {
			database = c.Database
		}
	}
	if f := p.Facts.Functions; len(f) > 0 {
		problem(w, http.StatusConflict, "the plan of %s is not asked for: the server may run %s while it plans; use EXPLAIN with an account of yours", p.ID, f[0])
		return
	}
	if !slices.Contains(planned, p.Facts.Kind) {
		problem(w, http.StatusConflict, "%s has no plan: it is %s", p.ID, p.Facts.Called())
		return
	}
	lines, user, err := s.l.Plan(r.Context(), database, findings.Schemas(s.l.Engine(), p), p.Text)
	if err != nil {
		problem(w, http.StatusConflict, "no plan of %s: %v", p.ID, err)
		return
	}
	reply(w, control.Plan{Database: database, User: user, Lines: lines})
}
