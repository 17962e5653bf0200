package draw

// Page is the proof of a start on one page.
type Page struct {
	Title, About string
	Reason       string // why it is not proved, "" when it is
	Rows         []PageRow
	Parts        []PagePart
}

// PageRow is one mod with what came of it.
type PageRow struct {
	Mark          Mark
	Name, Release string
	Load          string // how long it loaded, "" when nobody knows
	Said          string // the evidence, and what was wrong
}

// PagePart is a list under a title.
type PagePart struct {
	Title string
	Lines []string
}

// Sizes of the page, in points.
const (
	pageWidth   = 780.0
	pageRow     = 13.0
	pageName    = 150.0
	pageRelease = 60.0
	pageOutcome = 70.0
	pageLoad    = 60.0
)

// Draw draws the page: a row for each mod, and below it what has changed.
func (g *Page) Draw() *Picture {
	p := newPicture()
	lines := 0
	for _, part := range g.Parts {
		lines += len(part.Lines) + 2
	}
	p.Width = pageWidth
	p.Height = headSpace + 22 + float64(len(g.Rows)+1+lines)*pageRow + footSpace
	p.box(0, 0, p.Width, p.Height, inkPaper, nil, 0)
	p.text(border, 24, titleSize, true, inkText, g.Title)
	p.text(border, 37, textSize, false, inkDim, g.About)
	y := headSpace + 8
	if g.Reason != "" {
		p.text(border, y, textSize, false, inkBad, p.cut("Not proved because "+g.Reason+".", textSize, p.Width-2*border))
	}
	y += 14
	x := struct{ name, release, outcome, load, said float64 }{border + 12, border + 12 + pageName, border + 12 + pageName + pageRelease, 0, 0}
	x.load = x.outcome + pageOutcome + pageLoad
	x.said = x.load + 10
	for _, head := range []struct {
		at   float64
		word string
	}{{x.name, "mod"}, {x.release, "release"}, {x.outcome, "outcome"}, {x.said, "evidence"}} {
		p.text(head.at, y, textSize, false, inkDim, head.word)
	}
	p.textRight(x.load, y, textSize, false, inkDim, "load time")
	for i, r := range g.Rows {
		top := y + 4 + float64(i)*pageRow
		if i%2 == 0 {
			p.box(border-4, top, p.Width-2*border+8, pageRow, inkBand, nil, 0)
		}
		base := top + pageRow - 3.5
		p.mark(border+3, top+pageRow/2, r.Mark)
		p.text(x.name, base, textSize, false, inkText, p.cut(r.Name, textSize, pageName-6))
		p.text(x.release, base, textSize, false, inkDim, p.cut(r.Release, textSize, pageRelease-6))
		p.text(x.outcome, base, textSize, false, r.Mark.ink(), markWords[r.Mark])
		p.textRight(x.load, base, textSize, false, inkText, r.Load)
		p.text(x.said, base, textSize, false, inkText, p.cut(r.Said, textSize, p.Width-border-x.said))
	}
	y += 4 + float64(len(g.Rows))*pageRow
	for _, part := range g.Parts {
		y += 2 * pageRow
		p.text(border, y, textSize+1, true, inkText, part.Title)
		for _, line := range part.Lines {
			y += pageRow
			p.text(border+12, y, textSize, false, inkText, p.cut(line, textSize, p.Width-2*border-12))
		}
	}
	return p
}
