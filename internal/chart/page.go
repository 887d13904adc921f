package chart

import (
	"bytes"
	"errors"
	"fmt"
	"image/color"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"

	xfont "golang.org/x/image/font"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Page is a page of text and charts, from the top down.
type Page struct {
	// Width and Height are in points; a Page without them has the size of A4 upright.
	Width, Height float64
	Parts         []Part
	// Foot is a small line at the bottom.
	Foot string
}

// Part is one part of a page: some lines of text, a row of figures, a table, or a chart.
type Part struct {
	Title   string // a heading; Large for the page's own
	Large   bool
	Text    string // wrapped
	Figures []Figure
	Table   [][]string // the first row is the head; numbers are those columns from Numbers on, to the right
	Numbers int
	Widths  []float64 // of the columns, in parts of the whole
	Chart   *Chart
	// Space is how high a chart is, in points.
	Space float64
}

// Figure is a number that is to be seen first, with what it is.
type Figure struct{ Value, Of string }

// A4 in points.
const (
	a4Width, a4Height = 595.28, 841.89
	margin            = 42
)

// Formats are the formats that Write knows, by the ends of files' names.
var Formats = []string{".svg", ".pdf"}

// Write draws a page in a format.
func (p *Page) Write(w io.Writer, format string) error {
	width, height := vg.Points(p.Width), vg.Points(p.Height)
	if p.Width == 0 {
		width, height = vg.Points(a4Width), vg.Points(a4Height)
	}
	switch format {
	case ".svg":
		c := vgsvg.New(width, height)
		p.draw(draw.NewCanvas(c, width, height))
		var out bytes.Buffer
		if _, err := c.WriteTo(&out); err != nil {
			return err
		}
		// Who reads it may not have the font that it was laid out with.
		_, err := w.Write(bytes.ReplaceAll(out.Bytes(), []byte("font-family:Liberation Sans;"), []byte("font-family:Liberation Sans,Arimo,Arial,Helvetica,sans-serif;")))
		return err
	case ".pdf":
		c := vgpdf.New(width, height)
		c.EmbedFonts(true)
		p.draw(draw.NewCanvas(pdf{c}, width, height))
		_, err := c.WriteTo(w)
		return err
	}
	return fmt.Errorf("the format %q: expected %s", format, strings.Join(Formats, " or "))
}

// pdf is the library's canvas for PDF. That takes texts in the code page of its fonts, and embeds no more than one
// font: bold is made by drawing twice.
type pdf struct{ *vgpdf.Canvas }

// boldness is how far apart a bold text is drawn twice.
const boldness = 0.35

// FillString implements vg.Canvas.
func (c pdf) FillString(f font.Face, at vg.Point, s string) {
	s, err := encoding.ReplaceUnsupported(charmap.Windows1252.NewEncoder()).String(s)
	if err != nil {
		return
	}
	s = strings.ReplaceAll(s, "\x1a", "?") // what the code page has no sign for
	if f.Font.Weight == xfont.WeightBold {
		f = font.DefaultCache.Lookup(text(f.Font.Size.Points(), false).Font, f.Font.Size)
		c.Canvas.FillString(f, vg.Point{X: at.X + vg.Points(boldness), Y: at.Y}, s)
	}
	c.Canvas.FillString(f, at, s)
}

// WriteFile draws a page into a file, in the format that its name ends with. What was there is replaced only when the
// page is whole.
func (p *Page) WriteFile(path string) error {
	return Whole(path, func(w io.Writer) error { return p.Write(w, filepath.Ext(path)) })
}

// Whole writes a file that is there whole, or not at all.
func Whole(path string, write func(io.Writer) error) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w: choose another place", path, unwrapPath(err))
	}
	defer func() {
		if err != nil {
			os.Remove(f.Name())
		}
	}()
	if err := write(f); err != nil {
		f.Close()
		return err
	}
	if err := errors.Join(f.Chmod(0o644), f.Close()); err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, unwrapPath(err))
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, unwrapPath(err))
	}
	return nil
}

// unwrapPath leaves out the name of a file that nobody has heard of.
func unwrapPath(err error) error {
	var of *os.PathError
	if errors.As(err, &of) {
		return of.Err
	}
	return err
}

// Single makes a page of charts alone, below each other.
func Single(charts ...*Chart) *Page {
	p := &Page{Width: 620, Height: 2 * margin}
	for _, c := range charts {
		h := 330.0
		if c.Kind == Bars {
			h = 90 + 34*float64(len(c.Names))
		}
		p.Parts = append(p.Parts, Part{Chart: c, Space: h})
		p.Height += h + 10
	}
	return p
}

// leastSpace is how high a chart is at least, in points.
const leastSpace = 75

// draw draws the page. Where its parts do not fit below each other, charts become lower.
func (p *Page) draw(c draw.Canvas) {
	space, tall := 1.0, 0.0
	for _, part := range p.Parts {
		if part.Chart != nil {
			tall += part.Space
		}
	}
	blank := vgsvg.New(c.Max.X-c.Min.X, c.Max.Y-c.Min.Y)
	end := p.drawParts(draw.NewCanvas(blank, c.Max.X-c.Min.X, c.Max.Y-c.Min.Y), 1)
	if lacks := float64(c.Min.Y + vg.Points(margin*0.75) - end); lacks > 0 && tall > 0 {
		space = math.Max(1-lacks/tall, 0)
	}
	c.SetColor(color.White)
	c.Fill(c.Path())
	p.drawParts(c, space)
	if p.Foot != "" {
		s := text(7.5, false)
		s.Color = pale
		c.FillText(s, vg.Point{X: c.Min.X + vg.Points(margin), Y: c.Min.Y + vg.Points(margin/2)}, p.Foot)
	}
}

// drawParts draws the parts from the top down, charts with a part of their height, and gives where they end.
func (p *Page) drawParts(c draw.Canvas, space float64) vg.Length {
	y := c.Max.Y - vg.Points(margin)
	left, right := c.Min.X+vg.Points(margin), c.Max.X-vg.Points(margin)
	width := right - left
	say := func(s draw.TextStyle, x vg.Length, t string) {
		c.FillText(s, vg.Point{X: x, Y: y}, t)
	}
	for _, part := range p.Parts {
		if part.Title != "" {
			size := 12.0
			if part.Large {
				size = 19
			}
			s := text(size, true)
			y -= vg.Points(size * 1.1)
			say(s, left, part.Title)
			y -= vg.Points(size * 0.45)
		}
		if part.Text != "" {
			s := text(9.5, false)
			for _, l := range wrap(s, part.Text, width) {
				y -= vg.Points(12.5)
				say(s, left, l)
			}
			y -= vg.Points(7)
		}
		if n := len(part.Figures); n > 0 {
			y -= vg.Points(24)
			for i, f := range part.Figures {
				x := left + width*vg.Length(i)/vg.Length(n)
				say(text(19, true), x, f.Value)
				small := text(8.5, false)
				small.Color = pale
				for k, l := range wrap(small, f.Of, width/vg.Length(n)-vg.Points(8)) {
					c.FillText(small, vg.Point{X: x, Y: y - vg.Points(12+10.5*float64(k))}, l)
				}
			}
			y -= vg.Points(42)
		}
		for i, row := range part.Table {
			s := text(8.5, i == 0)
			y -= vg.Points(12)
			x := left
			for k, cell := range row {
				w := width * vg.Length(part.Widths[k])
				cs := s
				if k >= part.Numbers {
					cs.XAlign = draw.XRight
					c.FillText(cs, vg.Point{X: x + w - vg.Points(3), Y: y}, fit(cs, cell, w))
				} else {
					c.FillText(cs, vg.Point{X: x, Y: y}, fit(cs, cell, w-vg.Points(4)))
				}
				x += w
			}
			if i == 0 {
				c.StrokeLine2(draw.LineStyle{Color: pale, Width: vg.Points(0.5)}, left, y-vg.Points(3.5), right, y-vg.Points(3.5))
				y -= vg.Points(3)
			}
		}
		if len(part.Table) > 0 {
			y -= vg.Points(12)
		}
		if part.Chart != nil {
			high := math.Min(math.Max(part.Space*space, leastSpace), part.Space)
			part.Chart.drawIn(c, left, right, y-vg.Points(high), y)
			y -= vg.Points(high + 10)
		}
	}
	return y
}

func (c *Chart) drawIn(on draw.Canvas, left, right, bottom, top vg.Length) {
	if c.Note != "" {
		s := text(8, false)
		s.Color = pale
		lines := wrap(s, c.Note, right-left)
		for i, l := range lines {
			on.FillText(s, vg.Point{X: left, Y: bottom + vg.Points(10*float64(len(lines)-1-i))}, l)
		}
		bottom += vg.Points(10*float64(len(lines)) + 4)
	}
	area := draw.Canvas{Canvas: on.Canvas, Rectangle: vg.Rectangle{Min: vg.Point{X: left, Y: bottom}, Max: vg.Point{X: right, Y: top}}}
	if c.Empty() {
		s := text(9, false)
		s.Color = pale
		area.FillText(text(11, true), vg.Point{X: left, Y: top - vg.Points(12)}, c.Title)
		area.FillText(s, vg.Point{X: left, Y: top - vg.Points(28)}, "There is nothing to draw yet.")
		return
	}
	head := vg.Points(18)
	area.FillText(text(11, true), vg.Point{X: left, Y: top - vg.Points(11)}, c.Title)
	if len(c.Series) > 1 { // names stand beside each other above the chart, where they cover nothing
		x, y := left, top-head
		for i := range c.Series {
			x = c.name(area, x, y, &c.Series[i])
		}
		head += vg.Points(17)
	}
	area.Max.Y -= head
	c.plot().Draw(area)
}

// name draws what a series looks like, and its name, and gives where the next may begin.
func (c *Chart) name(on draw.Canvas, x, y vg.Length, s *Series) vg.Length {
	box := draw.Canvas{Canvas: on.Canvas, Rectangle: vg.Rectangle{Min: vg.Point{X: x, Y: y - vg.Points(12)}, Max: vg.Point{X: x + vg.Points(22), Y: y - vg.Points(2)}}}
	var sample plot.Thumbnailer = &line{s, looks[s.Ink]}
	if c.Kind != Lines {
		sample = &blocks{look: looks[s.Ink]}
	}
	sample.Thumbnail(&box)
	ts := text(8.5, false)
	on.FillText(ts, vg.Point{X: x + vg.Points(26), Y: y - vg.Points(10)}, s.Name)
	return x + vg.Points(26+14) + 1.12*ts.Width(s.Name)
}

// wrap breaks a text into lines of at most a width.
func wrap(s draw.TextStyle, t string, width vg.Length) (out []string) {
	line := ""
	for _, word := range strings.Fields(t) {
		longer := strings.TrimSpace(line + " " + word)
		if line != "" && s.Width(longer) > 0.95*width { // where the font is not at hand, another is wider
			out = append(out, line)
			longer = word
		}
		line = longer
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}

// fit shortens a text to a width.
func fit(s draw.TextStyle, t string, width vg.Length) string {
	if s.Width(t) <= width {
		return t
	}
	r := []rune(t)
	for len(r) > 0 && s.Width(string(r)+"…") > width {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}
