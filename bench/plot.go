package main

import (
	"cmp"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
)

// The plot of time and memory over the number of records, as an SVG picture of 1280 x 640.

// drawn are the tasks that are drawn, and their colours; those of the plot can be told apart by
// who sees no red or green, and by their marks.
var drawn = []struct{ task, name, colour, mark string }{
	{"export", "export of everything", "#0b5fa5", "●"},
	{"tenth", "export of a tenth", "#d98200", "▲"},
	{"match", "match with the target", "#6b2fa0", "■"},
	{"parcels", "match parcel with parcel", "#5c6670", "◆"},
	{"import", "import", "#a3123f", "▼"},
}

const (
	panelWidth, panelHeight = 460.0, 430.0
	panelTop                = 90.0
)

// panel is one of the two drawings; scales are logarithmic across, and upwards where so said.
type panel struct {
	left, low, high float64
	title           string
	ticks           []float64
	log             bool
	label           func(float64) string
}

func (p panel) x(size int, least, most float64) float64 {
	return p.left + panelWidth*(math.Log(float64(size))-math.Log(least))/(math.Log(most)-math.Log(least))
}

func (p panel) y(v float64) float64 {
	share := (v - p.low) / (p.high - p.low)
	if p.log {
		share = (math.Log(v) - math.Log(p.low)) / (math.Log(p.high) - math.Log(p.low))
	}
	return panelTop + panelHeight*(1-share)
}

// plot draws the results on PostgreSQL.
func plot(path, out string) error {
	all, err := results(path)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(r result) bool { return r.Engine != "PostgreSQL" })
	slices.SortFunc(all, func(a, b result) int { return cmp.Compare(a.Size, b.Size) })
	if len(all) == 0 {
		return fmt.Errorf("%s has no results on PostgreSQL", path)
	}
	least, most := float64(all[0].Size), float64(all[len(all)-1].Size)
	if most == least {
		most = 10 * least
	}
	var b strings.Builder
	b.WriteString(`<svg xmlns="http://www.w3.org/2000/svg" width="1280" height="640" viewBox="0 0 1280 640" font-family="DejaVu Sans, sans-serif" font-size="15"><rect width="1280" height="640" fill="#ffffff"/>` + "\n")
	text := func(x, y float64, anchor, colour, format string, args ...any) {
		fmt.Fprintf(&b, `<text x="%.1f" y="%.1f" text-anchor="%s" fill="%s">%s</text>`+"\n", x, y, anchor, colour, fmt.Sprintf(format, args...))
	}
	panels := []panel{
		{80, 1, 1000, "time for each record of the environment", []float64{1, 3, 10, 30, 100, 300, 1000}, true,
			func(v float64) string { return fmt.Sprintf("%g µs", v) }},
		{80 + panelWidth + 110, 0, 260, "most memory", []float64{0, 50, 100, 150, 200, 250}, false,
			func(v float64) string { return fmt.Sprintf("%g MiB", v) }},
	}
	value := []func(result) float64{
		func(r result) float64 { return r.Anagram / float64(r.Size) * 1e6 },
		func(r result) float64 { return float64(r.Peak) / (1 << 20) },
	}
	for i, p := range panels {
		text(p.left, panelTop-28, "start", "#111827", "%s", p.title)
		for _, tick := range p.ticks {
			fmt.Fprintf(&b, `<path d="M%.1f %.1fH%.1f" stroke="#d6dae0"/>`+"\n", p.left, p.y(tick), p.left+panelWidth)
			text(p.left-8, p.y(tick)+5, "end", "#374151", "%s", p.label(tick))
		}
		seen := map[int]bool{}
		for _, r := range all {
			if !seen[r.Size] {
				seen[r.Size] = true
				text(p.x(r.Size, least, most), panelTop+panelHeight+24, "middle", "#374151", "%s", thousands(r.Size))
			}
		}
		text(p.left+panelWidth/2, panelTop+panelHeight+50, "middle", "#374151", "records")
		for _, d := range drawn {
			line := ""
			for _, r := range all {
				if r.Task != d.task {
					continue
				}
				x, y := p.x(r.Size, least, most), p.y(value[i](r))
				line += fmt.Sprintf("%s%.1f %.1f", map[bool]string{true: "M", false: "L"}[line == ""], x, y)
				text(x, y+5, "middle", d.colour, "%s", d.mark)
			}
			if line != "" {
				fmt.Fprintf(&b, `<path d="%s" fill="none" stroke="%s" stroke-width="2"/>`+"\n", line, d.colour)
			}
		}
	}
	for i, d := range drawn {
		text(80+float64(i)*235, 34, "start", d.colour, "%s %s", d.mark, d.name)
	}
	b.WriteString("</svg>\n")
	return os.WriteFile(out, []byte(b.String()), 0o600)
}

// thousands writes a number in groups of three.
func thousands(n int) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}
