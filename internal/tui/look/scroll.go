package look

import "charm.land/bubbles/v2/viewport"

// Window gives so many lines as fit of some, from a line on, or from as far down as there are lines to fill it.
func Window(lines []string, from, width, height int) []string {
	v := viewport.New(viewport.WithWidth(width), viewport.WithHeight(max(height, 0)))
	v.SetContentLines(lines)
	v.SetYOffset(from)
	return Block(lines[min(v.YOffset(), len(lines)):], width, height)
}
