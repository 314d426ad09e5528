package app

import (
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"echolane/core/policy"
	"echolane/service/cache"
)

// metrics counts for Prometheus. Its series are found once, so that counting costs an addition.
type metrics struct {
	registry *prometheus.Registry
	answers  [cache.Original + 1]prometheus.Counter
	seconds  [cache.Original + 1]prometheus.Observer
	fresh    prometheus.Counter // 304
	bytes    prometheus.Counter
	refusals *prometheus.CounterVec
}

func newMetrics(a *App) *metrics {
	m := &metrics{registry: prometheus.NewRegistry()}
	answers := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "echolane_answers_total", Help: "Image requests answered, by where the variant came from."}, []string{"from"})
	seconds := prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "echolane_answer_seconds", Help: "Time from an image request to its answer, by where the variant came from.",
		Buckets: []float64{.00001, .0001, .001, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10},
	}, []string{"from"})
	for w := cache.Memory; w <= cache.Original; w++ {
		m.answers[w], m.seconds[w] = answers.WithLabelValues(w.String()), seconds.WithLabelValues(w.String())
	}
	m.fresh = prometheus.NewCounter(prometheus.CounterOpts{Name: "echolane_not_modified_total", Help: "Image requests answered with 304."})
	m.bytes = prometheus.NewCounter(prometheus.CounterOpts{Name: "echolane_sent_bytes_total", Help: "Bytes of images sent, without headers."})
	m.refusals = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "echolane_refusals_total", Help: "Requests turned down, by reason."}, []string{"reason"})
	m.registry.MustRegister(workers{a}, answers, seconds, m.fresh, m.bytes, m.refusals, dropped{a},
		gauge("echolane_memory_cache_bytes", "Bytes of variants in memory.", func() float64 { return float64(a.cache.Stats().MemoryBytes) }),
		gauge("echolane_memory_cache_variants", "Variants in memory.", func() float64 { return float64(a.cache.Stats().MemoryEntries) }),
		gauge("echolane_disk_cache_bytes", "Bytes of variants on disk.", func() float64 { return float64(a.cache.Stats().DiskBytes) }),
		gauge("echolane_disk_cache_failures", "Times the disk cache couldn't be read or written.", func() float64 { return float64(a.cache.Stats().Disk.Failures) }),
		gauge("echolane_disk_cache_files", "Variants on disk.", func() float64 { return float64(a.cache.Stats().DiskFiles) }),
		gauge("echolane_disk_cache_evicted", "Variants on disk that made room for others.", func() float64 { return float64(a.cache.Stats().DiskEvicted) }),
		gauge("echolane_disk_cache_resting", "Whether the disk cache isn't asked for a while, since it failed.", func() float64 { return bit(a.cache.Stats().Disk.Resting) }),
		gauge("echolane_store_failures", "Times the shared store couldn't be read or written.", func() float64 { return float64(a.cache.Stats().Store.Failures) }),
		gauge("echolane_store_resting", "Whether the shared store isn't asked for a while, since it failed.", func() float64 { return bit(a.cache.Stats().Store.Resting) }),
		gauge("echolane_store_lost", "Entries that the shared store didn't take.", func() float64 { return float64(a.cache.Stats().StoreLost) }),
		gauge("echolane_store_waiting", "Entries that wait to be written to the shared store.", func() float64 { return float64(a.shared.Waiting()) }),
		gauge("echolane_peer_variants", "Variants that this node waited for while another made them.", func() float64 { return float64(a.cache.Stats().Waited) }),
		gauge("echolane_source_memory_bytes", "Bytes of sources in memory.", func() float64 { return float64(a.keep.MemoryBytes()) }),
		gauge("echolane_sources_known", "Sources that something is known of.", func() float64 { return float64(a.sources.Len()) }),
		gauge("echolane_workers_lost", "Render workers that died or were ended.", func() float64 { return float64(a.workshop.Lost()) }),
		gauge("echolane_renders_waiting", "Variants that wait for a worker.", func() float64 { return float64(a.workshop.Waiting()) }),
		gauge("echolane_connections", "Connections that are held.", func() float64 { return float64(a.clients.Held()) }),
		gauge("echolane_connections_shed", "Connections whose clients were waited for, closed to make room.", func() float64 { return float64(a.clients.Shed()) }),
		gauge("echolane_connections_refused", "Connections that there was no room for.", func() float64 { return float64(a.clients.Refused()) }),
		gauge("echolane_requests_under_way", "Requests that are being answered.", func() float64 { return float64(a.under.Load()) }),
		gauge("echolane_panics", "Panics that were caught, each of which cost one request or task.", func() float64 { return float64(a.panics.Count()) }),
		gauge("echolane_database_up", "Whether the database answers.", func() float64 { return bit(a.settings.Live()) }),
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func gauge(name, help string, f func() float64) prometheus.Collector {
	return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, f)
}

func bit(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// workers tells what confines render workers, and for which system calls some were ended.
type workers struct{ a *App }

var (
	isolationDesc = prometheus.NewDesc("echolane_worker_isolation", "Whether a measure confines the render workers.", []string{"measure"}, nil)
	callsDesc     = prometheus.NewDesc("echolane_worker_forbidden_calls_total", "Render workers that were ended for a system call, by its number.", []string{"call"}, nil)
)

func (workers) Describe(to chan<- *prometheus.Desc) { to <- isolationDesc; to <- callsDesc }

func (w workers) Collect(to chan<- prometheus.Metric) {
	for _, m := range w.a.workshop.Measures {
		in := 0.0
		if m.InForce {
			in = 1
		}
		to <- prometheus.MustNewConstMetric(isolationDesc, prometheus.GaugeValue, in, m.Name)
	}
	for number, n := range w.a.workshop.ForbiddenCalls() {
		to <- prometheus.MustNewConstMetric(callsDesc, prometheus.CounterValue, float64(n), strconv.Itoa(number))
	}
}

// dropped are the records that were given up, by what they were.
type dropped struct{ a *App }

var droppedDesc = prometheus.NewDesc("echolane_records_dropped_total", "Rows that couldn't be written to the database, by what they were.", []string{"what"}, nil)

func (dropped) Describe(to chan<- *prometheus.Desc) { to <- droppedDesc }

func (d dropped) Collect(to chan<- prometheus.Metric) {
	for what, n := range d.a.recorder.Dropped() {
		to <- prometheus.MustNewConstMetric(droppedDesc, prometheus.CounterValue, float64(n), what)
	}
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// Answered and Refused make metrics a delivery.Metrics.
func (m *metrics) Answered(where cache.Where, status, bytes int, took time.Duration) {
	m.answers[where].Inc()
	m.seconds[where].Observe(took.Seconds())
	if status == 304 {
		m.fresh.Inc()
	}
	m.bytes.Add(float64(bytes))
}

func (m *metrics) Refused(reason policy.Reason) { m.refusals.WithLabelValues(string(reason)).Inc() }
