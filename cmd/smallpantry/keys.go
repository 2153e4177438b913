package main

import (
	"context"
	"fmt"
	"go/format"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"github.com/small-pantry/pantry"
	"github.com/small-pantry/pantry/value"
)

func (a *app) keys() *cobra.Command {
	var goCode bool
	cmd := &cobra.Command{
		Use:   "keys PLACE",
		Short: "List the declared keys",
		Long: `keys lists the keys that apps have declared in the place. --go prints them as Go
declarations for a second app, which then can't spell a name differently.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			keys, err := a.declared(cmd.Context(), args[0])
			switch {
			case err != nil:
				return err
			case goCode:
				return a.printGo(keys)
			case a.json:
				return a.printJSON(map[string]any{"place": args[0], "keys": keys})
			}
			t := a.table("name", "kind", "default", "from", "to", "keep", "about")
			t.flexible = []int{6}
			for _, k := range keys {
				name, keep := k.Name, ""
				if k.Many {
					name += "/…"
				}
				if k.Keep > 0 {
					keep = fmt.Sprint(k.Keep)
				}
				t.row(name, k.Kind.String(), shownDefault(k), k.Min.String(), k.Max.String(), keep, k.About)
			}
			if len(keys) == 0 {
				fmt.Fprintln(a.stdout, "no app has declared keys here")
			}
			t.print()
			return nil
		},
	}
	cmd.Flags().BoolVar(&goCode, "go", false, "print Go declarations")
	return a.withJSON(cmd)
}

func (a *app) declared(ctx context.Context, where string) ([]pantry.DeclaredKey, error) {
	p, err := a.open(where, way{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	l, err := p.list(ctx, "")
	return l.Declared, err
}

func shownDefault(k pantry.DeclaredKey) string {
	if k.Default.IsZero() {
		return ""
	}
	return shown(k.Default)
}

// printGo prints keys as the declarations of an app.
func (a *app) printGo(keys []pantry.DeclaredKey) error {
	var b strings.Builder
	b.WriteString("var (\n")
	for _, k := range keys {
		fmt.Fprintf(&b, "\t%s = %s\n", goName(k.Name), goKey(k))
	}
	b.WriteString(")\n")
	code, err := format.Source([]byte(b.String()))
	if err != nil {
		return fmt.Errorf("print the keys as Go: %w", err)
	}
	_, err = a.stdout.Write(code)
	return err
}

// goName makes reminder-hour ReminderHour, and tank/litres TankLitres.
func goName(name string) string {
	var b strings.Builder
	up := true
	for _, r := range name {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			up = true
			continue
		case up:
			r = unicode.ToUpper(r)
		}
		if b.Len() == 0 && !unicode.IsLetter(r) {
			b.WriteString("Key")
		}
		b.WriteRune(r)
		up = false
	}
	return b.String()
}

func goKey(k pantry.DeclaredKey) string {
	code := ""
	switch {
	case k.Many:
		// What a record holds is not declared: it is the app's own struct.
		code = fmt.Sprintf("pantry.RecordsOf[%s](%q)", goName(strings.TrimSuffix(k.Name, "s")), k.Name)
	case k.Kind == value.KindSealed:
		code = fmt.Sprintf("pantry.Text(%q, \"\").Sealed()", k.Name)
	case k.Kind == value.KindBool, k.Kind == value.KindInt, k.Kind == value.KindText, k.Kind == value.KindFloat:
		constructor := strings.ToUpper(k.Kind.String()[:1]) + k.Kind.String()[1:]
		code = fmt.Sprintf("pantry.%s(%q, %s)", constructor, k.Name, goLiteral(k.Default))
		if !k.Min.IsZero() {
			code += fmt.Sprintf(".Between(%s, %s)", goLiteral(k.Min), goLiteral(k.Max))
		}
	case k.Kind == value.KindBytes:
		code = fmt.Sprintf("pantry.Bytes(%q, nil)", k.Name)
	case k.Kind == value.KindTime:
		code = fmt.Sprintf("pantry.Time(%q, time.Time{})", k.Name)
	case k.Kind == value.KindList:
		code = fmt.Sprintf("pantry.List[%s](%q)", elementType(k.Default), k.Name)
	default:
		code = fmt.Sprintf("pantry.Map[any](%q, nil)", k.Name)
	}
	if k.Keep > 0 {
		code += fmt.Sprintf(".Keep(%d)", k.Keep)
	}
	if k.About != "" {
		code += fmt.Sprintf(".About(%q)", k.About)
	}
	return code
}

func goLiteral(v value.Value) string {
	if v.Kind() == value.KindText {
		return fmt.Sprintf("%q", v.String())
	}
	return v.String()
}

// elementType is the type of a list's items, as far as its default tells.
func elementType(list value.Value) string {
	names := map[value.Kind]string{value.KindBool: "bool", value.KindInt: "int", value.KindFloat: "float64", value.KindText: "string"}
	if list.Len() > 0 {
		if name := names[list.Item(0).Kind()]; name != "" {
			return name
		}
	}
	return "any"
}
