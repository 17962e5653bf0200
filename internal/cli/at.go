package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/muesli/cancelreader"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"initium/internal/host/remote"
)

func (e *env) at() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "at HOST [COMMAND...]",
		Short: "Run Initium at a machine that was prepared, with its screen here: alone it opens all servers there",
		Long: "What is typed and shown goes over the line, the rest is done there: servers, keepers and proofs are that machine's, and go on when the line breaks.\n" +
			"A screen is opened once more then, as soon as the machine answers.",
		Example: "  initium at box\n  initium at box prove moor --json",
		Args:    args(cobra.MinimumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			screen := len(args) < 2 || len(args) == 2 && e.isName(args[1])
			r := remote.Running{Words: args[1:], In: e.in, Out: e.out, Err: e.err}
			terminal := term.IsTerminal(int(os.Stdin.Fd())) && term.IsTerminal(int(os.Stdout.Fd()))
			if !terminal {
				return e.runThere(cmd.Context(), args[0], r)
			}
			for pause := time.Second; ; pause = min(2*pause, 30*time.Second) {
				began := time.Now()
				err := e.inTerminal(cmd.Context(), args[0], r)
				if !screen || !errors.Is(err, remote.ErrLine) {
					return err
				}
				if time.Since(began) > time.Minute {
					pause = time.Second
				}
				fmt.Fprintf(e.err, "%v\nit is tried again in %s; what goes on there goes on (Ctrl+C ends this)\n", err, pause)
				select {
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				case <-time.After(pause):
				}
			}
		},
	}
	cmd.Flags().SetInterspersed(false) // all behind the host is that machine's
	return cmd
}

// isName tells whether a word is no command, and so the name of a server there.
func (e *env) isName(word string) bool {
	for _, g := range groups {
		for _, c := range g.commands {
			if c == word {
				return false
			}
		}
	}
	return len(word) > 0 && word[0] != '-'
}

// runThere runs a command there, whose exit status becomes that of this one.
func (e *env) runThere(ctx context.Context, host string, r remote.Running) error {
	status, err := e.app.On(ctx, host, r)
	if err == nil && status != 0 {
		err = exitStatus(status)
	}
	return err
}

// inTerminal runs a command there in this terminal.
func (e *env) inTerminal(ctx context.Context, host string, r remote.Running) error {
	fd := int(os.Stdin.Fd())
	width, height, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil {
		width, height = 80, 24
	}
	if err := e.app.Reach(ctx, host); err != nil {
		return err // what is asked for to be let in is asked in a terminal that is as usual
	}
	changed := make(chan os.Signal, 1)
	signal.Notify(changed, syscall.SIGWINCH)
	defer signal.Stop(changed)
	sized, over := make(chan [2]int), make(chan struct{})
	defer close(over)
	go func() {
		for {
			select {
			case <-over:
				return
			case <-changed:
			}
			w, h, err := term.GetSize(int(os.Stdout.Fd()))
			if err != nil {
				continue
			}
			select {
			case sized <- [2]int{w, h}:
			case <-over:
				return
			}
		}
	}()
	t := &remote.Terminal{Kind: os.Getenv("TERM"), Width: width, Height: height, Sized: sized, Env: map[string]string{}}
	for _, name := range []string{"COLORTERM", "NO_COLOR", "INITIUM_BACKGROUND", "LANG", "LC_ALL"} {
		if value, ok := os.LookupEnv(name); ok {
			t.Env[name] = value
		}
	}
	r.Terminal = t
	typed, err := cancelreader.NewReader(os.Stdin) // or what reads now would take keys from what reads next
	if err != nil {
		return err
	}
	defer typed.Close()
	defer typed.Cancel()
	r.In = typed
	before, err := term.MakeRaw(fd)
	if err != nil {
		return err
	}
	defer term.Restore(fd, before)
	return e.runThere(ctx, host, r)
}
