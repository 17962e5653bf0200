package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/core/expect"
	"initium/internal/core/text"
)

func (e *env) expect() *cobra.Command {
	var want expect.Expectation
	var line, noLine, reply, path, told, port string
	var drop int64
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "expect SERVER [MOD]",
		Short: "Write down what every start has to show besides, for the server or for a mod; alone it lists that",
		Args:  args(cobra.RangeArgs(1, 2)),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 2 {
				want.Mod = args[1]
			}
			for _, said := range []struct {
				kind expect.Kind
				text string
			}{{expect.Line, line}, {expect.NoLine, noLine}, {expect.Reply, reply}, {expect.Path, path}, {expect.Told, told}, {expect.Port, port}} {
				if said.text == "" {
					continue
				}
				if want.Kind != "" {
					return fmt.Errorf("%w: say one thing at a time", errArgs)
				}
				want.Kind, want.Text = said.kind, said.text
			}
			switch {
			case drop > 0:
				return e.app.DropExpectation(args[0], drop)
			case want.Kind == "" && (want.Ask != "" || want.Because != ""):
				return fmt.Errorf("%w: say what is expected, with --line, --no-line, --reply, --path, --told or --port", errArgs)
			case want.Kind == "":
				return e.expectations(args[0], want.Mod, asJSON)
			case want.Kind == expect.Told:
				var ok bool
				if want.Fact, want.Text, ok = strings.Cut(told, "="); !ok {
					return fmt.Errorf("%w: %q has to be NAME=VALUE, such as map=fen", errArgs, text.Clean(told))
				}
			}
			if err := e.app.PutExpectation(args[0], want); err != nil {
				return err
			}
			fmt.Fprintf(e.out, "from now on every proof of %s looks whether %s\n", args[0], want)
			return nil
		},
	}
	cmd.Flags().StringVar(&line, "line", "", "a line of the log has to hold this `TEXT`, with {any} for whatever is between")
	cmd.Flags().StringVar(&noLine, "no-line", "", "no line of the log may hold this `TEXT`")
	cmd.Flags().StringVar(&reply, "reply", "", "what the server says to --to has to hold this `TEXT`")
	cmd.Flags().StringVar(&want.Ask, "to", "", "what is typed on its console for --reply, as `WORDS`")
	cmd.Flags().StringVar(&path, "path", "", "there has to be something at this `PATH` below its folder")
	cmd.Flags().StringVar(&told, "told", "", "the server has to say this of itself, as `NAME=VALUE`")
	cmd.Flags().StringVar(&port, "port", "", "the server has to have this `PORT` open")
	cmd.Flags().StringVar(&want.Because, "because", "", "why, told when it is not so")
	cmd.Flags().Int64Var(&drop, "drop", 0, "take the expectation of this `NUMBER` back")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// expectations lists what is expected of a server, or of one mod of it.
func (e *env) expectations(server, mod string, asJSON bool) error {
	all, err := e.app.Expectations(server)
	if err != nil {
		return err
	}
	list := []expect.Expectation{}
	for _, x := range all {
		if mod == "" || x.Mod == mod {
			list = append(list, x)
		}
	}
	if asJSON {
		return e.json(list)
	}
	return e.table(func(w io.Writer) {
		for _, x := range list {
			fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", x.Number, text.Clean(x.Mod), x, text.Clean(x.Because))
		}
	})
}
