package engine

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Metrics are what the engine shows of itself from outside.
type Metrics struct {
	runs      prometheus.Gauge
	ended     *prometheus.CounterVec
	steps     *prometheus.CounterVec
	calls     *prometheus.HistogramVec
	looks     prometheus.Counter
	lateness  *prometheus.HistogramVec
	limitWait *prometheus.HistogramVec
	refused   *prometheus.CounterVec
	rate      *prometheus.GaugeVec
	takeovers prometheus.Counter
	declined  prometheus.Counter
	panics    prometheus.Counter
	commits   prometheus.Histogram
}

var seconds = []float64{0.001, 0.005, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60}

// NewMetrics makes the metrics; Register shows them.
func NewMetrics() *Metrics {
	return &Metrics{
		runs: prometheus.NewGauge(prometheus.GaugeOpts{
			Name: "undersail_runs_carried_out",
			Help: "Runs that this replica carries out now.",
		}),
		ended: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "undersail_runs_ended_total",
			Help: "Runs that ended here, by kind and result.",
		}, []string{"kind", "result"}),
		steps: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "undersail_steps_ended_total",
			Help: "Steps that ended here, by action and state.",
		}, []string{"action", "state"}),
		calls: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "undersail_cloud_calls_seconds",
			Help: "Requests to clouds, by account, method and class of the answer: 2xx to 5xx, refused for too " +
				"many, or none.",
			Buckets: seconds,
		}, []string{"account", "method", "class"}),
		looks: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "undersail_looks_total",
			Help: "Looks at resources on their way.",
		}),
		lateness: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "undersail_lateness_seconds",
			Help: "How long after it was due a call or look was made.", Buckets: seconds}, []string{"what"}),
		limitWait: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    "undersail_limit_wait_seconds",
			Help:    "Time that calls waited for their account's limit.",
			Buckets: seconds,
		}, []string{"account"}),
		refused: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "undersail_calls_refused_total",
			Help: "Calls that a cloud refused because there were too many.",
		}, []string{"account"}),
		rate: prometheus.NewGaugeVec(prometheus.GaugeOpts{
			Name: "undersail_call_rate",
			Help: "Calls a second that this replica may make in an account.",
		}, []string{"account"}),
		takeovers: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "undersail_takeovers_total",
			Help: "Runs that this replica found without an owner.",
		}),
		declined: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "undersail_runs_given_away_total",
			Help: "Runs that this replica could not read and gave away.",
		}),
		panics: prometheus.NewCounter(prometheus.CounterOpts{
			Name: "undersail_step_faults_total",
			Help: "Steps that failed by a fault of our own.",
		}),
		commits: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name:    "undersail_commit_seconds",
			Help:    "Time of a write of a run, the database's absence included.",
			Buckets: seconds,
		}),
	}
}

// Register shows the metrics in a registry.
func (m *Metrics) Register(r prometheus.Registerer) {
	r.MustRegister(m.runs, m.ended, m.steps, m.calls, m.looks, m.lateness, m.limitWait, m.refused, m.rate, m.takeovers,
		m.declined, m.panics, m.commits)
}

// Call notes a request to a cloud.
func (m *Metrics) Call(account, method, class string, took time.Duration) {
	m.calls.WithLabelValues(account, method, class).Observe(took.Seconds())
}
