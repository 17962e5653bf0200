package tui

import (
	"strings"

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

// ground is what is known of the terminal's background.
type ground int

const (
	groundUnknown ground = iota
	groundDark
	groundLight
)

// groundOf reads what the environment says of the background: our own variable,
// else COLORFGBG, which many terminals set to "foreground;background" in the
// numbers of the sixteen colours.
func groundOf(getenv func(string) string) ground {
	switch getenv("INITIUM_BACKGROUND") {
	case "dark":
		return groundDark
	case "light":
		return groundLight
	}
	v := getenv("COLORFGBG")
	switch v[strings.LastIndexByte(v, ';')+1:] {
	case "0", "1", "2", "3", "4", "5", "6", "8":
		return groundDark
	case "7", "9", "10", "11", "12", "13", "14", "15":
		return groundLight
	}
	return groundUnknown
}

// The hues are told apart by people who do not see red and green alike, and
// every one of them stands beside a shape and a word. On a background that is
// not known they are middling, and no row is raised.
func newPalette(g ground) *palette {
	color := func(light, dark, middle string, bold bool) lipgloss.Style {
		pick := middle
		switch g {
		case groundDark:
			pick = dark
		case groundLight:
			pick = light
		}
		return lipgloss.NewStyle().Foreground(lipgloss.Color(pick)).Bold(bold)
	}
	plain := [inks]lipgloss.Style{
		inkText:  lipgloss.NewStyle(),
		inkTitle: lipgloss.NewStyle().Bold(true),
		inkDim:   color("#5d6773", "#8d98a5", "#79848f", false),
		inkFaint: color("#a8a496", "#566270", "#848b92", false),
		inkGood:  color("#00695a", "#4fc3a6", "#21917a", false),
		inkBad:   color("#b03a00", "#ff8a5c", "#d4622a", true),
		inkWarn:  color("#855f00", "#e3b84f", "#a8842c", false),
		inkOther: color("#6a3d9a", "#c3a6ff", "#9272cf", false),
		inkKey:   color("#1d5c8a", "#86bdf0", "#4489bd", true),
		inkFocus: color("#1d5c8a", "#86bdf0", "#4489bd", false),
		inkBar:   color("#4d7f9e", "#5f8fb0", "#5487a6", false),
	}
	p := &palette{}
	for i, s := range plain {
		p.styles[i] = [2]lipgloss.Style{s, s}
		switch g {
		case groundDark:
			p.styles[i][1] = s.Background(lipgloss.Color("#202b38"))
		case groundLight:
			p.styles[i][1] = s.Background(lipgloss.Color("#e9e4d8"))
		}
	}
	return p
}

func (p *palette) style(k ink, lift bool) lipgloss.Style {
	if lift {
		return p.styles[k][1]
	}
	return p.styles[k][0]
}
