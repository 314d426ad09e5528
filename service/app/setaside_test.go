package app

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"echolane/internal/testbed"
	"echolane/service/api"
	"echolane/service/records"
)

func TestASourceThatEndsWorkersIsSetAsideUntilItIsCleared(t *testing.T) {
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 1600, 1200))
	r.put("good.png", picture(t, 60, 40))
	r.get("/kestrel/f/kite.png?as=facts")
	stop := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
				for _, pid := range testbed.WorkersOf(os.Getpid()) {
					syscall.Kill(pid, syscall.SIGABRT)
				}
			}
		}
	}()
	a := r.get("/kestrel/f/kite.png?width=1500&format=webp&quality=90")
	close(stop)
	<-ended
	if a.reason() != "503 worker-died" || a.Header.Get("Retry-After") == "" {
		t.Fatalf("%s", a.body)
	}
	if a := r.get("/kestrel/f/kite.png?width=90"); a.reason() != "422 source-set-aside" || !strings.Contains(string(a.body), "echolane set-aside kestrel --clear=") {
		t.Errorf("%d %s", a.StatusCode, a.body)
	}
	if a := r.get("/kestrel/f/good.png?width=30"); a.StatusCode != 200 {
		t.Errorf("another source: %s", a.body)
	}
	// It is in the database, for all nodes, with the evidence.
	var list api.Page[records.SetAside]
	testbed.Eventually(t, "it is listed", func() error {
		a := r.do("GET", "/-/api/v1/sites/kestrel/set-aside", nil, "Authorization", "Bearer "+token)
		if err := json.Unmarshal(a.body, &list); err != nil || len(list.Items) != 1 {
			return fmt.Errorf("%d %s", a.StatusCode, a.body)
		}
		return nil
	})
	l := list.Items[0]
	if l.Path != "kite.png" || l.Lane != "f" || l.Workers != 2 || !strings.Contains(l.Words, "SIGABRT") || !strings.Contains(l.Asked, "width=1500") {
		t.Errorf("%+v", l)
	}
	if err := r.Refresh(context.Background()); err != nil {
		t.Fatal(err)
	}
	if a := r.get("/kestrel/f/kite.png?width=91"); a.reason() != "422 source-set-aside" {
		t.Errorf("read again from the database: %s", a.body)
	}
	for _, c := range []struct {
		digest string
		want   int
	}{{"3f", 404}, {"nosuchdigest", 404}, {l.Digest[:10], 200}} {
		if a := r.do("DELETE", "/-/api/v1/sites/kestrel/set-aside?digest="+c.digest, nil, "Authorization", "Bearer "+token); a.StatusCode != c.want {
			t.Errorf("clear %s: %d %s", c.digest, a.StatusCode, a.body)
		}
	}
	if a := r.get("/kestrel/f/kite.png?width=92"); a.StatusCode != 200 {
		t.Errorf("cleared: %s", a.body)
	}
}
