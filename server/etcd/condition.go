package etcd

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"

	"github.com/small-pantry/pantry/internal/wire"
)

// outageAfter is the silence of etcd that counts as an outage. The election of a leader takes less.
const outageAfter = time.Second

// A condition is what keeps a group from working: wire.ErrNoSpace, ErrNoMajority or ErrNoNode; nil means nothing.
type condition struct {
	changed func(now error) // called when it changes

	mu      sync.Mutex // guards the following fields
	full    bool
	failing time.Time // since when nothing was answered; zero means that the last attempt was
	now     error
}

// note takes the result of an attempt. outage says what it means that there is no answer.
func (s *condition) note(err error, wrote bool, outage func() error) {
	s.mu.Lock()
	now := time.Now()
	switch {
	case errors.Is(err, rpctypes.ErrNoSpace):
		s.full, s.failing = true, time.Time{}
	case err == nil && wrote:
		s.full, s.failing = false, time.Time{}
	case err == nil, refused(err):
		s.failing = time.Time{}
	case s.failing.IsZero():
		s.failing = now
	}
	before := s.now
	switch {
	case !s.failing.IsZero() && now.Sub(s.failing) >= outageAfter:
		s.now = outage()
	case !s.failing.IsZero(): // not known yet
	case s.full:
		s.now = wire.ErrNoSpace
	default:
		s.now = nil
	}
	after, changed := s.now, s.changed
	s.mu.Unlock()
	if after != before && changed != nil {
		changed(after)
	}
}

func (s *condition) get() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

// lasts returns for how long nothing was answered.
func (s *condition) lasts() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failing.IsZero() {
		return 0
	}
	return time.Since(s.failing)
}

// stateOf reports a change of a group's state.
func (s *Store) stateOf(g *group, now error) {
	which := "etcd"
	if g.name != "" {
		which = "etcd, group " + g.name
	}
	if now == nil {
		s.problem("", fmt.Errorf("%s: all works again", which))
	} else {
		s.problem("", fmt.Errorf("%s: %w", which, now))
	}
}

// State returns what keeps the first group that does not work fully from it: see store.Shared.
func (s *Store) State() error {
	for _, g := range s.groups {
		if now := g.state.get(); now != nil {
			return now
		}
	}
	return nil
}
