// Package chart draws charts and pages of them, as SVG or PDF. They can be read in print and without colour: series
// differ by how they are hatched or dashed and by how dark they are, and are named beside what they draw.
package chart

import (
	"fmt"
	"image/color"
	"math"
	"time"

	xfont "golang.org/x/image/font"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// Kind is how a chart is drawn.
type Kind int

// The kinds.
const (
	Lines   Kind = iota // a line for each series
	Stacked             // pillars on top of each other, by X
	Bars                // lying bars, by Names
)

// Scale is how an axis counts.
type Scale int

// The scales.
const (
	Linear Scale = iota
	Log
	Clock // seconds since 1970, written as the time
	Share // 0 to 1, written as a percentage
	Size  // bytes, by powers of two
)

// Axis is one axis.
type Axis struct {
	Label string
	Scale Scale
}

// Point is one point of a series.
type Point struct{ X, Y float64 }

// Ink is what a series stands for; it decides how it is drawn.
type Ink int

// The inks.
const (
	Saved Ink = iota // dark and full
	Could            // hatched
	Rest             // light
	Trouble
)

// Series is one series.
type Series struct {
	Name   string
	Ink    Ink
	Points []Point
	// Errors are halves of intervals around each point, or nil.
	Errors []float64
	// Steps has a line go on level until the next point.
	Steps bool
}

// Mark is a place on the X axis that has a name.
type Mark struct {
	X    float64
	Name string
}

// Chart is one chart.
type Chart struct {
	Title, Note string
	Kind        Kind
	X, Y        Axis
	Series      []Series
	// Names are those of the bars: bar i is at X = i.
	Names []string
	Marks []Mark
	// Width is how wide a pillar is, in the units of X.
	Width float64
	// Location is where times are told; nil means UTC.
	Location *time.Location
}

// Empty says whether there is nothing to draw.
func (c *Chart) Empty() bool {
	for _, s := range c.Series {
		if len(s.Points) > 0 {
			return false
		}
	}
	return true
}

type look struct {
	fill, line color.Color
	dashes     []vg.Length
	hatch      vg.Length // between hatching lines; 0 for none
	width      vg.Length
}

var looks = map[Ink]look{
	Saved:   {fill: color.RGBA{0xa8, 0x6e, 0x10, 255}, line: color.RGBA{0x8a, 0x58, 0x06, 255}, width: vg.Points(1.8)},
	Could:   {fill: color.RGBA{0xd7, 0xe0, 0xe8, 255}, line: color.RGBA{0x4a, 0x68, 0x80, 255}, dashes: []vg.Length{vg.Points(5), vg.Points(3)}, hatch: vg.Points(3.2), width: vg.Points(1.4)},
	Rest:    {fill: color.RGBA{0xf4, 0xf1, 0xea, 255}, line: color.RGBA{0x8d, 0x86, 0x78, 255}, dashes: []vg.Length{vg.Points(1.5), vg.Points(2.5)}, width: vg.Points(1.2)},
	Trouble: {fill: color.RGBA{0xd8, 0x8c, 0x74, 255}, line: color.RGBA{0xa8, 0x3a, 0x22, 255}, dashes: []vg.Length{vg.Points(7), vg.Points(2), vg.Points(1.5), vg.Points(2)}, hatch: vg.Points(2), width: vg.Points(1.4)},
}

var (
	ink  = color.RGBA{0x2b, 0x28, 0x22, 255}
	pale = color.RGBA{0x6f, 0x69, 0x5c, 255}
	grid = color.RGBA{0xe3, 0xde, 0xd2, 255}
)

func text(size float64, bold bool) draw.TextStyle {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: vg.Points(size)}
	if bold {
		f.Weight = xfont.WeightBold
	}
	return draw.TextStyle{Color: ink, Font: f, Handler: plot.DefaultTextHandler}
}

// plot makes the library's plot of a chart.
func (c *Chart) plot() *plot.Plot {
	p := plot.New()
	p.BackgroundColor = nil
	for _, a := range []struct {
		axis *plot.Axis
		of   Axis
	}{{&p.X, c.X}, {&p.Y, c.Y}} {
		a.axis.Label.Text = a.of.Label
		a.axis.Label.TextStyle.Font, a.axis.Label.TextStyle.Color = text(8.5, false).Font, pale
		a.axis.Tick.Label.Font, a.axis.Tick.Label.Color = text(8, false).Font, ink
		a.axis.LineStyle.Color, a.axis.LineStyle.Width = pale, vg.Points(0.6)
		a.axis.Tick.LineStyle.Color, a.axis.Tick.LineStyle.Width = pale, vg.Points(0.6)
		a.axis.Padding = vg.Points(2)
	}
	g := plotter.NewGrid()
	g.Horizontal.Color, g.Vertical.Color = grid, grid
	g.Horizontal.Width, g.Vertical.Width = vg.Points(0.5), vg.Points(0.5)
	switch c.Kind {
	case Bars:
		g.Horizontal.Color = nil
		c.bars(p, g)
	case Stacked:
		g.Vertical.Color = nil
		p.Add(g)
		c.pillars(p)
	default:
		p.Add(g)
		c.lines(p)
	}
	c.scale(&p.X, c.X)
	c.scale(&p.Y, c.Y)
	if c.Kind == Bars {
		names := make([]plot.Tick, len(c.Names))
		for i, n := range c.Names {
			names[i] = plot.Tick{Value: float64(len(c.Names) - 1 - i), Label: n}
		}
		p.Y.Tick.Marker = plot.ConstantTicks(names)
		p.Y.Tick.LineStyle.Width = 0
		p.Y.Min, p.Y.Max = -0.6, float64(len(c.Names))-0.4
	}
	for _, m := range c.Marks {
		p.Add(&mark{m})
	}
	return p
}

func (c *Chart) scale(a *plot.Axis, of Axis) {
	switch of.Scale {
	case Log:
		a.Scale, a.Tick.Marker = logScale{}, logTicks{}
		a.Min, a.Max = math.Max(a.Min, 1e-3), math.Max(a.Max, 2e-3)
	case Size:
		a.Scale, a.Tick.Marker = logScale{}, sizeTicks{}
		a.Min, a.Max = math.Max(a.Min, 1), math.Max(a.Max, 2)
	case Clock:
		a.Tick.Marker = clockTicks{c.Location}
	case Share:
		a.Tick.Marker = shareTicks{}
		a.Min, a.Max = 0, math.Min(math.Max(a.Max, 0.05), 1)
	default:
		a.Tick.Marker = numberTicks{}
	}
	if a.Max <= a.Min {
		a.Max = a.Min + 1
	}
}

func (c *Chart) lines(p *plot.Plot) {
	for i := range c.Series {
		s := &c.Series[i]
		l := &line{s, looks[s.Ink]}
		p.Add(l)
	}
	if c.Y.Scale == Linear {
		p.Y.Min = math.Min(p.Y.Min, 0)
	}
}

func (c *Chart) pillars(p *plot.Plot) {
	low, high := map[float64]float64{}, map[float64]float64{}
	for i := range c.Series {
		s := &c.Series[i]
		b := &blocks{look: looks[s.Ink]}
		for _, pt := range s.Points {
			from := high[pt.X]
			if pt.Y < 0 {
				from = low[pt.X]
				low[pt.X] += pt.Y
			} else {
				high[pt.X] += pt.Y
			}
			b.list = append(b.list, block{pt.X - c.Width*0.46, pt.X + c.Width*0.46, math.Min(from, from+pt.Y), math.Max(from, from+pt.Y)})
		}
		p.Add(b)
	}
	p.Y.Min = math.Min(p.Y.Min, 0)
}

func (c *Chart) bars(p *plot.Plot, g *plotter.Grid) {
	p.Add(g)
	n := float64(len(c.Series))
	for i := range c.Series {
		s := &c.Series[i]
		b := &blocks{look: looks[s.Ink]}
		thick := 0.8 / n
		for k, pt := range s.Points {
			middle := float64(len(c.Names)-1) - pt.X + 0.4 - thick*(float64(i)+0.5)
			b.list = append(b.list, block{math.Min(0, pt.Y), math.Max(0, pt.Y), middle - thick*0.46, middle + thick*0.46})
			if k < len(s.Errors) && s.Errors[k] > 0 {
				b.errors = append(b.errors, block{pt.Y - s.Errors[k], pt.Y + s.Errors[k], middle, middle})
			}
		}
		p.Add(b)
	}
	p.X.Min = math.Min(p.X.Min, 0)
}

// duration writes milliseconds in the unit that suits.
func duration(ms float64) string {
	switch {
	case ms < 1:
		return fmt.Sprintf("%g µs", round(ms*1000))
	case ms < 1000:
		return fmt.Sprintf("%g ms", round(ms))
	}
	return fmt.Sprintf("%g s", round(ms/1000))
}

func round(f float64) float64 { return math.Round(f*100) / 100 }

// logScale is the library's, but that it draws what is below its least value there, and does not panic.
type logScale struct{}

// Normalize implements plot.Normalizer.
func (logScale) Normalize(low, high, x float64) float64 {
	return math.Log(math.Max(x, low)/low) / math.Log(high/low)
}
