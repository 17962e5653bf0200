package cli

import (
	"context"
	"fmt"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"initium/internal/core/intake"
	"initium/internal/core/text"
	"initium/internal/host"
)

func (e *env) baseline() *cobra.Command {
	var changed bool
	cmd := &cobra.Command{
		Use:   "baseline SERVER",
		Short: "Note which files the clean server has of its own, so that overlaps with them are known",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			if !changed {
				files, err := e.app.TakeBaseline(args[0])
				if err == nil {
					fmt.Fprintf(e.out, "%s as the server's own\n", count(files, "file is recorded", "files are recorded"))
				}
				return err
			}
			files, list, err := e.app.BaselineChanges(args[0])
			if err != nil {
				return err
			}
			for _, name := range list {
				fmt.Fprintln(e.out, text.Clean(name))
			}
			fmt.Fprintf(e.out, "%d of the %d files that are recorded have changed or gone\n", len(list), files)
			return nil
		},
	}
	cmd.Flags().BoolVar(&changed, "changed", false, "list those that have changed since or gone")
	return cmd
}

func (e *env) backup() *cobra.Command {
	var list, asJSON bool
	var why string
	var keep int
	var drop []int
	cmd := &cobra.Command{
		Use:   "backup SERVER",
		Short: "Back the server's world up, and read the backup again to see that it is whole",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if keep < 0 || keep > 0 && (list || asJSON || len(drop) > 0) {
				return fmt.Errorf("%w: --keep says how many of the newest stay once a new one is made, at least 1", errArgs)
			}
			if len(drop) > 0 {
				return e.app.DropBackups(args[0], drop)
			}
			if !list && !asJSON {
				if err := e.makeBackup(cmd.Context(), args[0], why); err != nil || keep == 0 {
					return err
				}
				gone, bytes, err := e.app.KeepBackups(args[0], keep)
				if gone > 0 {
					fmt.Fprintf(e.out, "%s taken away, %s\n", count(gone, "older one is", "older ones are"), intake.Bytes(bytes))
				}
				return err
			}
			backups, err := e.app.Backups(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return e.json(map[string]any{"server": args[0], "backups": append([]host.Backup{}, backups...)})
			}
			all := int64(0)
			for _, b := range backups {
				all += b.Packed
				fmt.Fprintf(e.out, "%4d  %s  %-14s  %s, %s (%s packed)  %s\n", b.Number, b.At.Local().Format("2 Jan 15:04:05"), humanize.Time(b.At), count(b.Files, "file", "files"), intake.Bytes(b.Bytes), intake.Bytes(b.Packed), text.Clean(b.Why))
			}
			if len(backups) > 0 {
				fmt.Fprintf(e.out, "%s, %s on this disk\n", count(len(backups), "backup", "backups"), intake.Bytes(all))
			}
			return nil
		},
	}
	cmd.Flags().IntVar(&keep, "keep", 0, "once it is made and read again, take all away but this many of the newest")
	cmd.Flags().IntSliceVar(&drop, "drop", nil, "take the backups of these numbers away instead")
	cmd.Flags().BoolVar(&list, "list", false, "list the backups")
	cmd.Flags().BoolVar(&asJSON, "json", false, "list them as JSON")
	cmd.Flags().StringVar(&why, "because", "", "what it is for")
	return cmd
}

func (e *env) makeBackup(ctx context.Context, server, why string) error {
	show, end := e.copying()
	b, err := e.app.Backup(ctx, server, why, show)
	end()
	if err == nil {
		fmt.Fprintf(e.out, "backup %d: %s, %s, packed to %s and read again: %s\n", b.Number, count(b.Files, "file", "files"), intake.Bytes(b.Bytes), intake.Bytes(b.Packed), b.File)
	}
	return err
}

func (e *env) restore() *cobra.Command {
	var stage bool
	cmd := &cobra.Command{
		Use:   "restore SERVER [BACKUP]",
		Short: "Put the world back as the newest backup has it, or the one with that number; initium undo takes it back",
		Args:  args(cobra.RangeArgs(1, 2)),
		RunE: func(cmd *cobra.Command, args []string) error {
			number := 0
			if len(args) == 2 {
				if _, err := fmt.Sscan(args[1], &number); err != nil || number < 1 {
					return fmt.Errorf("%w: %q is no backup; initium backup %s --list shows them", errArgs, args[1], args[0])
				}
			}
			c, err := e.app.RestoreChange(args[0], number)
			if err != nil {
				return err
			}
			return e.change(cmd.Context(), args[0], stage, c)
		},
	}
	stageFlag(cmd, &stage)
	return cmd
}
