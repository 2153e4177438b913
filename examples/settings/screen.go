package main

import (
	"fmt"
	"io"
	"strings"

	"github.com/small-pantry/pantry"
)

// A setting is a key as a screen needs it, whatever it holds.
type setting struct {
	pantry.DeclaredKey
	show func() string
	set  func(typed string) error
}

func of[T any](ns *pantry.Namespace, k pantry.Key[T]) setting {
	v := k.In(ns)
	return setting{k.Declared()[0], func() string { return k.Format(v.Get()) }, func(typed string) error {
		x, err := k.Parse(typed)
		if err != nil {
			return err // which is a sentence for the user
		}
		return v.Set(x)
	}}
}

func draw(out io.Writer, screen []setting) {
	for i, s := range screen {
		fmt.Fprintf(out, "%d  %-14s %-12s %-18s %s\n", i+1, s.Name, s.show(), s.Allowed(), s.About)
	}
}

// enter takes "1 7": the number of a setting, and what it is to be.
func enter(screen []setting, line string) error {
	number, typed, _ := strings.Cut(line, " ")
	for i, s := range screen {
		if number == fmt.Sprint(i+1) {
			return s.set(typed)
		}
	}
	return fmt.Errorf("enter the number of a setting and a value, such as 1 7")
}
