package picture

import (
	"fmt"
	"html"
	"strings"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
)

// The measures of a drawn timeline, in pixels.
const (
	rowHeight, barHeight, axisHeight = 24, 10, 26
	barsWide, noteWide               = 560, 330
)

// TimelineStyle are the looks of a drawn timeline: the same words and shapes without colour, light
// and dark.
const TimelineStyle = `.tl text{fill:#1d2b36}.tl .small{font-size:11px;fill:#4c6070}.tl .wait{stroke:#8a9aa7;` +
	`stroke-dasharray:1 4;stroke-width:2}.tl .prep{stroke:#5b7083;stroke-dasharray:5 3;stroke-width:2}` +
	`.tl .work{fill:#b9c9d5;stroke:#5b7083}.tl .on{fill:#14496b;stroke:#14496b}.tl .last{stroke:#8a5a00;` +
	`stroke-dasharray:2 2;stroke-width:1.5}.tl .aim{fill:#1a7f37;stroke:#fff}.tl .bad{stroke:#b3261e;` +
	`stroke-width:2.4;fill:none}.tl .grid{stroke:#e1e7eb}` +
	`@media(prefers-color-scheme:dark){.tl text{fill:#e4ebf0}.tl .small{fill:#b4c3cf}.tl .grid{stroke:#2b3b47}` +
	`.tl .work{fill:#3c5364;stroke:#8aa0b2}.tl .on{fill:#8ecbf2;stroke:#8ecbf2}.tl .wait{stroke:#7b8d9c}` +
	`.tl .prep{stroke:#8aa0b2}.tl .last{stroke:#e0b060}.tl .aim{fill:#5fd07f;stroke:#141d24}.tl .bad{stroke:#ff8a80}}`

// TimelineSVG draws a timeline: waiting dotted, preparing dashed, work as a bar that is filled
// along the critical path, a disc where a node came to its aim and a cross where it failed, and a
// dashed mark as far as it took last time.
func TimelineSVG(t *timeline.Timeline, now float64) string {
	return view.Washed(timelineSVG(t, now, true))
}

// TimelinePart is the same for a page that has TimelineStyle.
func TimelinePart(t *timeline.Timeline, now float64) string {
	return view.Washed(timelineSVG(t, now, false))
}

func timelineSVG(t *timeline.Timeline, now float64, alone bool) string {
	p := Picture{Now: now}
	names := 60.0
	for _, r := range t.Rows {
		names = max(names, min(float64(view.Width(view.Clean(r.ID.Title())))*letter+14, 260))
	}
	span := t.Span(now)
	left := float64(margin) + names
	x := func(at float64) float64 { return left + min(max(at/span, 0), 1)*barsWide }
	wide := left + barsWide + noteWide + margin
	high := float64(axisHeight + len(t.Rows)*rowHeight + 2*margin)
	var out strings.Builder
	fmt.Fprintf(&out, `<svg class="tl" xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" `+
		`viewBox="0 0 %.0f %.0f" font-family="sans-serif" font-size="13" role="img" `+
		`aria-label="timeline of the launch">`+"\n", wide, high, wide, high)
	if alone {
		fmt.Fprintf(&out, "<style>%s.back{fill:#fff}@media(prefers-color-scheme:dark){.back{fill:#141d24}}</style>\n"+
			`<rect class="back" width="%.0f" height="%.0f"/>`+"\n", TimelineStyle, wide, high)
	}
	top := float64(axisHeight)
	bottom := top + float64(len(t.Rows)*rowHeight)
	step := stepOf(span, 80)
	for at := 0.0; at <= span*1.0001; at += step {
		fmt.Fprintf(&out, `<path class="grid" d="M%.1f %.1fV%.1f"/><text class="small" x="%.1f" y="%.1f" `+
			`text-anchor="middle">%s</text>`+"\n", x(at), top-4, bottom, x(at), top-9,
			view.Seconds(at))
	}
	for i, r := range t.Rows {
		y := top + float64(i*rowHeight) + rowHeight/2
		drawRow(&out, r, t, x, y, now, span)
		fmt.Fprintf(&out, `<text x="%.1f" y="%.1f" text-anchor="end">%s</text>`+"\n", left-10,
			y+4.5, html.EscapeString(view.Cut(view.Clean(r.ID.Title()), 34)))
		note := p.Note(r, t)
		fmt.Fprintf(&out, `<text class="small" x="%.1f" y="%.1f">%s<title>%s</title></text>`+"\n",
			left+barsWide+12, y+4, html.EscapeString(view.Cut(note, 54)), html.EscapeString(note))
	}
	fmt.Fprintf(&out, `<text class="small" x="%.1f" y="%.1f">dotted: waits; dashed: is prepared; bar: at work, filled `+
		`where everything waited for it; disc: there; cross: failed; dashed upright: as long as last time</text>`+
		"\n</svg>\n", float64(margin), bottom+margin)
	return out.String()
}

// stepOf is the distance between times of a Scale of so many seconds with at most so many pixels
// between them.
func stepOf(span, pixels float64) float64 {
	for _, s := range []float64{0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800, 3600} {
		if span/s*pixels <= barsWide {
			return s
		}
	}
	return span
}

func drawRow(out *strings.Builder, r *timeline.Row, t *timeline.Timeline, x func(float64) float64,
	y, now, span float64) {
	for _, part := range r.Parts {
		to := part.To
		if to < 0 {
			to = now
		}
		if part.From > span {
			continue
		}
		switch part.Kind {
		case timeline.Waits, timeline.Prepares:
			class := "wait"
			if part.Kind == timeline.Prepares {
				class = "prep"
			}
			fmt.Fprintf(out, `<path class="%s" d="M%.1f %.1fH%.1f"/>`+"\n", class, x(part.From), y,
				x(to))
		case timeline.Works:
			class := "work"
			if r.Critical {
				class = "work on"
			}
			fmt.Fprintf(out,
				`<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%d" rx="2"><title>%s at work for `+
					`%s</title></rect>`+"\n", class, x(part.From), y-barHeight/2,
				max(x(to)-x(part.From), 2), barHeight,
				html.EscapeString(view.Clean(r.ID.Title())), view.Seconds(max(to-part.From, 0)))
		}
	}
	if end := r.Begun + r.Last; r.Last > 0 && r.Begun >= 0 && r.State != stack.Unchanged &&
		end <= span*1.001 {
		fmt.Fprintf(out, `<path class="last" d="M%.1f %.1fV%.1f"><title>last time it took %s</title></path>`+"\n",
			x(end), y-barHeight/2-4, y+barHeight/2+4, view.Seconds(r.Last))
	}
	switch {
	case r.End >= 0 && r.Wrong:
		fmt.Fprintf(out, `<path class="bad" d="M%.1f %.1fl8 8m0-8l-8 8"/>`+"\n", x(r.End)-4, y-4)
	case r.Reached >= 0:
		fmt.Fprintf(out, `<circle class="aim" cx="%.1f" cy="%.1f" r="5"/>`+"\n", x(r.Reached), y)
	}
}
