package app

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"echolane/service/variants"
)

// metrics counts for Prometheus. Its series are found once, so that counting costs an addition.
type metrics struct {
	registry *prometheus.Registry
	answers  [5]prometheus.Counter
	seconds  [5]prometheus.Observer
	fresh    prometheus.Counter // 304
	bytes    prometheus.Counter
	refusals *prometheus.CounterVec
	dropped  prometheus.Counter
}

func newMetrics(cache *variants.Cache, lost, waiting func() int64, database func() bool) *metrics {
	m := &metrics{registry: prometheus.NewRegistry()}
	answers := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "echolane_answers_total", Help: "Image requests answered, by where the variant came from."}, []string{"from"})
	seconds := prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "echolane_answer_seconds", Help: "Time from an image request to its answer, by where the variant came from.",
		Buckets: []float64{.00001, .0001, .001, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10},
	}, []string{"from"})
	for w := variants.Memory; w <= variants.Joined; w++ {
		m.answers[w], m.seconds[w] = answers.WithLabelValues(w.String()), seconds.WithLabelValues(w.String())
	}
	m.fresh = prometheus.NewCounter(prometheus.CounterOpts{Name: "echolane_not_modified_total", Help: "Image requests answered with 304."})
	m.bytes = prometheus.NewCounter(prometheus.CounterOpts{Name: "echolane_sent_bytes_total", Help: "Bytes of images sent, without headers."})
	m.refusals = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "echolane_refusals_total", Help: "Image requests turned down, by reason."}, []string{"reason"})
	m.dropped = prometheus.NewCounter(prometheus.CounterOpts{Name: "echolane_records_dropped_total", Help: "Variants that couldn't be recorded in the database."})
	gauge := func(name, help string, f func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, f)
	}
	m.registry.MustRegister(answers, seconds, m.fresh, m.bytes, m.refusals, m.dropped,
		gauge("echolane_memory_cache_bytes", "Bytes of variants in memory.", func() float64 { return float64(cache.Stats().MemoryBytes) }),
		gauge("echolane_memory_cache_variants", "Variants in memory.", func() float64 { return float64(cache.Stats().MemoryEntries) }),
		gauge("echolane_disk_cache_bytes", "Bytes of variants on disk.", func() float64 { return float64(cache.Stats().DiskBytes) }),
		gauge("echolane_disk_cache_failures", "Times the disk cache couldn't be read or written.", func() float64 { return float64(cache.Stats().DiskFailures) }),
		gauge("echolane_workers_lost", "Render workers that died or were ended.", func() float64 { return float64(lost()) }),
		gauge("echolane_renders_waiting", "Variants that wait for a worker.", func() float64 { return float64(waiting()) }),
		gauge("echolane_database_up", "Whether the database answers.", func() float64 {
			if database() {
				return 1
			}
			return 0
		}),
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Answered and Refused make metrics a delivery.Counters.
func (m *metrics) Answered(where variants.Where, status, bytes int, took time.Duration) {
	m.answers[where].Inc()
	m.seconds[where].Observe(took.Seconds())
	if status == 304 {
		m.fresh.Inc()
	}
	m.bytes.Add(float64(bytes))
}

func (m *metrics) Refused(reason string) { m.refusals.WithLabelValues(reason).Inc() }
