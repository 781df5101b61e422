package httpapi

import (
	"net/netip"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"eastporch/internal/core/caller"
	"eastporch/internal/core/checkup"
	"eastporch/internal/core/visit"
)

// Metrics counts what the service does, for Prometheus.
type Metrics struct {
	registry *prometheus.Registry
	visitors *prometheus.CounterVec
}

// NewMetrics makes the counters; those of the checkup and of the queue of visits
// read their subjects when asked.
func NewMetrics(watch *checkup.Watch, queue func() visit.Queue) *Metrics {
	m := &Metrics{
		registry: prometheus.NewRegistry(),
		visitors: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "eastporch_visitors_total",
			Help: "Visitors by what became of their address: looked up, skipped (never looked up) or not found, and its kind.",
		}, []string{"result", "kind"}),
	}
	m.registry.MustRegister(m.visitors, prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "eastporch_checkup_findings", Help: "Findings of the checkup that need an eye.",
	}, func() float64 {
		n := 0
		for _, f := range watch.Report().Findings {
			if f.State == checkup.Eye {
				n++
			}
		}
		return float64(n)
	}))
	gauge := func(name, help string, of func(visit.Queue) int64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, func() float64 { return float64(of(queue())) }))
	}
	gauge("eastporch_intake_waiting_visits", "Visits that wait for the database.", func(q visit.Queue) int64 { return q.Waiting })
	gauge("eastporch_intake_waiting_bytes", "What they take on the disk.", func(q visit.Queue) int64 { return q.Bytes })
	for outcome, of := range map[string]func(visit.QueueTally) int64{
		"accepted": func(t visit.QueueTally) int64 { return t.Accepted }, "stored": func(t visit.QueueTally) int64 { return t.Stored },
		"duplicate": func(t visit.QueueTally) int64 { return t.Duplicate }, "conflict": func(t visit.QueueTally) int64 { return t.Conflict },
		"erased": func(t visit.QueueTally) int64 { return t.Erased }, "expired": func(t visit.QueueTally) int64 { return t.Expired },
		"quarantine": func(t visit.QueueTally) int64 { return t.Quarantine }, "full": func(t visit.QueueTally) int64 { return t.Full },
	} {
		m.registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{
			Name: "eastporch_visits_total", Help: "Visits since the start, by what became of them; full are those that were turned away.",
			ConstLabels: prometheus.Labels{"outcome": outcome},
		}, func() float64 { return float64(of(queue().Since)) }))
	}
	return m
}

// Rates adds how old the exchange rates are; age gives days, or NaN for none.
func (m *Metrics) Rates(age func() float64) {
	m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "eastporch_rates_age_days", Help: "Days since the date of the exchange rates; NaN where there are none.",
	}, age))
}

// observed counts a visitor and shows the request to the checkup.
func (a *api) observed(peer netip.Addr, header map[string][]string, card visit.Card, trail caller.Trail) {
	result, kind := "looked up", ""
	if card.Address.Kind != nil {
		kind = card.Address.Kind.String()
	}
	switch {
	case !trail.Visitor.IsValid():
		result = "not found"
	case card.Address.Skipped:
		result = "skipped"
	}
	a.Metrics.visitors.WithLabelValues(result, kind).Inc()
	a.Watch.Observe(peer, header, trail)
}

func (a *api) getMetrics(c *gin.Context) {
	promhttp.HandlerFor(a.Metrics.registry, promhttp.HandlerOpts{}).ServeHTTP(c.Writer, c.Request)
}
