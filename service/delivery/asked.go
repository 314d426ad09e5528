package delivery

import (
	"context"
	"time"

	"echolane/service/records"
)

// How often variants are asked for is counted in hot entries, which costs an addition an answer, and written down now and then.

const (
	askedEvery = 10 * time.Second
	askedLimit = 5 * time.Second // for all of one writing
	mostAsked  = 2000            // rows of one statement
)

// countAsked writes down what was asked for, until the service ends.
func (s *Service) countAsked() {
	tick := time.NewTicker(askedEvery)
	defer tick.Stop()
	for ended := false; !ended; {
		select {
		case <-s.base.Done():
			ended = true
		case <-tick.C:
		}
		s.Panics.Run("count what was asked for", func() error {
			s.writeAsked(context.Background())
			return nil
		})
	}
}

// writeAsked writes down what was asked for since the last time.
func (s *Service) writeAsked(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, askedLimit)
	defer cancel()
	var rows []records.Asked
	var of []*hotEntry
	write := func() bool {
		if len(rows) > 0 && s.Recorder.Asked(ctx, rows) != nil { // they count the next time
			for i, m := range of {
				m.asked.Add(uint32(rows[i].Times))
			}
			return false
		}
		rows, of = rows[:0], of[:0]
		return true
	}
	for m := range s.hot.Values() {
		n := m.asked.Swap(0)
		if n == 0 {
			continue
		}
		rows, of = append(rows, records.Asked{Site: m.site.Name, Lane: m.lane.Name, Path: m.path, Key: m.key, Times: int64(n)}), append(of, m)
		if len(rows) == mostAsked && !write() {
			return
		}
	}
	write()
}
