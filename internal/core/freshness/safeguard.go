package freshness

// Safeguard is one of the rules by which nobody is given an old answer. Tests that are built with the tag
// safeguards switch them off one at a time, and show that what checks answers then finds an old one.
type Safeguard uint64

// The safeguards. Those of the package itself come first; the others are kept where they are named.
const (
	ClockMoved       Safeguard = 1 << iota // a result is valid only while no counter has moved
	PendingAtSending                       // what was fetched while a write was pending is not kept
	OtherColumns                           // a change that is not pinned by a column moves what is
	NewKeysWait                            // what is pinned by a new key waits for changes that do not know it
	SchemaMeanwhile                        // a write that waited while the schema was changed moves every clock
	OwnWrites                              // a transaction is not answered for tables that it has written
	Assigned                               // a change of a pinned column counts for both values
	UniqueFound                            // additions are left aside only where a row was found
	Isolation                              // who must see his own moment is not answered
	Hidden                                 // what a write does beyond its table counts
	SettingsInKey                          // sessions with other settings have other keys
	UnknownEffects                         // what may do anything moves every clock
	TwoPhase                               // what a prepared transaction wrote counts when it is committed
	LostConnections                        // a write whose connection was lost stays pending
	FeedGaps                               // a feed that may have left out something moves every clock
	MovedRows                              // an update that moves a row to another partition deletes and inserts
	TypeChecks                             // what the checks and defaults of columns' types do counts
	WholeRows                              // a table's name in the place of a column stands for all columns
	NamesInScope                           // a column is one of the items beside it before it is any table's
	ParsedUnder                            // a prepared statement belongs to the settings and definitions it was parsed under
	ServersTriggers                        // the server's own trigger functions count
	BlindReads                             // a read may do anything while the catalog is not known
	NowInBodies                            // a text in a function may mean the time of the call
	RolesByNumber                          // a role is who it is, whatever its name is
	ViaAlike                               // columns by which a write's rows are known must be compared alike
	MixedTypes                             // a parameter of which it is not known as what type it is taken tells nothing
	Unrollable                             // what may do anything counts at once, also in a block
	SystemColumns                          // results that hold system columns that change on their own are not kept
	AllPrivileges                          // results are shared only where privileges on tables are all that counts
	SystemByNumber                         // a table is the server's own only if the server made it
	OpenDefinitions                        // what has to do with a definition that has changed passes until the catalog has been read
	TextInKey                              // statements that are written otherwise have other keys where that names columns
	AtOnce                                 // what no rollback undoes counts at once, also in a block
	RepaysLast                             // the server finds as many rows as were answered from memory before something that asks of that
	DoubtfulState                          // after an error nothing is answered until the server has said where the session stands
	SchemasAnew                            // which schemas a session uses is asked anew after what may have changed which there are
	EarlierCells                           // a change moves what results rest on that were kept while fewer values were told apart
	StoredAsGiven                          // a value that a column has no room for may become another
	Cascades                               // what references between tables do counts
	Notations                              // a number that is written in another way may be any
	Folding                                // texts that a column takes for the same are the same
	SoleKeys                               // rows that are found by a unique key are known by it if there is no other
	BeforeTriggers                         // what changes a row before it is written may give it any values
	TemporaryTables                        // a session's own tables hide others of the same names
	ImplicitCommits                        // what commits on the way ends the transaction
	OlderPrivileges                        // a session goes on with privileges that its account had when it logged in
	DefiningBodies                         // what a procedure's body defines is not known any more when that has run
	OtherServers                           // sessions of a server that answered before are neither answered nor learned from
)
