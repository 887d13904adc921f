package postgres

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/postgres"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// plainCatalogQuery asks a server that cannot answer catalogQuery for what it has: tables, and by flags what makes them
// more than that. It keeps to what any SQL engine with these system tables can run.
//
// The numbers are the server's fixed object ids: 2604 pg_attrdef, 2606 pg_constraint, 2618 pg_rewrite, 3256
// pg_policy, 1255 pg_proc, 1266 timetz, 1270 its array, 2078
// set_config; below 16384 are the server's own.
const plainCatalogQuery = `/* jolly larder reads the catalog */
select 'relation', n.nspname, c.relname,
       cast(c.relkind as text)
       || case when c.relrowsecurity then 'S' else '' end
       || case when c.relhassubclass or exists (select '1' from pg_catalog.pg_inherits i where i.inhrelid = c.oid) then 'I' else '' end
       || case when c.relhasrules and c.relkind = 'r' then 'U' else '' end
       || case when exists (select '1' from pg_catalog.pg_trigger t where t.tgrelid = c.oid and not t.tgisinternal) then 'T' else '' end
       || case when exists (select '1' from pg_catalog.pg_trigger t
                            join pg_catalog.pg_proc p on p.oid = t.tgfoid join pg_catalog.pg_language g on g.oid = p.prolang
                            where t.tgrelid = c.oid and not t.tgisinternal
                              and (g.lanname not in ('plpgsql', 'sql') or lower(p.prosrc) like '%execute%' or lower(p.prosrc) like '%create%'
                                   or lower(p.prosrc) like '%alter%' or lower(p.prosrc) like '%drop%' or lower(p.prosrc) like '%grant%'
                                   or lower(p.prosrc) like '%revoke%')) then 'X' else '' end
       || coalesce(f.flags, '')
       || case when exists (select '1' from pg_catalog.pg_rewrite w
                            where w.ev_class = c.oid and w.oid >= '16384' and cast(w.ev_action as text) like '%:funcid 2078 %')
                 or exists (select '1' from pg_catalog.pg_policy y where y.polrelid = c.oid and cast(y.polqual as text) like '%:funcid 2078 %')
               then 'F' else '' end
       || case when exists (select '1' from pg_catalog.pg_attribute a
                            where a.attrelid = c.oid and a.attnum > '0' and a.atttypid in ('1266', '1270')) then 'Z' else '' end,
       '', ''
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
left join (select coalesce(a.adrelid, k.conrelid, w.ev_class, y.polrelid) as relid,
                  case max(cast(p.provolatile as text)) when 'v' then 'DF' else 'F' end as flags
           from pg_catalog.pg_depend d
           join pg_catalog.pg_proc p on p.oid = d.refobjid
           left join pg_catalog.pg_attrdef a on d.classid = '2604' and a.oid = d.objid
           left join pg_catalog.pg_constraint k on d.classid = '2606' and k.oid = d.objid
           left join pg_catalog.pg_rewrite w on d.classid = '2618' and w.oid = d.objid
           left join pg_catalog.pg_policy y on d.classid = '3256' and y.oid = d.objid
           where d.refclassid = '1255'
           group by coalesce(a.adrelid, k.conrelid, w.ev_class, y.polrelid)) f on f.relid = c.oid
where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and c.relpersistence <> 't'
  and n.nspname not in ('pg_catalog', 'information_schema', 'pg_toast')
union all
select 'reference', n.nspname, c.relname, cast(k.confupdtype as text) || cast(k.confdeltype as text), m.nspname, e.relname
from pg_catalog.pg_constraint k
join pg_catalog.pg_class c on c.oid = k.confrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
join pg_catalog.pg_class e on e.oid = k.conrelid join pg_catalog.pg_namespace m on m.oid = e.relnamespace
where k.contype = 'f' and (k.confupdtype in ('c', 'n', 'd') or k.confdeltype in ('c', 'n', 'd'))
union all
select 'columns', n.nspname, c.relname, '', '', case when a.atttypid in ('20', '21', '23') then 'n' else '' end || ' ' || cast(a.attname as text)
from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where a.attnum > '0' and c.relkind = 'r' and c.relpersistence <> 't' and n.nspname not in ('pg_catalog', 'information_schema', 'pg_toast')
union all
select 'function', '', p.proname, max(cast(p.provolatile as text)), '', ''
from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where n.nspname not in ('pg_catalog', 'information_schema')
group by p.proname
union all
select 'operator', '', o.oprname, max(cast(p.provolatile as text)), '', ''
from pg_catalog.pg_operator o join pg_catalog.pg_proc p on p.oid = cast(o.oprcode as oid)
join pg_catalog.pg_namespace n on n.oid = o.oprnamespace
where n.nspname <> 'pg_catalog'
group by o.oprname
union all
select 'operator', '', 'cast', max(cast(p.provolatile as text)), '', ''
from pg_catalog.pg_cast t join pg_catalog.pg_proc p on p.oid = t.castfunc
join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where n.nspname <> 'pg_catalog'
having count(*) > '0'
union all
select 'path', '', pg_catalog.current_setting('search_path', true), '', '', ''`

// settingNames are the settings that are part of every key, beside those that nobody has reviewed.
var settingNames = facts.ResultSettings

// settingsQuery asks a session for the settings above and what else a decision rests on, and for the server's settings of
// some names, which stand in the last column. One that the server does not have is null there, or missing.
func settingsQuery(identity string, unreviewed []string) string {
	var q strings.Builder
	q.WriteString("/* jolly larder reads this session's settings */ select " +
		"pg_catalog.current_setting('default_transaction_isolation', true), pg_catalog.current_setting('standard_conforming_strings', true), " +
		"case when pg_catalog.pg_my_temp_schema() = '0' then '0' else (select count(*) from pg_catalog.pg_class where relnamespace = pg_catalog.pg_my_temp_schema()) end, " +
		"pg_catalog.array_to_string(pg_catalog.current_schemas(true), pg_catalog.chr(10)), current_user, session_user, " +
		"pg_catalog.current_setting('" + dialect.OptOut + "', true), pg_catalog.current_setting('statement_timeout', true), " +
		"(select r.oid from pg_catalog.pg_roles r where r.rolname = current_user), (select r.oid from pg_catalog.pg_roles r where r.rolname = session_user), " + identity)
	for _, n := range settingNames {
		fmt.Fprintf(&q, ", pg_catalog.current_setting('%s', true)", n)
	}
	if len(unreviewed) == 0 {
		q.WriteString(", ''")
		return q.String()
	}
	// Asked of one by one, a setting that its role may not see would be an error.
	q.WriteString(", (select pg_catalog.string_agg(pg_catalog.concat(s.name, ' ', pg_catalog.quote_literal(s.setting)), E'\\n' order by s.name) " +
		"from pg_catalog.pg_show_all_settings() s where s.name in (")
	for i, n := range unreviewed {
		if i > 0 {
			q.WriteString(", ")
		}
		q.WriteString(literal(n))
	}
	q.WriteString("))")
	return q.String()
}

// usualSettingsQuery is that to servers all of whose settings were reviewed, and plainSettingsQuery that for who may not ask
// for more than when the server was started.
var (
	usualSettingsQuery = settingsQuery(serverIdentity, nil)
	plainSettingsQuery = settingsQuery(startAlone, nil)
)

// asksSettings gives the question for a session's settings.
func (s *session) asksSettings() string {
	unreviewed := s.eng.Unreviewed()
	s.server.tellsOf(unreviewed)
	switch {
	case len(unreviewed) == 0 && s.plainSettings:
		return plainSettingsQuery
	case len(unreviewed) == 0:
		return usualSettingsQuery
	case s.plainSettings:
		return settingsQuery(startAlone, unreviewed)
	}
	return settingsQuery(serverIdentity, unreviewed)
}

// tellsOf logs which settings of the origin nobody has reviewed, once for the same ones.
func (s *Server) tellsOf(unreviewed []string) {
	if len(unreviewed) == 0 {
		return
	}
	names := strings.Join(unreviewed, " ")
	if before := s.unreviewed.Swap(&names); before == nil || *before != names {
		s.Logger().Info(
			"this server has settings of which it is not known what they do to results: sessions in which they differ share no result",
			"settings",
			names,
		)
	}
}

// otherSettings is how many columns of the answer come before the settings in keys.
const otherSettings = 11

// serverIdentity is what tells servers apart: the cluster's own number, its timeline, which every promotion begins
// anew, and when it was started. StartAlone is the last alone.
const (
	serverIdentity = "pg_catalog.concat_ws(' ', (pg_catalog.pg_control_system()).system_identifier, (pg_catalog.pg_control_checkpoint()).timeline_id, " + serverStart + ")"
	startAlone     = "pg_catalog.concat_ws(' ', " + serverStart + ")"
	serverStart    = "extract(epoch from pg_catalog.pg_postmaster_start_time())"
)

// settings reads the answer to settingsQuery.
func settings(rows [][]string) (engine.Settings, bool) {
	if len(rows) != 1 || len(rows[0]) != otherSettings+len(settingNames)+1 {
		return engine.Settings{}, false
	}
	r := rows[0]
	if at := otherSettings + slices.Index(settingNames, "plpgsql.variable_conflict"); r[at] == "error" {
		r[at] = "" // as it is before PL/pgSQL has been loaded
	}
	if freshness.Off(freshness.RolesByNumber) {
		r[8], r[9] = "", ""
	}
	s := engine.Settings{
		Values:    append([]string{r[3]}, r[otherSettings:]...),
		Roles:     []string{r[4] + " " + r[8], r[5] + " " + r[9]}, // names can become other roles'
		Role:      r[8],
		Server:    r[10],
		Path:      strings.Split(r[3], "\n"),
		Isolation: isolations[r[0]],
		Temporary: r[2] != "0",
		LeftOut:   r[6] == "off",
		Patience:  patience(r[7]),
	}
	if strangePath(r[otherSettings]) {
		s.Path, s.Role = nil, "" // what was answered may be anybody's word
		s.Strange = reason.SearchPath
	}
	if size := sizeOf(s.Values); size > mostSettings {
		s.Path, s.Values, s.Strange = nil, nil, reason.LongSettings
	}
	if r[1] == "off" {
		s.Strange = reason.Backslashes
	}
	return s, true
}

// isolations are the server's, by the names it gives them. One that is not here is not known.
var isolations = map[string]analysis.Isolation{
	"read uncommitted": analysis.ReadCommitted, "read committed": analysis.ReadCommitted,
	"repeatable read": analysis.RepeatableRead, "serializable": analysis.Serializable,
}

// mostSettings is how many bytes the settings in keys may have together: they are part of every key, and remembered for
// each session.
const mostSettings = 8 << 10

func sizeOf(texts []string) (n int) {
	for _, t := range texts {
		n += len(t)
	}
	return n
}

// patience reads the server's limit for a statement's time, which it writes in the largest unit that fits, and 0 for
// none. Source: "Parameter Names and Values" in its manual.
func patience(setting string) time.Duration {
	digits := strings.TrimRight(setting, "usminhd")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil {
		return 0
	}
	unit := map[string]time.Duration{
		"us":  time.Microsecond,
		"ms":  time.Millisecond,
		"s":   time.Second,
		"min": time.Minute,
		"h":   time.Hour,
		"d":   24 * time.Hour,
	}
	return time.Duration(n) * unit[strings.TrimPrefix(setting, digits)]
}

// strangePath says whether a search path lets other schemas stand before the system's, which it otherwise begins with
// unsaid: then an ordinary name may mean something else.
func strangePath(path string) bool {
	p := strings.TrimSpace(path)
	return strings.Contains(p, "pg_catalog") && !strings.HasPrefix(p, "pg_catalog") || strings.Contains(p, "pg_temp")
}
