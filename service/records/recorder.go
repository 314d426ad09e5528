package records

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"echolane/service/panics"
)

// A Recorder is all that a node writes down while it serves: variants that were made, refusals, uses of classes and what
// sites use. Nothing of it waits for the database, and all of it is bounded. Safe for concurrent use.
type Recorder struct {
	store    *Store
	variants *batcher[variantKey, Variant]
	refusals *batcher[refusalKey, Refusal]
	classes  *batcher[classKey, classUse]
	usage    *batcher[usageKey, usageRow]
	traffic  *batcher[trafficKey, trafficRow]
	looked   *batcher[lookedKey, LookedAt]
	sites    sync.Map // name → *Count
	stop     context.CancelFunc
	ended    sync.WaitGroup
}

// RecorderOptions are what a Recorder works with; all are needed, but for Pruned.
type RecorderOptions struct {
	Store  *Store
	Log    *slog.Logger
	Panics *panics.Catcher
	// Pruned is told of variants that nobody has asked for in a long time, and that no record names any more.
	Pruned func(ctx context.Context, keys []string)
}

// pruneEvery is how often the tables are brought within their bounds.
const pruneEvery = 10 * time.Minute

// NewRecorder starts a recorder. Close ends it.
func NewRecorder(o RecorderOptions) *Recorder {
	r := &Recorder{store: o.Store, variants: newVariants(o), refusals: newRefusals(o), classes: newClassUses(o), looked: newLookedAt(o)}
	r.usage, r.traffic = newUsage(o, r), newTraffic(o, r)
	ctx, stop := context.WithCancel(context.Background())
	r.stop = stop
	o.Panics.Go(&r.ended, "prune the records", func() {
		tick := time.NewTicker(pruneEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			for more := true; more && ctx.Err() == nil; {
				var gone int64
				var keys []string
				var err error
				if gone, keys, more, err = o.Store.Prune(ctx, DefaultBounds); err != nil {
					if ctx.Err() == nil {
						o.Log.Warn("old records stay for now", "error", err)
					}
					break
				}
				if gone > 0 {
					o.Log.Info("old records were pruned", "rows", gone)
				}
				if len(keys) > 0 && o.Pruned != nil {
					o.Pruned(ctx, keys)
				}
			}
		}
	})
	return r
}

// Dropped counts the rows that were given up, by what they were.
func (r *Recorder) Dropped() map[string]int64 {
	return map[string]int64{"variants": r.variants.Dropped(), "refusals": r.refusals.Dropped(), "classes": r.classes.Dropped(), "usage": r.usage.Dropped(), "traffic": r.traffic.Dropped(), "looked_at": r.looked.Dropped()}
}

// FlushClasses writes down which classes were used before the call, FlushUsage what sites used.
func (r *Recorder) FlushClasses(ctx context.Context) error { return r.classes.Flush(ctx) }
func (r *Recorder) FlushUsage(ctx context.Context) error   { return r.usage.Flush(ctx) }

// FlushLookedAt writes down what was found in sources before the call.
func (r *Recorder) FlushLookedAt(ctx context.Context) error { return r.looked.Flush(ctx) }

// FlushTraffic writes down what was answered before the call.
func (r *Recorder) FlushTraffic(ctx context.Context) error { return r.traffic.Flush(ctx) }

// VariantsOf is Store.VariantsOf.
func (r *Recorder) VariantsOf(ctx context.Context, v Variant) (n int, known bool, err error) {
	return r.store.VariantsOf(ctx, v)
}

// Asked is Store.AddAsked.
func (r *Recorder) Asked(ctx context.Context, all []Asked) error { return r.store.AddAsked(ctx, all) }

// Close writes what is left, within two seconds, and waits for that. What is added afterwards is dropped and counted.
func (r *Recorder) Close() {
	r.stop()
	r.ended.Wait()
	var all sync.WaitGroup
	for _, c := range []interface{ Close() }{r.variants, r.refusals, r.classes, r.usage, r.traffic, r.looked} {
		all.Go(c.Close)
	}
	all.Wait()
}
