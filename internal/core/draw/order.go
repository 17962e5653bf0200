package draw

import (
	"fmt"
	"image/color"
	"math"

	"gonum.org/v1/plot/vg"
)

// Order is a load order to be drawn: layer by layer, what is needed to the left
// of what needs it, the sections as bands from top to bottom.
type Order struct {
	Title, About string
	Bands        []string // titles of the sections, "" for mods in none
	Mods         []OrderMod
	Needs        []OrderNeed
}

// OrderMod is one mod.
type OrderMod struct {
	Name   string
	Number int // in the load order, 0 for none
	Band   int
	Mark   Mark
}

// OrderNeed says that Then needs First; both are indexes of Mods.
type OrderNeed struct {
	First, Then     int
	Optional, Wrong bool // Wrong: Then loads before First
}

// Sizes of the drawing, in points.
const (
	textSize  = 8.5
	titleSize = 15.0
	rowHeight = 14.0
	boxPad    = 4.0
	columnGap = 10.0
	layerGap  = 46.0
	bandGap   = 8.0
	bandHead  = 15.0
	border    = 16.0
	headSpace = 44.0
	footSpace = 26.0
	mostName  = 150.0
	manyNeeds = 200
)

// placed is a mod with its place in the drawing.
type placed struct {
	layer   int
	alone   bool // it has no needs, and nothing needs it
	slot    int  // among those of its layer and band
	x, y, w float64
}

type orderLayout struct {
	o      *Order
	p      *Picture
	at     []placed
	cells  map[[2]int][]int // by band and layer
	alone  [][]int          // by band
	layers int
	rows   int // the most rows of a cell
	wide   []float64
	colW   []float64
	needs  []OrderNeed // that are drawn
}

// Draw lays the order out and draws it.
func (o *Order) Draw() *Picture {
	l := &orderLayout{o: o, p: newPicture(), at: make([]placed, len(o.Mods)), cells: map[[2]int][]int{}, alone: make([][]int, len(o.Bands))}
	l.layer()
	l.reduce()
	l.uncross()
	l.choose()
	l.draw()
	return l.p
}

// layer puts every mod one layer behind the last of what it needs. Needs that
// point the wrong way, and circles, do not count.
func (l *orderLayout) layer() {
	users := make([][]int, len(l.o.Mods))
	waits := make([]int, len(l.o.Mods))
	linked := make([]bool, len(l.o.Mods))
	for _, n := range l.o.Needs {
		linked[n.First], linked[n.Then] = true, true
		if !n.Wrong {
			users[n.First] = append(users[n.First], n.Then)
			waits[n.Then]++
		}
	}
	var queue []int
	for i := range waits {
		if waits[i] == 0 {
			queue = append(queue, i)
		}
	}
	for len(queue) > 0 {
		i := queue[0]
		queue = queue[1:]
		l.layers = max(l.layers, l.at[i].layer+1)
		for _, u := range users[i] {
			l.at[u].layer = max(l.at[u].layer, l.at[i].layer+1)
			if waits[u]--; waits[u] == 0 {
				queue = append(queue, u)
			}
		}
	}
	for i, m := range l.o.Mods {
		if l.at[i].layer >= l.layers { // it is in a circle
			l.at[i].layer = max(l.layers-1, 0)
		}
		if !linked[i] {
			l.at[i].alone = true
			l.alone[m.Band] = append(l.alone[m.Band], i)
			continue
		}
		cell := [2]int{m.Band, l.at[i].layer}
		l.at[i].slot = len(l.cells[cell])
		l.cells[cell] = append(l.cells[cell], i)
	}
}

// reduce leaves the needs out that others imply.
func (l *orderLayout) reduce() {
	words := (len(l.o.Mods) + 63) / 64
	reach := make([][]uint64, len(l.o.Mods))
	users := make([][]int, len(l.o.Mods))
	for _, n := range l.o.Needs {
		if !n.Wrong {
			users[n.First] = append(users[n.First], n.Then)
		}
	}
	var visit func(i int) []uint64
	visit = func(i int) []uint64 {
		if reach[i] != nil {
			return reach[i]
		}
		reach[i] = make([]uint64, words)
		for _, u := range users[i] {
			reach[i][u/64] |= 1 << (u % 64)
			for w, bits := range visit(u) {
				reach[i][w] |= bits
			}
		}
		return reach[i]
	}
	seen := map[[2]int]bool{}
	for _, n := range l.o.Needs {
		implied := false
		for _, u := range users[n.First] {
			implied = implied || u != n.Then && !n.Wrong && visit(u)[n.Then/64]&(1<<(n.Then%64)) != 0
		}
		if !implied && !seen[[2]int{n.First, n.Then}] {
			seen[[2]int{n.First, n.Then}] = true
			l.needs = append(l.needs, n)
		}
	}
}

// choose finds how many rows a cell may have so that the drawing comes nearest to
// the shape of a page.
func (l *orderLayout) choose() {
	most := 1
	for _, cell := range l.cells {
		most = max(most, len(cell))
	}
	best, bestRows := math.Inf(1), most
	for rows := 2; rows <= max(most, 2); rows++ {
		l.rows = rows
		w, h := l.measure()
		if off := math.Abs(math.Log(w / h / math.Sqrt2)); off < best {
			best, bestRows = off, rows
		}
	}
	l.rows = bestRows
	l.p.Width, l.p.Height = l.measure()
}

// label is what stands in a mod's box.
func (l *orderLayout) label(i int) string {
	return l.p.cut(l.o.Mods[i].Name, textSize, mostName)
}

func (l *orderLayout) boxWidth(i int) float64 {
	return boxPad + 10 + l.p.width(fmt.Sprint(max(l.o.Mods[i].Number, 10)), textSize, false) + 5 + l.p.width(l.label(i), textSize, l.o.Mods[i].Mark == MarkFailed) + boxPad
}

// measure works out how large the drawing is with the rows that a cell may have.
func (l *orderLayout) measure() (w, h float64) {
	if l.colW == nil {
		l.colW = make([]float64, max(l.layers, 1))
		for i := range l.o.Mods {
			if !l.at[i].alone {
				l.colW[l.at[i].layer] = max(l.colW[l.at[i].layer], l.boxWidth(i))
			}
		}
	}
	l.wide = make([]float64, max(l.layers, 1))
	for cell, list := range l.cells {
		columns := float64((len(list) + l.rows - 1) / l.rows)
		l.wide[cell[1]] = max(l.wide[cell[1]], columns*(l.colW[cell[1]]+columnGap)-columnGap)
	}
	w = 2 * border
	for _, layer := range l.wide {
		if layer > 0 {
			w += layer + layerGap
		}
	}
	w = max(w, 380, 2*border+l.p.width(l.o.Title, titleSize, true))
	h = headSpace + footSpace
	for band := range l.o.Bands {
		h += l.bandHeight(band, w) + bandGap
	}
	return w, h
}

func (l *orderLayout) bandHeight(band int, width float64) float64 {
	return bandHead + float64(l.cellRows(band)+l.aloneRows(band, width))*rowHeight + bandGap
}

func (l *orderLayout) cellRows(band int) int {
	rows := 0
	for layer := range l.layers {
		rows = max(rows, min(len(l.cells[[2]int{band, layer}]), l.rows))
	}
	return rows
}

// aloneWidth is the width of the columns in which mods without needs stand.
func (l *orderLayout) aloneWidth(band int) float64 {
	w := 0.0
	for _, i := range l.alone[band] {
		w = max(w, l.boxWidth(i))
	}
	return w + columnGap
}

func (l *orderLayout) aloneRows(band int, width float64) int {
	n := len(l.alone[band])
	if n == 0 {
		return 0
	}
	columns := max(int((width-2*border)/l.aloneWidth(band)), 1)
	return (n + columns - 1) / columns
}

func (l *orderLayout) draw() {
	p := l.p
	p.box(0, 0, p.Width, p.Height, inkPaper, nil, 0)
	p.text(border, 24, titleSize, true, inkText, l.o.Title)
	p.text(border, 37, textSize, false, inkDim, l.o.About)
	y := headSpace
	for band, title := range l.o.Bands {
		h := l.bandHeight(band, p.Width)
		p.box(border/2, y, p.Width-border, h, inkBand, nil, 0)
		p.text(border, y+11, textSize, true, inkDim, title)
		l.place(band, y+bandHead)
		y += h + bandGap
	}
	for _, n := range l.needs {
		if !n.Wrong {
			l.drawNeed(n)
		}
	}
	for _, n := range l.needs {
		if n.Wrong {
			l.drawNeed(n)
		}
	}
	used := map[Mark]int{}
	for i := range l.o.Mods {
		l.drawMod(i)
		used[l.o.Mods[i].Mark]++
	}
	l.drawFoot(used)
}

// place gives the mods of a band their places.
func (l *orderLayout) place(band int, top float64) {
	x := border
	for layer := range l.layers {
		for slot, i := range l.cells[[2]int{band, layer}] {
			column := slot / l.rows
			l.at[i].x = x + float64(column)*(l.colW[layer]+columnGap)
			l.at[i].y = top + float64(slot%l.rows)*rowHeight
			l.at[i].w = l.boxWidth(i)
		}
		if l.wide[layer] > 0 {
			x += l.wide[layer] + layerGap
		}
	}
	top += float64(l.cellRows(band)) * rowHeight
	columns := max(int((l.p.Width-2*border)/l.aloneWidth(band)), 1)
	for k, i := range l.alone[band] {
		l.at[i].x = border + float64(k%columns)*l.aloneWidth(band)
		l.at[i].y = top + float64(k/columns)*rowHeight
		l.at[i].w = l.boxWidth(i)
	}
}

func (l *orderLayout) drawNeed(n OrderNeed) {
	from, to := l.at[n.First], l.at[n.Then]
	thick, ink := 0.7, color.Color(inkLine)
	if len(l.needs) > manyNeeds { // so that the names stay above the lines
		thick, ink = 0.45, inkFaint
	}
	var dash []vg.Length
	if n.Optional {
		dash = []vg.Length{2, 2}
	}
	if n.Wrong {
		thick, ink = 1.8, inkBad
	}
	x, y := to.x, to.y+rowHeight/2-1
	l.p.curve(from.x+from.w, from.y+rowHeight/2-1, x-3, y, thick, ink, dash)
	l.p.polygon([][2]float64{{x, y}, {x - 4, y - 2}, {x - 4, y + 2}}, ink, nil, 0)
}

func (l *orderLayout) drawMod(i int) {
	m, at := &l.o.Mods[i], &l.at[i]
	line, ink := color.Color(inkFaint), inkText
	switch m.Mark {
	case MarkFailed:
		line = inkBad
	case MarkOff:
		ink = inkDim
	}
	l.p.box(at.x, at.y, at.w, rowHeight-2, inkPaper, line, 0.6)
	base := at.y + rowHeight - 5
	l.p.mark(at.x+boxPad+3, at.y+(rowHeight-2)/2, m.Mark)
	x := at.x + boxPad + 10
	number := l.p.width(fmt.Sprint(max(m.Number, 10)), textSize, false)
	if m.Number > 0 {
		l.p.textRight(x+number, base, textSize, false, inkDim, fmt.Sprint(m.Number))
	}
	l.p.text(x+number+5, base, textSize, m.Mark == MarkFailed, ink, l.label(i))
}

func (l *orderLayout) drawFoot(used map[Mark]int) {
	p, y := l.p, l.p.Height-12
	x := p.legend(border, y, used)
	item := func(words string, thick float64, ink color.Color, dash []vg.Length) {
		if x+24+p.width(words, textSize, false) > p.Width-border {
			return
		}
		p.line(x, y-3, x+18, y-3, thick, ink, dash)
		p.text(x+22, y, textSize, false, inkDim, words)
		x += 22 + p.width(words, textSize, false) + 14
	}
	var plain, optional, wrong bool
	for _, n := range l.needs {
		plain, optional, wrong = plain || !n.Optional && !n.Wrong, optional || n.Optional && !n.Wrong, wrong || n.Wrong
	}
	if plain {
		item("needed by", 0.7, inkLine, nil)
	}
	if optional {
		item("used, if there", 0.7, inkLine, []vg.Length{2, 2})
	}
	if wrong {
		item("needed, and loads too late", 1.8, inkBad, nil)
	}
	if len(l.needs) < len(l.o.Needs) {
		words := "needs that others imply are not drawn"
		if x+p.width(words, textSize, false) < p.Width-border {
			p.text(x, y, textSize, false, inkDim, words)
		}
	}
}
