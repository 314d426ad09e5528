package upload

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"echolane/core/policy"
	"echolane/service/source"
)

var kinds = source.Kinds{Kind{}}

func uploads(t *testing.T, dir string) *Lane {
	t.Helper()
	d := policy.NewDocument("kestrel")
	d.Lanes = []policy.Lane{{Name: "incoming", Kind: "upload", Folder: dir}}
	d.Complete(kinds.Describe())
	s, _, err := policy.Compile(d, kinds.Describe())
	if err != nil {
		t.Fatal(err)
	}
	ls := &source.Lanes{Kinds: kinds, Keep: source.NewKeep(nil, 0), CDN: func() string { return "" }}
	l, err := ls.Of(&policy.SiteSettings{Site: s, Document: d}, s.Lanes[0])
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(ls.Close)
	return l.(*Lane)
}

func TestOfUploadsAtOnceTheHighestVersionIsTheNewest(t *testing.T) {
	u := uploads(t, t.TempDir())
	ctx := context.Background()
	for round := range 5 {
		path := fmt.Sprintf("kite-%d.png", round)
		var all sync.WaitGroup
		for i := range 6 {
			all.Go(func() {
				v, c, err := u.Receive(ctx, strings.NewReader(fmt.Sprintf("bytes %d", i)))
				if err != nil {
					t.Error(err)
					return
				}
				defer c.Close()
				if _, err := u.Put(ctx, path, c, source.Uploaded{Digest: v.Digest}); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		list, err := u.Versions(ctx, path)
		if err != nil {
			t.Fatal(err)
		}
		newest, err := u.Newest(ctx, path)
		if err != nil || newest.Version != list[0].Version || newest.Digest != list[0].Digest {
			t.Errorf("%s: the newest is %+v, the highest %+v, %v", path, newest, list[0], err)
		}
	}
	page, more, err := u.List(ctx, "kite-1.png", 2)
	if err != nil || !more || len(page) != 2 || page[0].Path != "kite-2.png" {
		t.Errorf("%+v %v %v", page, more, err)
	}
}
