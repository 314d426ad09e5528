package cache

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"echolane/service/cache/entry"
	"echolane/service/panics"
)

// BenchmarkDisk asks for variants that lie on disk, and for which memory has no room.
func BenchmarkDisk(b *testing.B) {
	log := slog.New(slog.DiscardHandler)
	c, err := New(Options{MemoryBytes: 1 << 20, Dir: b.TempDir(), DiskBytes: 1 << 30, DiskFiles: 10_000, Log: log, Panics: &panics.Catcher{Log: log}})
	if err != nil {
		b.Fatal(err)
	}
	defer c.Close()
	const variants = 300
	var keys [variants]string
	body := make([]byte, 30_000)
	rand.Read(body)
	for i := range keys {
		keys[i] = entry.Key(fmt.Sprint(i))
		c.Get(context.Background(), Ask{Key: keys[i]}, func(context.Context) (*Variant, func(), error) {
			return &Variant{Body: body, Type: "image/webp", ETag: `"0123456789abcdef"`}, nil, nil
		})
		for c.Stats().DiskFiles <= i { // it is written behind the answer
			time.Sleep(time.Millisecond)
		}
	}
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		for i := 0; pb.Next(); i++ {
			if _, _, err := c.Get(context.Background(), Ask{Key: keys[i%variants]}, func(context.Context) (*Variant, func(), error) { return nil, nil, errors.New("it isn't there") }); err != nil {
				b.Error(err)
				return
			}
		}
	})
}
