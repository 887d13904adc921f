// Package look is how everything in the terminal application looks: colours, textures, and the parts that stations
// share. Every meaning has a texture or a glyph besides its colour, so that it survives without any.
package look

import "charm.land/lipgloss/v2"

// Look is the palette for one kind of background.
type Look struct {
	// Honey is for what is spared or kept, Slate for the origin, Plum for writes and drops, Moss for fresh and well,
	// Brick for trouble, Cream for text, Dim for what is secondary.
	Honey, Slate, Plum, Moss, Brick, Cream, Dim lipgloss.Style
	// Strong is for what is named, Chosen for the choice that is taken.
	Strong, Chosen lipgloss.Style
}

// Background is what is known of the terminal's background.
type Background string

// The backgrounds. Where it is not known, colours are used that can be read on either.
const (
	Unknown Background = ""
	Dark    Background = "dark"
	Light   Background = "light"
)

// New makes the palette for a background. Text has the terminal's own colour, which fits whatever is behind it.
func New(b Background) *Look {
	fg := func(unknown, light, dark string) lipgloss.Style {
		c := map[Background]string{Unknown: unknown, Light: light, Dark: dark}[b]
		return lipgloss.NewStyle().Foreground(lipgloss.Color(c))
	}
	honey := fg("#c2851b", "#9a6200", "#e9b44c")
	return &Look{
		Honey: honey, Slate: fg("#5f87a8", "#3f5f78", "#8aa5bd"), Plum: fg("#b0629a", "#8a2f6b", "#cf8fc0"),
		Moss: fg("#648f45", "#3f6b2f", "#9cbf7a"), Brick: fg("#cc5a3a", "#a83a22", "#e07a5f"),
		Dim:   fg("#857f73", "#625b4d", "#857f73"),
		Cream: lipgloss.NewStyle(), Strong: lipgloss.NewStyle().Bold(true), Chosen: honey.Bold(true).Reverse(true),
	}
}

// The textures of the ribbon's three stretches.
const (
	TextureSaved = '█'
	TextureCould = '▒'
	TextureRest  = '·'
)

// Outcome gives the style and the glyph of a statement's outcome.
func (l *Look) Outcome(outcome string) (lipgloss.Style, string) {
	switch outcome {
	case "hit":
		return l.Honey, "◆"
	case "miss":
		return l.Slate, "◇"
	case "write":
		return l.Plum, "▲"
	case "drop":
		return l.Plum, "▽"
	}
	return l.Dim, "›"
}
