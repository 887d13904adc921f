package advice

import "strings"

// remedies say, for the reasons for which calls pass, what one setting or rule would turn them into hits. The first whose
// words stand in a reason counts; an empty one means that nothing would.
var remedies = []struct{ words, would string }{
	{"no rule keeps this pattern", "a rule that keeps this pattern"},
	{"a rule says never", "taking back the rule that says never"},
	{"all keeping is on hold", "going on after the hold"},
	{"a trial has keeping off", "the end of the trial"},
	{"its rule is paused", "going on with its rule"},
	{"a control sample", ""},
	{"reads what its own transaction has written", "reading before writing, or in a transaction of its own"},
	{"sees the moment of its first reading", "READ COMMITTED, if the application does not need one moment for all it reads"},
	{"sees an earlier moment than what is kept is of", "READ COMMITTED, if the application does not need one moment for all it reads"},
	{"serializable", "REPEATABLE READ or READ COMMITTED, if the application does not need serializable transactions"},
	{"whose isolation is not known", "nothing but time: the settings of an application's sessions are asked for from its second transaction on"},
	{"its transaction has failed", ""},
	{"a value in it may mean the current time", "accept_time = true in its rule, or the time as a parameter"},
	{"the session's settings are not known", "fewer changes of settings between statements"},
	{"the schema changed at this moment", "nothing but time"},
	{"has not been read again yet", "nothing but time: definitions are read again within moments, or sooner over an account of the larder's own (catalog_user)"},
	{"catalog has not been read yet", "nothing but time: an account of the larder's own (catalog_user) reads it sooner"},
	{"another server answers for the origin", "connecting anew"},
	{"temporary tables", "dropping its temporary tables, or another session for them"},
	{"asked to be left out", "taking back jollylarder.keep = off"},
	{"its label asks for it", "taking back the label"},
	{"may have read its constants under other settings", "settings that are the same from a session's beginning to its end"},
	{"constants may have been read under other settings", "settings set before statements are prepared"},
	{"prepared while definitions were not known", "preparing it again"},
	{"sent before an earlier reply had ended", "waiting for each reply, or sending each statement with its own Sync"},
	{"only some of its rows were asked for", "fetching all rows in one go: a fetch size of 0"},
	{"asked for in a form that is not answered", "the unnamed portal, as drivers use it without cursors"},
	{"no room to remember what was prepared", "a larger overhead in the configuration"},
	{"search path puts other schemas before", "a search path that does not name pg_catalog, or names it first"},
	{"reads backslashes in strings as escapes", "standard_conforming_strings = on"},
	{"settings are too long", "shorter values of the session's settings"},
	{"current time", "accept_time = true in its rule, or the time as a parameter, rounded"},
	{"changes with time", "accept_time = true in its rule, or the time as a parameter, rounded"},
	{"today", "accept_time = true in its rule, or the time as a parameter, rounded"},
	{"whose tables are not known", "a declaration of what that function reads and writes, in the rules file: [[declare]]"},
	{"what that depends on is not known", "a declaration of what that function reads and writes, in the rules file: [[declare]]"},
	{"several statements in one string", "its parts sent one by one"},
	{"reads a setting", "the value as a parameter in place of a setting"},
	{"too rare to be told apart", "a rule that names it, or a larger overhead in the configuration"},
	{"catalog does not say", "a database that describes its schema: this one is followed by names alone"},
	{"begins or ends a transaction", ""},
}

// Remedy says what one setting or rule would turn calls into hits that passed for a reason, or nothing where none would or it
// is not known.
func Remedy(reason string) string {
	for _, r := range remedies {
		if strings.Contains(reason, r.words) {
			return r.would
		}
	}
	return ""
}
