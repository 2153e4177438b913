package etcd

import (
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"github.com/small-pantry/pantry/internal/wire"
)

type counter struct{ n atomic.Int64 }

func (c *counter) add()         { c.n.Add(1) }
func (c *counter) get() float64 { return float64(c.n.Load()) }

var _ prometheus.Collector = (*Store)(nil)

// Metrics of a store at /metrics, beside those of every server.
var (
	aboutSilence = prometheus.NewDesc("smallpantry_etcd_feed_silent_seconds", "For how long etcd has said nothing of what is written; beyond a second nothing is believed without asking.", nil, nil)
	aboutLag     = prometheus.NewDesc("smallpantry_etcd_feed_lag_seconds", "How long the newest write took to come in, by the clocks of its server and of this one.", nil, nil)
	aboutFences  = prometheus.NewDesc("smallpantry_etcd_fences_total", "Reads that ask etcd for the newest version; one serves all who wait for it.", nil, nil)
	aboutWrites  = prometheus.NewDesc("smallpantry_etcd_transactions_total", "Transactions with commits of one or several boards.", nil, nil)
	aboutBehind  = prometheus.NewDesc("smallpantry_etcd_behind_total", "Commits that met one of another server, and were judged again.", nil, nil)
	aboutState   = prometheus.NewDesc("smallpantry_etcd_state", "1 for what keeps the store from working fully: it has no space, too few nodes work together, or none can be reached.", []string{"state"}, nil)
	aboutServers = prometheus.NewDesc("smallpantry_etcd_servers", "Servers on the store, as far as this one knows.", nil, nil)
	aboutHomes   = prometheus.NewDesc("smallpantry_etcd_boards_home", "Boards in memory whose home this server is.", nil, nil)
	aboutPassed  = prometheus.NewDesc("smallpantry_etcd_passed_total", "Calls that the home of their board answered.", nil, nil)
	aboutRefused = prometheus.NewDesc("smallpantry_etcd_home_failures_total", "Calls whose board's home did not answer.", nil, nil)
)

// Describe and Collect implement prometheus.Collector.
func (s *Store) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{aboutSilence, aboutLag, aboutFences, aboutWrites, aboutBehind, aboutState, aboutServers, aboutHomes, aboutPassed, aboutRefused} {
		out <- d
	}
}

func (s *Store) Collect(out chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64) { out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v) }
	count := func(d *prometheus.Desc, v float64) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v)
	}
	silence, fences, writes, behind := time.Duration(0), int64(0), int64(0), int64(0)
	for _, g := range s.groups {
		silence = max(silence, g.silence())
		fences, writes, behind = fences+g.fenced.Load(), writes+g.batched.Load(), behind+g.behind.Load()
	}
	gauge(aboutSilence, silence.Seconds())
	gauge(aboutLag, float64(s.lag.Load())/1000)
	count(aboutFences, float64(fences))
	count(aboutWrites, float64(writes))
	count(aboutBehind, float64(behind))
	now := s.State()
	for name, is := range map[string]error{"no-space": wire.ErrNoSpace, "no-majority": ErrNoMajority, "no-node": ErrNoNode} {
		one := 0.
		if now == is {
			one = 1
		}
		out <- prometheus.MustNewConstMetric(aboutState, prometheus.GaugeValue, one, name)
	}
	p := s.peers.Load()
	if p == nil {
		return
	}
	homes := 0
	s.mu.Lock()
	for name := range s.open {
		if name != tokens && p.Home(name) == "" {
			homes++
		}
	}
	s.mu.Unlock()
	gauge(aboutServers, float64(len(p.Servers())))
	gauge(aboutHomes, float64(homes))
	count(aboutPassed, p.passed.get())
	count(aboutRefused, p.refused.get())
}
