package app

import (
	"initium/internal/core/draw"
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
