package guard

import (
	"cmp"
	"context"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"ubiquon/internal/cache"
	"ubiquon/internal/environment"
	"ubiquon/internal/store/db"
)

// metrics are what GET /metrics tells, in the text format of OpenMetrics.
type metrics struct {
	Registry *prometheus.Registry
	answers  [8]atomic.Int64 // by cache.Outcome
	seconds  prometheus.Histogram
	Requests *prometheus.CounterVec
	// content counts answers under /content/ by hundreds of their status: a hit must cost
	// next to nothing.
	Content [6]atomic.Int64
}

func newMetrics(g *environment.Environment, streams *streams) *metrics {
	m := &metrics{
		Registry: prometheus.NewRegistry(),
		seconds: prometheus.NewHistogram(
			prometheus.HistogramOpts{
				Name: "ubiquon_compute_seconds", Help: "Time of reads that were computed.",
				Buckets: prometheus.ExponentialBuckets(0.0005, 2, 12),
			},
		),
		Requests: prometheus.NewCounterVec(
			prometheus.CounterOpts{
				Name: "ubiquon_requests_total",
				Help: "Requests outside of content, by surface and status.",
			},
			[]string{"surface", "status"},
		),
	}
	m.Registry.MustRegister(
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		collectors.NewBuildInfoCollector(),
	)
	// What is measured of an environment says of which.
	own := prometheus.WrapRegistererWith(prometheus.Labels{"environment": g.Replica.Environment()}, m.Registry)
	own.MustRegister(m.seconds, m.Requests, &collected{g: g, m: m})
	m.register(own, g, streams)
	return m
}

// register adds what is read from the services when it is asked for.
func (m *metrics) register(own prometheus.Registerer, g *environment.Environment, streams *streams) {
	gauge := func(name, help string, value func() float64) {
		own.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value))
	}
	counter := func(name, help string, value func() float64) {
		own.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: name, Help: help}, value))
	}
	gauge(
		"ubiquon_cache_responses", "Responses held.",
		func() float64 { return float64(g.Delivery.CacheStats().Responses) },
	)
	gauge(
		"ubiquon_cache_bytes", "Bytes held, bookkeeping included.",
		func() float64 { return float64(g.Delivery.CacheStats().Bytes) },
	)
	gauge(
		"ubiquon_computing", "Reads that are being computed.",
		func() float64 { return float64(g.Delivery.Admission().Running) },
	)
	gauge(
		"ubiquon_waiting", "Reads that wait to be computed.",
		func() float64 { return float64(g.Delivery.Admission().Waiting) },
	)
	gauge("ubiquon_streams", "Event streams that are open.", func() float64 { return float64(streams.count()) })
	counter(
		"ubiquon_hooks_unkept_total", "Announcements that were not proven, and too many to be kept.",
		func() float64 { return float64(g.Ingest.DroppedHooks()) },
	)
	gauge(
		"ubiquon_sequence", "The change up to which this node has applied the log.",
		func() float64 { return float64(g.Delivery.CacheStats().Applied) },
	)
	gauge(
		"ubiquon_follower_lag_seconds", "How long ago it was proven that this node has applied all changes.",
		func() float64 { return g.Replica.FollowerLag().Seconds() },
	)
	counter(
		"ubiquon_cache_hits_total", "Reads answered from the cache.",
		func() float64 { return float64(g.Delivery.CacheStats().Hits) },
	)
	counter(
		"ubiquon_cache_misses_total", "Reads that had to be computed.",
		func() float64 { return float64(g.Delivery.CacheStats().Misses) },
	)
	counter(
		"ubiquon_cache_expired_total", "Responses expired by a change.",
		func() float64 { return float64(g.Delivery.CacheStats().Expired) },
	)
	counter(
		"ubiquon_cache_evicted_total", "Responses thrown out for want of room.",
		func() float64 { return float64(g.Delivery.CacheStats().Evicted) },
	)
	counter(
		"ubiquon_statements_cancelled_total",
		"Statements of reads that were ended: nobody waited any more, or they took too long.",
		func() float64 { return float64(g.Diagnosis.StatementsCancelled()) },
	)
	counter(
		"ubiquon_write_errors_total", "Writes that the database did not take, for a reason that passes.",
		func() float64 { return float64(g.Authoring.WriteErrors()) },
	)
}

// Count counts an answer to a read, and how long it took.
func (m *metrics) Count(o cache.Outcome, took time.Duration) {
	if o == cache.Hit {
		return // the cache counts its hits itself
	}
	m.answers[o].Add(1)
	m.seconds.Observe(took.Seconds())
}

// Surface is what part of the service a path belongs to.
func Surface(path string) string {
	first, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	switch first {
	case "control", "hooks", "files", "images", "console", "health", "metrics", "problems":
		return first
	}
	return "other"
}

// Counted notes the status that is answered with; 0 if nothing was.
type Counted struct {
	http.ResponseWriter
	Status int
}

// WriteHeader implements http.ResponseWriter.
func (c *Counted) WriteHeader(status int) {
	if c.Status == 0 {
		c.Status = status
	}
	c.ResponseWriter.WriteHeader(status)
}

// ReadFrom implements io.ReaderFrom: files are copied by the operating system.
func (c *Counted) ReadFrom(r io.Reader) (int64, error) {
	c.Status = cmp.Or(c.Status, http.StatusOK)
	return io.Copy(c.ResponseWriter, r)
}

// Unwrap returns the error beneath.
func (c *Counted) Unwrap() http.ResponseWriter { return c.ResponseWriter }

// collected are the metrics that are found out when they are asked for.
type collected struct {
	g *environment.Environment
	m *metrics
}

func metric(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc(name, help, labels, nil)
}

var (
	contentAnswers = metric(
		"ubiquon_content_answers_total", "Answers under /content/, hits included, by hundreds of the status.",
		"status",
	)
	answersTotal  = metric("ubiquon_answers_total", "Reads answered, by how.", "how")
	ruleRunsTotal = metric("ubiquon_rule_runs_total", "What rules made of changes on this node.", "fired")
	troublesTotal = metric(
		"ubiquon_failures_total", "Failures that come again and again, by what they are.", "what",
	)
	poolConnections = metric(
		"ubiquon_database_connections", "Connections to the database, by purpose and use.", "purpose", "use",
	)
	poolWaits = metric(
		"ubiquon_database_waits_total", "Statements that had to wait for a connection, by purpose.", "purpose",
	)
	poolWaited    = metric("ubiquon_database_waited_seconds_total", "How long they waited, by purpose.", "purpose")
	originUp      = metric("ubiquon_origin_reachable", "1 if the last read of the origin went well.", "origin")
	eventsWaiting = metric(
		"ubiquon_events", "Announcements that wait, or within a day failed or were refused.", "state",
	)
	eventsAge     = metric("ubiquon_events_oldest_seconds", "Age of the oldest announcement that waits.")
	schedules     = metric("ubiquon_schedules", "Schedules that are late, or failed within a day.", "state")
	buildsWaiting = metric(
		"ubiquon_builds", "Builds that wait, and builds that wait because others before them have failed.", "state",
	)
	rulesBehind = metric("ubiquon_rules_behind", "Changes that no rule has looked at.")
	quiet       = metric("ubiquon_quiet_copy", "1 if this node runs as a quiet copy.")
)

// Describe implements prometheus.Collector.
func (c *collected) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		contentAnswers, answersTotal, ruleRunsTotal, troublesTotal,
		poolConnections, poolWaits, poolWaited, originUp, eventsWaiting, eventsAge, schedules, buildsWaiting,
		rulesBehind, quiet,
	} {
		out <- d
	}
}

// Collect implements prometheus.Collector. What the database would have to say is left out
// while it cannot be asked.
func (c *collected) Collect(out chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	count := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	truth := func(is bool) float64 {
		if is {
			return 1
		}
		return 0
	}
	for i := range c.m.Content {
		if n := c.m.Content[i].Load(); n > 0 {
			count(contentAnswers, float64(n), strconv.Itoa(i)+"xx")
		}
	}
	for o, how := range CacheStatus {
		n := c.m.answers[o].Load()
		if o == cache.Hit {
			n = c.g.Delivery.CacheStats().Hits
		}
		count(answersTotal, float64(n), strings.TrimPrefix(how[0], "Ubiquon; "))
	}
	fired, not := c.g.Automation.RuleRuns()
	count(ruleRunsTotal, float64(fired), "true")
	count(ruleRunsTotal, float64(not), "false")
	for what, n := range c.g.Replica.Work().Failures.Counts() {
		count(troublesTotal, float64(n), what)
	}
	for _, p := range c.g.Diagnosis.PoolUses() {
		gauge(poolConnections, float64(p.Busy), p.Purpose, "busy")
		gauge(poolConnections, float64(p.Idle), p.Purpose, "idle")
		gauge(poolConnections, float64(p.Max), p.Purpose, "most")
		count(poolWaits, float64(p.Waits), p.Purpose)
		count(poolWaited, p.Waited.Seconds(), p.Purpose)
	}
	for name, h := range c.g.Ingest.OriginHealth() {
		gauge(originUp, truth(h.Error == ""), name)
	}
	gauge(quiet, truth(c.g.Replica.Work().Quiet()))
	b, err := c.g.Diagnosis.Backlog(db.For(context.Background(), db.Following))
	if err != nil {
		return
	}
	gauge(eventsWaiting, float64(b.WaitingEvents), "waiting")
	gauge(eventsWaiting, float64(b.FailedEvents), "failed")
	gauge(eventsWaiting, float64(b.RefusedEvents), "refused")
	age := 0.0
	if b.WaitingSince != nil {
		age = time.Since(*b.WaitingSince).Seconds()
	}
	gauge(eventsAge, age)
	gauge(schedules, float64(b.LateSchedules), "late")
	gauge(schedules, float64(b.FailedSchedules), "failed")
	gauge(buildsWaiting, float64(b.WaitingBuilds), "waiting")
	gauge(buildsWaiting, float64(b.FailingBuilds), "failing")
	gauge(rulesBehind, float64(b.RulesBehind))
}

// CacheStatus spells outcomes as RFC 9211 does.
var CacheStatus = map[cache.Outcome][]string{
	cache.Hit:      {"Ubiquon; hit"},
	cache.Miss:     {"Ubiquon; fwd=miss; stored"},
	cache.Joined:   {"Ubiquon; fwd=miss; collapsed"},
	cache.Bypassed: {"Ubiquon; fwd=request; stored"},
	cache.Passed:   {"Ubiquon; fwd=request"},
	cache.Expired:  {"Ubiquon; hit; detail=expired"},
	cache.Blind:    {"Ubiquon; hit; detail=without-the-database"},
}
