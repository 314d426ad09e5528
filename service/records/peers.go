package records

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/service/panics"
)

// Peers are the other nodes on the same database. A node that makes what others may ask for takes a lease on it; who finds it
// taken waits to hear that it is done, never longer than the lease runs for a node that has ended. Without the database every
// node makes for itself.
type Peers struct {
	o        PeersOptions
	node     string
	counter  atomic.Int64
	away     atomic.Int64 // until when nobody is asked: the database didn't answer in time; nanoseconds since 1970
	mu       sync.Mutex
	held     map[string]bool // holders
	waiters  map[string]map[chan struct{}]bool
	refined  []string
	flushing bool
	ctx      context.Context
	stop     context.CancelFunc
	ended    sync.WaitGroup
}

// PeersOptions are what Peers work with.
type PeersOptions struct {
	Store  *Store
	Log    *slog.Logger
	Panics *panics.Catcher
}

const (
	leaseTime   = 4 * time.Second // that a lease holds; it is renewed in time
	leaseRenew  = time.Second
	leasePoll   = time.Second           // that who waits looks for itself, in case it heard nothing
	leaseLimit  = time.Second           // for the database to answer
	leasePause  = 5 * time.Second       // that it isn't asked when it didn't
	mostRefined = 250                   // keys in one notice, which has at most 8,000 bytes
	refinedWait = 20 * time.Millisecond // that keys are gathered
)

// NewPeers makes ready for leases. Hear has it listen; Close ends it.
func NewPeers(o PeersOptions) *Peers {
	p := &Peers{o: o, node: rand.Text()[:12], held: map[string]bool{}, waiters: map[string]map[chan struct{}]bool{}}
	p.ctx, p.stop = context.WithCancel(context.Background())
	o.Panics.Go(&p.ended, "renew leases", func() { p.renew(p.ctx) })
	return p
}

// Hear starts hearing the other nodes. refined is told of variants that they have searched for, lost that nobody knows what was said
// meanwhile.
func (p *Peers) Hear(refined func(keys []string), lost func()) {
	p.o.Panics.Go(&p.ended, "hear other nodes", func() {
		for first := true; p.ctx.Err() == nil; first = false {
			if !first {
				select {
				case <-p.ctx.Done():
					return
				case <-time.After(500 * time.Millisecond):
				}
			}
			p.o.Panics.Run("hear other nodes", func() error {
				p.hear(p.ctx, first, refined, lost)
				return nil
			})
		}
	})
}

// Close gives up all leases.
func (p *Peers) Close() {
	p.stop()
	p.ended.Wait()
	p.mu.Lock()
	holders := p.holders()
	p.mu.Unlock()
	if len(holders) > 0 {
		ctx, cancel := context.WithTimeout(context.Background(), leaseLimit)
		defer cancel()
		p.o.Store.db.ExecContext(ctx, `WITH gone AS (DELETE FROM leases WHERE holder = ANY ($1) RETURNING key) SELECT pg_notify('echolane_made', key) FROM gone`, holders)
	}
}

func (p *Peers) holders() []string {
	all := make([]string, 0, len(p.held))
	for h := range p.held {
		all = append(all, h)
	}
	return all
}

// take asks for a lease. The holder is "" where another has it. It errs where nobody can tell.
func (p *Peers) take(ctx context.Context, key string) (holder string, err error) {
	if time.Now().UnixNano() < p.away.Load() {
		return "", ErrAway
	}
	asking, cancel := context.WithTimeout(ctx, leaseLimit)
	defer cancel()
	mine := fmt.Sprint(p.node, "-", p.counter.Add(1))
	var has string
	// The row is locked by the statement, so that one of many gets it.
	err = p.o.Store.db.QueryRowContext(asking, `
		INSERT INTO leases (key, holder, ends_at) VALUES ($1, $2, now() + $3 * interval '1 second')
		ON CONFLICT (key) DO UPDATE SET
			awaited = leases.ends_at > now(),
			holder = CASE WHEN leases.ends_at > now() THEN leases.holder ELSE excluded.holder END,
			ends_at = CASE WHEN leases.ends_at > now() THEN leases.ends_at ELSE excluded.ends_at END
		RETURNING holder`, key, mine, leaseTime.Seconds()).Scan(&has)
	switch {
	case err != nil && ctx.Err() != nil:
		return "", ctx.Err()
	case err != nil:
		p.away.Store(time.Now().Add(leasePause).UnixNano())
		return "", err
	case has != mine:
		return "", nil
	}
	p.mu.Lock()
	p.held[mine] = true
	p.mu.Unlock()
	return mine, nil
}

// release gives a lease back, and wakes who waits for it.
func (p *Peers) release(key, holder string) {
	p.mu.Lock()
	delete(p.held, holder)
	p.mu.Unlock()
	if p.o.Store.db.Away() {
		return // it runs out
	}
	ctx, cancel := context.WithTimeout(context.Background(), leaseLimit)
	defer cancel()
	p.o.Store.db.ExecContext(ctx, `WITH gone AS (DELETE FROM leases WHERE key = $1 AND holder = $2 RETURNING key, awaited) SELECT pg_notify('echolane_made', key) FROM gone WHERE awaited`, key, holder)
}

// Lead waits until this node is the one to make what a key names: then lead is true, and release is called once it is done.
// Where another node was the one and has come to an end, or taken its time, lead is false. It errs with the context's error.
func (p *Peers) Lead(ctx context.Context, key string) (release func(), lead bool, err error) {
	// It listens before it asks, so that no end goes unheard.
	heard := make(chan struct{}, 1)
	p.mu.Lock()
	if p.waiters[key] == nil {
		p.waiters[key] = map[chan struct{}]bool{}
	}
	p.waiters[key][heard] = true
	p.mu.Unlock()
	defer func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if delete(p.waiters[key], heard); len(p.waiters[key]) == 0 {
			delete(p.waiters, key)
		}
	}()
	holder, err := p.take(ctx, key)
	switch {
	case ctx.Err() != nil:
		return nil, false, ctx.Err()
	case err != nil:
		return func() {}, true, nil
	case holder != "":
		return func() { p.release(key, holder) }, true, nil
	}
	late := time.NewTimer(leasePoll)
	defer late.Stop()
	select {
	case <-heard:
	case <-late.C:
	case <-ctx.Done():
		return nil, false, ctx.Err()
	}
	return nil, false, nil
}

// TryLead is Lead without waiting.
func (p *Peers) TryLead(ctx context.Context, key string) (release func(), lead bool) {
	holder, err := p.take(ctx, key)
	switch {
	case err != nil:
		return func() {}, ctx.Err() == nil
	case holder == "":
		return nil, false
	}
	return func() { p.release(key, holder) }, true
}

// Refined tells the other nodes that a variant was searched for, in a moment. It doesn't block.
func (p *Peers) Refined(key string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.refined = append(p.refined, key)
	if !p.flushing {
		p.flushing = true
		time.AfterFunc(refinedWait, p.flush)
	}
}

func (p *Peers) flush() {
	p.mu.Lock()
	keys := p.refined
	p.refined, p.flushing = nil, false
	p.mu.Unlock()
	for len(keys) > 0 && !p.o.Store.db.Away() {
		n := min(len(keys), mostRefined)
		ctx, cancel := context.WithTimeout(context.Background(), leaseLimit)
		p.o.Store.db.ExecContext(ctx, `SELECT pg_notify('echolane_refined', $1)`, p.node+" "+strings.Join(keys[:n], " "))
		cancel()
		keys = keys[n:]
	}
}

// renew keeps the leases that are held from running out, and clears away those that have.
func (p *Peers) renew(ctx context.Context) {
	tick := time.NewTicker(leaseRenew)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		p.mu.Lock()
		holders := p.holders()
		p.mu.Unlock()
		if p.o.Store.db.Away() {
			continue
		}
		if len(holders) > 0 {
			within(ctx, func(ctx context.Context) error {
				_, err := p.o.Store.db.ExecContext(ctx, `UPDATE leases SET ends_at = now() + $2 * interval '1 second' WHERE holder = ANY ($1)`, holders, leaseTime.Seconds())
				return err
			})
		}
		if n%60 == 59 {
			within(ctx, func(ctx context.Context) error {
				_, err := p.o.Store.db.ExecContext(ctx, `DELETE FROM leases WHERE ends_at < now() - interval '1 minute'`)
				return err
			})
		}
	}
}

// hear listens on a connection of its own, until that breaks.
func (p *Peers) hear(ctx context.Context, first bool, refined func([]string), lost func()) {
	conn, err := connect(ctx, p.o.Store.url)
	if err != nil {
		return
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn.Close(closing)
	}()
	if within(ctx, func(ctx context.Context) error {
		_, err := conn.Exec(ctx, "LISTEN echolane_made; LISTEN echolane_refined", pgx.QueryExecModeSimpleProtocol)
		return err
	}) != nil {
		return
	}
	if !first {
		lost()
	}
	for {
		wait, cancel := context.WithTimeout(ctx, pingEvery)
		n, err := conn.WaitForNotification(wait)
		idle := wait.Err() != nil && ctx.Err() == nil
		cancel()
		if idle {
			err = within(ctx, conn.Ping)
		}
		if err != nil {
			return
		}
		if n == nil {
			continue
		}
		switch n.Channel {
		case "echolane_made":
			p.mu.Lock()
			for heard := range p.waiters[n.Payload] {
				select {
				case heard <- struct{}{}:
				default:
				}
			}
			p.mu.Unlock()
		case "echolane_refined":
			from, keys, _ := strings.Cut(n.Payload, " ")
			if from != p.node {
				refined(strings.Fields(keys))
			}
		}
	}
}
