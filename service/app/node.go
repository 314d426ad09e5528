package app

import (
	"context"
	"crypto/rand"
	"time"

	"echolane/service/api"
	"echolane/service/cache/guard"
)

// tellEvery is how often a node says how it is.
const tellEvery = 5 * time.Second

// tell says how this node is, until ctx ends.
func (a *App) tell(ctx context.Context) {
	id, begun := rand.Text()[:8], time.Now()
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	for {
		if a.settings.Live() {
			a.panics.Run("say how this node is", func() error { return a.store.TellNode(ctx, id, a.state(begun)) }) // the next one says it again
		}
		select {
		case <-ctx.Done():
			if a.settings.Live() {
				ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
				defer cancel()
				a.store.ForgetNode(ending, id)
			}
			return
		case <-tick.C:
		}
	}
}

func (a *App) state(begun time.Time) api.NodeState {
	tiers := a.cache.Stats()
	s := api.NodeState{
		BegunAt: begun, Listen: a.Addr(), Workers: a.workshop.Workers(), Waiting: int(a.workshop.Waiting()), WorkersLost: a.workshop.Lost(),
		MemoryBytes: tiers.MemoryBytes, MemoryLimit: a.o.MemoryBytes, Origins: a.sources.Origins(),
	}
	if a.kept != nil {
		s.DiskBytes, s.DiskLimit, s.Disk = tiers.DiskBytes+a.kept.Bytes(), a.o.DiskBytes, stateText(guard.Join(tiers.Disk, a.kept.State()))
	}
	if a.shared != nil {
		s.Store, s.StoreAt = stateText(tiers.Store), a.shared.Where()
	}
	return s
}

// stateText is "" of what works.
func stateText(s guard.State) string {
	if !s.Resting {
		return ""
	}
	return s.Last
}
