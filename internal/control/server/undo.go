package control

// An undo takes back the last change that is in force, and the next one the change before; a redo puts back what was
// undone last. Entries say which entry's rules an undo or a redo restored: of a run of them, that is where the rules
// stand.

// stands gives which entry's own rules are in force after an entry: its own, or those that it restored.
func stands(history []Entry, at int) int {
	for at < len(history) && history[at].Restores != 0 {
		next := len(history)
		for i := at + 1; i < len(history); i++ {
			if history[i].ID == history[at].Restores {
				next = i
				break
			}
		}
		at = next
	}
	return at
}

// UndoTo gives the entry whose rules an undo puts in force, of a history whose latest entry comes first; nil if there is
// none.
func UndoTo(history []Entry) *Entry {
	at := stands(history, 0)
	if before := stands(history, at+1); before < len(history) {
		return &history[before]
	}
	return nil
}

// RedoTo gives the entry whose rules a redo puts in force; nil if nothing was undone since the last change.
func RedoTo(history []Entry) *Entry {
	last := 0
	for last < len(history) && history[last].Restores != 0 {
		last++
	}
	now := stands(history, 0)
	for at := last; at < len(history) && at != now; {
		before := stands(history, at+1)
		if before == now && before < len(history) {
			return &history[at]
		}
		at = before
	}
	return nil
}
