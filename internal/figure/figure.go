// Package figure draws what a rehearsal came to: six plots on one sheet, as PNG or SVG.
package figure

import (
	"fmt"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"github.com/illumicode/illumicode/internal/core/rehearsal"
)

// The size of a sheet, 1280 by 800 pixels at 96 to the inch.
const (
	width  = 1280.0 / 96 * vg.Inch
	height = 800.0 / 96 * vg.Inch
)

// inks are told apart by who sees few colours, too (Okabe and Ito, 2008).
var inks = []color.Color{
	color.RGBA{0, 114, 178, 255}, color.RGBA{213, 94, 0, 255}, color.RGBA{0, 158, 115, 255},
	color.RGBA{204, 121, 167, 255},
	color.RGBA{230, 159, 0, 255}, color.RGBA{86, 180, 233, 255}, color.RGBA{0, 0, 0, 255},
}

// A line is one series of a plot.
type line struct {
	name string
	at   func(rehearsal.Sample) float64
}

// Write draws a result to a file, whose name ends in .png or .svg.
func Write(r rehearsal.Result, file string) (err error) {
	kind := strings.ToLower(filepath.Ext(file))
	if kind != ".png" && kind != ".svg" {
		return fmt.Errorf("a plot is a .png or an .svg, and %q is neither", file)
	}
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	defer func() {
		if closeErr := out.Close(); err == nil {
			err = closeErr
		}
	}()
	if kind == ".svg" {
		c := vgsvg.New(width, height)
		sheet(r, draw.New(c))
		_, err = c.WriteTo(out)
		return err
	}
	c := vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(96))
	sheet(r, draw.New(c))
	_, err = vgimg.PngCanvas{Canvas: c}.WriteTo(out)
	return err
}

// sheet draws the plots in two rows.
func sheet(r rehearsal.Result, to draw.Canvas) {
	to.SetColor(color.White)
	to.Fill(to.Rectangle.Path())
	var oldest, carried, left, waits []line
	for lane, name := range rehearsal.LaneNames {
		if r.Lanes[lane].Enqueued > 0 {
			oldest = append(oldest, line{name, func(s rehearsal.Sample) float64 { return s.Oldest[lane].Seconds() }})
		}
	}
	for i, p := range r.Providers {
		carried = append(carried, line{p.Name, func(s rehearsal.Sample) float64 { return float64(s.Sent[i]) }})
		if p.Left >= 0 {
			whole := math.Max(1, float64(most(r, i)))
			left = append(left,
				line{p.Name, func(s rehearsal.Sample) float64 { return 100 * float64(s.Left[i]) / whole }})
		}
	}
	waits = append(waits, line{"", func(s rehearsal.Sample) float64 { return s.Wait.Seconds() }})
	refusals := []line{{"", func(s rehearsal.Sample) float64 { return float64(s.Refusals) }}}
	cost := []line{{"", func(s rehearsal.Sample) float64 { return s.Cost }}}
	plots := [][]*plot.Plot{
		{panel(r, "The longest wait for a code", "seconds", waits, false),
			panel(r, "The oldest letter that is due", "seconds", oldest, false),
			panel(r, "Letters carried", "a minute", carried, true)},
		{leftPanel(r, left), panel(r, "Requests refused", "a minute", refusals, true),
			panel(r, "Cost so far", "", cost, false)},
	}
	title := draw.TextStyle{Color: color.Black, Font: plot.DefaultFont, Handler: plot.DefaultTextHandler}
	title.Font.Size = vg.Points(13)
	to.FillText(title, vg.Point{X: to.Min.X + vg.Points(14), Y: to.Max.Y - vg.Points(20)},
		fmt.Sprintf("%s: %s from %s", r.Scenario.Name, span(r.Scenario.For),
			r.Scenario.Start.UTC().Format("2006-01-02 15:04")))
	to.Max.Y -= vg.Points(26)
	tiles := draw.Tiles{Rows: 2, Cols: 3, PadX: vg.Points(14), PadY: vg.Points(18), PadTop: vg.Points(8),
		PadBottom: vg.Points(8), PadLeft: vg.Points(8), PadRight: vg.Points(14)}
	for i, row := range plot.Align(plots, tiles, to) {
		for j, c := range row {
			plots[i][j].Draw(c)
		}
	}
}

// leftPanel draws what is left of the quotas; above a hundred per cent there is nothing.
func leftPanel(r rehearsal.Result, lines []line) *plot.Plot {
	p := panel(r, "Left of the quotas", "per cent", lines, false)
	p.Y.Max = 105
	p.Legend.Top, p.Legend.YOffs = false, vg.Points(6)
	return p
}

// most returns what a provider's quotas let through when they let through most.
func most(r rehearsal.Result, i int) (n int) {
	for _, s := range r.Samples {
		n = max(n, s.Left[i])
	}
	return n
}

// panel draws lines over the time of the scenario; a rate shows by how much a count has grown in a minute.
func panel(r rehearsal.Result, title, unit string, lines []line, rate bool) *plot.Plot {
	p := plot.New()
	p.Title.Text, p.Title.TextStyle.Font.Size, p.Title.Padding = title, vg.Points(11), vg.Points(6)
	p.Y.Label.Text = unit
	step, name := time.Hour, "hours"
	if r.Scenario.For <= 2*time.Hour {
		step, name = time.Minute, "minutes"
	}
	if r.Scenario.For <= 3*time.Minute {
		step, name = time.Second, "seconds"
	}
	p.X.Label.Text = name
	p.X.Min, p.X.Max = 0, float64(r.Scenario.For)/float64(step)
	p.Y.Min = 0
	p.Legend.Top, p.Legend.Left, p.Legend.TextStyle.Font.Size = true, true, vg.Points(9)
	grid := plotter.NewGrid()
	grid.Horizontal.Color, grid.Vertical.Color = color.Gray{225}, color.Gray{240}
	p.Add(grid)
	highest := 0.0
	for i, l := range lines {
		xy := make(plotter.XYs, 0, len(r.Samples))
		before, last := 0.0, time.Duration(0)
		for _, s := range r.Samples {
			y := l.at(s)
			if rate {
				y, before = (y-before)/(s.At-last).Minutes(), y
				last = s.At
			}
			highest = math.Max(highest, y)
			xy = append(xy, plotter.XY{X: float64(s.At) / float64(step), Y: y})
		}
		drawn, err := plotter.NewLine(xy)
		if err != nil { // a scenario that was stopped before its first sample
			continue
		}
		drawn.Color, drawn.Width = inks[i%len(inks)], vg.Points(1.3)
		p.Add(drawn)
		if l.name != "" {
			p.Legend.Add(l.name, drawn)
		}
	}
	p.Y.Max = math.Max(1e-9, 1.25*highest)
	if highest == 0 {
		p.Y.Max = 1
	}
	return p
}

// span writes a duration without zero parts.
func span(d time.Duration) string {
	s := d.String()
	s = strings.TrimSuffix(s, "0s")
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	if s == "" || s[len(s)-1] >= '0' && s[len(s)-1] <= '9' {
		return d.String()
	}
	return s
}
