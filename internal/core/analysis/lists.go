package analysis

// Lists adds to lists of names what is not there yet. It looks through none of them: a statement may have tens of
// thousands of names. Its zero value is ready.
type Lists struct{ seen map[listed]bool }

// listed is a name in one of the lists, by the list's address.
type listed struct {
	list any
	name Name
}

// First says whether a list, by its address, has a name for the first time.
func (l *Lists) First(list any, n Name) bool {
	k := listed{list, n}
	if l.seen[k] {
		return false
	}
	if l.seen == nil {
		l.seen = map[listed]bool{}
	}
	l.seen[k] = true
	return true
}

// AddName adds a name to a list.
func (l *Lists) AddName(list *[]Name, n Name) {
	if l.First(list, n) {
		*list = append(*list, n)
	}
}

// AddText adds a name without a schema to a list.
func (l *Lists) AddText(list *[]string, s string) {
	if l.First(list, Name{Name: s}) {
		*list = append(*list, s)
	}
}
