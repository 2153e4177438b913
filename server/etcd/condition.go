package etcd

import (
	"errors"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"

	"github.com/small-pantry/pantry/internal/wire"
)

// outageAfter is how long etcd has to be silent before that is a state: less is an election of a leader.
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
