package analysis

// Kind is which statement it is. It says nothing of what the statement does: that is what effects, reads and writes are
// for.
type Kind uint8

// The kinds.
const (
	KindUnknown Kind = iota // what is not understood
	KindOther               // no SQL, and known to change nothing
	KindEmpty
	KindSeveral  // in one string
	KindFunction // a function's body, which is none
	KindSelect
	KindInsert
	KindUpdate
	KindDelete
	KindMerge
	KindTruncate
	KindCopy
	KindExplain
	KindDeclare
	KindFetch
	KindClose
	KindBegin
	KindCommit
	KindRollback
	KindSavepoint // and what ends one
	KindPrepareTransaction
	KindCommitPrepared
	KindRollbackPrepared
	KindSet
	KindReset
	KindShow
	KindSetConstraints
	KindDiscard
	KindPrepare
	KindExecute
	KindDeallocate
	KindCall
	KindDo
	KindLoad
	KindListen
	KindUnlisten
	KindNotify
	KindLock
	KindComment
	KindRefresh
	KindCluster
	KindReindex
	KindVacuum
	KindCheckpoint
	KindDefinition // any other change of definitions or privileges
)

// kinds are their names for people.
var kinds = [...]string{
	KindUnknown: "unknown", KindOther: "other", KindEmpty: "empty", KindSeveral: "several", KindFunction: "function",
	KindSelect: "select", KindInsert: "insert", KindUpdate: "update", KindDelete: "delete", KindMerge: "merge", KindTruncate: "truncate",
	KindCopy: "copy", KindExplain: "explain", KindDeclare: "declare", KindFetch: "fetch", KindClose: "close",
	KindBegin: "begin", KindCommit: "commit", KindRollback: "rollback", KindSavepoint: "savepoint",
	KindPrepareTransaction: "prepare transaction", KindCommitPrepared: "commit prepared", KindRollbackPrepared: "rollback prepared",
	KindSet: "set", KindReset: "reset", KindShow: "show", KindSetConstraints: "set constraints", KindDiscard: "discard",
	KindPrepare: "prepare", KindExecute: "execute", KindDeallocate: "deallocate", KindCall: "call", KindDo: "do", KindLoad: "load",
	KindListen: "listen", KindUnlisten: "unlisten", KindNotify: "notify", KindLock: "lock", KindComment: "comment",
	KindRefresh: "refresh materialized view", KindCluster: "cluster", KindReindex: "reindex", KindVacuum: "vacuum", KindCheckpoint: "checkpoint",
	KindDefinition: "definition",
}

func (k Kind) String() string { return kinds[k] }

// Called gives the kind of statement in one or two words, for people: "select", "create table".
func (f *Facts) Called() string {
	if f.Definition != "" {
		return f.Definition
	}
	return f.Kind.String()
}
