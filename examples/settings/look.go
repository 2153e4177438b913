package main

import (
	"image/color"

	"fyne.io/fyne/v2"
	"fyne.io/fyne/v2/theme"
)

// look is how the app looks: paper and ink, and moss green for what can be done.
type look struct{}

// colours are those by day and by night.
var colours = map[fyne.ThemeColorName][2]color.NRGBA{
	theme.ColorNameBackground:          {rgb(0xfaf8f3), rgb(0x171815)},
	theme.ColorNameOverlayBackground:   {rgb(0xfaf8f3), rgb(0x171815)},
	theme.ColorNameForeground:          {rgb(0x23211d), rgb(0xece8dd)},
	theme.ColorNamePlaceHolder:         {rgb(0x6b665c), rgb(0xa19b8d)},
	theme.ColorNameSeparator:           {rgb(0xe4dfd3), rgb(0x2f302b)},
	theme.ColorNameInputBackground:     {rgb(0xf0ebdf), rgb(0x24261f)},
	theme.ColorNameInputBorder:         {rgb(0x6b665c), rgb(0xa19b8d)},
	theme.ColorNameButton:              {rgb(0xefeae0), rgb(0x23241f)},
	theme.ColorNamePrimary:             {rgb(0x3f6b3a), rgb(0x9cc58f)},
	theme.ColorNameForegroundOnPrimary: {rgb(0xfaf8f3), rgb(0x171815)},
	theme.ColorNameWarning:             {rgb(0x8a5a00), rgb(0xe0b060)},
	theme.ColorNameError:               {rgb(0x9b2f22), rgb(0xe58f80)},
}

func rgb(x uint32) color.NRGBA {
	return color.NRGBA{uint8(x >> 16), uint8(x >> 8), uint8(x), 255}
}

func (look) Color(name fyne.ThemeColorName, variant fyne.ThemeVariant) color.Color {
	if c, ours := colours[name]; ours {
		if variant == theme.VariantDark {
			return c[1]
		}
		return c[0]
	}
	return theme.DefaultTheme().Color(name, variant)
}

func (look) Font(s fyne.TextStyle) fyne.Resource { return theme.DefaultTheme().Font(s) }

func (look) Icon(name fyne.ThemeIconName) fyne.Resource { return theme.DefaultTheme().Icon(name) }

func (look) Size(name fyne.ThemeSizeName) float32 {
	switch name {
	case theme.SizeNameText:
		return 16
	case theme.SizeNameCaptionText:
		return 13
	case theme.SizeNameHeadingText:
		return 28
	case theme.SizeNameSubHeadingText:
		return 18
	}
	return theme.DefaultTheme().Size(name)
}
