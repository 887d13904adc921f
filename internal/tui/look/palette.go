// Package look is how everything in the terminal application looks: colours, textures, and the parts that stations
// share. Every meaning has a texture or a glyph besides its colour, so that it survives without any.
package look

import (
	"image/color"

	"charm.land/lipgloss/v2"
)

// Look is the palette for one kind of background.
type Look struct {
	Dark bool

	// Honey is for what is spared or kept, Slate for the origin, Plum for writes and drops, Moss for fresh and well,
	// Brick for trouble, Cream for text, Dim for what is secondary.
	Honey, Slate, Plum, Moss, Brick, Cream, Dim lipgloss.Style
	// Strong is for what is named, Chosen for the line that is selected.
	Strong, Chosen lipgloss.Style
}

// New makes the palette for a dark or a light background.
func New(dark bool) *Look {
	pick := lipgloss.LightDark(dark)
	c := func(light, dark string) color.Color { return pick(lipgloss.Color(light), lipgloss.Color(dark)) }
	fg := func(light, dark string) lipgloss.Style { return lipgloss.NewStyle().Foreground(c(light, dark)) }
	return &Look{
		Dark:  dark,
		Honey: fg("#9a6200", "#e9b44c"), Slate: fg("#3f5f78", "#8aa5bd"), Plum: fg("#8a2f6b", "#cf8fc0"),
		Moss: fg("#3f6b2f", "#9cbf7a"), Brick: fg("#a83a22", "#e07a5f"),
		Cream: fg("#2e2a22", "#e8e0cf"), Dim: fg("#857d6d", "#857f73"),
		Strong: fg("#1d1a14", "#fbf4e2").Bold(true),
		Chosen: lipgloss.NewStyle().Bold(true).Foreground(c("#1d1a14", "#fbf4e2")).Background(c("#f1e3bf", "#3a3221")),
	}
}

// The textures of the ribbon's three stretches.
const (
	TextureSpared = '█'
	TextureCould  = '▒'
	TextureRest   = '·'
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
