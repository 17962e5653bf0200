package tui

import (
	"context"
	"errors"
	"os"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"
)

var errNoTerminal = errors.New("the screen needs a terminal, and there is none; initium --help lists the commands, which do without")

// show draws a model on the terminal until the operator closes it.
func show(ctx context.Context, m tea.Model) error {
	if !term.IsTerminal(os.Stdin.Fd()) {
		tty, err := os.Open("/dev/tty") // where keys come from when input does not
		if err != nil {
			return errNoTerminal
		}
		tty.Close()
	}
	_, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
	return err
}
