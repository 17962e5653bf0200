package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"initium/internal/app"
	"initium/internal/core/proof"
	"initium/internal/host"
)

func (e *env) prove() *cobra.Command {
	var opt app.ProveOptions
	var asJSON, keep bool
	cmd := &cobra.Command{
		Use:   "prove SERVER",
		Short: "Start a server, judge every mod by its log, and stop it; exit status 1 if it is not proved",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if keep {
				opt.Keep = app.KeepAlways
			}
			if !asJSON {
				opt.OnStep = e.progress()
			}
			p, err := e.app.Prove(cmd.Context(), args[0], opt)
			if err != nil {
				return err
			}
			if asJSON {
				if err := e.json(p); err != nil {
					return err
				}
			} else {
				e.printProof(p)
			}
			if p.Verdict != proof.Proved {
				return errNo
			}
			return nil
		},
	}
	cmd.Flags().DurationVar(&opt.Within, "timeout", 0, "how long the server may take to become ready; the dialect says when left out")
	cmd.Flags().DurationVar(&opt.Stay, "stay", 0, "how long it has to stay up once it is ready, for mods that fail late; the dialect says when left out")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	cmd.Flags().BoolVar(&keep, "keep-running", false, "let the server go on afterwards; initium stop SERVER stops it")
	return cmd
}

// progress prints each mod as it is spoken for, and the time while none is.
func (e *env) progress() func(app.Step) {
	said := map[string]bool{}
	lastSecond := 0
	return func(s app.Step) {
		if s.SoFar != nil {
			for _, m := range s.SoFar.Mods {
				if m.Outcome != proof.Silent && !said[m.Name] {
					said[m.Name] = true
					fmt.Fprintf(e.out, "%7.2f s  %-10s %s\n", s.Elapsed.Seconds(), m.Outcome, m.Name)
					lastSecond = int(s.Elapsed.Seconds())
				}
			}
		}
		if second := int(s.Elapsed.Seconds()); second >= lastSecond+10 && !s.Ready {
			lastSecond = second
			fmt.Fprintf(e.out, "%7.2f s  waiting, of %s at most; %d mods are still owed\n", s.Elapsed.Seconds(), s.Limit.Round(time.Second), len(s.Status.Owed))
		}
	}
}

func (e *env) printProof(p *proof.Proof) {
	fmt.Fprintf(e.out, "\n%s: %s", p.Server, p.Verdict)
	if p.Ready {
		fmt.Fprintf(e.out, ", ready after %.2f s", float64(p.ReadyAfterMS)/1000)
	}
	fmt.Fprintln(e.out)
	if p.Reason != "" {
		fmt.Fprintf(e.out, "because %s\n", p.Reason)
	}
	e.table(func(w io.Writer) {
		for _, m := range p.Mods {
			load := ""
			if m.LoadMS != nil {
				load = fmt.Sprintf("%.0f ms", *m.LoadMS)
			}
			fmt.Fprintf(w, "  %s\t%s\t%s\t%s\n", m.Outcome, m.Name, load, m.Reason)
		}
	})
	for _, m := range p.Mods {
		if m.Outcome == proof.Failed && len(m.Evidence) > 0 {
			ev := m.Evidence[len(m.Evidence)-1]
			fmt.Fprintf(e.out, "  %s, log line %d: %s\n", m.Name, ev.Line, ev.Text)
		}
	}
	fmt.Fprintf(e.out, "log: %s\n", p.Log)
}

func (e *env) stop() *cobra.Command {
	return &cobra.Command{
		Use:   "stop SERVER",
		Short: "Stop a running server: politely, then patiently, then by force",
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			exit, err := e.app.Stop(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			how := "it stopped when asked"
			switch exit.How {
			case host.EndedKill:
				how = "it did not stop when asked and was ended by force"
			case host.EndedItself:
				how = "it had ended by itself"
			}
			fmt.Fprintf(e.out, "%s: %s, exit status %d\n", args[0], how, exit.Status)
			return nil
		},
	}
}

// keeper is the background process that owns a running server.
func (e *env) keeper() *cobra.Command {
	return &cobra.Command{
		Use:    "keeper STARTDIR",
		Hidden: true,
		Args:   args(cobra.ExactArgs(1)),
		RunE:   func(_ *cobra.Command, args []string) error { return host.Keep(host.StartDir(args[0])) },
	}
}
