package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"initium/internal/core/lineup"
)

func (e *env) register() *cobra.Command {
	var where lineup.Where
	cmd := &cobra.Command{
		Use:   "register SERVER MOD",
		Short: "Register a mod in the startup file, at the end or where you say",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(_ *cobra.Command, args []string) error {
			return e.change(args[0], lineup.Change{Op: lineup.OpRegister, Mod: args[1], Where: where})
		},
	}
	whereFlags(cmd, &where)
	return cmd
}

func (e *env) move() *cobra.Command {
	var where lineup.Where
	cmd := &cobra.Command{
		Use:   "move SERVER MOD",
		Short: "Move a mod's registration to another place in the load order",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(_ *cobra.Command, args []string) error {
			if where == (lineup.Where{}) {
				return fmt.Errorf("%w: say where to, with --before, --after or --section", errArgs)
			}
			return e.change(args[0], lineup.Change{Op: lineup.OpMove, Mod: args[1], Where: where})
		},
	}
	whereFlags(cmd, &where)
	return cmd
}

func whereFlags(cmd *cobra.Command, where *lineup.Where) {
	cmd.Flags().StringVar(&where.Before, "before", "", "right before this mod")
	cmd.Flags().StringVar(&where.After, "after", "", "right after this mod")
	cmd.Flags().StringVar(&where.Section, "section", "", "at the end of this section")
	cmd.PreRunE = func(*cobra.Command, []string) error {
		given := 0
		for _, s := range []string{where.Before, where.After, where.Section} {
			if s != "" {
				given++
			}
		}
		if given > 1 {
			return fmt.Errorf("%w: say one of --before, --after and --section", errArgs)
		}
		return nil
	}
}

func (e *env) simple(op, short string) *cobra.Command {
	return &cobra.Command{
		Use:   op + " SERVER MOD",
		Short: short,
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(_ *cobra.Command, args []string) error {
			return e.change(args[0], lineup.Change{Op: lineup.Op(op), Mod: args[1]})
		},
	}
}

// change makes one change and shows what it did to the files.
func (e *env) change(server string, c lineup.Change) error {
	p, err := e.app.Change(server, c)
	if err != nil {
		return err
	}
	s, err := e.app.Server(server)
	if err != nil {
		return err
	}
	e.printPlan(s.Record.Dir, p)
	return nil
}
