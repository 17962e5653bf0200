package cli

import (
	"github.com/spf13/cobra"

	"initium/internal/standin/cogwheel"
	"initium/internal/standin/harrow"
	"initium/internal/standin/lantern"
	"initium/internal/standin/orchards"
	"initium/internal/standin/stage"
)

// standIn runs the simulated servers, each in the server's folder as its working
// directory.
func (e *env) standIn() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "stand-in",
		Short: "Run one of the simulated servers that ship with Initium",
	}
	st := &stage.Stage{In: e.in, Out: e.out}
	cmd.PersistentFlags().Float64Var(&st.Pace, "pace", 1, "how fast time passes while mods load")
	var startup, engine string
	run := func(use, short string, run func(args []string) int) *cobra.Command {
		c := &cobra.Command{Use: use, Short: short, RunE: func(_ *cobra.Command, args []string) error {
			if status := run(args); status != 0 {
				return exitStatus(status)
			}
			return nil
		}}
		cmd.AddCommand(c)
		return c
	}
	run("harrow-sound", "The harbour server", func([]string) int { return harrow.Run(st, startup) }).
		Flags().StringVar(&startup, "startup", "harbour.start", "the startup script")
	run("lantern-moor [-- PARAMETERS]", "The bog by night", func(args []string) int { return lantern.Run(st, args) })
	run("cogwheel-fair", "The travelling fair", func([]string) int { return cogwheel.Run(st, engine) }).
		Flags().StringVar(&engine, "engine", "engine", "the folder of the engine")
	run("nine-orchards", "The orchards and their bees", func([]string) int { return orchards.Run(st) })
	return cmd
}
