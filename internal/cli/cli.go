// Package cli has Initium's commands: arguments in, text or JSON out.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/core/planner"
	"initium/internal/core/text"
	"initium/internal/host"
	"initium/internal/tui"
)

// Exit statuses of every command.
const (
	ExitDone  = 0
	ExitNo    = 1 // the answer is no: a failed proof, a finding of severity error
	ExitUsage = 2
	ExitError = 3 // could not be carried out
)

// errNo says no without a message of its own: the output has said it.
var errNo = errors.New("no")

// env is what the commands share.
type env struct {
	app *app.App
	in  io.Reader
	out io.Writer
	err io.Writer

	secrets *asking
}

// Run carries out one command line and returns its exit status.
func Run(args []string, in io.Reader, out, errOut io.Writer) int {
	a, err := app.New()
	if err != nil {
		fmt.Fprintln(errOut, "initium:", err)
		return ExitError
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	secrets := &asking{}
	a.Secrets = secrets
	e := &env{a, in, out, errOut, secrets}
	root := e.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err = root.ExecuteContext(ctx)
	for _, note := range a.Notes() {
		fmt.Fprintln(errOut, "initium:", text.Clean(note))
	}
	err = errors.Join(e.meant(err, args), a.Close())
	var status exitStatus
	switch {
	case err == nil:
		return ExitDone
	case errors.Is(err, errNo):
		return ExitNo
	case errors.As(err, &status):
		return int(status)
	}
	tell(errOut, err)
	var wrong app.UsageError
	switch open := new(planner.Unanswered); {
	case errors.As(err, &open):
		return ExitNo
	case errors.As(err, &wrong), errors.Is(err, host.ErrUnknownServer), errors.Is(err, errArgs):
		return ExitUsage
	}
	a.Home.Log().Error("a command could not be carried out", "command", root.Name()+" "+slices.Concat(args, []string{""})[0], "error", err)
	return ExitError
}

// tell prints an error, with the flags that answer what is open or widen a bound.
func tell(out io.Writer, err error) {
	if open := new(planner.Unanswered); errors.As(err, &open) {
		asked := *open
		asked.Questions = slices.Clone(open.Questions)
		for i := range asked.Questions {
			q := &asked.Questions[i]
			q.Text += " Say: " + strings.Join(flagsOf(q), " or ")
		}
		err = &asked
	}
	for _, line := range strings.Split(err.Error(), "\n") {
		fmt.Fprintln(out, "initium:", text.Clean(line))
	}
	if host.Damaged(err) && !errors.Is(err, host.ErrDamaged) {
		fmt.Fprintln(out, "initium:", host.ErrDamaged)
	}
	var bound intake.BoundError
	switch errors.As(err, &bound); bound.Of {
	case "":
	case intake.BoundCases:
		fmt.Fprintln(out, "initium: --cases lets them be")
	default:
		fmt.Fprintf(out, "initium: the bound can be set with --most-%s\n", bound.Of)
	}
}

// errArgs marks mistakes in the command line itself.
var errArgs = errors.New("wrong usage")

// exitStatus is an exit status of a program that Initium stands in for.
type exitStatus int

func (e exitStatus) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

func (e *env) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "initium [SERVER]",
		Short: "Put mods on dedicated servers, start them, and prove that every mod loaded",
		Long: `Initium surveys a server, registers mods in its startup file, starts it, reads
its log, and proves mod by mod that it loaded.

Without a command it opens the screen: on SERVER, or on the list of servers.
Exit status: 0 done, 1 the answer is no, 2 wrong usage, 3 could not be carried out.`,
		Args:          args(cobra.MaximumNArgs(1)),
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, args []string) error {
			name := ""
			if len(args) == 1 {
				name = args[0]
				if _, err := e.app.Server(name); errors.Is(err, host.ErrUnknownServer) {
					return e.noSuch(cmd, name)
				} else if err != nil {
					return err
				}
			}
			e.secrets.hush()
			return tui.Run(cmd.Context(), e.app, name)
		},
	}
	quiet := root.PersistentFlags().Bool("quiet", false, "print nothing but errors and what is asked for as JSON; the exit status tells the rest")
	root.PersistentPreRun = func(cmd *cobra.Command, _ []string) {
		if asJSON := cmd.Flags().Lookup("json"); *quiet && (asJSON == nil || !asJSON.Changed) {
			e.out = io.Discard
		}
	}
	root.Version = version()
	root.SetVersionTemplate("initium {{.Version}}\n")
	root.SetFlagErrorFunc(flagError)
	root.AddCommand(e.demo(), e.adopt(), e.begin(), e.give(), e.servers(), e.survey(), e.check(), e.accept(), e.rule(), e.order(), e.register(), e.move(),
		e.simple("unregister", "Take a mod's registration out of the startup file"),
		e.simple("off", "Switch a mod off; it keeps its place"),
		e.simple("on", "Switch a mod on again"),
		e.look(), e.take(), e.remove(), e.baseline(), e.backup(), e.restore(),
		e.settings(), e.set(), e.unset(), e.edit(), e.put(), e.merge(), e.sql(), e.recipe(), e.each(), e.differ(), e.own(), e.carry(), e.builds(), e.use(), e.renew(), e.host(), e.at(), e.sync(), e.owed(), e.plan(), e.apply(), e.form(), e.undo(), e.ledger(),
		e.prove(), e.rehearse(), e.expect(), e.log(), e.say(), e.switchMod(app.SwitchReload, "Load one mod of a running server anew, where the family can, with proof"),
		e.switchMod(app.SwitchLoad, "Load one more mod into a running server"), e.switchMod(app.SwitchUnload, "Take one mod out of a running server"), e.guard(), e.keep(), e.service(), e.remedy(), e.teach(), e.learn(), e.compare(), e.read(), e.culprit(), e.stop(), e.export(), e.dialect(), e.standIn(), e.keeper(), e.note())
	arranged(root)
	e.completed(root)
	return root
}

// args turns cobra's complaints about arguments into wrong usage.
func args(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			return fmt.Errorf("%w: %w; see %s", errArgs, err, helpOf(cmd))
		}
		return nil
	}
}

// table prints rows in aligned columns.
func (e *env) table(print func(w io.Writer)) error {
	w := tabwriter.NewWriter(e.out, 0, 4, 2, ' ', 0)
	print(w)
	return w.Flush()
}

func (e *env) json(v any) error {
	enc := json.NewEncoder(e.out)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}
