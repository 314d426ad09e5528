package app

import (
	"fmt"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"echolane/service/records"
)

// However many sites and lanes there are, metrics have a bounded number of labels, and nothing goes uncounted.
func TestMetricsTellABoundedNumberOfSitesAndLanesApart(t *testing.T) {
	o := &originMetrics{
		seconds:  prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "seconds"}, []string{"site", "lane"}),
		failures: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "failures"}, []string{"site", "lane"}),
		names:    map[[2]string]bool{},
	}
	recorder := &records.Recorder{}
	const many = 3 * mostSites
	for range 2 {
		for n := range many {
			o.observe("kestrel", fmt.Sprint("lane", n), time.Millisecond, true)
			recorder.Usage(fmt.Sprint("site", n)).Answered(0, 100, 100, time.Millisecond)
		}
	}
	registry := prometheus.NewPedanticRegistry()
	registry.MustRegister(o.failures)
	families, err := registry.Gather()
	if err != nil || len(families) != 1 || len(families[0].GetMetric()) != mostLanes+1 {
		t.Fatalf("lanes that are told apart: %v, %v", families, err)
	}
	for _, m := range families[0].GetMetric() {
		if want := map[bool]float64{true: 2 * (many - mostLanes), false: 2}[m.GetLabel()[0].GetValue() == others]; m.GetCounter().GetValue() != want {
			t.Errorf("%v, want %v failures", m, want)
		}
	}
	all := &sites{a: &App{recorder: recorder}, named: map[string]bool{}}
	for range 2 { // which sites are told apart stays so
		registry := prometheus.NewPedanticRegistry()
		registry.MustRegister(all)
		families, err := registry.Gather()
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range families {
			if f.GetName() != "echolane_site_sent_bytes_total" {
				continue
			}
			sum := 0.0
			for _, m := range f.GetMetric() {
				sum += m.GetCounter().GetValue()
			}
			if n := len(f.GetMetric()); n != mostSites+1 || sum != 2*many*100 {
				t.Errorf("%d sites are told apart, %v bytes in all", n, sum)
			}
		}
		if len(families) != 2 {
			t.Errorf("%d families", len(families))
		}
	}
}
