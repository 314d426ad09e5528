// Package shared keeps entries where all nodes find them: in a folder, or in a store with the S3 interface. Entries are those
// that disks keep, written whole or not at all. A store that is full, slow, failing or away costs only speed.
package shared

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"echolane/service/cache/entry"
	"echolane/service/cache/guard"
	"echolane/service/panics"
	"echolane/service/store"
)

// Store is the shared store. Safe for concurrent use; nil holds nothing and keeps nothing.
type Store struct {
	store  store.Store
	where  string
	reads  *guard.Guard
	writes *guard.Guard
	queue  chan put
	queued atomic.Int64 // bytes
	lost   atomic.Int64
	mu     sync.Mutex // guards closed, and sending on queue
	closed bool
	ended  sync.WaitGroup
}

type put struct {
	name    string
	replace bool
	data    []byte
	done    func(kept bool)
}

const (
	// Budget is how long a request waits for the store before it goes on without.
	Budget      = time.Second
	writeLimit  = 30 * time.Second // for one entry
	writers     = 8
	mostQueued  = 1024
	mostBytes   = 256 << 20 // that wait
	mostOfEntry = 128 << 20 // bytes that are read of one
)

// Kinds of what is kept, which begin the names.
const (
	Variants    = "variants"
	Provisional = "provisional" // variants that wait for their search
	Sources     = "sources"
)

// Name is what an entry of a kind is kept under.
func Name(kind, key string) string { return kind + "/" + key[:2] + "/" + key }

// Credentials open a bucket.
type Credentials struct{ AccessKey, SecretKey string }

// Place is where a store is, as text: a folder's path, or s3://bucket/prefix?endpoint=URL&region=REGION.
type Place struct {
	Folder string
	Bucket store.S3Options
}

// ReadPlace reads the text.
func ReadPlace(text string) (p Place, err error) {
	if !strings.Contains(text, "://") {
		if !filepath.IsAbs(text) {
			return p, fmt.Errorf("%q isn't an absolute path: give a folder such as /srv/store, or s3://bucket?endpoint=https://store.example.test", text)
		}
		return Place{Folder: filepath.Clean(text)}, nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "s3" || u.Host == "" || u.User != nil || u.Fragment != "" {
		return p, fmt.Errorf("%q isn't a store: write it as s3://bucket/prefix?endpoint=https://store.example.test&region=eu-1 (keys go into the environment)", text)
	}
	p.Bucket = store.S3Options{Bucket: u.Host, Prefix: strings.Trim(u.Path, "/")}
	if p.Bucket.Prefix != "" {
		p.Bucket.Prefix += "/"
	}
	for name, values := range u.Query() {
		switch name {
		case "endpoint":
			e, err := url.Parse(values[0])
			if err != nil || e.Host == "" || e.Scheme != "http" && e.Scheme != "https" {
				return p, fmt.Errorf("the store's endpoint %q isn't an http or https URL", values[0])
			}
			p.Bucket.Endpoint = values[0]
		case "region":
			p.Bucket.Region = values[0]
		default:
			return p, fmt.Errorf("a store has no setting %q: there are endpoint and region", name)
		}
	}
	return p, nil
}

// String is where the store is, for people.
func (p Place) String() string {
	if p.Folder != "" {
		return p.Folder
	}
	text := "s3://" + p.Bucket.Bucket + "/" + p.Bucket.Prefix
	if p.Bucket.Endpoint != "" {
		text += " at " + p.Bucket.Endpoint
	}
	return text
}

// Options are what a Store works with.
type Options struct {
	Store  store.Store
	Where  string // for people
	Log    *slog.Logger
	Panics *panics.Catcher
}

// Open starts one. Close ends it, and the store.
func Open(o Options) *Store {
	guards := guard.Options{
		Name: "store", Budget: Budget, Log: o.Log, Panics: o.Panics, Words: "the shared store can't be used; images are served without it", With: []any{"store", o.Where},
		Minor: func(err error) bool { return errors.Is(err, entry.ErrBroken) },
	}
	s := &Store{store: o.Store, where: o.Where, reads: guard.New(guards), queue: make(chan put, mostQueued)}
	guards.Budget = 0
	s.writes = guard.New(guards)
	for range writers {
		o.Panics.Go(&s.ended, "write to the shared store", func() {
			for p := range s.queue {
				s.write(p)
				s.queued.Add(-int64(len(p.data)))
			}
		})
	}
	return s
}

// Where is where it is, for people.
func (s *Store) Where() string { return s.where }

// State says how it is.
func (s *Store) State() guard.State { return guard.Join(s.reads.State(), s.writes.State()) }

// Lost counts the entries that weren't kept since too much waited.
func (s *Store) Lost() int64 { return s.lost.Load() }

// Waiting is how many entries wait to be written.
func (s *Store) Waiting() int {
	if s == nil {
		return 0
	}
	return len(s.queue)
}

// Get reads an entry. It errs with fs.ErrNotExist where there is none, entry.ErrBroken where it isn't whole, after which nothing
// stays of it, and another error where the store fails or doesn't answer in time.
func (s *Store) Get(ctx context.Context, name string) (head, body []byte, err error) {
	if s == nil {
		return nil, nil, fs.ErrNotExist
	}
	type both struct{ head, body []byte }
	b, err := guard.Do(s.reads, "read an entry", func() (b both, err error) {
		r, o, err := s.store.Open(ctx, name)
		if err != nil {
			return b, err
		}
		defer r.Close()
		if o.Size < entry.Prefix || o.Size > mostOfEntry {
			err = entry.ErrBroken
		} else {
			data := make([]byte, o.Size)
			if _, err = io.ReadFull(r, data); err == nil {
				b.head, b.body, err = entry.Parse(data)
			}
		}
		if errors.Is(err, entry.ErrBroken) || errors.Is(err, entry.ErrOld) {
			s.store.Delete(ctx, name)
		}
		return b, err
	}, nil)
	return b.head, b.body, err
}

// Put hands an entry over for writing, in the place of what is there where replace says so. Neither slice may be changed
// afterwards. done, where it isn't nil, is told whether it is kept; after Close nothing is.
func (s *Store) Put(name string, head, body []byte, replace bool, done func(kept bool)) {
	if done == nil {
		done = func(bool) {}
	}
	if s == nil {
		done(false)
		return
	}
	data, err := entry.Make(head, body)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil || s.closed {
		done(false)
		return
	}
	if s.queued.Add(int64(len(data))) <= mostBytes {
		select {
		case s.queue <- put{name, replace, data, done}:
			return
		default:
		}
	}
	s.queued.Add(-int64(len(data)))
	s.lost.Add(1)
	s.writes.Failed("keep up with writing", errors.New("too many entries wait"))
	done(false)
}

func (s *Store) write(p put) {
	kept := false
	defer func() { p.done(kept) }()
	end, err := s.writes.Allow()
	if err != nil {
		s.lost.Add(1)
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), writeLimit)
	defer cancel()
	add := s.store.Add
	if p.replace {
		add = s.store.Put
	}
	err = add(ctx, p.name, bytes.NewReader(p.data), int64(len(p.data)))
	end("write an entry", err)
	kept = err == nil || errors.Is(err, fs.ErrExist)
	if !kept {
		s.lost.Add(1)
	}
}

// Delete forgets an entry. That there is none is no error.
func (s *Store) Delete(ctx context.Context, name string) error {
	if s == nil {
		return nil
	}
	_, err := guard.Do(s.writes, "remove an entry", func() (struct{}, error) { return struct{}{}, s.store.Delete(ctx, name) }, nil)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Check tries to write, read and remove an entry of a store.
func Check(ctx context.Context, in store.Store) error {
	name := Name("check", entry.Key(fmt.Sprint(time.Now().UnixNano())))
	data, err := entry.Make(nil, []byte("echolane"))
	if err != nil {
		return err
	}
	if err := in.Put(ctx, name, bytes.NewReader(data), int64(len(data))); err != nil {
		return fmt.Errorf("write to the store: %w", err)
	}
	r, _, err := in.Open(ctx, name)
	if err != nil {
		return fmt.Errorf("read from the store: %w", err)
	}
	r.Close()
	if err := in.Delete(ctx, name); err != nil {
		return fmt.Errorf("remove from the store: %w", err)
	}
	return nil
}

// Close waits for what is still being written, for a bounded time. What is put afterwards isn't kept.
func (s *Store) Close() {
	if s == nil {
		return
	}
	s.mu.Lock()
	if !s.closed {
		s.closed = true
		close(s.queue)
	}
	s.mu.Unlock()
	ended := make(chan struct{})
	go func() { s.ended.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(writeLimit):
	}
	s.store.Close()
}
