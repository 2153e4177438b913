package main

import (
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"
)

// printJSON prints one object on one line.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.stdout)
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// terminal says whether results go to a terminal, and how wide it is. Without
// one, lines may be as long as they need to be: nothing that a script reads
// is cut.
func (a *app) terminal() (width int, ok bool) {
	f, isFile := a.stdout.(*os.File)
	if !isFile || !term.IsTerminal(int(f.Fd())) {
		return 0, false
	}
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
		return w, true
	}
	if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w > 0 {
		return w, true
	}
	return 80, true
}

// A table is columns of text, as wide as the terminal lets them be: where they
// don't fit, the flexible ones are cut, the widest first.
type table struct {
	a        *app
	head     []string
	rows     [][]string
	flexible []int
}

func (a *app) table(head ...string) *table { return &table{a: a, head: head} }

func (t *table) row(cells ...string) {
	for i, c := range cells {
		cells[i] = strings.Map(printable, c)
	}
	t.rows = append(t.rows, cells)
}

// printable takes the power over the terminal from what somebody stored.
func printable(r rune) rune {
	if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 {
		return '·'
	}
	return r
}

func (t *table) print() {
	if len(t.rows) == 0 {
		return
	}
	const gap = 2
	widths := make([]int, len(t.head))
	for i, head := range t.head {
		for _, row := range t.rows {
			widths[i] = max(widths[i], lipgloss.Width(row[i]))
		}
		if widths[i] > 0 { // a column without anything in it is left out
			widths[i] = max(widths[i], lipgloss.Width(head))
		}
	}
	style := lipgloss.NewStyle()
	if width, ok := t.a.terminal(); ok {
		total := 0
		for _, w := range widths {
			if w > 0 {
				total += w + gap
			}
		}
		for over := total - gap - width; over > 0 && len(t.flexible) > 0; over-- {
			widest := t.flexible[0]
			for _, i := range t.flexible {
				if widths[i] > widths[widest] {
					widest = i
				}
			}
			if widths[widest] <= 8 {
				break
			}
			widths[widest]--
		}
		style = style.Faint(os.Getenv("NO_COLOR") == "")
	}
	line := func(cells []string) string {
		var b strings.Builder
		for i, c := range cells {
			if widths[i] == 0 {
				continue
			}
			c = ansi.Truncate(c, widths[i], "…")
			b.WriteString(c)
			b.WriteString(strings.Repeat(" ", widths[i]-lipgloss.Width(c)+gap))
		}
		return strings.TrimRight(b.String(), " ")
	}
	fmt.Fprintln(t.a.stdout, style.Render(line(t.head)))
	for _, row := range t.rows {
		fmt.Fprintln(t.a.stdout, line(row))
	}
}

// paragraph prints a text behind a heading of some width, below which it goes
// on where the terminal is narrower.
func (a *app) paragraph(heading string, wide int, text string) {
	if width, ok := a.terminal(); ok {
		text = strings.ReplaceAll(ansi.Wordwrap(text, max(width-wide, 20), " "), "\n", "\n"+strings.Repeat(" ", wide))
	}
	fmt.Fprintf(a.stdout, "%-*s%s\n", wide, heading, text)
}

// sizeText tells a number of bytes.
func sizeText(n int64) string {
	switch {
	case n < 1<<10:
		return counted(int(n), "byte", "bytes")
	case n < 1<<20:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}

// age tells how long ago something was, in one unit. A clock that was set back
// makes nothing younger than now.
func age(at time.Time) string {
	d := max(time.Since(at), 0)
	switch {
	case d < 2*time.Second:
		return "now"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}
