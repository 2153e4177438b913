package main

import (
	"sync"

	"github.com/small-pantry/pantry"
)

// A setting is a key as a screen needs it, of any kind.
type setting struct {
	pantry.DeclaredKey
	shown func() string                      // what is stored, as Parse reads it
	plain func(typed string) (string, error) // what was typed, as Format has it; the error is a sentence for the user
	store func(typed string) error           // of what plain takes
}

// of returns the setting of a key.
func of[T any](k pantry.Key[T], get func() T, set func(T) error) setting {
	return setting{
		DeclaredKey: k.Declared()[0],
		shown:       func() string { return k.Format(get()) },
		plain: func(typed string) (string, error) {
			x, err := k.Parse(typed)
			return k.Format(x), err
		},
		store: func(typed string) error {
			x, err := k.Parse(typed)
			if err != nil {
				return err
			}
			return set(x)
		},
	}
}

// A writer stores off the thread that draws: one after the other, and of what was typed
// meanwhile only the newest.
type writer struct {
	mu   sync.Mutex
	next func() // nil: nothing waits
	busy bool
}

// write has all wait for it. done is told how it ended, unless a newer one took its place.
func (w *writer) write(all *sync.WaitGroup, store func() error, done func(error)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.next = func() { done(store()) }
	if w.busy {
		return
	}
	w.busy = true
	all.Go(func() {
		for next := w.take(); next != nil; next = w.take() {
			next()
		}
	})
}

// take returns what is to be stored next. nil means nothing: the next write begins again.
func (w *writer) take() func() {
	w.mu.Lock()
	defer w.mu.Unlock()
	next := w.next
	w.next, w.busy = nil, next != nil
	return next
}
