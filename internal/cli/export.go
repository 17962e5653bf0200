package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"initium/internal/core/draw"
)

func (e *env) export() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "export",
		Short: "Write a server down for others: the proof of its last start, its load order, or the start as a chart",
	}
	cmd.AddCommand(e.exportProof(), e.exportUnit(), e.exportScript(),
		e.drawing("times", "Draw how long all starts took, and which were proved", e.app.DrawTimes),
		e.drawing("order", "Draw the load order with its needs, the sections as bands, the outcomes marked", e.app.DrawOrder),
		e.drawing("start", "Draw the last start as a time chart, beside the last one that was proved", e.app.DrawStart))
	return cmd
}

func (e *env) drawing(name, short string, make func(server string) (*draw.Picture, error)) *cobra.Command {
	var svg, pdf string
	cmd := &cobra.Command{
		Use:   name + " SERVER --svg FILE | --pdf FILE",
		Short: short,
		Args:  args(cobra.ExactArgs(1)),
		RunE: func(_ *cobra.Command, args []string) error {
			if svg == "" && pdf == "" {
				return fmt.Errorf("%w: say where to, with --svg FILE or --pdf FILE", errArgs)
			}
			picture, err := make(args[0])
			if err != nil {
				return err
			}
			if err := e.writeOut(svg, drawn(picture, (*draw.Picture).SVG)); err != nil {
				return err
			}
			return e.writeOut(pdf, drawn(picture, (*draw.Picture).PDF))
		},
	}
	cmd.Flags().StringVar(&svg, "svg", "", "write Scalable Vector Graphics to this file; - is standard output")
	cmd.Flags().StringVar(&pdf, "pdf", "", "write a PDF page, A4 to A0, to this file")
	return cmd
}
