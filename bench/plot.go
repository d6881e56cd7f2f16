package main

import (
	"math"
	"slices"
	"strconv"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/plotutil"
	"gonum.org/v1/plot/vg"
)

// A point is where a figure stands in the plot of claims.
type point struct {
	series string
	rows   int
	took   time.Duration
}

// points are what claimFigures has measured in this run.
var points []point

// draw writes the plot of all points to a file, whose name says the format.
func draw(all []point, file string) error {
	p := plot.New()
	p.Title.Text = "A claim of sixteen deliveries, by how many wait"
	p.X.Label.Text, p.Y.Label.Text = "rows waiting in the lane", "milliseconds"
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.Y.Min = 0
	p.Y.Tick.Marker = plot.TickerFunc(halves)
	p.Title.Padding, p.Legend.YOffs = vg.Points(8), vg.Points(-6)
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	var names []string
	series := make(map[string]plotter.XYs)
	for _, at := range all {
		if series[at.series] == nil {
			names = append(names, at.series)
		}
		y := float64(at.took) / float64(time.Millisecond)
		series[at.series] = append(series[at.series], plotter.XY{X: float64(at.rows), Y: y})
		p.Y.Max = math.Max(p.Y.Max, 1.5*y)
	}
	slices.Sort(names)
	for i, name := range names {
		line, dots, err := plotter.NewLinePoints(series[name])
		if err != nil {
			return err
		}
		line.Color, dots.Color, dots.Shape = plotutil.Color(i), plotutil.Color(i), plotutil.Shape(i)
		line.Width = vg.Points(1.5)
		p.Add(line, dots)
		p.Legend.Add(name, line, dots)
	}
	return p.Save(20*vg.Centimeter, 12*vg.Centimeter, file)
}

// halves marks every half millisecond.
func halves(least, most float64) (ticks []plot.Tick) {
	for v := math.Ceil(2*least) / 2; v <= most; v += 0.5 {
		ticks = append(ticks, plot.Tick{Value: v, Label: strconv.FormatFloat(v, 'f', 1, 64)})
	}
	return ticks
}
