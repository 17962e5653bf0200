package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/intake"
	"initium/internal/core/lineup"
	"initium/internal/core/plan"
	"initium/internal/core/text"
)

func (e *env) register() *cobra.Command {
	var where lineup.Where
	var stage bool
	var list string
	cmd := &cobra.Command{
		Use:   "register SERVER MOD",
		Short: "Register a mod in the startup file, at the end or where you say",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if list != "" {
				if err := e.app.CheckList(args[0], list); err != nil {
					return err
				}
			}
			return e.change(cmd.Context(), args[0], stage, lineup.Change{Op: lineup.OpRegister, Mod: args[1], Registration: list, Where: where})
		},
	}
	whereFlags(cmd, &where)
	cmd.Flags().StringVar(&list, "list", "", "on this list: a registration of the server's dialect, by its name; the one for the mod's side, or the first, when left out")
	stageFlag(cmd, &stage)
	return cmd
}

func (e *env) move() *cobra.Command {
	var where lineup.Where
	var stage bool
	var list, into string
	cmd := &cobra.Command{
		Use:   "move SERVER MOD",
		Short: "Move a mod's registration to another place in the load order, or to another of the server's lists; or the mod itself into another folder",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if into != "" {
				if list != "" || where != (lineup.Where{}) {
					return fmt.Errorf("%w: --into moves the mod itself, and its line stays where it is", errArgs)
				}
				return e.change(cmd.Context(), args[0], stage, lineup.Change{Op: lineup.OpPutInto, Mod: args[1], To: into})
			}
			if list != "" {
				changes, err := e.app.MoveToList(args[0], args[1], list, where)
				if err != nil {
					return err
				}
				return e.change(cmd.Context(), args[0], stage, changes...)
			}
			if where == (lineup.Where{}) {
				return fmt.Errorf("%w: say where to, with --before, --after, --section, --list or --into", errArgs)
			}
			return e.change(cmd.Context(), args[0], stage, lineup.Change{Op: lineup.OpMove, Mod: args[1], Where: where})
		},
	}
	whereFlags(cmd, &where)
	cmd.Flags().StringVar(&into, "into", "", "the mod's files into this folder: a category folder, which may be a new one, a bundle, or one of the family's; the order stays")
	cmd.Flags().StringVar(&list, "list", "", "to this list: a registration of the server's dialect, by its name")
	stageFlag(cmd, &stage)
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

func stageFlag(cmd *cobra.Command, stage *bool) {
	cmd.Flags().BoolVar(stage, "stage", false, "only gather the change; initium apply makes all that are gathered")
}

func (e *env) simple(op, short string) *cobra.Command {
	var stage bool
	cmd := &cobra.Command{
		Use:   op + " SERVER MOD",
		Short: short,
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			return e.change(cmd.Context(), args[0], stage, lineup.Change{Op: lineup.Op(op), Mod: args[1]})
		},
	}
	stageFlag(cmd, &stage)
	return cmd
}

// change makes or stages one change and shows what it does to the files.
func (e *env) change(ctx context.Context, server string, stage bool, changes ...lineup.Change) error {
	p, err := e.make(ctx, server, stage, changes...)
	if err != nil {
		return err
	}
	return e.showPlan(server, p)
}

// make makes changes, or only gathers them.
func (e *env) make(ctx context.Context, server string, stage bool, changes ...lineup.Change) (*plan.Plan, error) {
	if stage {
		return e.app.Stage(ctx, server, changes...)
	}
	show, end := e.copying()
	defer end()
	return e.app.Change(ctx, server, show, changes...)
}

func (e *env) showPlan(server string, p *plan.Plan) error {
	s, err := e.app.Server(server)
	if err != nil {
		return err
	}
	e.printPlan(s.Record.Dir, p)
	return nil
}

func (e *env) plan() *cobra.Command {
	var asJSON, drop, sheet bool
	cmd := &cobra.Command{
		Use:   "plan SERVER",
		Short: "Show the lines that the gathered changes would change",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if sheet {
				return e.pasteSheet(args[0], asJSON)
			}
			if drop {
				return e.app.Unstage(args[0], true)
			}
			changes, err := e.app.Staged(args[0])
			if err != nil {
				return err
			}
			p, _, err := e.app.Plan(cmd.Context(), args[0], changes)
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(planJSON(args[0], p))
			}
			for _, c := range p.Shown() {
				fmt.Fprintln(e.out, c)
			}
			if len(changes) == 0 {
				fmt.Fprintln(e.out, "no change is gathered; the commands that change something do so with --stage")
			}
			return e.showPlan(args[0], p)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&sheet, "paste-sheet", false, "print what to paste into each field of a rented server's web form")
	cmd.Flags().BoolVar(&drop, "drop", false, "forget all gathered changes")
	return cmd
}

// pasteSheet prints each field of a web form, exactly as it is to be pasted.
func (e *env) pasteSheet(server string, asJSON bool) error {
	fields, err := e.app.PasteSheet(server)
	if err != nil {
		return err
	}
	if asJSON {
		return e.json(map[string]any{"server": server, "fields": fields})
	}
	for i, f := range fields {
		if i > 0 {
			fmt.Fprintln(e.out)
		}
		state := "as it was pasted last"
		if f.Changed {
			state = "changed; paste this"
		}
		fmt.Fprintf(e.out, "%s (%s):\n%s\n", text.Clean(f.Name), state, f.Text)
	}
	return nil
}

func (e *env) form() *cobra.Command {
	return &cobra.Command{
		Use:   "form SERVER FIELD",
		Short: "Tell Initium what a field of a rented server's web form holds now, from standard input",
		Args:  args(cobra.ExactArgs(2)),
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := io.ReadAll(io.LimitReader(e.in, 1<<20))
			if err != nil {
				return err
			}
			return e.app.PutField(args[0], args[1], string(data))
		},
	}
}

type jsonPlan struct {
	Server  string          `json:"server"`
	Changes []lineup.Change `json:"changes"`
	Files   []jsonPlanFile  `json:"files"`
	Parts   []jsonPart      `json:"parts"` // folders and files that come, go or are exchanged as a whole
}

type jsonPlanFile struct {
	Path  string     `json:"path"`
	New   bool       `json:"new"`
	Edits []jsonEdit `json:"edits"`
}

type jsonEdit struct {
	Start int    `json:"start"` // byte offsets in the file as it is now
	End   int    `json:"end"`
	New   string `json:"new"`
}

func planJSON(server string, p *plan.Plan) jsonPlan {
	j := jsonPlan{server, p.Shown(), []jsonPlanFile{}, partsJSON(p.Parts)}
	if j.Changes == nil {
		j.Changes = []lineup.Change{}
	}
	for _, f := range p.Files {
		file := jsonPlanFile{f.Path, f.New, []jsonEdit{}}
		for _, edit := range f.Edits {
			file.Edits = append(file.Edits, jsonEdit{edit.Start, edit.End, f.Masked(edit.New)})
		}
		j.Files = append(j.Files, file)
	}
	return j
}

func (e *env) apply() *cobra.Command {
	var prove, asJSON bool
	var opt app.TurnOptions
	cmd := &cobra.Command{
		Use:   "apply SERVER",
		Short: "Make all gathered changes: all files or none; with --prove stop the server first, start it then, and prove it",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case prove:
				return e.applyProved(cmd.Context(), args[0], opt, asJSON)
			case opt.OrReturn || asJSON || opt.Within > 0:
				return fmt.Errorf("%w: --or-return, --timeout and --json go with --prove", errArgs)
			}
			p, err := e.make(cmd.Context(), args[0], false)
			if err != nil {
				return err
			}
			return e.showPlan(args[0], p)
		},
	}
	cmd.Flags().BoolVar(&prove, "prove", false, "stop the server, make the changes, start it, and prove it; what was cut off is carried on with")
	cmd.Flags().BoolVar(&opt.OrReturn, "or-return", false, "with --prove: if it is not proved, go back to the last proved state, start that, and prove it")
	cmd.Flags().DurationVar(&opt.Within, "timeout", 0, "with --prove: how long the server may take to become ready; the dialect says when left out")
	cmd.Flags().BoolVar(&asJSON, "json", false, "with --prove: print JSON")
	return cmd
}

// applyProved makes what is staged, and proves it; exit status 1 when it does not hold.
func (e *env) applyProved(ctx context.Context, server string, opt app.TurnOptions, asJSON bool) error {
	if !asJSON {
		opt.OnPhase = func(s string) { fmt.Fprintf(e.out, "%s …\n", s) }
		opt.OnStep = e.progress()
		show, end := e.copying()
		defer end()
		opt.Progress = show
	}
	t, err := e.app.ApplyProved(ctx, server, opt)
	if err != nil {
		return err
	}
	if asJSON {
		err = e.json(t)
	} else {
		e.printTurned(t)
	}
	if err == nil && !t.Proved() {
		err = errNo
	}
	return err
}

func (e *env) printTurned(t *app.Turned) {
	if t.Proof != nil {
		e.printProof(t.Proof)
	}
	switch {
	case t.Proved():
		fmt.Fprintf(e.out, "the change is made and proved (entry %d): %s\n", t.Entry, t.Change)
	case t.Back == nil && t.Why != "":
		fmt.Fprintf(e.out, "\ngone back to entry %d, because of the change %s; start it at %s, and initium prove %s watches that\n", t.To, t.Why, t.Host, t.Server)
	case t.Back == nil:
		fmt.Fprintf(e.out, "the change is made (entry %d) and not proved; initium undo %s takes it back\n", t.Entry, t.Server)
	default:
		fmt.Fprintf(e.out, "\ngone back to entry %d, because of the change %s\n", t.To, t.Why)
		e.printProof(t.Back)
	}
	if t.Host != "" {
		return // whether it runs there is not seen from here
	}
	state := "the server does not run"
	switch {
	case t.Running:
		state = "the server runs"
	case !t.Ran:
		state = "the server is stopped, as it was before"
	}
	if t.OutMS > 0 {
		state += fmt.Sprintf("; players were out for %.1f s", float64(t.OutMS)/1000)
	}
	fmt.Fprintln(e.out, state)
}

func (e *env) undo() *cobra.Command {
	var proved bool
	cmd := &cobra.Command{
		Use:   "undo SERVER [ENTRY]",
		Short: "Take the newest entry of the ledger back, or return to how things stood right after ENTRY",
		Args:  args(cobra.RangeArgs(1, 2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			to := app.ReturnLast
			switch {
			case len(args) == 2 && proved:
				return fmt.Errorf("%w: say an entry or --proved, not both", errArgs)
			case len(args) == 2:
				n, err := strconv.Atoi(args[1])
				if err != nil || n < 0 {
					return fmt.Errorf("%w: %q is no entry; initium ledger %s lists them", errArgs, args[1], args[0])
				}
				to = n
			case proved:
				to = app.ReturnProved
			}
			p, why, err := e.app.ReturnPlan(args[0], to)
			if err != nil {
				return err
			}
			if err := e.app.Return(cmd.Context(), args[0], p, why); err != nil {
				return err
			}
			fmt.Fprintln(e.out, why)
			return e.showPlan(args[0], p)
		},
	}
	cmd.Flags().BoolVar(&proved, "proved", false, "return to the last proved state")
	return cmd
}

func (e *env) ledger() *cobra.Command {
	var asJSON bool
	var repair bool
	var forget int
	cmd := &cobra.Command{
		Use:   "ledger SERVER [ENTRY]",
		Short: "List what was done to a server, and how each start after it went; or what one entry did, line by line",
		Args: args(func(cmd *cobra.Command, args []string) error {
			if repair {
				return cobra.NoArgs(cmd, args)
			}
			return cobra.RangeArgs(1, 2)(cmd, args)
		}),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case repair:
				return e.repairLedger()
			case len(args) == 2:
				return e.entry(args[0], args[1], asJSON)
			}
			if cmd.Flags().Changed("forget") {
				freed, err := e.app.Forget(args[0], forget)
				if err == nil {
					fmt.Fprintf(e.out, "%s are freed; how things stood before entry %d cannot be returned to where files came or went\n", intake.Bytes(freed), forget)
				}
				return err
			}
			entries, err := e.app.Ledger(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(map[string]any{"server": args[0], "entries": entries})
			}
			for _, entry := range entries {
				at := ""
				if entry.Number > 0 {
					at = entry.At.Format("2 Jan 15:04:05")
				}
				fmt.Fprintf(e.out, "%4d  %-15s  %s\n", entry.Number, at, text.Clean(entry.Why))
				for _, s := range entry.Starts {
					fmt.Fprintf(e.out, "      %-15s    start %d: %s\n", s.At.Format("2 Jan 15:04:05"), s.Number, s.Verdict)
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&repair, "repair", false, "look the ledger of all servers through; keep a damaged one, and save what can be saved into a new one")
	cmd.Flags().IntVar(&forget, "forget", 0, "free the disk of what entries up to this one took away")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// repairLedger looks the ledger through, and says what came of it.
func (e *env) repairLedger() error {
	r, err := e.app.Home.RepairLedger()
	if err != nil {
		return err
	}
	if len(r.Problems) == 0 {
		fmt.Fprintln(e.out, "the ledger is whole; nothing was changed")
		return nil
	}
	for _, p := range r.Problems {
		fmt.Fprintln(e.out, "damaged:", text.Clean(p))
	}
	fmt.Fprintf(e.out, "the damaged ledger is kept in %s\n%d rows were saved into a new one\n", r.Kept, r.Rows)
	if len(r.Lost) > 0 {
		fmt.Fprintf(e.out, "not all could be read of: %s; what the ledger says of the past is not whole, and a return over a gap cannot be made\n", strings.Join(r.Lost, ", "))
	}
	if r.Begun > 0 {
		fmt.Fprintf(e.out, "%s had been begun and not ended; compare the files of that server before you change more\n", map[bool]string{true: "an entry", false: fmt.Sprint(r.Begun, " entries")}[r.Begun == 1])
	}
	return nil
}

// entry prints what one entry of the ledger did.
func (e *env) entry(server, typed string, asJSON bool) error {
	number, err := strconv.Atoi(typed)
	if err != nil {
		return fmt.Errorf("%w: %q is no number of an entry", errArgs, typed)
	}
	p, err := e.app.EntryPlan(server, number)
	if err != nil {
		return err
	}
	if asJSON {
		return e.json(planJSON(server, p))
	}
	for _, c := range p.Shown() {
		fmt.Fprintln(e.out, c)
	}
	s, err := e.app.Server(server)
	if err != nil {
		return err
	}
	e.printPlan(s.Record.Dir, p)
	return nil
}
