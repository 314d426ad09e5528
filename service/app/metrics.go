package app

import (
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"echolane/core/policy"
	"echolane/service/cache"
	"echolane/service/records"
	"echolane/service/workshop"
)

// A Metric is what one is called and tells.
type Metric struct {
	Name   string
	Kind   string // counter, gauge, histogram
	Labels []string
	Help   string
}

// Metrics lists those of the service's own. Beside them are those of the Go runtime (go_) and of the process (process_).
func Metrics() []Metric { return newMetrics(&App{}).list }

// metrics counts for Prometheus. Its series are found once, so that counting costs an addition.
type metrics struct {
	list     []Metric
	registry *prometheus.Registry
	answers  [cache.Original + 1]prometheus.Counter
	seconds  [cache.Original + 1][2]prometheus.Observer // of what was sent, and of 304
	bytes    prometheus.Counter
	refusals *prometheus.CounterVec
	refused  prometheus.Observer
	waited   map[workshop.Kind]prometheus.Observer
	started  prometheus.Observer
	origins  originMetrics
}

const (
	mostSites = 200 // that metrics tell apart
	mostLanes = 200
	others    = "(others)" // the label of what is beyond
)

var (
	answerBuckets = []float64{.00001, .0001, .001, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}
	startBuckets  = []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10}
	waitBuckets   = []float64{.001, .01, .05, .1, .25, .5, 1, 3, 10, 30, 60}
	originBuckets = []float64{.005, .025, .1, .25, .5, 1, 2.5, 5, 10}
)

func newMetrics(a *App) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), waited: map[workshop.Kind]prometheus.Observer{}}
	answers := m.counters("echolane_answers_total", "Image requests answered, by where the variant came from.", "from")
	seconds := m.histograms("echolane_answer_seconds", "Time from an image request to its answer, by where the variant came from and whether it was sent, not modified (304), or refused.", answerBuckets, "from", "outcome")
	for w := cache.Memory; w <= cache.Original; w++ {
		m.answers[w] = answers.WithLabelValues(w.String())
		m.seconds[w] = [2]prometheus.Observer{seconds.WithLabelValues(w.String(), "sent"), seconds.WithLabelValues(w.String(), "not-modified")}
	}
	m.refused = seconds.WithLabelValues("none", "refused")
	m.bytes = prometheus.NewCounter(prometheus.CounterOpts{Name: "echolane_sent_bytes_total", Help: "Bytes of images sent, without headers."})
	m.own(m.bytes, "counter", "echolane_sent_bytes_total", "Bytes of images sent, without headers.")
	m.refusals = m.counters("echolane_refusals_total", "Requests turned down, by reason.", "reason")
	waits := m.histograms("echolane_render_wait_seconds", "Time that renders waited for a worker, by what they are for: a visitor, a refinement of what was sent, or work done ahead.", waitBuckets, "kind")
	for _, k := range workshop.Kinds() {
		m.waited[k] = waits.WithLabelValues(k.String())
		m.read("echolane_renders_waiting", "Renders that wait for a worker, by what they are for.", func() float64 { return float64(a.workshop.WaitingOf(k)) }, "kind", k.String())
	}
	m.started = m.histograms("echolane_worker_start_seconds", "Time that render workers took from their start until they were ready.", startBuckets).WithLabelValues()
	m.origins = originMetrics{
		seconds:  m.histograms("echolane_origin_seconds", fmt.Sprintf("Time that lanes' origins and stores took, of up to %d lanes.", mostLanes), originBuckets, "site", "lane"),
		failures: m.counters("echolane_origin_failures_total", "Times that a lane's origin or store didn't answer as it should.", "site", "lane"),
		names:    map[[2]string]bool{},
	}
	m.own(&sites{a: a, named: map[string]bool{}}, "counter", "echolane_site_answers_total", fmt.Sprintf("Image requests of a site by what became of them: hit, miss, refused; of up to %d sites.", mostSites), "site", "result")
	m.list = append(m.list, Metric{"echolane_site_sent_bytes_total", "counter", []string{"site"}, "Bytes of images sent for a site."})

	m.count("echolane_memory_evicted_total", "Variants in memory that made room for others.", func() int64 { return a.cache.Stats().MemoryEvicted })
	m.read("echolane_memory_bytes", "Bytes of variants in memory.", func() float64 { return float64(a.cache.Stats().MemoryBytes) })
	m.read("echolane_memory_variants", "Variants in memory.", func() float64 { return float64(a.cache.Stats().MemoryEntries) })
	m.read("echolane_disk_bytes", "Bytes of variants on disk.", func() float64 { return float64(a.cache.Stats().DiskBytes) })
	m.read("echolane_disk_files", "Variants on disk.", func() float64 { return float64(a.cache.Stats().DiskFiles) })
	m.count("echolane_disk_evicted_total", "Variants on disk that made room for others.", func() int64 { return a.cache.Stats().DiskEvicted })
	m.count("echolane_disk_failures_total", "Times the disk cache couldn't be read or written.", func() int64 { return a.cache.Stats().Disk.Failures })
	m.read("echolane_disk_resting", "Whether the disk cache is left alone for a while after failures.", func() float64 { return bit(a.cache.Stats().Disk.Resting) })
	m.count("echolane_store_failures_total", "Times the shared store couldn't be read or written.", func() int64 { return a.cache.Stats().Store.Failures })
	m.read("echolane_store_resting", "Whether the shared store is left alone for a while after failures.", func() float64 { return bit(a.cache.Stats().Store.Resting) })
	m.count("echolane_store_lost_total", "Entries that the shared store didn't take.", func() int64 { return a.cache.Stats().StoreLost })
	m.read("echolane_store_waiting", "Entries that wait to be written to the shared store.", func() float64 { return float64(a.shared.Waiting()) })
	m.count("echolane_peer_variants_total", "Variants that this node waited for while another made them.", func() int64 { return a.cache.Stats().Waited })
	m.read("echolane_refinements_waiting", "Variants that were sent as predicted, and are still to be searched for.", func() float64 { n, _ := a.delivery.Refinements(); return float64(n) })
	m.count("echolane_refinements_dropped_total", "Searches given up: for want of room, until the variant is asked for again, or since they failed.", func() int64 { _, n := a.delivery.Refinements(); return n })
	m.read("echolane_source_memory_bytes", "Bytes of sources in memory.", func() float64 { return float64(a.keep.MemoryBytes()) })
	m.read("echolane_sources_known", "Sources that something is known of.", func() float64 { return float64(a.sources.Len()) })
	m.read("echolane_workers", "Render workers that there are to be.", func() float64 { return float64(a.workshop.Workers()) })
	m.count("echolane_workers_lost_total", "Render workers that died or were ended.", func() int64 { return a.workshop.Lost() })
	m.read("echolane_connections", "Connections that are held.", func() float64 { return float64(a.clients.Held()) })
	m.count("echolane_connections_shed_total", "Idle connections closed to make room.", func() int64 { return a.clients.Shed() })
	m.count("echolane_connections_refused_total", "Connections refused for want of room.", func() int64 { return a.clients.Refused() })
	m.read("echolane_requests_under_way", "Requests that are being answered.", func() float64 { return float64(a.under.Load()) })
	m.count("echolane_panics_total", "Panics that were caught, each of which cost one request or task.", func() int64 { return a.panics.Count() })
	m.read("echolane_database_up", "Whether the database answers.", func() float64 { return bit(a.settings.Live()) })
	m.own(workers{a}, "gauge", "echolane_worker_isolation", "Whether a measure confines the render workers.", "measure")
	m.list = append(m.list, Metric{"echolane_worker_forbidden_calls_total", "counter", []string{"call"}, "Render workers that were ended for a system call, by its number."})
	m.own(dropped{a}, "counter", "echolane_records_dropped_total", "Rows that couldn't be written to the database, by what they were.", "what")
	m.registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// own registers a collector under what it is called and tells.
func (m *metrics) own(c prometheus.Collector, kind, name, help string, labels ...string) {
	m.registry.MustRegister(c)
	m.list = append(m.list, Metric{name, kind, labels, help})
}

func (m *metrics) counters(name, help string, labels ...string) *prometheus.CounterVec {
	v := prometheus.NewCounterVec(prometheus.CounterOpts{Name: name, Help: help}, labels)
	m.own(v, "counter", name, help, labels...)
	return v
}

func (m *metrics) histograms(name, help string, buckets []float64, labels ...string) *prometheus.HistogramVec {
	v := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: name, Help: help, Buckets: buckets}, labels)
	m.own(v, "histogram", name, help, labels...)
	return v
}

// count registers a counter that is kept elsewhere.
func (m *metrics) count(name, help string, f func() int64) {
	m.own(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: name, Help: help}, func() float64 { return float64(f()) }), "counter", name, help)
}

// read registers a figure that goes up and down. label is a name and a value, or nothing; of one name there may be several values.
func (m *metrics) read(name, help string, f func() float64, label ...string) {
	o := prometheus.GaugeOpts{Name: name, Help: help}
	var labels []string
	if len(label) > 0 {
		o.ConstLabels = prometheus.Labels{label[0]: label[1]}
		labels = label[:1]
	}
	m.registry.MustRegister(prometheus.NewGaugeFunc(o, f))
	if n := len(m.list); n == 0 || m.list[n-1].Name != name {
		for _, have := range m.list {
			if have.Name == name {
				return
			}
		}
		m.list = append(m.list, Metric{name, "gauge", labels, help})
	}
}

func bit(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// originMetrics tell how origins answer, of so many lanes.
type originMetrics struct {
	seconds  *prometheus.HistogramVec
	failures *prometheus.CounterVec
	mu       sync.Mutex
	names    map[[2]string]bool
}

func (o *originMetrics) observe(site, lane string, took time.Duration, failed bool) {
	o.mu.Lock()
	if name := [2]string{site, lane}; !o.names[name] {
		if len(o.names) < mostLanes {
			o.names[name] = true
		} else {
			site, lane = others, others
		}
	}
	o.mu.Unlock()
	o.seconds.WithLabelValues(site, lane).Observe(took.Seconds())
	if failed {
		o.failures.WithLabelValues(site, lane).Inc()
	}
}

// sites tells what was answered for each of so many sites, from what is counted for them anyway.
type sites struct {
	a     *App
	mu    sync.Mutex
	named map[string]bool
}

var (
	siteAnswersDesc = prometheus.NewDesc("echolane_site_answers_total", fmt.Sprintf("Image requests of a site by what became of them: hit, miss, refused; of up to %d sites.", mostSites), []string{"site", "result"}, nil)
	siteBytesDesc   = prometheus.NewDesc("echolane_site_sent_bytes_total", "Bytes of images sent for a site.", []string{"site"}, nil)
)

func (*sites) Describe(to chan<- *prometheus.Desc) { to <- siteAnswersDesc; to <- siteBytesDesc }

func (s *sites) Collect(to chan<- prometheus.Metric) {
	type sums struct{ hits, misses, refused, bytes int64 }
	all := map[string]*sums{}
	s.mu.Lock()
	for _, t := range s.a.recorder.Totals() {
		name := t.Site
		if !s.named[name] {
			if len(s.named) < mostSites {
				s.named[name] = true
			} else {
				name = others
			}
		}
		if all[name] == nil {
			all[name] = &sums{}
		}
		one := all[name]
		for kind, n := range t.Answers {
			switch records.TrafficKinds[kind] {
			case "memory", "disk", "store":
				one.hits += n
			case "refused":
				one.refused += n
			default:
				one.misses += n
			}
		}
		one.bytes += t.Bytes
	}
	s.mu.Unlock()
	for name, one := range all {
		for result, n := range map[string]int64{"hit": one.hits, "miss": one.misses, "refused": one.refused} {
			to <- prometheus.MustNewConstMetric(siteAnswersDesc, prometheus.CounterValue, float64(n), name, result)
		}
		to <- prometheus.MustNewConstMetric(siteBytesDesc, prometheus.CounterValue, float64(one.bytes), name)
	}
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
	outcome := 0
	if status == http.StatusNotModified {
		outcome = 1
	}
	m.seconds[where][outcome].Observe(took.Seconds())
	m.bytes.Add(float64(bytes))
}

func (m *metrics) Refused(reason policy.Reason, took time.Duration) {
	m.refusals.WithLabelValues(string(reason)).Inc()
	m.refused.Observe(took.Seconds())
}
