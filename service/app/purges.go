package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"echolane/service/cache"
	"echolane/service/records"
)

// Purges are in force as soon as the settings say so: nothing older is given. What takes room is cleared away behind them: each
// node sweeps what it has at hand, and one of them the records and the store.

const (
	sweepEvery = time.Minute      // that a disk is gone through at most, however many purges come
	clearEvery = 30 * time.Second // that purges are looked for which a node left unfinished
	clearPause = 5 * time.Millisecond
)

// purge carries purges out until ctx ends.
func (a *App) purge(ctx context.Context) {
	swept, last := a.sweptUpTo(), time.Time{}
	tick := time.NewTicker(clearEvery)
	defer tick.Stop()
	for {
		a.panics.Run("carry out purges", func() error {
			swept, last = a.carryOut(ctx, swept, last)
			return nil
		})
		select {
		case <-ctx.Done():
			return
		case <-a.changed:
		case <-tick.C:
		}
	}
}

// carryOut does what there is to do now: swept is up to which serial this node was swept, and last when.
func (a *App) carryOut(ctx context.Context, swept uint64, last time.Time) (uint64, time.Time) {
	if newest := a.newestPurge(); newest > swept && a.settings.Known() && time.Since(last) >= sweepEvery {
		n := a.cache.Sweep(ctx, a.purged)
		if ctx.Err() != nil {
			return swept, last
		}
		swept, last = newest, time.Now()
		a.noteSwept(swept)
		if n > 0 {
			a.o.Log.Info("what was purged is cleared away here", "files", n)
		}
	}
	if a.settings.Live() {
		if err := a.clearPurges(ctx); err != nil && ctx.Err() == nil {
			a.o.Log.Warn("what was purged isn't cleared away yet; it isn't given any more", "error", err)
		}
	}
	return swept, last
}

func (a *App) newestPurge() (serial uint64) {
	for _, s := range a.settings.Current().Sites {
		serial = max(serial, s.NewestPurge())
	}
	return serial
}

// purged reports whether a variant was kept before a purge that concerns it.
func (a *App) purged(key string, of cache.Address, serial uint64) bool {
	s := a.settings.Current().Site(of.Site)
	return s != nil && serial < max(s.SourcePurged(of.Lane, of.Path), s.VariantPurged(key, of.Classes))
}

func (a *App) sweptFile() string { return filepath.Join(a.o.CacheDir, "swept") }

// sweptUpTo is the serial of the newest purge that this node's disk was swept for.
func (a *App) sweptUpTo() uint64 {
	if a.o.CacheDir == "" {
		return 0
	}
	text, err := os.ReadFile(a.sweptFile())
	if err != nil {
		return 0
	}
	n, _ := strconv.ParseUint(strings.TrimSpace(string(text)), 10, 64)
	return n
}

func (a *App) noteSwept(serial uint64) {
	if a.o.CacheDir != "" {
		os.WriteFile(a.sweptFile(), fmt.Appendln(nil, serial), 0o600) // where it can't be noted, it's swept again
	}
}

// clearPurges clears the records and the store of what was purged.
func (a *App) clearPurges(ctx context.Context) error {
	list, err := a.store.UnfinishedPurges(ctx)
	if err != nil {
		return err
	}
	for _, p := range list {
		var at records.ClearedUpTo
		for more := true; more; {
			var keys []string
			var again, busy bool
			keys, at, again, busy, err = a.store.ClearPurge(ctx, p, at, a.shared != nil)
			if err != nil {
				return err
			}
			if busy {
				break
			}
			if a.shared != nil {
				if err := a.cache.ForgetShared(ctx, keys); err != nil { // it isn't given any more, and is dropped when met
					a.o.Log.Warn("what was purged stays in the store until it is met", "error", err)
				}
			}
			if more = again; more {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(clearPause):
				}
			}
		}
	}
	return nil
}

// The records hold what is kept: what the disk had no room for any more goes from them, and what goes from them, since nobody asks
// for it, goes from the store.

const (
	mostEvicted  = 10_000 // keys that wait to be forgotten
	evictedEvery = time.Second
	evictedAtOne = 1000 // keys in one statement
)

func (a *App) forgetEvicted(ctx context.Context) {
	if a.evicted == nil {
		return
	}
	tick := time.NewTicker(evictedEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for len(a.evicted) > 0 && a.settings.Live() {
			var keys []string
			for len(a.evicted) > 0 && len(keys) < evictedAtOne {
				keys = append(keys, <-a.evicted)
			}
			if err := a.store.Gone(ctx, keys); err != nil {
				a.o.Log.Warn("variants that aren't kept any more are still counted", "error", err)
				break
			}
		}
	}
}

// pruned forgets variants that no record names.
func (a *App) pruned(ctx context.Context, keys []string) {
	a.cache.Forget(keys)
	if a.shared == nil {
		return
	}
	if err := a.cache.ForgetShared(ctx, keys); err != nil {
		a.o.Log.Warn("what nobody asks for stays in the store", "error", err)
	}
}
