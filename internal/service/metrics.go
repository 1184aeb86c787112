package service

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"zincdoor/internal/core/judge"
	"zincdoor/internal/service/jobs"
)

// Metrics counts what this instance does. It shows them as OpenMetrics.
type Metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	reports  *prometheus.CounterVec
	verdicts *prometheus.HistogramVec
	worked   *prometheus.HistogramVec
}

var _ jobs.Watcher = (*Metrics)(nil)

// NewMetrics begins to count.
func NewMetrics() *Metrics {
	m := &Metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "zincdoor_request_seconds", Help: "Requests that were answered, by method and status.", Buckets: []float64{.005, .02, .05, .2, 1, 5, 20}}, []string{"method", "status"}),
		reports:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "zincdoor_reports_total", Help: "Reports that were sent, by what became of them."}, []string{"state"}),
		verdicts: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "zincdoor_verdict_seconds", Help: "Verdicts that were reached, by outcome.", Buckets: []float64{.05, .2, 1, 5, 20, 60, 300}}, []string{"outcome"}),
		worked:   prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "zincdoor_job_seconds", Help: "Jobs that were done or failed, by kind and result.", Buckets: []float64{.02, .1, .5, 2, 10, 60, 300}}, []string{"kind", "result"}),
	}
	m.registry.MustRegister(m.requests, m.reports, m.verdicts, m.worked, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Judged counts a verdict.
func (m *Metrics) Judged(outcome judge.Outcome, took time.Duration) {
	m.verdicts.WithLabelValues(string(outcome)).Observe(took.Seconds())
}

// Worked counts a job.
func (m *Metrics) Worked(kind string, err error, took time.Duration) {
	result := "done"
	if err != nil {
		result = "failed"
		if jobs.IsVoid(err) {
			result = "void"
		}
	}
	m.worked.WithLabelValues(kind, result).Observe(took.Seconds())
}

func (m *Metrics) answered(r *http.Request, code int, took time.Duration) {
	method := r.Method
	if method != http.MethodGet && method != http.MethodPut && method != http.MethodPost {
		method = "other" // whatever somebody sends makes no new line
	}
	m.requests.WithLabelValues(method, strconv.Itoa(code)).Observe(took.Seconds())
}

func (m *Metrics) evidence(state string) { m.reports.WithLabelValues(state).Inc() }

// metrics shows what was counted here, and how many jobs stand in the store, whichever instance is to do them.
func (s *Service) metrics(w http.ResponseWriter, r *http.Request) {
	if s.seen(r) != "" {
		plain(w, http.StatusForbidden, "the token is for one repository alone\n")
		return
	}
	asked := prometheus.Gatherers{s.Metrics.registry}
	if s.Jobs != nil {
		now := prometheus.NewRegistry()
		now.MustRegister(waiting{r.Context(), s.Jobs})
		asked = append(asked, now)
	}
	promhttp.HandlerFor(asked, promhttp.HandlerOpts{EnableOpenMetrics: true, ErrorHandling: promhttp.ContinueOnError}).ServeHTTP(w, r)
}

// waiting collects how much is to be done.
type waiting struct {
	ctx  context.Context
	jobs *jobs.Jobs
}

var (
	jobsHeld   = prometheus.NewDesc("zincdoor_jobs", "Jobs in the store, by state.", []string{"state"}, nil)
	jobsOldest = prometheus.NewDesc("zincdoor_job_wait_seconds", "How long the job waits that has waited longest.", nil, nil)
)

func (w waiting) Describe(all chan<- *prometheus.Desc) { all <- jobsHeld; all <- jobsOldest }

func (w waiting) Collect(all chan<- prometheus.Metric) {
	states, since, err := w.jobs.Waiting(w.ctx)
	if err != nil {
		all <- prometheus.NewInvalidMetric(jobsHeld, err)
		return
	}
	for state, n := range states {
		all <- prometheus.MustNewConstMetric(jobsHeld, prometheus.GaugeValue, float64(n), state)
	}
	wait := 0.0
	if !since.IsZero() {
		wait = max(0, time.Since(since).Seconds())
	}
	all <- prometheus.MustNewConstMetric(jobsOldest, prometheus.GaugeValue, wait)
}
