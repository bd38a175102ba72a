package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/picture"
)

func orderCommand(a *app) *cobra.Command {
	var literal bool
	var draw string
	c := &cobra.Command{
		Use: "order [SERVICE...]", Short: "Shows what starts after what, and why",
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.ordered(cmd.Context(), plan.Options{Services: args, Literal: literal})
			if m == nil {
				return err
			}
			o := m.Order
			if draw != "" && err == nil {
				return a.draw(m.Root, o, draw)
			}
			if a.json && o != nil {
				if jsonErr := view.JSON(a.out, o); jsonErr != nil {
					return jsonErr
				}
				return err
			}
			if err != nil {
				return err
			}
			a.text().Order(o)
			return nil
		},
	}
	c.Flags().StringVar(&draw, "draw", "",
		"draw the order into this `file`: .svg, .dot or .mmd (Mermaid); - draws it here")
	c.Flags().BoolVar(&literal, "literal", false,
		"keep a plain depends_on to the letter: begun, not answering")
	return c
}

// draw writes the order as a drawing, with the times of the last launch where that was of the same.
func (a *app) draw(root string, o *order.Order, file string) error {
	r, err := record.Read(root)
	if err != nil {
		return err
	}
	var t *timeline.Timeline // of the last launch, if it was of this order
	if l := r.Launch(); l != nil &&
		slices.EqualFunc(o.Nodes, l.Order.Nodes, func(a, b order.Node) bool {
			return a.ID == b.ID
		}) {
		t = timeline.Of(l)
	}
	if file == "-" && !a.json {
		picture.ShowOrder(a.text(), o, t)
		return nil
	}
	text, ok := picture.Draw(o, t, file)
	if !ok {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeDrawingUnknown,
			Text: "the ending of " + file + " names no form of drawing", Remedy: "Use one of: " +
				strings.Join(picture.Drawings, ", ")}
	}
	if err := put(file, text, "the drawing", stack.CodeDrawingNotWritten); err != nil {
		return err
	}
	if a.json {
		return view.JSON(a.out, map[string]string{"schema": "nharbor.drawing/1", "written": file})
	}
	a.text().Line("Drawn: %s", file)
	return nil
}
