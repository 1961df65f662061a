package main

import (
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// plotGrowth draws how times grow with the number of people, both on scales on which what
// grows in step with them is a straight line upwards, and what does not grow a level one.
func plotGrowth(all []figures, file string) error {
	lines := []struct {
		name string
		pick func(figures) float64
		tone color.Color
	}{
		{"first run", func(f figures) float64 { return f.FirstRun }, color.RGBA{0x1f, 0x4e, 0x79, 0xff}},
		{"raw limit of it", rawFirst, color.RGBA{0x8f, 0xa7, 0xbf, 0xff}},
		{"rehearsal of everything", func(f figures) float64 { return f.Rehearsal }, color.RGBA{0x2e, 0x8b, 0x57, 0xff}},
		{"count of all by a filter", func(f figures) float64 { return f.Preview }, color.RGBA{0xb8, 0x86, 0x0b, 0xff}},
		{"estimate of it", func(f figures) float64 { return f.Estimate }, color.RGBA{0xd9, 0xb3, 0x5b, 0xff}},
		{"delta of 100 changes", func(f figures) float64 { return f.Delta }, color.RGBA{0xb2, 0x3a, 0x48, 0xff}},
		{"live, 95 of 100", func(f figures) float64 { return f.Live }, color.RGBA{0xd8, 0x70, 0x93, 0xff}},
		{"find, one page", func(f figures) float64 { return f.Find }, color.RGBA{0x6a, 0x5a, 0xcd, 0xff}},
		{"why, one entry", func(f figures) float64 { return f.Why }, color.RGBA{0x44, 0x44, 0x44, 0xff}},
	}
	p := plot.New()
	p.Title.Text = "How the times grow with the number of people"
	p.X.Label.Text, p.Y.Label.Text = "people", "seconds"
	p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	p.X.Tick.Marker, p.Y.Tick.Marker = decades{}, decades{}
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.Padding = vg.Points(2)
	p.Add(plotter.NewGrid())
	for _, line := range lines {
		var points plotter.XYs
		for _, f := range all {
			if value := line.pick(f); value > 0 {
				points = append(points, plotter.XY{X: float64(f.People), Y: value})
			}
		}
		if len(points) < 2 {
			continue
		}
		drawn, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return fmt.Errorf("draw %s: %w", line.name, err)
		}
		drawn.Color, drawn.Width = line.tone, vg.Points(1.6)
		dots.Color, dots.Shape, dots.Radius = line.tone, draw.CircleGlyph{}, vg.Points(2.4)
		p.Add(drawn, dots)
		p.Legend.Add(line.name, drawn, dots)
	}
	// Room for the legend above the lines.
	p.Y.Max *= 30
	return p.Save(22*vg.Centimeter, 14*vg.Centimeter, file)
}

// decades marks the powers of ten.
type decades struct{}

// Ticks are plot.Ticker's.
func (decades) Ticks(least, most float64) []plot.Tick {
	var ticks []plot.Tick
	for at := 1e-4; at <= most; at *= 10 {
		if at < least {
			continue
		}
		label := fmt.Sprintf("%g", at)
		if at >= 1000 {
			label = thousands(int(at + 0.5))
		}
		ticks = append(ticks, plot.Tick{Value: at, Label: label})
	}
	return ticks
}
