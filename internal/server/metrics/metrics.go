// Package metrics counts what the service does, for Prometheus.
package metrics

import (
	"cmp"
	"math"
	"net/http"
	"runtime"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"eastporch/internal/core/card"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/gate"
	"eastporch/internal/core/visit"
)

// Metrics counts what the service does, for Prometheus: names end in a base unit, and the
// series of one name never overlap.
type Metrics struct {
	registry *prometheus.Registry
	visitors *prometheus.CounterVec
	gates    *prometheus.CounterVec
	asked    *prometheus.CounterVec
	sent     *prometheus.CounterVec
	requests *prometheus.HistogramVec
	series   sync.Map // labels -> counter: finding one among others takes longer than counting
}

// kept finds a counter by its labels.
func kept(series *sync.Map, labels [4]string, find func([4]string) prometheus.Counter) prometheus.Counter {
	if known, ok := series.Load(labels); ok {
		return known.(prometheus.Counter)
	}
	found := find(labels)
	series.Store(labels, found)
	return found
}

// Measured is what metrics read when they are asked for.
type Measured struct {
	Version string
	Checkup *checkup.Watch
	Queue   func() visit.Queue
	Pool    func() PoolState
	// ClicksNotRecorded is how many clicks on links were redirected and not stored.
	ClicksNotRecorded func() int64
	// RatesAge is how old the exchange rates are; ok is false where there are none.
	RatesAge func() (age time.Duration, ok bool)
}

// PoolState is how the connections to the database stand.
type PoolState struct {
	InUse, Idle, Most int
	Waited            time.Duration // for a connection, since the start, all together
}

// New makes the counters.
func New(of Measured) *Metrics {
	m := &Metrics{
		registry: prometheus.NewRegistry(),
		visitors: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "eastporch_visitor_addresses_total",
			Help: "Addresses of visitors by kind and result: looked_up, skipped (never looked up) or not_found.",
		}, []string{"result", "kind"}),
		gates: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "eastporch_gate_decisions_total",
			Help: "Decisions of gates by outcome (admit, refuse, would refuse) and by why there was no location, if there was none.",
		}, []string{"site", "gate", "outcome", "missing"}),
		asked: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "eastporch_companion_questions_total", Help: "Questions to companions by outcome: answered, failed, or refused by the allowance and so not asked.",
		}, []string{"site", "companion", "outcome"}),
		sent: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "eastporch_notice_attempts_total", Help: "Attempts to deliver what notices wrote, a mail for each recipient, by outcome: delivered, refused, put_off or not_reached.",
		}, []string{"site", "channel", "outcome"}),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "eastporch_http_request_duration_seconds", Help: "How long requests took, by listener, method, route and status.",
			Buckets: []float64{0.0001, 0.0005, 0.001, 0.005, 0.025, 0.1, 0.5, 2, 10},
		}, []string{"listener", "method", "route", "status"}),
	}
	m.registry.MustRegister(m.visitors, m.gates, m.asked, m.sent, m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	gauge := func(name, help string, labels prometheus.Labels, value func() float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help, ConstLabels: labels}, value))
	}
	counter := func(name, help string, labels prometheus.Labels, value func() float64) {
		m.registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: name, Help: help, ConstLabels: labels}, value))
	}
	gauge("eastporch_build_info", "1, with the version.", prometheus.Labels{"version": of.Version, "go_version": runtime.Version()}, func() float64 { return 1 })
	gauge("eastporch_checkup_warnings", "Checks of the proxy set-up that need attention.", nil, func() float64 {
		n := 0
		for _, d := range of.Checkup.Result().Findings {
			if d.State == checkup.Attention {
				n++
			}
		}
		return float64(n)
	})
	gauge("eastporch_queue_visits", "Visits that wait for the database.", nil, func() float64 { return float64(of.Queue().Waiting) })
	gauge("eastporch_queue_bytes", "What the visits that wait take on the disk.", nil, func() float64 { return float64(of.Queue().Bytes) })
	gauge("eastporch_queue_limit_bytes", "How much may wait before visits are turned away.", nil, func() float64 { return float64(of.Queue().Most) })
	counter("eastporch_visits_accepted_total", "Visits that were taken into the queue since the start.", nil, func() float64 { return float64(of.Queue().Since.Accepted) })
	counter("eastporch_visits_turned_away_total", "Visits that were not, since the queue was full.", nil, func() float64 { return float64(of.Queue().Since.Full) })
	for result, n := range map[string]func(visit.QueueTally) int64{
		"stored":      func(t visit.QueueTally) int64 { return t.Stored },
		"duplicate":   func(t visit.QueueTally) int64 { return t.Duplicate - t.Conflict },
		"conflict":    func(t visit.QueueTally) int64 { return t.Conflict },
		"erased":      func(t visit.QueueTally) int64 { return t.Erased },
		"expired":     func(t visit.QueueTally) int64 { return t.Expired },
		"quarantined": func(t visit.QueueTally) int64 { return t.Quarantine - t.Conflict },
	} {
		counter("eastporch_visits_stored_total", "Visits that left the queue since the start, by result; a conflict has the id of another visit, and is in quarantine too.",
			prometheus.Labels{"result": result}, func() float64 { return float64(n(of.Queue().Since)) })
	}
	for state, n := range map[string]func(PoolState) int{"in_use": func(p PoolState) int { return p.InUse }, "idle": func(p PoolState) int { return p.Idle }} {
		gauge("eastporch_database_connections", "Connections to the database, by state.", prometheus.Labels{"state": state}, func() float64 { return float64(n(of.Pool())) })
	}
	gauge("eastporch_database_connections_limit", "How many there may be.", nil, func() float64 { return float64(of.Pool().Most) })
	counter("eastporch_database_connection_wait_seconds_total", "How long requests and jobs waited for a connection, all together.", nil, func() float64 { return of.Pool().Waited.Seconds() })
	counter("eastporch_clicks_not_recorded_total", "Clicks on links that were redirected and not stored, because the buffer or the queue was full.", nil, func() float64 { return float64(of.ClicksNotRecorded()) })
	gauge("eastporch_exchange_rates_age_seconds", "Time since the date of the exchange rates; NaN where there are none.", nil, func() float64 {
		if age, ok := of.RatesAge(); ok {
			return age.Seconds()
		}
		return math.NaN()
	})
	return m
}

// Request counts a request that was answered. What no route serves is of the route "none".
func (m *Metrics) Request(listener, method, route string, status int, took time.Duration) {
	m.requests.WithLabelValues(listener, known(method), cmp.Or(route, "none"), strconv.Itoa(status)).Observe(took.Seconds())
}

// known keeps methods that clients make up from making series.
func known(name string) string {
	switch name {
	case "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS":
		return name
	}
	return "other"
}

// Decisions counts what the gates of a site said.
func (m *Metrics) Decisions(k *gate.CountKey, n int64) {
	m.gates.WithLabelValues(k.Site, k.Gate, k.Outcome, k.Missing).Add(float64(n))
}

// Companion counts a question to a companion.
func (m *Metrics) Companion(site, name, outcome string) {
	m.asked.WithLabelValues(site, name, outcome).Inc()
}

// Notice counts an attempt to deliver what a notice wrote.
func (m *Metrics) Notice(site, channel, outcome string) {
	m.sent.WithLabelValues(site, channel, outcome).Inc()
}

// Visitor counts a visitor by what became of the address.
func (m *Metrics) Visitor(card *card.Card) {
	kind := ""
	if card.Address.Kind != nil {
		kind = card.Address.Kind.String()
	}
	m.Address(kind, card.Address.Skipped)
}

// Address counts a visitor's address; kind is "" where there was none.
func (m *Metrics) Address(kind string, skipped bool) {
	result := "looked_up"
	switch {
	case kind == "":
		result = "not_found"
	case skipped:
		result = "skipped"
	}
	kept(&m.series, [4]string{result, kind}, func(l [4]string) prometheus.Counter { return m.visitors.WithLabelValues(l[:2]...) }).Inc()
}

// ServeHTTP gives the metrics in Prometheus's text format.
func (m *Metrics) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{}).ServeHTTP(w, r)
}
