package service

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"undersail/internal/fault"
	"undersail/internal/store"
)

// countPatience is how long whoever reads the metrics waits for the database.
const countPatience = 2 * time.Second

var (
	connections = prometheus.NewDesc("undersail_database_connections",
		"Connections to the database of this replica, by what they do.", []string{"state"}, nil)
	waitedFor = prometheus.NewDesc("undersail_database_wait_seconds_total",
		"Time that was waited for a connection to the database.", nil, nil)
	unended = prometheus.NewDesc("undersail_runs", "Runs of all replicas that are not over, by state.",
		[]string{"state"}, nil)
	faults = prometheus.NewDesc("undersail_faults_total", "Panics that were caught; the log has their stacks.",
		nil, nil)
)

// Register shows what there is to see of the service from outside.
func (s *Service) Register(r prometheus.Registerer) {
	s.Engine.Metrics.Register(r)
	r.MustRegister(measures{s.store})
}

// measures are read when somebody asks for them.
type measures struct{ store *store.Store }

// Describe tells which there are.
func (m measures) Describe(all chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{connections, waitedFor, unended, faults} {
		all <- d
	}
}

// Collect reads them. While the database is away, what it would tell is left out.
func (m measures) Collect(all chan<- prometheus.Metric) {
	busy, idle, waited := m.store.Pooled()
	all <- prometheus.MustNewConstMetric(connections, prometheus.GaugeValue, float64(busy), "busy")
	all <- prometheus.MustNewConstMetric(connections, prometheus.GaugeValue, float64(idle), "idle")
	all <- prometheus.MustNewConstMetric(waitedFor, prometheus.CounterValue, waited.Seconds())
	all <- prometheus.MustNewConstMetric(faults, prometheus.CounterValue, float64(fault.Count()))
	ctx, cancel := context.WithTimeout(context.Background(), countPatience)
	defer cancel()
	counts, err := m.store.CountRuns(ctx)
	if err != nil {
		return
	}
	for state, n := range counts {
		all <- prometheus.MustNewConstMetric(unended, prometheus.GaugeValue, float64(n), state)
	}
}
