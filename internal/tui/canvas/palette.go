package canvas

import (
	"strings"

	"charm.land/lipgloss/v2"
)

// Ink is what a piece of text is written in; the palette gives it a look that
// fits the terminal's background.
type Ink uint8

const (
	Text  Ink = iota
	Title     // names of things, strong
	Dim       // what can wait
	Faint     // lines and marks that only hold the picture together
	Good      // confirmed
	Bad       // failed, wrong way, errors
	Warn      // silent, warnings
	Other     // unlisted
	Key       // a key that works here
	Focus     // the selected row's own lines
	Bar       // a mod's loading time
	inks      // how many there are
)

// Palette holds the ready-made styles: one for each ink, plain and raised.
type Palette struct {
	styles [inks][2]lipgloss.Style
}

// Ground is what is known of the terminal's background.
type Ground int

const (
	GroundUnknown Ground = iota
	GroundDark
	GroundLight
)

// GroundOf reads what the environment says of the background: our own variable,
// else COLORFGBG, which many terminals set to "foreground;background" in the
// numbers of the sixteen colours.
func GroundOf(getenv func(string) string) Ground {
	switch getenv("INITIUM_BACKGROUND") {
	case "dark":
		return GroundDark
	case "light":
		return GroundLight
	}
	v := getenv("COLORFGBG")
	switch v[strings.LastIndexByte(v, ';')+1:] {
	case "0", "1", "2", "3", "4", "5", "6", "8":
		return GroundDark
	case "7", "9", "10", "11", "12", "13", "14", "15":
		return GroundLight
	}
	return GroundUnknown
}

// NewPalette makes the styles for a background. The hues are told apart by people who do not see red and green alike, and
// every one of them stands beside a shape and a word. On a background that is
// not known they are middling, and no row is raised.
func NewPalette(g Ground) *Palette {
	color := func(light, dark, middle string, bold bool) lipgloss.Style {
		pick := middle
		switch g {
		case GroundDark:
			pick = dark
		case GroundLight:
			pick = light
		}
		return lipgloss.NewStyle().Foreground(lipgloss.Color(pick)).Bold(bold)
	}
	plain := [inks]lipgloss.Style{
		Text:  lipgloss.NewStyle(),
		Title: lipgloss.NewStyle().Bold(true),
		Dim:   color("#5d6773", "#8d98a5", "#79848f", false),
		Faint: color("#a8a496", "#566270", "#848b92", false),
		Good:  color("#00695a", "#4fc3a6", "#21917a", false),
		Bad:   color("#b03a00", "#ff8a5c", "#d4622a", true),
		Warn:  color("#855f00", "#e3b84f", "#a8842c", false),
		Other: color("#6a3d9a", "#c3a6ff", "#9272cf", false),
		Key:   color("#1d5c8a", "#86bdf0", "#4489bd", true),
		Focus: color("#1d5c8a", "#86bdf0", "#4489bd", false),
		Bar:   color("#4d7f9e", "#5f8fb0", "#5487a6", false),
	}
	p := &Palette{}
	for i, s := range plain {
		p.styles[i] = [2]lipgloss.Style{s, s}
		switch g {
		case GroundDark:
			p.styles[i][1] = s.Background(lipgloss.Color("#202b38"))
		case GroundLight:
			p.styles[i][1] = s.Background(lipgloss.Color("#e9e4d8"))
		}
	}
	return p
}

func (p *Palette) style(k Ink, lift bool) lipgloss.Style {
	if lift {
		return p.styles[k][1]
	}
	return p.styles[k][0]
}
