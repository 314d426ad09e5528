package delivery

import (
	"context"
	"strconv"
	"time"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/cache"
	"echolane/service/records"
	"echolane/service/source"
)

// The step get: the variant from memory, disk, or its maker.

// get brings the variant, and the hot entry for what was asked.
func (s *Service) get(ctx context.Context, r *request, f *found, start int64) error {
	m := newHotEntry(r, f)
	looked := source.Now()
	job := newMaker(s, r, f, m.key, looked-start)
	v, where, err := s.Cache.Get(ctx, cache.Ask{Key: m.key, Since: m.since, Alone: !keeps(r, f.sources)}, job.produce)
	job.leave()
	if err == nil && v.Provisional && job.explained { // what is kept is explained, not what is for now
		if v, _, err = newMaker(s, r, f, m.key, looked-start).produce(ctx); err == nil {
			v.Serial = m.since
			s.Cache.Replace(m.key, v, nil)
		}
	}
	if err != nil {
		return err
	}
	if v.Provisional && where < cache.Made && !s.refiner.pending(m.key) {
		// Its search was cut off, or found no room.
		record := job.record()
		record.Format, record.Width, record.Height, record.Bytes = v.Type[len("image/"):], v.Width, v.Height, len(v.Body)
		s.putOff(refinement{key: m.key, sources: job.sources, job: job.job(), record: record}, v)
	}
	if where != cache.Made && f.key.Kind == cache.Picture && (v.Of.Site != r.site.Name || v.Of.Lane != r.lane.Name || v.Of.Path != r.path) {
		// Somebody else had it made, maybe another site: it is this path's too.
		record := job.record()
		record.Format, record.Width, record.Height, record.Bytes, record.Shared = v.Type[len("image/"):], v.Width, v.Height, len(v.Body), true
		s.Recorder.Made(record)
	}
	m.disposition = []byte(disposition(r, v.Type))
	f.hot, f.variant, f.where, f.timing = m, v, where, timing(v, where, start, looked)
	return nil
}

// room says whether another variant may be made: within the source's number, and within the month, of which it takes one
// before the making begins. done says how that went; it is never nil where there is room. What was made is given to nobody before
// counted, which is asked once, has said that it's within the number after all; where it isn't, stop is called at once.
func (s *Service) room(ctx context.Context, stop func(), r *request, own *source.Located, record records.Variant) (done func(bytes int), counted func() *policy.Refusal, no *policy.Refusal) {
	counted, no = s.number(ctx, stop, r, own, record)
	if no != nil {
		return nil, nil, no
	}
	done, over, ok := s.Recorder.Usage(r.site.Name).Reserve(r.site.Month)
	if ok {
		return done, counted, nil
	}
	if most := r.site.Month.Renders; most > 0 && over.Renders >= most {
		return nil, nil, monthOver(r.site.Name, "renders", over.Renders, most)
	}
	return nil, nil, monthOver(r.site.Name, "bytes_stored", over.BytesStored, r.site.Month.BytesStored)
}

const (
	countHolds = int64(time.Minute)     // that a count of a source's variants is taken to be right but for this node's own
	countLimit = 300 * time.Millisecond // that a variant waits for it
	countPause = 5 * time.Second        // that nobody counts when it took too long
)

// number holds the variants that there are of a source against the site's bound. Without the database nobody can count; images go
// on being served. Of a source whose variants weren't counted lately they are counted while the new one is made, which so isn't
// kept waiting; where there are enough, the making is stopped.
func (s *Service) number(ctx context.Context, stop func(), r *request, own *source.Located, record records.Variant) (counted func() *policy.Refusal, no *policy.Refusal) {
	most := r.site.VariantsPerSource
	within := func() *policy.Refusal { return nil }
	if most == 0 {
		return within, nil
	}
	c, now := &own.Source.Variants, source.Now()
	c.Lock()
	known := c.At != 0 && now-c.At < countHolds && c.Digest == own.Known.Digest
	n := c.N
	c.Unlock()
	switch {
	case known && n < most || now < s.uncounted.Load():
		return within, nil
	case known:
		return within, s.census(ctx, r, own, record, true)
	}
	said := make(chan *policy.Refusal, 1)
	go func() {
		var no *policy.Refusal
		s.Panics.Run("count a source's variants", func() error {
			no = s.census(ctx, r, own, record, false)
			return nil
		})
		said <- no
		if no != nil {
			stop()
		}
	}()
	return func() *policy.Refusal { return <-said }, nil
}

// census counts a source's variants, or says that there are enough. lately: it was done a moment ago. Where it takes too long, nobody
// counts for a while; that whoever asks has gone says nothing of the database.
func (s *Service) census(asked context.Context, r *request, own *source.Located, record records.Variant, lately bool) *policy.Refusal {
	most, c, now := r.site.VariantsPerSource, &own.Source.Variants, source.Now()
	ctx, cancel := context.WithTimeout(asked, countLimit)
	defer cancel()
	inAll, known, err := s.Recorder.VariantsOf(ctx, record)
	if err != nil && asked.Err() != nil {
		return nil
	}
	if err != nil {
		s.uncounted.Store(source.Now() + int64(countPause))
		return nil
	}
	c.Lock()
	if lately {
		inAll = max(inAll, c.N) // what was made a moment ago isn't written down yet
	} else {
		c.At = now
	}
	c.N, c.Digest = inAll, own.Known.Digest
	c.Unlock()
	if inAll < most || known {
		return nil
	}
	return policy.Mended(r.site.Name, policy.Refusal{
		Reason: policy.ReasonTooManyVariants, Given: strconv.Itoa(inAll), Detail: "there are " + strconv.Itoa(inAll) + " variants of " + r.lane.Name + "/" + wording.Cut(r.path, 60) + " already",
		Allowed: "at most " + strconv.Itoa(most), Remedy: "ask for a variant that is there",
		Mend: &policy.Mend{Action: "set-limit", Value: "variants_per_source=" + strconv.Itoa(2*most)},
	})
}

func ms(n int64) float64 { return float64(n) / 1e6 }

// timing is the Server-Timing of an answer that took work.
func timing(v *cache.Variant, where cache.Where, start, looked int64) string {
	return string(appendTiming(make([]byte, 0, 256), v, where, start, looked))
}

func appendTiming(b []byte, v *cache.Variant, where cache.Where, start, looked int64) []byte {
	add := func(name string, d float64) {
		if len(b) > 0 {
			b = append(b, ", "...)
		}
		b = append(b, name...)
		b = append(b, ";dur="...)
		b = strconv.AppendFloat(b, d, 'f', 2, 64)
	}
	switch where {
	case cache.Made:
		for _, s := range v.Stages {
			add(s.Name, s.MS)
		}
	case cache.Joined:
		add("joined", ms(source.Now()-looked))
	default:
		b = append(append(append(b, `cache;desc="`...), where.String()...), `";dur=`...)
		b = strconv.AppendFloat(b, ms(source.Now()-looked), 'f', 2, 64)
	}
	add("total", ms(source.Now()-start))
	return b
}
