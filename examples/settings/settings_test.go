package main

import (
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/test"
	"fyne.io/fyne/v2/theme"
	"fyne.io/fyne/v2/widget"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/examples/plotbook/keys"
	"github.com/small-pantry/pantry/internal/test/console"
	"github.com/small-pantry/pantry/internal/test/hang"
	"github.com/small-pantry/pantry/value"
)

// A phone shows the app without a display. Functions posted to its drawing thread run while a test waits.
type phone struct {
	*screen
	t     *testing.T
	tasks chan func()
}

func launch(t *testing.T, dir string) *phone {
	t.Helper()
	test.NewTempApp(t).Settings().SetTheme(look{})
	ns, err := pantry.Open(dir, "plotbook", pantry.Declare(keys.All()...), pantry.OnProblem(func(pantry.Problem) {}))
	require.NoError(t, err)
	p := &phone{t: t, tasks: make(chan func(), 10_000)}
	p.screen, err = newScreen(ns, test.NewTempWindow(t, nil), func(f func()) { p.tasks <- f })
	require.NoError(t, err)
	t.Cleanup(p.quit)
	return p
}

// quit closes the app as its window does, also while calls are running.
func (p *phone) quit() {
	assert.NoError(p.t, p.close())
	assert.NoError(p.t, p.ns.Close())
}

// until runs the functions posted to the drawing thread until a condition holds.
func (p *phone) until(holds func() bool, what string) {
	p.t.Helper()
	for end := time.After(hang.Patience); !holds(); {
		select {
		case f := <-p.tasks:
			f()
		case <-end:
			require.Fail(p.t, "it does not come", "%s; the screen says\n%s", what, strings.Join(p.texts(), "\n"))
		}
	}
}

// shows waits until a text is on the screen.
func (p *phone) shows(text string) {
	p.t.Helper()
	p.until(func() bool { return strings.Contains(strings.Join(p.texts(), "\n"), text) }, text)
}

// each goes over what is seen.
func (p *phone) each(f func(fyne.CanvasObject)) {
	for _, one := range test.LaidOutObjects(p.window.Content()) {
		f(one)
	}
	if over := p.window.Canvas().Overlays().Top(); over != nil {
		for _, one := range test.LaidOutObjects(over) {
			f(one)
		}
	}
}

func (p *phone) texts() (all []string) {
	p.each(func(o fyne.CanvasObject) {
		switch o := o.(type) {
		case *widget.Label:
			if o.Visible() {
				all = append(all, o.Text)
			}
		case *widget.Button:
			all = append(all, o.Text)
		case *line:
			all = append(all, o.Text)
		case *widget.RadioGroup:
			all = append(all, o.Selected)
		}
	})
	return all
}

// taps waits for a button with a label and taps the last one.
func (p *phone) taps(label string) {
	p.t.Helper()
	var button *widget.Button
	p.until(func() bool {
		p.each(func(o fyne.CanvasObject) {
			if b, ok := o.(*widget.Button); ok && b.Text == label {
				button = b
			}
		})
		return button != nil
	}, "the button "+label)
	test.Tap(button)
}

// types types into the line under a heading, after what is there.
func (p *phone) types(under, text string) *line {
	p.t.Helper()
	var found *line
	p.each(func(o fyne.CanvasObject) {
		if c, ok := o.(*fyne.Container); ok && len(c.Objects) == 3 {
			if l, ok := c.Objects[0].(*widget.Label); ok && l.Text == under {
				found = c.Objects[1].(*line)
			}
		}
	})
	require.NotNil(p.t, found, under)
	p.window.Canvas().Focus(found)
	found.CursorColumn = len([]rune(found.Text))
	for _, r := range text {
		if r == '\b' {
			found.TypedKey(&fyne.KeyEvent{Name: fyne.KeyBackspace})
		} else {
			found.TypedRune(r)
		}
	}
	return found
}

// drags drags the hour to where it is that.
func (p *phone) drags(hour float64) {
	s := p.rows[0].input.object.(*fyne.Container).Objects[0].(*widget.Slider)
	at := fyne.CurrentApp().Driver().AbsolutePositionForObject(s).AddXY(s.Size().Width*float32((hour+0.5)/24), s.Size().Height/2)
	test.TapCanvas(p.window.Canvas(), at)
	require.Equal(p.t, hour, s.Value)
}

// What is changed is there after the app was closed at once, and again with other values, so
// that no default is taken for what was stored.
func TestSurvives(t *testing.T) {
	dir := t.TempDir()
	for _, as := range []struct {
		hour        float64
		shown, unit string
		bed         string
	}{{7, "7", "imperial", "C4"}, {21, "21", "metric", "\b\bB2"}} {
		p := launch(t, dir)
		p.drags(as.hour)
		radio := p.rows[1].input.object.(*widget.RadioGroup)
		radio.SetSelected(as.unit)
		p.types("The gardener's own bed", as.bed)
		p.quit()
		p = launch(t, dir)
		assert.Subset(t, p.texts(), []string{as.shown, as.unit, strings.Trim(as.bed, "\b")})
	}
}

// An invalid value is not stored, and stays where it was typed, also when others store one.
func TestRefused(t *testing.T) {
	p := launch(t, t.TempDir())
	bed := p.types("The gardener's own bed", "Z9")
	p.shows("The garden's beds are A1 to H9.")
	assert.Equal(t, "", keys.Plot.In(p.ns).Get())
	require.NoError(t, keys.Plot.In(p.ns).Set("D5"))
	p.shows("Stored meanwhile: D5")
	bed.FocusLost()
	assert.Equal(t, "Z9", bed.Text)
	p.types("The gardener's own bed", "\b\bA1")
	p.until(func() bool { return keys.Plot.In(p.ns).Get() == "A1" && bed.Text == "A1" }, "A1")
	assert.NotContains(t, strings.Join(p.texts(), "\n"), "meanwhile")

	require.NoError(t, p.ns.Close())
	p.types("The gardener's own bed", "\b2")
	p.shows("Not stored: ")
	assert.Equal(t, "A2", bed.Text)
	p.follow()
	assert.Equal(t, "A2", bed.Text, "what was typed stays")
}

// What another program changes shows at once.
func TestFollows(t *testing.T) {
	dir := t.TempDir()
	p := launch(t, dir)
	p.shows("18")
	other, err := pantry.Open(dir, "plotbook")
	require.NoError(t, err)
	require.NoError(t, keys.ReminderHour.In(other).Set(6))
	p.shows("6")
	require.NoError(t, keys.Plot.In(other).Set("E3"))
	p.shows("E3")
	_, err = keys.Plantings.In(other).Add(keys.Planting{Crop: "peas", Bed: "B2", Sown: "2026-05-03", SpacingCm: 5})
	require.NoError(t, err)
	p.shows("B2  peas")
	p.shows("every 5 cm, sown 2026-05-03")
	p.until(func() bool { return p.list.Size().Height >= p.list.MinSize().Height }, "room for it")
	require.NoError(t, keys.Units.In(other).Set("imperial"))
	p.shows("every 2.0 in")
	require.NoError(t, other.Put("plantings/nonsense", value.Text("soup")))
	p.shows("plantings/nonsense")
	require.NoError(t, other.Close())
}

// A planting is stored when all of it would do, changed, removed and put back.
func TestPlantings(t *testing.T) {
	dir := t.TempDir()
	p := launch(t, dir)
	p.taps("Add")
	p.taps("Store")
	p.shows("Enter what is planted.")
	p.shows("Enter the bed.")
	p.types("What is planted", "beans")
	p.types("The bed", "C4")
	p.types("The day it was sown", "May")
	p.types("Cm from plant to plant", "\b\b0")
	p.taps("Store")
	p.shows("Enter the day, as in: 2026-05-03")
	p.shows(`"0" won't do. Enter a whole number from 1 to 300.`)
	assert.Zero(t, p.crops.Len())
	p.types("The day it was sown", "\b\b\b2026-05-03")
	p.types("Cm from plant to plant", "\b25")
	p.taps("Store")
	p.shows("C4  beans")
	p.shows("every 25 cm, sown 2026-05-03")

	p.taps("Change")
	require.NoError(t, p.crops.Put("1", keys.Planting{Crop: "broad beans", Bed: "C4", Sown: "2026-05-03", SpacingCm: 25}))
	p.types("The bed", "\b5")
	p.taps("Store")
	p.shows("C5  broad beans")

	p.taps("Remove")
	p.shows("Put broad beans back")
	assert.Zero(t, p.crops.Len())
	p.taps("Put broad beans back")
	p.shows("C5  broad beans")
	p.until(func() bool { return p.crops.Len() == 1 }, "put back")

	p.taps("Change")
	require.NoError(t, p.crops.Drop("1"))
	p.types("What is planted", " early")
	p.taps("Store")
	p.shows("Not stored: somebody removed it meanwhile")
	p.taps("Leave")
	p.shows("What grows where")
}

// A reset is of everything, what was typed and would not do too, and asks before.
func TestReset(t *testing.T) {
	dir := t.TempDir()
	p := launch(t, dir)
	p.drags(7)
	p.types("The gardener's own bed", "Z9")
	p.taps("Reset everything…")
	p.taps("No")
	p.until(func() bool { return keys.ReminderHour.In(p.ns).Get() == 7 }, "7")
	p.taps("Reset everything…")
	p.taps("Yes")
	p.shows("Everything is as at the first launch.")
	assert.NotContains(t, p.texts(), "Z9")
	p.quit()
	p = launch(t, dir)
	assert.Contains(t, p.texts(), "18")
}

// Of what is typed while something is being stored, the newest is stored, and nothing older
// comes back.
func TestTypedFast(t *testing.T) {
	var shown []string
	waits := make(chan bool)
	var w writer
	p := &phone{t: t, tasks: make(chan func(), 100), screen: &screen{}}
	stored := "0"
	k := pantry.Int("n", 0).About("how many")
	r := newRow(of(k, func() int { n, _ := k.Parse(stored); return n }, func(n int) error {
		<-waits
		stored = k.Format(n)
		shown = append(shown, stored)
		return nil
	}), func(store func() error, done func(error)) {
		w.write(&p.writes, store, func(err error) { p.tasks <- func() { done(err) } })
	})
	l := r.input.object.(*line)
	for _, text := range []string{"1", "12", "123"} {
		l.SetText(text)
		time.Sleep(10 * time.Millisecond) // the writer takes the first text in this time or later; both are right
	}
	r.follow()
	assert.Equal(t, "123", l.Text)
	ended := func() {
		p.writes.Wait()
		for len(p.tasks) > 0 {
			(<-p.tasks)()
		}
	}
	close(waits)
	ended()
	require.NotEmpty(t, shown)
	assert.LessOrEqual(t, len(shown), 2, "what came while one was stored is stored once")
	assert.Equal(t, "123", shown[len(shown)-1])
	assert.Equal(t, "123", l.Text)
	stored = "7" // by somebody else
	r.follow()
	assert.Equal(t, "7", l.Text, "it follows again")
	l.SetText("00123")
	ended()
	assert.Equal(t, "00123", l.Text, "it is being typed")
	l.FocusLost()
	assert.Equal(t, "123", l.Text)
}

// The app runs until its window is closed. It reports a file that can't be opened.
func TestRuns(t *testing.T) {
	dir := t.TempDir()
	do := func(f func()) {}
	require.NoError(t, run(test.NewTempApp(t), dir, do))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "taken"), nil, 0o600))
	assert.Error(t, run(test.NewTempApp(t), filepath.Join(dir, "taken"), do))
}

// night is how the app looks then.
type night struct{ look }

func (n night) Color(name fyne.ThemeColorName, _ fyne.ThemeVariant) color.Color {
	return n.look.Color(name, theme.VariantDark)
}

// SCREENSHOTS=DIR keeps a picture of the app, and beside it of a form by night.
func TestPicture(t *testing.T) {
	dir := os.Getenv("SCREENSHOTS")
	if dir == "" {
		t.Skip("SCREENSHOTS names no directory")
	}
	both := image.NewRGBA(image.Rect(0, 0, 2*390, 844))
	for i, side := range []fyne.Theme{look{}, night{}} {
		p := launch(t, t.TempDir())
		fyne.CurrentApp().Settings().SetTheme(side)
		for _, one := range []keys.Planting{
			{Crop: "runner beans", Bed: "C4", Sown: "2026-05-03", SpacingCm: 30}, {Crop: "beetroot", Bed: "B2", Sown: "2026-04-12", SpacingCm: 10}, {Crop: "marrow", Bed: "C4", SpacingCm: 90},
		} {
			_, err := p.crops.Add(one)
			require.NoError(t, err)
		}
		p.drags(7)
		p.types("The gardener's own bed", "Z9")
		p.shows("marrow")
		if side != (look{}) {
			p.taps("Change")
			p.types("The day it was sown", " or so")
		}
		draw.Draw(both, image.Rect(i*390, 0, (i+1)*390, 844), p.window.Canvas().Capture(), image.Point{}, draw.Src)
	}
	out, err := os.Create(filepath.Join(dir, "settings.png"))
	require.NoError(t, err)
	defer out.Close()
	require.NoError(t, png.Encode(out, both))
}

// The app in Go of docs/phone-go.md compiles unchanged.
func TestPageCompiles(t *testing.T) {
	page := console.Page(t, "../../docs/phone-go.md")
	blocks := regexp.MustCompile("(?s)```go\n(package main\n.*?)```").FindAllStringSubmatch(page, -1)
	require.Len(t, blocks, 1)
	file := filepath.Join(t.TempDir(), "main.go")
	require.NoError(t, os.WriteFile(file, []byte(blocks[0][1]), 0o600))
	out, err := exec.Command("go", "vet", "-tags", "ci", file).CombinedOutput()
	require.NoError(t, err, string(out))
}
