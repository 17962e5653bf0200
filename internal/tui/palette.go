package tui

import (
	"charm.land/lipgloss/v2"
)

// ink is what a piece of text is written in; the palette gives it a look that
// fits the terminal's background.
type ink uint8

const (
	inkText  ink = iota
	inkTitle     // names of things, strong
	inkDim       // what can wait
	inkFaint     // lines and marks that only hold the picture together
	inkGood      // confirmed
	inkBad       // failed, wrong way, errors
	inkWarn      // silent, warnings
	inkOther     // unlisted
	inkKey       // a key that works here
	inkFocus     // the selected row's own lines
	inkBar       // a mod's loading time
	inks         // how many there are
)

// palette holds the ready-made styles: one for each ink, plain and raised.
type palette struct {
	styles [inks][2]lipgloss.Style
}

// The hues are told apart by people who do not see red and green alike, and
// every one of them stands beside a shape and a word.
func newPalette(dark bool) *palette {
	pick := lipgloss.LightDark(dark)
	color := func(light, dark string) lipgloss.Style {
		return lipgloss.NewStyle().Foreground(pick(lipgloss.Color(light), lipgloss.Color(dark)))
	}
	plain := [inks]lipgloss.Style{
		inkText:  lipgloss.NewStyle(),
		inkTitle: lipgloss.NewStyle().Bold(true),
		inkDim:   color("#5d6773", "#8d98a5"),
		inkFaint: color("#a8a496", "#566270"),
		inkGood:  color("#00695a", "#4fc3a6"),
		inkBad:   color("#b03a00", "#ff8a5c").Bold(true),
		inkWarn:  color("#855f00", "#e3b84f"),
		inkOther: color("#6a3d9a", "#c3a6ff"),
		inkKey:   color("#1d5c8a", "#86bdf0").Bold(true),
		inkFocus: color("#1d5c8a", "#86bdf0"),
		inkBar:   color("#4d7f9e", "#5f8fb0"),
	}
	ground := pick(lipgloss.Color("#e9e4d8"), lipgloss.Color("#202b38"))
	p := &palette{}
	for i, s := range plain {
		p.styles[i] = [2]lipgloss.Style{s, s.Background(ground)}
	}
	return p
}

func (p *palette) style(k ink, lift bool) lipgloss.Style {
	if lift {
		return p.styles[k][1]
	}
	return p.styles[k][0]
}
