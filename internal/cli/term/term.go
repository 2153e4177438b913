// Package term prints for people: tables that fit the terminal, sizes, ages, and values on one
// line.
package term

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/charmbracelet/lipgloss"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"github.com/small-pantry/pantry/value"
)

// An Out is where results are printed. Without a terminal nothing is cut, for scripts.
type Out struct{ io.Writer }

// terminal reports whether the output is a terminal, and its width.
func (o Out) terminal() (width int, ok bool) {
	out := o.Writer
	if w, ok := out.(interface{ Unwrap() io.Writer }); ok {
		out = w.Unwrap()
	}
	f, isFile := out.(*os.File)
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

// A Table has columns of text. If they don't fit the terminal, the flexible ones are cut, the
// widest first.
type Table struct {
	Flexible []int // columns that can be cut
	out      Out
	head     []string
	rows     [][]string
}

// Colour reports whether the output is a terminal that shows colours.
func (o Out) Colour() bool {
	_, is := o.terminal()
	return is && os.Getenv("NO_COLOR") == ""
}

// Table begins a table with the names of its columns.
func (o Out) Table(head ...string) *Table { return &Table{out: o, head: head} }

// Row adds a row.
func (t *Table) Row(cells ...string) {
	for i, c := range cells {
		cells[i] = strings.Map(Printable, c)
	}
	t.rows = append(t.rows, cells)
}

// Printable removes control sequences from stored text.
func Printable(r rune) rune {
	if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 {
		return '·'
	}
	return r
}

// Print prints the table, unless it has no rows.
func (t *Table) Print() {
	if len(t.rows) == 0 {
		return
	}
	const gap = 2
	widths := make([]int, len(t.head))
	for i, head := range t.head {
		for _, row := range t.rows {
			widths[i] = max(widths[i], lipgloss.Width(row[i]))
		}
		if widths[i] > 0 { // an empty column is left out
			widths[i] = max(widths[i], lipgloss.Width(head))
		}
	}
	style := lipgloss.NewStyle()
	if width, ok := t.out.terminal(); ok {
		total := 0
		for _, w := range widths {
			if w > 0 {
				total += w + gap
			}
		}
		for over := total - gap - width; over > 0 && len(t.Flexible) > 0; over-- {
			widest := t.Flexible[0]
			for _, i := range t.Flexible {
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
	fmt.Fprintln(t.out, style.Render(line(t.head)))
	for _, row := range t.rows {
		fmt.Fprintln(t.out, line(row))
	}
}

// Paragraph prints a text after a heading of a given width. On a narrow terminal it continues below
// the heading.
func (o Out) Paragraph(heading string, wide int, text string) {
	if width, ok := o.terminal(); ok {
		text = strings.ReplaceAll(Wrap(text, max(width-wide, 20)), "\n", "\n"+strings.Repeat(" ", wide))
	}
	fmt.Fprintf(o, "%-*s%s\n", wide, heading, text)
}

// Size formats a number of bytes.
func Size(n int64) string {
	switch {
	case n < 1<<10:
		return Counted(int(n), "byte", "bytes")
	case n < 1<<20:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
}

// Age formats how long ago a time was, in one unit. A time in the future is now.
func Age(at time.Time) string {
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

// Counted formats a number of things.
func Counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Shown formats a value for a table: on one line, with quotes around text that could be taken for
// another kind. An absent value is a dash.
func Shown(v value.Value) string {
	s, isText := v.AsText()
	switch {
	case v.IsZero():
		return "–"
	case !isText:
		return v.String()
	}
	if guess, err := value.Infer(s); s == "" || err != nil || guess.Kind() != value.KindText || strings.ContainsFunc(s, unicode.IsControl) || strings.TrimSpace(s) != s {
		return string(v.AppendJSON(nil))
	}
	return s
}

// Brief is Shown for a line of its own, shortened, with its kind if the other value has another.
func Brief(v, other value.Value) string {
	const most = 60
	r := []rune(Shown(v))
	if len(r) > most {
		r = append(r[:most-1], '…')
	}
	return string(r) + KindIfOther(v, other)
}

// KindIfOther returns the kind of v if the other value has another kind.
func KindIfOther(v, other value.Value) string {
	if v.IsZero() || other.IsZero() || other.Kind() == v.Kind() {
		return ""
	}
	return " (" + v.Kind().String() + ")"
}

// Wrap wraps text at spaces only: a name such as reminder-hour stays whole.
func Wrap(text string, width int) string {
	const hyphen = "\u2011" // non-breaking, and as wide as the other
	return strings.ReplaceAll(ansi.Wordwrap(strings.ReplaceAll(text, "-", hyphen), width, " "), hyphen, "-")
}
