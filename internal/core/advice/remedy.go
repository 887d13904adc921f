package advice

import (
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/reason"
)

// What is said of several reasons.
const (
	timeFunctions  = "time_functions = true in its rule, or the time as a parameter, rounded"
	describe       = "a database that describes its schema: this one is followed by names alone"
	declare        = "a declaration of what that function reads and writes, in the rules file: [[declare]]"
	readCommitted  = "READ COMMITTED, if the application does not need one moment for all it reads"
	noSerializable = "REPEATABLE READ or READ COMMITTED, if the application does not need serializable transactions"
	part           = "its parts sent one by one"
	parameter      = "the value as a parameter in place of a setting"
	stable         = "STABLE in place of IMMUTABLE in the definition of that function"
)

// remedies say, beside those of dialects, for the reasons for which calls pass, what one setting or rule would turn them into hits. An empty one
// means that nothing would.
var remedies = map[reason.Code]string{
	reason.BeginsOrEnds:        "",
	reason.EndsAndBegins:       "",
	reason.AnsweredHere:        "",
	reason.Several:             part,
	reason.TooRare:             "a rule that names it, or a higher overhead limit in the configuration",
	reason.AsksForTime:         timeFunctions,
	reason.ChangesWithTime:     timeFunctions,
	reason.DependsOnToday:      timeFunctions,
	reason.ReadsAsToday:        timeFunctions,
	reason.ReadByToday:         timeFunctions,
	reason.TextMayMeanTime:     timeFunctions,
	reason.CastMayMeanTime:     timeFunctions,
	reason.ColumnMayMeanTime:   timeFunctions,
	reason.VariableMayMeanTime: timeFunctions,
	reason.ZoneOfToday:         timeFunctions,
	reason.ColumnZoneOfToday:   timeFunctions,
	reason.ReadsSetting:        parameter,
	reason.UnknownParts:        describe,
	reason.UnknownView:         describe,
	reason.UnknownRowSecurity:  describe,
	reason.UnknownTables:       declare,
	reason.UnknownBody:         declare,
	reason.UnknownLanguage:     declare,
	reason.UnknownDependence:   declare,
	reason.FixedReads:          stable,
	reason.CatalogUnread:       "a moment of time; [origin.catalog] in the configuration reads it sooner",
	reason.NoRule:              "a rule that caches this pattern",
	reason.Bypass:              "removing the rule that says bypass",
	reason.CachingOff:          "turning caching on",
	reason.InTrial:             "the end of the trial",
	reason.RulePaused:          "resuming its rule",
	reason.RuleFoundOld:        "resuming its rule",
	reason.NotChosen:           "a rule that caches this pattern, above the one that leaves it to the larder",
	reason.Sampled:             "",
	reason.ParsedUnderOthers:   "settings set before statements are prepared",
	reason.RemembersOthers:     "settings that are the same from a session's beginning to its end",
	reason.ParsedUnknown:       "preparing it again",
	reason.TransactionFailed:   "",
	reason.EarlierSnapshot:     readCommitted,
	reason.FirstRead:           readCommitted,
	reason.SerializableBlock:   noSerializable,
	reason.SerializableSession: noSerializable,
	reason.UnknownIsolation:    "a moment of time: the larder asks for a session's settings from its second transaction on",
	reason.DoubtfulState:       "",
	reason.OneTransaction:      "SET SESSION TRANSACTION instead of SET TRANSACTION, where that is meant",
	reason.TablesLocked:        "UNLOCK TABLES",
	reason.UnreviewedSetting:   "leaving that setting as it is, or connecting anew",
	reason.ServerComments:      "hints without an exclamation mark, or none",
	reason.NoAccount:           "[origin.catalog] in the configuration, with the name and the password of an account that may read the schema",
	reason.OwnWrite:            "reads before the first write, or in a transaction of their own",
	reason.ValueMayMeanTime:    "time_functions = true in its rule, or the time as a parameter",
	reason.SettingsUnknown:     "fewer changes of settings between statements",
	reason.OtherServer:         "connecting anew",
	reason.SchemaChanged:       "a moment of time",
	reason.DefinitionChanged:   "a moment of time; [origin.catalog] in the configuration reads definitions sooner",
	reason.TemporaryTables:     "dropping its temporary tables, or another session for them",
	reason.OlderPrivileges:     "logging in anew",
	reason.EarlierLarder:       "a minute after the start; a larder that is stopped by SIGTERM, with a drain_timeout that suffices, leaves nothing behind",
	reason.Predecessor:         "the end of the larder before: it ends with its last clients, and at the latest after handover_timeout",
	reason.Successor:           "connecting anew",
	reason.StatementLeftOut:    "removing the label",
	reason.LongSettings:        "shorter values of the session's settings",
	reason.EarlierReply:        "waiting for each reply before the next statement is sent",
	reason.SomeRows:            "fetching all rows at once: a fetch size of 0",
	reason.OtherForm:           "the unnamed portal, as drivers use it without cursors",
	reason.NoRoom:              "a higher overhead limit in the configuration",
}

// Remedy says what one setting or rule would turn calls into hits that passed for a reason, or nothing where none would
// or it is not known. The dialects are those of the databases that the calls may have been for.
func Remedy(r reason.Reason, dialects ...*dialect.Dialect) string {
	for _, d := range dialects {
		if would := d.Remedies[r.Code]; would != "" {
			return would
		}
	}
	return remedies[r.Code]
}
