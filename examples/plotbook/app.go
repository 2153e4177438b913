package main

import (
	"strings"

	"github.com/charmbracelet/bubbles/textinput"
	tea "github.com/charmbracelet/bubbletea"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
)

// An app is what the screen needs besides the stored values, which it reads
// where it shows them and never keeps.
type app struct {
	hour  pantry.Var[int]
	units pantry.Var[string]
	plot  pantry.Var[string]
	crops pantry.Records[keys.Planting]
	ns    *pantry.Namespace
	link  string // of the debug view; empty: there is none

	cursor int
	input  textinput.Model
	asking bool   // the input is open
	sure   bool   // reset waits for a yes
	notice string // a sentence for the user
}

// changed says that something was changed, here or elsewhere.
type changed struct{}

// stored says how a write ended.
type stored struct {
	what string
	err  error
}

func newApp(ns *pantry.Namespace, link string, found []pantry.Problem) app {
	a := app{
		hour: keys.ReminderHour.In(ns), units: keys.Units.In(ns), plot: keys.Plot.In(ns), crops: keys.Plantings.In(ns), ns: ns, link: link,
		input: textinput.New(),
	}
	a.input.Prompt = ""
	for _, p := range found {
		a.notice = p.String()
	}
	return a
}

func (a app) Init() tea.Cmd { return nil }

// store makes a write off the thread that draws, since it waits for the disk.
func store(what string, write func() error) tea.Cmd {
	return func() tea.Msg { return stored{what, write()} }
}

// The rows that the cursor goes over: three settings, the plantings, and one
// to add to them.
const (
	rowHour = iota
	rowUnits
	rowPlot
	rowFirstPlanting
)

func (a app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case changed:
		a.cursor = min(a.cursor, rowFirstPlanting+len(keys.ByBed(a.crops)))
	case stored:
		if msg.err != nil {
			a.notice = "Not stored: " + msg.err.Error()
		} else {
			a.notice = msg.what
			a.asking = false // not before it is confirmed
		}
	case tea.KeyMsg:
		switch {
		case msg.Type == tea.KeyCtrlC:
			return a, tea.Quit
		case a.asking:
			return a.edit(msg)
		case a.sure:
			return a.reset(msg)
		}
		return a.key(msg)
	}
	return a, nil
}

// key handles a key while nothing is edited.
func (a app) key(msg tea.KeyMsg) (tea.Model, tea.Cmd) {
	ids := keys.ByBed(a.crops)
	a.notice = ""
	switch msg.String() {
	case "q", "esc":
		return a, tea.Quit
	case "up", "k":
		a.cursor = max(a.cursor-1, 0)
	case "down", "j":
		a.cursor = min(a.cursor+1, rowFirstPlanting+len(ids))
	case "r":
		a.sure = true
	case "x", "delete":
		if i := a.cursor - rowFirstPlanting; i >= 0 && i < len(ids) {
			return a, store("Removed.", func() error { return a.crops.Drop(ids[i]) })
		}
	case "enter", " ":
		if a.cursor == rowUnits {
			next := map[string]string{"metric": "imperial", "imperial": "metric"}[a.units.Get()]
			return a, store("Stored.", func() error { return a.units.Set(next) })
		}
		if i := a.cursor - rowFirstPlanting; i >= 0 && i < len(ids) {
			return a, nil
		}
		a.asking = true
		a.input.SetValue("")
		return a, a.input.Focus()
	}
	return a, nil
}

// edit handles a key while the input is open.
func (a app) edit(msg tea.KeyMsg) (tea.Model, tea.Cmd) {
	switch msg.Type {
	case tea.KeyEsc:
		a.asking, a.notice = false, ""
		return a, nil
	case tea.KeyEnter:
		write, err := a.entered(a.input.Value())
		if err != nil {
			a.notice = err.Error()
			return a, nil
		}
		return a, store("Stored.", write)
	}
	var cmd tea.Cmd
	a.input, cmd = a.input.Update(msg)
	return a, cmd
}

// entered reads what was typed in the row of the cursor, and returns the write
// that it means or a sentence that says what is wrong.
func (a app) entered(typed string) (write func() error, err error) {
	switch a.cursor {
	case rowHour:
		x, err := keys.ReminderHour.Parse(typed)
		return func() error { return a.hour.Set(x) }, err
	case rowPlot:
		x, err := keys.Plot.Parse(strings.ToUpper(strings.TrimSpace(typed)))
		return func() error { return a.plot.Set(x) }, err
	}
	x, err := parsePlanting(typed)
	return func() error { _, err := a.crops.Add(x); return err }, err
}

func (a app) reset(msg tea.KeyMsg) (tea.Model, tea.Cmd) {
	a.sure = false
	if msg.String() != "y" {
		a.notice = "Nothing was reset."
		return a, nil
	}
	return a, store("Everything is as at the first launch.", a.ns.Reset)
}
