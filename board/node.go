package board

import (
	"slices"
	"sync"
	"sync/atomic"
	"unsafe"
	"weak"

	"github.com/small-pantry/pantry/internal/entry"
	"github.com/small-pantry/pantry/internal/slot"
	"github.com/small-pantry/pantry/value"
)

// A node holds what is known of a name on a Board. The node of a variable stays as long as the
// Board is open; others stay as long as somebody watches them.
type node struct {
	name  string
	bound bool // it belongs to a variable; guarded by view.mu
	// check is the key's own Check on a stored value, if it has one; guarded by view.mu.
	check func(value.Value) error
	state atomic.Pointer[remote]

	mu    sync.Mutex // guards slots, and orders their use with changes of state
	slots []weak.Pointer[slot.Slot]
}

// maxSlots is how many slots a node fills. Further variables look at the state.
const maxSlots = 16

// keep fills the slot of a variable with its value, if r is still the newest state.
func (n *node) keep(s *slot.Slot, r *remote, p unsafe.Pointer) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.state.Load() != r {
		return
	}
	w := weak.Make(s)
	if !slices.Contains(n.slots, w) {
		if len(n.slots) == maxSlots {
			n.slots = slices.DeleteFunc(n.slots, func(w weak.Pointer[slot.Slot]) bool { return w.Value() == nil })
		}
		if len(n.slots) == maxSlots {
			return
		}
		n.slots = append(n.slots, w)
	}
	s.Fill(p)
}

// publish makes a state the newest one.
func (n *node) publish(r *remote) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, w := range n.slots {
		if s := w.Value(); s != nil {
			s.Empty()
		}
	}
	n.state.Store(r)
}

// A remote is what is known of a name on the server. It is immutable.
type remote struct {
	entry   entry.Entry // without a value: absent
	known   bool        // the server has answered for it
	old     bool        // in an earlier launch, and not in this one
	away    error       // why the newest attempt to reach the server failed; nil if it did not
	sending int         // writes that are being sent
	queued  int         // writes that wait to be sent
	refused error       // the newest write was refused
	kept    bool        // it was queued, and is kept until it is retried or discarded
}
