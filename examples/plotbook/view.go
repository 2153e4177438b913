package main

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

var (
	title  = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
	marked = lipgloss.NewStyle().Reverse(true)
)

// View shows what is stored, as it is now.
func (a app) View() string {
	var b strings.Builder
	row := func(i int, label, shown string) {
		line := fmt.Sprintf(" %-16s %s ", label, shown)
		if i == a.cursor {
			if a.asking {
				line = fmt.Sprintf(" %-16s %s", label, a.input.View())
			} else {
				line = marked.Render(line)
			}
		}
		b.WriteString(line + "\n")
	}
	b.WriteString(title.Render("plotbook") + faint.Render("  Rowan Street community garden") + "\n\n")
	b.WriteString(faint.Render("Settings") + "\n")
	row(rowHour, "Remind at", fmt.Sprintf("%d:00", a.hour.Get()))
	row(rowUnits, "Units", a.units.Get())
	own := a.plot.Get()
	if own == "" {
		own = faint.Render("none yet")
	}
	row(rowPlot, "My bed", own)

	b.WriteString("\n" + faint.Render("Plantings, by bed") + "\n")
	i := rowFirstPlanting
	last := ""
	for _, id := range keys.ByBed(a.crops) {
		p, found, err := a.crops.Lookup(id)
		if err != nil || !found {
			continue
		}
		label := "Bed " + p.Bed
		if p.Bed == last {
			label = ""
		}
		last = p.Bed
		row(i, label, fmt.Sprintf("%-14s every %s", p.Crop, p.Spacing(a.units.Get())))
		i++
	}
	row(i, "Add", faint.Render("crop, bed, spacing in cm"))

	b.WriteString("\n")
	switch {
	case a.sure:
		b.WriteString("Reset everything? y means yes, any other key no.")
	case a.notice != "":
		b.WriteString(a.notice)
	}
	help := "up, down: move   enter: change   x: remove   r: reset   q: quit"
	if a.asking {
		help = "enter: store   esc: leave as it was"
	}
	b.WriteString("\n\n" + faint.Render(help) + "\n" + faint.Render(a.ns.Path()) + "\n")
	if a.link != "" {
		b.WriteString(faint.Render(a.link) + "\n")
	}
	return b.String()
}
