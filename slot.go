package pantry

import (
	"sync/atomic"
	"unsafe"
)

// A slot is the part of a variable that Get reads. It does not depend on the variable's type: only so can
// the compiler inline Get.
type slot struct {
	// now points to the value that Get returns without looking at the record. It is nil while the
	// value is not decoded, in a batch, and if the type refers to memory that must be copied. A
	// writer sets it to nil before it publishes a new record, so Get need not compare records.
	now unsafe.Pointer
	// find returns a pointer to the value, for the caller alone.
	find func() unsafe.Pointer
}

// load is written for the compiler's inliner: Get is at the limit of what it inlines, and TestGetIsInlined
// notices one step more.
func (s *slot) load() (p unsafe.Pointer) {
	if s != nil {
		p = atomic.LoadPointer(&s.now)
	}
	if p == nil {
		p = s.slowly()
	}
	return
}

//go:noinline
func (s *slot) slowly() unsafe.Pointer {
	if s == nil {
		misuse("a zero Var was used; get one from Key.In")
	}
	return s.find()
}

func (s *slot) ready() bool { return atomic.LoadPointer(&s.now) != nil }

func (s *slot) store(p unsafe.Pointer) { atomic.StorePointer(&s.now, p) }
