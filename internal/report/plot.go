package report

import (
	"errors"
	"fmt"
	"image/color"
	"io"
	"math"
	"slices"
	"strconv"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Point is one build in the history of a game.
type Point struct {
	Label string
	Date  time.Time
	Bytes int64 // of all its files
	New   int64 // of what is new against the build before
	Held  bool  // all of it is on this computer
}

// ErrPicture is returned for a picture that cannot be drawn.
var ErrPicture = errors.New("this picture cannot be drawn")

// The size of the picture.
const (
	plotWidth  = 26 * vg.Centimeter
	plotHeight = 16 * vg.Centimeter
	megabyte   = 1e6
)

var (
	ink   = color.RGBA{R: 0x22, G: 0x26, B: 0x2b, A: 0xff}
	blue  = color.RGBA{R: 0x2f, G: 0x6f, B: 0xb0, A: 0xff}
	green = color.RGBA{R: 0x2e, G: 0x85, B: 0x55, A: 0xff}
	pale  = color.RGBA{R: 0xdc, G: 0xd9, B: 0xd2, A: 0xff}
)

// Plot draws the history as "png" or "svg": above, how large each build is, and which
// are here; below, how much is new in it. Sizes are in MB (10^6 bytes).
func Plot(w io.Writer, format, title string, points []Point) error {
	if len(points) == 0 {
		return fmt.Errorf("%w: there are no builds", ErrPicture)
	}
	points = slices.Clone(points)
	slices.SortFunc(points, func(a, b Point) int { return a.Date.Compare(b.Date) })
	above, err := sizes(title, points)
	if err != nil {
		return err
	}
	below, err := news(points)
	if err != nil {
		return err
	}
	switch format {
	case "png":
		c := vgimg.NewWith(vgimg.UseWH(plotWidth, plotHeight), vgimg.UseDPI(125))
		stack(c, above, below)
		_, err = vgimg.PngCanvas{Canvas: c}.WriteTo(w)
	case "svg":
		c := vgsvg.New(plotWidth, plotHeight)
		stack(c, above, below)
		_, err = c.WriteTo(w)
	default:
		err = fmt.Errorf("%w: png or svg, not \"%s\"", ErrPicture, format)
	}
	return err
}

// stack draws two plots above each other, their axes aligned.
func stack(c vg.CanvasSizer, above, below *plot.Plot) {
	tiles := draw.Tiles{Rows: 2, Cols: 1, PadTop: vg.Millimeter * 3, PadBottom: vg.Millimeter * 3, PadLeft: vg.Millimeter * 4, PadRight: vg.Millimeter * 8, PadY: vg.Millimeter * 4}
	canvases := plot.Align([][]*plot.Plot{{above}, {below}}, tiles, draw.New(c))
	above.Draw(canvases[0][0])
	below.Draw(canvases[1][0])
}

// newPlot makes a plot with a place for each build, in the order of their dates.
func newPlot(points []Point) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = color.White
	p.X.Tick.Marker = names(points)
	p.Y.Tick.Marker = plainTicks{}
	p.X.Min, p.X.Max = -0.6, float64(len(points))-0.4
	p.Y.Min = 0
	for _, style := range []*text.Style{&p.Title.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label, &p.Y.Label.TextStyle, &p.Legend.TextStyle} {
		style.Font.Variant = "Sans"
		style.Color = ink
	}
	p.X.LineStyle.Width, p.X.Tick.Length = 0, 0
	if len(points) > crowded {
		p.X.Tick.Label.Rotation, p.X.Tick.Label.XAlign, p.X.Tick.Label.YAlign = math.Pi/4, draw.XRight, draw.YCenter
	}
	grid := plotter.NewGrid()
	grid.Vertical.Width, grid.Horizontal.Color = 0, pale
	p.Add(grid)
	return p
}

// crowded is from how many builds on their names are written aslant.
const crowded = 9

// names writes label and date of each build below its place.
func names(points []Point) plot.ConstantTicks {
	var ticks plot.ConstantTicks
	for i, b := range points {
		sep := "\n"
		if len(points) > crowded {
			sep = "  "
		}
		ticks = append(ticks, plot.Tick{Value: float64(i), Label: b.Label + sep + b.Date.Format(time.DateOnly)})
	}
	return ticks
}

// plainTicks are the usual ticks, with as few digits as will do.
type plainTicks struct{}

func (plainTicks) Ticks(low, high float64) []plot.Tick {
	ticks := plot.DefaultTicks{}.Ticks(low, high)
	for i := range ticks {
		if ticks[i].Label != "" {
			ticks[i].Label = strconv.FormatFloat(ticks[i].Value, 'g', 4, 64)
		}
	}
	return ticks
}

func sizes(title string, points []Point) (*plot.Plot, error) {
	p := newPlot(points)
	p.Title.Text = title
	p.Y.Label.Text = "size of the build, MB"
	var all, held, other plotter.XYs
	for i, b := range points {
		at := plotter.XY{X: float64(i), Y: float64(b.Bytes) / megabyte}
		all = append(all, at)
		if b.Held {
			held = append(held, at)
		} else {
			other = append(other, at)
		}
		p.Y.Max = max(p.Y.Max, at.Y)
	}
	p.Y.Max *= 1.35 // room for the legend
	line, err := plotter.NewLine(all)
	if err != nil {
		return nil, err
	}
	line.Color, line.Width = blue, vg.Points(1.5)
	p.Add(line)
	for _, group := range []struct {
		name  string
		at    plotter.XYs
		shape draw.GlyphDrawer
		color color.Color
	}{{"on this computer", held, draw.CircleGlyph{}, green}, {"not here", other, draw.RingGlyph{}, ink}} {
		if len(group.at) == 0 {
			continue
		}
		s, err := plotter.NewScatter(group.at)
		if err != nil {
			return nil, err
		}
		s.GlyphStyle = draw.GlyphStyle{Color: group.color, Radius: vg.Points(5), Shape: group.shape}
		p.Add(s)
		p.Legend.Add(group.name, s)
	}
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.Padding = vg.Millimeter
	return p, nil
}

func news(points []Point) (*plot.Plot, error) {
	p := newPlot(points)
	p.Y.Label.Text = "new in it, MB"
	var values plotter.Values
	for _, b := range points {
		values = append(values, float64(b.New)/megabyte)
		p.Y.Max = max(p.Y.Max, float64(b.New)/megabyte)
	}
	bars, err := plotter.NewBarChart(values, min(vg.Centimeter, plotWidth/vg.Length(2*len(points)+2)))
	if err != nil {
		return nil, err
	}
	bars.Color, bars.LineStyle.Width = blue, 0
	p.Add(bars)
	p.Y.Max = max(p.Y.Max*1.1, 0.01)
	return p, nil
}
