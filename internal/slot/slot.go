// Package slot holds the value of a variable where Get can read it in two loads. It does not depend on the
// variable's type: only so can the compiler inline Get.
package slot

import (
	"reflect"
	"sync/atomic"
	"unsafe"
)

// A Slot is part of a variable. It is safe for concurrent use.
type Slot struct {
	// now points to the value that Get returns without looking further. It is nil while the value is
	// not decoded, in a batch, and if the type refers to memory that must be copied. A writer empties
	// the slot before it publishes a new state, so Get need not compare states.
	now unsafe.Pointer
	// Find returns a pointer to the value, for the caller alone.
	Find func() unsafe.Pointer
}

// Load returns a pointer to the value. It is written for the compiler's inliner: Get is at the limit of what
// it inlines, and TestGetIsInlined notices one step more.
func (s *Slot) Load() (p unsafe.Pointer) {
	if s != nil {
		p = atomic.LoadPointer(&s.now)
	}
	if p == nil {
		p = s.slowly()
	}
	return
}

//go:noinline
func (s *Slot) slowly() unsafe.Pointer {
	if s == nil {
		panic("pantry: a zero Var was used; get one from Key.In, and on a board get one from On")
	}
	return s.Find()
}

// Pointer returns x, which is a *T, for a slot.
func Pointer(x any) unsafe.Pointer { return reflect.ValueOf(x).UnsafePointer() }

// Ready reports whether the slot has a value.
func (s *Slot) Ready() bool { return atomic.LoadPointer(&s.now) != nil }

// Fill puts a value into the slot.
func (s *Slot) Fill(p unsafe.Pointer) { atomic.StorePointer(&s.now, p) }

// Empty empties the slot.
func (s *Slot) Empty() { atomic.StorePointer(&s.now, nil) }
