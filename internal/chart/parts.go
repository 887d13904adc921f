package chart

import (
	"image/color"
	"math"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// line draws one series as a line.
type line struct {
	*Series
	look look
}

func (l *line) style() draw.LineStyle {
	return draw.LineStyle{Color: l.look.line, Width: l.look.width, Dashes: l.look.dashes}
}

// Plot implements plot.Plotter.
func (l *line) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	var points []vg.Point
	for i, pt := range l.Points {
		if l.Steps && i > 0 {
			points = append(points, vg.Point{X: x(pt.X), Y: y(l.Points[i-1].Y)})
		}
		points = append(points, vg.Point{X: x(pt.X), Y: y(pt.Y)})
		if i < len(l.Errors) && l.Errors[i] > 0 {
			c.StrokeLine2(draw.LineStyle{Color: l.look.line, Width: vg.Points(0.8)}, x(pt.X), y(pt.Y-l.Errors[i]), x(pt.X), y(pt.Y+l.Errors[i]))
		}
	}
	c.StrokeLines(l.style(), c.ClipLinesXY(points)...)
	if len(l.Points) < 24 && !l.Steps {
		for _, at := range points {
			c.DrawGlyph(draw.GlyphStyle{Color: l.look.line, Radius: vg.Points(2.2), Shape: draw.CircleGlyph{}}, at)
		}
	}
}

// DataRange implements plot.DataRanger.
func (l *line) DataRange() (xmin, xmax, ymin, ymax float64) {
	xmin, ymin, xmax, ymax = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i, pt := range l.Points {
		e := 0.0
		if i < len(l.Errors) {
			e = l.Errors[i]
		}
		xmin, xmax = math.Min(xmin, pt.X), math.Max(xmax, pt.X)
		ymin, ymax = math.Min(ymin, pt.Y-e), math.Max(ymax, pt.Y+e)
	}
	return xmin, xmax, ymin, ymax
}

// Thumbnail implements plot.Thumbnailer.
func (l *line) Thumbnail(c *draw.Canvas) {
	c.StrokeLine2(l.style(), c.Min.X, c.Center().Y, c.Max.X, c.Center().Y)
}

// block is a rectangle by its bounds on the axes.
type block struct{ left, right, bottom, top float64 }

// blocks draws one series as rectangles, hatched where its look says so.
type blocks struct {
	list, errors []block
	look         look
}

// Plot implements plot.Plotter.
func (b *blocks) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	for _, r := range b.list {
		b.draw(&c, x(r.left), x(r.right), y(r.bottom), y(r.top))
	}
	for _, e := range b.errors {
		s := draw.LineStyle{Color: ink, Width: vg.Points(1)}
		c.StrokeLine2(s, x(e.left), y(e.bottom), x(e.right), y(e.top))
		for _, at := range []float64{e.left, e.right} {
			c.StrokeLine2(s, x(at), y(e.bottom)-vg.Points(2.5), x(at), y(e.bottom)+vg.Points(2.5))
		}
	}
}

func (b *blocks) draw(c *draw.Canvas, left, right, bottom, top vg.Length) {
	corners := []vg.Point{{X: left, Y: bottom}, {X: right, Y: bottom}, {X: right, Y: top}, {X: left, Y: top}}
	c.FillPolygon(b.look.fill, corners)
	outline := draw.LineStyle{Color: b.look.line, Width: vg.Points(0.5)}
	if b.look.hatch > 0 {
		hatch(c, draw.LineStyle{Color: b.look.line, Width: vg.Points(0.5)}, left, right, bottom, top, b.look.hatch)
	}
	if right-left > vg.Points(3) || b.look.hatch == 0 {
		c.StrokeLines(outline, append(corners, corners[0]))
	}
}

// mostHatching bounds the lines of one rectangle.
const mostHatching = 2000

// hatch draws lines from the lower left to the upper right within a rectangle. They are where they would be in any
// other rectangle, so that neighbours fit together.
func hatch(c *draw.Canvas, s draw.LineStyle, left, right, bottom, top, step vg.Length) {
	first := vg.Length(math.Floor(float64((left-top)/step))) * step
	for i := range mostHatching {
		d := first + vg.Length(i)*step // the line x - y = d
		if d > right-bottom {
			break
		}
		from, to := vg.Point{X: bottom + d, Y: bottom}, vg.Point{X: top + d, Y: top}
		if from.X < left {
			from = vg.Point{X: left, Y: left - d}
		}
		if to.X > right {
			to = vg.Point{X: right, Y: right - d}
		}
		if from.X < to.X {
			c.StrokeLine2(s, from.X, from.Y, to.X, to.Y)
		}
	}
}

// DataRange implements plot.DataRanger.
func (b *blocks) DataRange() (xmin, xmax, ymin, ymax float64) {
	xmin, ymin, xmax, ymax = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, list := range [][]block{b.list, b.errors} {
		for _, r := range list {
			xmin, xmax = math.Min(xmin, r.left), math.Max(xmax, r.right)
			ymin, ymax = math.Min(ymin, r.bottom), math.Max(ymax, r.top)
		}
	}
	return xmin, xmax, ymin, ymax
}

// Thumbnail implements plot.Thumbnailer.
func (b *blocks) Thumbnail(c *draw.Canvas) {
	b.draw(c, c.Min.X, c.Max.X, c.Min.Y+vg.Points(1), c.Max.Y-vg.Points(1))
}

// mark draws a line over the whole height with a name.
type mark struct{ Mark }

// Plot implements plot.Plotter.
func (m *mark) Plot(c draw.Canvas, p *plot.Plot) {
	x, _ := p.Transforms(&c)
	at := x(m.X)
	if at < c.Min.X || at > c.Max.X {
		return
	}
	c.StrokeLine2(draw.LineStyle{Color: ink, Width: vg.Points(0.8), Dashes: []vg.Length{vg.Points(2), vg.Points(2)}}, at, c.Min.Y, at, c.Max.Y)
	s := text(8, false)
	s.Color = color.Color(ink)
	s.YAlign = draw.YTop
	if at > c.Center().X {
		s.XAlign = draw.XRight
		c.FillText(s, vg.Point{X: at - vg.Points(3), Y: c.Max.Y - vg.Points(1)}, m.Name)
		return
	}
	c.FillText(s, vg.Point{X: at + vg.Points(3), Y: c.Max.Y - vg.Points(1)}, m.Name)
}
