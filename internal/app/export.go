package app

import (
	"fmt"

	"initium/internal/core/draw"
	"initium/internal/core/proof"
)

// DrawOrder draws the load order of a server with its needs, and the outcomes of
// the last start.
func (a *App) DrawOrder(name string) (*draw.Picture, error) {
	look, err := a.Look(name)
	if err != nil {
		return nil, err
	}
	last, _, err := a.LastStart(name)
	if err != nil {
		return nil, err
	}
	return draw.OrderOf(look.Survey, look.Forecast, last).Draw(), nil
}

// DrawStart draws the last start of a server as a time chart, beside the last one
// that was proved before it.
func (a *App) DrawStart(name string) (*draw.Picture, error) {
	if _, err := a.Home.Record(name); err != nil {
		return nil, err
	}
	last, err := a.startBefore(name, 0, false)
	if err != nil {
		return nil, err
	}
	if last == nil {
		return nil, usage("%s was never started here, so there is no start to draw", name)
	}
	proved, err := a.startBefore(name, last.Number, true)
	if err != nil {
		return nil, err
	}
	return draw.StartOf(name, last, proved).Draw(), nil
}

// DrawTimes draws how long all starts of a server took.
func (a *App) DrawTimes(name string) (*draw.Picture, error) {
	if _, err := a.Home.Record(name); err != nil {
		return nil, err
	}
	numbers, err := a.Home.Starts(name)
	if err != nil {
		return nil, err
	}
	t := &draw.Times{Title: name + ": all starts"}
	proved := 0
	for _, n := range numbers {
		p, err := a.Home.Start(name, n).Proof()
		if err != nil {
			continue // it was never judged
		}
		one := draw.TimesStart{Number: n, Ready: float64(p.ReadyAfterMS), Proved: p.Verdict == proof.Proved}
		if p.Started != nil {
			one.When = p.Started.Local().Format("2 Jan 2006 15:04")
		}
		if one.Proved {
			proved++
		}
		t.Starts = append(t.Starts, one)
	}
	if len(t.Starts) == 0 {
		return nil, usage("no start of %s was judged yet, so there is nothing to draw", name)
	}
	t.About = fmt.Sprintf("%d starts, %d proved", len(t.Starts), proved)
	return t.Draw(), nil
}
