package reason

// Code is which reason it is.
type Code uint8

// Of what a statement does, as its text or the schema tells.
const (
	None Code = iota
	Writes
	Locks
	CreatesTable
	ShowsPlan
	OpensCursor
	ReadsCursor
	ClosesCursor
	Discards
	RunsProcedure
	RunsCode
	RunsUnknownCode
	RunsPrepared
	RunsUnknownPrepared
	MakesFromPrepared
	Prepares
	ForgetsPrepared
	LoadsCode
	Copies
	RunsProgram
	Maintains
	Comments
	ChangesPrivileges
	MakesTemporary
	ChangesDefinition
	ChangesSchema
	ChangesSetting
	ChangesForTransaction
	ChangesForSession
	ChangesSnapshot
	ChangesTransaction
	ChangesTransactions
	ChangesConstraints
	ShowsSetting
	Listens
	Unlistens
	Notifies
	LocksTable
	BeginsOrEnds
	EndsAndBegins
	AnsweredHere
	HandsOver
	CommitsHandedOver
	EndsHandedOver
	SetsSavepoint
	ReleasesSavepoint
	ReturnsToSavepoint
	NoStatement
	Several
	TooLong
	TooRare
	NotUnderstood
	TooLongToRead
	TooDeepToRead
	UnsafeNode
	SearchOrCycle
	SystemColumn

	AsksForTime
	ChangesWithTime
	DependsOnToday
	ReadsAsToday
	ReadByToday
	TextMayMeanTime
	CastMayMeanTime
	ColumnMayMeanTime
	VariableMayMeanTime
	ZoneOfToday
	ColumnZoneOfToday

	AnotherAtEveryCall
	UsesSequence
	NamesConnection
	WaitsOrLocks
	ReadsSetting
	EndsConnection
	ReportsActivity
	LargeObject
	TellsOfTransactions
	ResetsCounters
	ReadsDefinitions
	ReadsFiles
	UserVariables
	CountsFoundRows
	AsksOfEarlier
	TimeOfToday

	ReadsCatalog
	ReadsSystemTable
	TellsOfActivity
	DriftingColumn
	DriftingColumns
	NotNamed
	UnknownParts
	UnknownView
	UnknownRowSecurity
	ForeignTable
	Sequence
	NoPlainTable
	SharesRows
	HasRewriteRules
	CastsToUnknown
	CastsToUnread
	UnknownType
	TypeUnknown
	TypeUnread
	VariableNotUnderstood
	DeclaredNotNamed
	UnknownTables
	UnknownBody
	UnknownLanguage
	UnknownDependence
	MayDoAnything
	MayDiffer
	FixedReads
	CatalogUnread

	NoRule
	Bypass
	CachingOff
	InTrial
	RulePaused
	RuleFoundOld
	NotChosen
	Sampled
	ParsedUnderOthers
	RemembersOthers
	ParsedUnknown
	TransactionFailed
	EarlierSnapshot
	FirstRead
	SerializableBlock
	SerializableSession
	UnknownIsolation
	DoubtfulState
	OwnWrite
	ValueMayMeanTime
	SettingsUnknown
	OtherServer
	SchemaChanged
	DefinitionChanged
	TemporaryTables
	OlderPrivileges
	EarlierLarder
	Predecessor
	Successor
	SessionLeftOut
	StatementLeftOut
	SearchPath
	LongSettings
	Backslashes
	Encoding
	EarlierReply
	SomeRows
	OtherForm
	NoRoom
	ByNumber
	BadMessage
	BadParse
	BadQuery
	BoundTwice
	UnknownPortal
	NotPreparedHere
	BeingPrepared
	TooLongToAnalyse
	LarderFault
	Replication
	ReadsNoTable
	OneTransaction
	TablesLocked
	UnreviewedSetting
	ServerComments
	NoAccount

	last = NoAccount
)

// kind is what else there is to a code.
type kind uint8

const (
	does   kind = 1 << iota // its sentence says what the statement does: "it" fits before it
	ofTime                  // it rests on the current time alone
)

// codes are the sentences: each but the first is told of what the code's reasons have in common, with %s for their
// detail.
var codes = [last + 1]struct {
	text string
	kind kind
}{
	Writes:              {"writes", does},
	Locks:               {"locks the rows it reads", does},
	CreatesTable:        {"creates a table", does},
	ShowsPlan:           {"shows a plan, which changes with statistics", does},
	OpensCursor:         {"opens a cursor, whose rows can be read only once", does},
	ReadsCursor:         {"reads from a cursor, which moves it", does},
	ClosesCursor:        {"closes a cursor", does},
	Discards:            {"discards the state of its session", does},
	RunsProcedure:       {"runs a procedure", does},
	RunsCode:            {"runs code", does},
	RunsUnknownCode:     {"runs code, which may do anything", does},
	RunsPrepared:        {"runs a statement that was prepared in SQL", does},
	RunsUnknownPrepared: {"runs a statement that was prepared in SQL, and is not known", does},
	MakesFromPrepared:   {"runs a statement prepared in SQL, which is not followed", does},
	Prepares:            {"prepares a statement for its session", does},
	ForgetsPrepared:     {"forgets a prepared statement", does},
	LoadsCode:           {"loads code into the server", does},
	Copies:              {"copies data in or out", does},
	RunsProgram:         {"runs a program on the server", does},
	Maintains:           {"is a maintenance command", does},
	Comments:            {"changes a comment in the system catalogs", does},
	ChangesPrivileges:   {"changes privileges", does},
	MakesTemporary:      {"makes something temporary for its session", does},
	ChangesDefinition:   {"changes the definition of what it names", does},
	ChangesSchema:       {"changes the schema or privileges", does},

	ChangesSetting:        {"changes a setting of its session", does},
	ChangesForTransaction: {"changes %s for its transaction", does},
	ChangesForSession:     {"changes %s of its session", does},
	ChangesSnapshot:       {"changes what its transaction sees", does},
	ChangesTransaction:    {"changes what its transaction sees or may do", does},
	ChangesTransactions:   {"changes what transactions of its session see or may do", does},
	ChangesConstraints:    {"changes when its transaction checks constraints", does},
	ShowsSetting:          {"shows a setting of its session", does},
	Listens:               {"waits for notifications", does},
	Unlistens:             {"stops waiting for notifications", does},
	Notifies:              {"sends a notification", does},
	LocksTable:            {"locks a table", does},

	BeginsOrEnds:       {"begins or ends a transaction", does},
	EndsAndBegins:      {"begins or ends a transaction and begins the next", does},
	AnsweredHere:       {"answered by the larder: its transaction has not needed the database yet", 0},
	HandsOver:          {"prepares its transaction for two-phase commit", does},
	CommitsHandedOver:  {"commits what another session may have written", does},
	EndsHandedOver:     {"ends a prepared transaction", does},
	SetsSavepoint:      {"sets a savepoint", does},
	ReleasesSavepoint:  {"forgets a savepoint", does},
	ReturnsToSavepoint: {"goes back to a savepoint", does},

	NoStatement:   {"there is no statement in it", 0},
	Several:       {"several statements in one string", 0},
	TooLong:       {"its text is too long for its results to be cached", 0},
	TooRare:       {"its pattern is too rare to be tracked", 0},
	NotUnderstood: {"its SQL is not understood: %s", 0},
	TooLongToRead: {"too long to read", 0},
	TooDeepToRead: {"too deep to read", 0},
	UnsafeNode:    {"uses %s, which is not known to be safe", does},
	SearchOrCycle: {"uses SEARCH or CYCLE, which is not followed", does},
	SystemColumn:  {"reads the system column %s, which changes on its own", does},

	AsksForTime:       {"asks for the current time", does | ofTime},
	ChangesWithTime:   {"changes with time", does | ofTime},
	DependsOnToday:    {"depends on today's date", does | ofTime},
	ReadsAsToday:      {"may read a text as the time of today", does | ofTime},
	ReadByToday:       {"reads %s, which has a column of a time with time zone, read by today's date", does | ofTime},
	TextMayMeanTime:   {"contains a text that may mean the current time", does | ofTime},
	CastMayMeanTime:   {"casts to %s what may be a text meaning the current time", does | ofTime},
	ColumnMayMeanTime: {"casts %s to a date or time, and that may be a text meaning the current time", does | ofTime},
	VariableMayMeanTime: {
		"a date or time in %s, and what is assigned to it may be a text meaning the current time",
		ofTime,
	},
	ZoneOfToday: {
		"reads at a time zone what may be a time without a date, which depends on today's date",
		does | ofTime,
	},
	ColumnZoneOfToday: {
		"reads %s at a time zone, and of a time without a date that depends on today's date",
		does | ofTime,
	},

	AnotherAtEveryCall:  {"gives another value at every call", does},
	UsesSequence:        {"moves or reads a sequence", does},
	NamesConnection:     {"names the connection or transaction", does},
	WaitsOrLocks:        {"waits, locks or notifies", does},
	ReadsSetting:        {"reads a setting", does},
	EndsConnection:      {"ends or cancels another connection", does},
	ReportsActivity:     {"reports the server's activity", does},
	LargeObject:         {"works with a large object", does},
	TellsOfTransactions: {"reports on transactions", does},
	ResetsCounters:      {"resets counters or logs", does},
	ReadsDefinitions:    {"reads definitions in a way that the larder cannot follow", does},
	ReadsFiles:          {"reads the server's files", does},
	UserVariables:       {"reads or sets user variables", does},
	CountsFoundRows:     {"counts rows for FOUND_ROWS()", does},
	AsksOfEarlier:       {"asks about an earlier statement of its session", does},
	TimeOfToday:         {"computes with %s, a time without a date, which may be read as one of today", does | ofTime},

	ReadsCatalog:     {"reads the system catalogs", does},
	ReadsSystemTable: {"reads the system table %s", does},
	TellsOfActivity:  {"reads %s, which reports the server's activity", does},
	DriftingColumn:   {"whose column %s changes on its own", 0},
	DriftingColumns:  {"reads %s, of which some columns change on their own", does},
	NotNamed:         {"reads %s, which the catalog does not name", does},
	UnknownParts: {
		"reads %s, a partitioned table: this database's catalog does not say what its parts are",
		does,
	},
	UnknownView: {"reads %s, a view: this database's catalog does not say what is behind it", does},
	UnknownRowSecurity: {
		"reads %s, which has row security: this database's catalog does not say by which conditions",
		does,
	},
	ForeignTable:          {"reads %s, a table of another server", does},
	Sequence:              {"reads %s, a sequence", does},
	NoPlainTable:          {"reads %s, which is not a plain table", does},
	SharesRows:            {"reads %s, which shares rows with another table by inheritance or partitioning", does},
	HasRewriteRules:       {"reads %s, which has rewrite rules", does},
	CastsToUnknown:        {"casts to %s, a type that is not known", does},
	CastsToUnread:         {"casts to %s, a type whose input function is not known", does},
	UnknownType:           {"a type that is not known", 0},
	TypeUnknown:           {"the type %s, a type that is not known", 0},
	TypeUnread:            {"the type %s, whose input function is not known", 0},
	VariableNotUnderstood: {"has a variable of type %s, which is not understood", does},
	DeclaredNotNamed:      {"is declared to use %s, which the catalog does not name", does},
	UnknownTables:         {"a function whose tables are not known", 0},
	UnknownBody:           {"whose tables are not known: %s", 0},
	UnknownLanguage:       {"whose tables are not known: it is written in %s", 0},
	UnknownDependence:     {"and what that depends on is not known", 0},
	MayDoAnything:         {"which may do anything", 0},
	MayDiffer:             {"which may give another value at every call", 0},
	FixedReads:            {"which reads tables and is declared IMMUTABLE: a prepared statement may repeat what it once gave", 0},
	CatalogUnread:         {"the database's catalog has not been read yet", 0},

	NoRule:            {"no rule caches this pattern", 0},
	Bypass:            {"a rule says bypass", 0},
	CachingOff:        {"caching is off", 0},
	InTrial:           {"a trial has caching off at this moment", 0},
	RulePaused:        {"its rule is paused", 0},
	RuleFoundOld:      {"its rule is paused after a stale answer", 0},
	NotChosen:         {"its rule leaves it to the larder, which has not chosen it", 0},
	Sampled:           {"a control sample: also asked of the database, to compare", 0},
	ParsedUnderOthers: {"its constants may have been read under other settings", 0},
	RemembersOthers:   {"it calls a function that may have read its constants under other settings", 0},
	ParsedUnknown:     {"it was prepared while definitions were not known", 0},
	TransactionFailed: {"its transaction has failed", 0},
	EarlierSnapshot:   {"in a transaction whose snapshot is older than the cached result", 0},
	FirstRead:         {"the first statement of a transaction, which begins it or takes its snapshot", 0},
	SerializableBlock: {"in a transaction of an isolation for which the server must see what it reads", 0},
	SerializableSession: {
		"transactions of this session have an isolation by default for which the server must see what they read",
		0,
	},
	UnknownIsolation:  {"in a transaction whose isolation is not known", 0},
	DoubtfulState:     {"after an error, while it is not certain whether a transaction is open", 0},
	OwnWrite:          {"reads what its own transaction has written", does},
	ValueMayMeanTime:  {"a value in it may mean the current time", 0},
	SettingsUnknown:   {"the session's settings are not known at this moment", 0},
	OtherServer:       {"another server answers for the origin by now than the one it is connected to", 0},
	SchemaChanged:     {"the schema changed at this moment", 0},
	DefinitionChanged: {"a definition that it depends on has changed and was not read again yet", 0},
	TemporaryTables:   {"its session has temporary tables", 0},
	OlderPrivileges:   {"the privileges of its account have changed since it logged in, and a session may go on with the old ones", 0},
	EarlierLarder:     {"the larder that ran before ended while clients were busy, and their statements may still be running", 0},
	Predecessor:       {"the larder that this one has taken over from still serves its last clients, and does not tell what they write", 0},
	Successor:         {"another larder has taken over from this one, and does not tell what its clients write", 0},
	SessionLeftOut:    {"its session asked to be left out", 0},
	StatementLeftOut:  {"its label asks for it to be left out", 0},
	SearchPath:        {"the session's search path puts other schemas before the system's", 0},
	LongSettings:      {"the session's settings are too long to be remembered", 0},
	Backslashes:       {"the session reads backslashes in strings as escapes", 0},
	Encoding:          {"the session's encoding %s is not read", 0},
	EarlierReply:      {"sent before an earlier reply had ended", 0},
	SomeRows:          {"only some of its rows were asked for", 0},
	OtherForm:         {"asked for in a format that is not cached", 0},
	NoRoom:            {"there is no room to remember what was prepared", 0},
	ByNumber:          {"a function call by number", 0},
	BadMessage:        {"not a message of the protocol", 0},
	BadParse:          {"a Parse message that is not understood", 0},
	BadQuery:          {"a Query message that is not understood", 0},
	BoundTwice:        {"a portal that was bound twice", 0},
	UnknownPortal:     {"a portal that is not known", 0},
	NotPreparedHere:   {"a statement that was not prepared here", 0},
	BeingPrepared:     {"a name that is being prepared anew", 0},
	TooLongToAnalyse:  {"too long to be analysed", 0},
	LarderFault:       {"an internal error of the larder", 0},
	Replication:       {"a command of replication", 0},
	ReadsNoTable:      {"reads no table: its reply tells whether the database answers", does},
	OneTransaction:    {"the isolation of the session's next transaction has been set, and only that transaction's", 0},
	TablesLocked:      {"its session has locked tables, and may read no others", 0},
	UnreviewedSetting: {"its session has a setting of which it is not known what that does to results", 0},
	ServerComments:    {"has a comment that some servers run", does},
	NoAccount:         {"the larder has no account to read the schema with", 0},
}
