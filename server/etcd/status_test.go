package etcd

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What needs attention is named: nodes, space, versions, certificates, servers.
func TestStatusFindings(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 5, 3, 9, 0, 0, 0, time.UTC)
	s := Status{
		Nodes: []NodeStatus{
			{Endpoint: "a:2379", Version: "3.6.5", Leader: true, InUse: 10, Quota: 100, Ends: now.Add(90 * 24 * time.Hour)},
			{Endpoint: "b:2379", Version: "3.4.30", InUse: 90, Quota: 100, Ends: now.Add(5 * 24 * time.Hour)},
			{Endpoint: "c:2379", Group: "west", Err: errors.New("connection refused"), Ends: now.Add(-time.Hour)},
			{Endpoint: "d:2379", Version: "3.6.5", Alarms: []string{"NOSPACE", "no leader"}},
		},
		Servers: []ServerStatus{{Address: "http://x:1", Ready: true}, {Address: "http://y:1"}, {Address: "http://z:1", Err: errors.New("no route")}},
	}
	s.share()
	assert.Equal(t, shards, s.Servers[0].Homes+s.Servers[1].Homes+s.Servers[2].Homes)
	assert.InDelta(t, shards/3, s.Servers[0].Homes, shards/6)
	s.find(true, now)
	for i, want := range []string{
		"the certificate of node b:2379 ends on 2026-05-08; renew it",
		"node b:2379 runs etcd 3.4.30; 3.5 or later is needed",
		"node b:2379 uses 90 % of its space: raise its quota, or add a group",
		"the certificate of node c:2379 of group west ended on 2026-05-03",
		"node c:2379 of group west does not answer: connection refused",
		"node d:2379 has no space left: nothing can be stored until",
		"node d:2379 reports no leader",
		"server http://y:1 does not take requests",
		"server http://z:1 can't be reached: no route",
	} {
		assert.True(t, strings.HasPrefix(s.Findings[i], want), "%q does not begin with %q", s.Findings[i], want)
	}
	assert.Len(t, s.Findings, 9)
	none := Status{}
	none.find(false, now)
	assert.Equal(t, []string{"no node of the first group answers, so the servers are not known"}, none.Findings)
}
