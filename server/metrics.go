package server

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"github.com/small-pantry/pantry/internal/ledger"
	"github.com/small-pantry/pantry/internal/wire"
)

// A meter holds what a server reports at /metrics.
type meter struct {
	registry  *prometheus.Registry
	requests  *prometheus.CounterVec
	took      *prometheus.HistogramVec
	sent      prometheus.Counter
	underWay  prometheus.Gauge
	strangers prometheus.Counter

	mu    sync.RWMutex // guards kinds
	kinds map[kindOfAnswer]*counted
}

func newMeter(s *Server) *meter {
	m := &meter{
		kinds:    map[kindOfAnswer]*counted{},
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "smallpantry_requests_total", Help: "Requests that were answered, by route, method and status."}, []string{"route", "method", "status"}),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "smallpantry_request_seconds", Help: "How long answers took, but for streams and waiting calls.",
			Buckets: []float64{.0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}}, []string{"route"}),
		sent: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "smallpantry_sent_bytes_total", Help: "Bytes of the bodies of answers."}),
		underWay: prometheus.NewGauge(prometheus.GaugeOpts{
			Name: "smallpantry_requests_under_way", Help: "Requests that are not answered yet, streams among them."}),
		strangers: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "smallpantry_wrong_tokens_total", Help: "Requests with a token that is none."}),
	}
	gauge := func(name, help string, f func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, f)
	}
	m.registry.MustRegister(m.requests, m.took, m.sent, m.underWay, m.strangers,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		gauge("smallpantry_streams", "Streams and waiting calls that are open.", func() float64 { return float64(streams(s)) }),
		gauge("smallpantry_streams_most", "How many streams and waiting calls there may be.", func() float64 { return float64(s.limits.Streams) }),
		gauge("smallpantry_boards_open", "Boards that are in memory.", func() float64 { return float64(s.store.Open()) }),
		gauge("smallpantry_boards_most", "How many boards there may be.", func() float64 { return float64(s.limits.Boards) }),
	)
	for name, pool := range s.resources.bytes() {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{
			Name: "smallpantry_held_bytes", Help: "Bytes that requests under way hold, by resource.", ConstLabels: prometheus.Labels{"resource": name},
		}, func() float64 { n, _ := pool.Used(); return float64(n) }))
	}
	if c, ok := s.store.(prometheus.Collector); ok { // what the store reports
		m.registry.MustRegister(c)
	}
	return m
}

// count counts an answered call. Its labels are the server's own routes, and a fixed word for
// methods that no route has, so that no client can make the number of series grow.
func (m *meter) count(c *call, took time.Duration) {
	method := c.r.Method
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodDelete, http.MethodOptions:
	default:
		method = "other"
	}
	of := m.of(kindOfAnswer{c.route(), method, c.w.status})
	of.answers.Inc()
	m.sent.Add(float64(c.w.bytes))
	if !c.streams {
		of.took.Observe(took.Seconds())
	}
}

// A kindOfAnswer is counted as one series.
type kindOfAnswer struct {
	route, method string
	status        int
}

type counted struct {
	answers prometheus.Counter
	took    prometheus.Observer
}

// of returns the counter of a kind of answer, which is looked up once.
func (m *meter) of(kind kindOfAnswer) *counted {
	m.mu.RLock()
	of, known := m.kinds[kind]
	m.mu.RUnlock()
	if known {
		return of
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	of = &counted{m.requests.WithLabelValues(kind.route, kind.method, strconv.Itoa(kind.status)), m.took.WithLabelValues(kind.route)}
	m.kinds[kind] = of
	return of
}

// metrics answers with the measurements, in the Prometheus text format.
func (c *call) metrics() error {
	if _, err := c.query(); err != nil {
		return err
	}
	if err := c.takeTurn(); err != nil { // it takes milliseconds
		return err
	}
	promhttp.HandlerFor(c.s.met.registry, promhttp.HandlerOpts{DisableCompression: true}).ServeHTTP(c.w, c.r)
	return nil
}

// patienceOfReady is the time limit of the check.
const patienceOfReady = 2 * time.Second

// ready reports whether the server takes requests. It does not if the boards can't be reached, or
// if it is about to stop.
func (c *call) ready() error {
	select {
	case <-c.s.stopping:
		return ledger.ErrClosed
	default:
	}
	ctx, cancel := context.WithTimeout(c.r.Context(), patienceOfReady)
	defer cancel()
	if err := c.s.store.Ready(ctx); err != nil {
		p := wire.Refuse(wire.Unavailable, "the boards can't be reached; the server's log has the cause")
		if sharedOutage(err) {
			p = wire.ProblemOf(err)
		}
		p.Err, p.RetryAfter = err, 5
		return p
	}
	h := wire.Health{Status: "ready"}
	if c.s.shared != nil {
		if err := c.s.shared.State(); err != nil { // it can still be read
			h.Warning = wire.ProblemOf(err).Detail
		}
	}
	return c.answer(http.StatusOK, h.AppendJSON(nil))
}

// sharedOutage reports whether an error says why a store of several servers can't be used.
func sharedOutage(err error) bool {
	return errors.Is(err, wire.ErrNoMajority) || errors.Is(err, wire.ErrNoNode)
}

// streams returns the number of open streams and waiting calls.
func streams(s *Server) int64 {
	n, _ := s.resources.streams.Used()
	return n
}
