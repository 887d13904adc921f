package look

import (
	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
)

// help is bubbles' own, in these colours.
func (l *Look) help() help.Model {
	h := help.New()
	h.ShortSeparator = "   "
	h.Styles.ShortKey, h.Styles.ShortDesc, h.Styles.ShortSeparator = l.Honey.Bold(true), l.Dim, l.Dim
	h.Styles.FullKey, h.Styles.FullDesc = l.Honey, l.Cream
	return h
}

// Keys writes keys and what they do, in a line.
func (l *Look) Keys(keys ...key.Binding) string { return l.help().ShortHelpView(keys) }

// KeyList writes keys and what they do, each in a line.
func (l *Look) KeyList(keys []key.Binding) string {
	return l.help().FullHelpView([][]key.Binding{keys})
}

// Key writes a key and what it does here.
func (l *Look) Key(k key.Binding, does string) string {
	k.SetHelp(k.Help().Key, does)
	return l.Keys(k)
}
