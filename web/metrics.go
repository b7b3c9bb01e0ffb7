package web

import (
	"context"
	"math"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"kembrel/api"
	"kembrel/service"
)

type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	readings prometheus.Counter
	chunks   prometheus.Counter
	streams  prometheus.Gauge
}

func newMetrics(s *service.Service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "kembrel_request_seconds",
			Help:    "Time to answer, by route and status.",
			Buckets: []float64{.001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10}}, []string{"method",
			"route", "status"}),
		readings: prometheus.NewCounter(prometheus.CounterOpts{Name: "kembrel_readings_total",
			Help: "Readings made durable."}),
		chunks: prometheus.NewCounter(prometheus.CounterOpts{Name: "kembrel_chunk_bytes_total",
			Help: "Bytes of chunks received."}),
		streams: prometheus.NewGauge(prometheus.GaugeOpts{Name: "kembrel_live_streams", Help: "Live streams open."}),
	}
	for name, what := range map[string]struct {
		help string
		of   func(d *api.Disk) int64
	}{
		"kembrel_disk_free_bytes": {"Free on the disk of the blobs.", func(d *api.Disk) int64 { return d.Free }},
		"kembrel_disk_reserve_bytes": {"Kept free on the disk of the blobs for the database.",
			func(d *api.Disk) int64 { return d.Reserve }},
		"kembrel_disk_missing_bytes": {"To become free before checkpoints are kept again; 0: there is room.",
			func(d *api.Disk) int64 { return d.Missing }},
	} {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name,
			Help: what.help}, func() float64 {
			if d := s.Disk(); d != nil {
				return float64(what.of(d))
			}
			return math.NaN() // the blobs are in a bucket
		}))
	}
	m.registry.MustRegister(vitals{s}, m.requests, m.readings, m.chunks, m.streams, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// vitals tells how the service stands at the moment it is asked.
type vitals struct{ service *service.Service }

var (
	poolDesc = prometheus.NewDesc("kembrel_database_connections",
		"Connections to the database, by whose work they are for and what they are at.", []string{"lane", "state"}, nil)
	waitsDesc = prometheus.NewDesc("kembrel_database_waits_total",
		"Times that work waited for a connection.", []string{"lane"}, nil)
	waitedDesc = prometheus.NewDesc("kembrel_database_wait_seconds_total",
		"Time that work waited for connections.", []string{"lane"}, nil)
	jobsDesc = prometheus.NewDesc("kembrel_jobs", "Background jobs; inspect-weights are their statistics.",
		[]string{"kind", "state"}, nil)
	recordersDesc = prometheus.NewDesc("kembrel_recorders",
		"Legs of runs whose recorders were heard of within a minute.", nil, nil)
	eventsDesc = prometheus.NewDesc("kembrel_events_total",
		"What happened, by kind and verb, sign-ins and failed ones included.", []string{"kind", "verb"}, nil)
	blobsDesc = prometheus.NewDesc("kembrel_blob_requests_total", "What was asked of the blob store.",
		[]string{"what", "outcome"}, nil)
	blobTimeDesc = prometheus.NewDesc("kembrel_blob_seconds_total", "Time that the blob store took to answer.",
		[]string{"what"}, nil)
	vitalsDesc = prometheus.NewDesc("kembrel_database_answers", "1: the database answered when it was asked for these.",
		nil, nil)
)

// Describe implements prometheus.Collector.
func (v vitals) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{poolDesc, waitsDesc, waitedDesc, jobsDesc, recordersDesc, eventsDesc,
		blobsDesc, blobTimeDesc, vitalsDesc} {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (v vitals) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, labels...)
	}
	counter := func(d *prometheus.Desc, value float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, value, labels...)
	}
	now, err := v.service.Vitals(context.Background())
	for _, p := range now.Pools {
		gauge(poolDesc, float64(p.InUse), p.Lane, "in-use")
		gauge(poolDesc, float64(p.Idle), p.Lane, "idle")
		gauge(poolDesc, float64(p.Max), p.Lane, "limit")
		counter(waitsDesc, float64(p.Waits), p.Lane)
		counter(waitedDesc, p.Waited.Seconds(), p.Lane)
	}
	for happened, n := range now.Events {
		counter(eventsDesc, float64(n), happened.Kind, happened.Verb)
	}
	for what, b := range now.Blobs {
		counter(blobsDesc, float64(b.Asked-b.Failed), what, "done")
		counter(blobsDesc, float64(b.Failed), what, "failed")
		counter(blobTimeDesc, b.Took.Seconds(), what)
	}
	if err != nil {
		gauge(vitalsDesc, 0)
		return
	}
	gauge(vitalsDesc, 1)
	gauge(recordersDesc, float64(now.Recorders))
	for _, j := range now.Jobs {
		gauge(jobsDesc, float64(j.Jobs), j.Kind, j.State)
	}
}
