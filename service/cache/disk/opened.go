package disk

import (
	"encoding/binary"
	"sync"

	"golang.org/x/sys/unix"

	"echolane/service/cache/entry"
)

// opened are files that were read lately and stay open, since opening and closing one costs as much as reading it. Each entry has one
// place, which it shares with others. A file of its name that takes its place or goes is to be forgotten after that. Safe for
// concurrent use.
type opened struct {
	places []openedFile // a power of two; none where the process may have few descriptors
}

type openedFile struct {
	mu   sync.Mutex
	key  entry.Short
	file int // descriptor; 0: none
}

const (
	mostOpened = 1024

	// openedShare is which part of the descriptors that the process may have are for these at most.
	openedShare = 16
)

func newOpened() *opened {
	var files unix.Rlimit
	unix.Getrlimit(unix.RLIMIT_NOFILE, &files)
	n := 1
	for n < mostOpened && uint64(n)*2*openedShare <= files.Cur {
		n *= 2
	}
	return &opened{places: make([]openedFile, n)}
}

func (o *opened) place(key entry.Short) *openedFile {
	return &o.places[binary.LittleEndian.Uint64(key[:])%uint64(len(o.places))]
}

// read has an entry read by read from its file: the one that is open, or the one that open opens, which then stays open where read
// succeeds. Neither waits.
func (o *opened) read(key entry.Short, open func() (file int, ok bool), read func(file int) ([]byte, bool)) ([]byte, bool) {
	p := o.place(key)
	mine := p.mu.TryLock()
	if mine {
		defer p.mu.Unlock()
		if p.file != 0 && p.key == key {
			if b, ok := read(p.file); ok {
				return b, true
			}
			p.close()
		}
	}
	file, ok := open()
	if !ok {
		return nil, false
	}
	b, ok := read(file)
	if !ok || !mine {
		unix.Close(file)
		return b, ok
	}
	p.close()
	p.key, p.file = key, file
	return b, true
}

// forget closes an entry's file.
func (o *opened) forget(key entry.Short) {
	p := o.place(key)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.key == key {
		p.close()
	}
}

// forgetAll closes all.
func (o *opened) forgetAll() {
	for i := range o.places {
		p := &o.places[i]
		p.mu.Lock()
		p.close()
		p.mu.Unlock()
	}
}

func (p *openedFile) close() {
	if p.file != 0 {
		unix.Close(p.file)
		p.file = 0
	}
}
