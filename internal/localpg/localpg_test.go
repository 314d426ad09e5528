package localpg

import (
	"context"
	"errors"
	"net"
	"path/filepath"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
)

// Servers that want the same port at the same time all start.
func TestAPortIsTakenByOneOnly(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	one, end, err := Passing(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	one.Stop()
	defer end()
	bin, err := programs()
	if err != nil {
		t.Fatal(err)
	}
	as, err := unprivileged()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := launch(t.Context(), bin, one.Dir, "", port, as, true); !errors.Is(err, errTaken) {
		t.Errorf("on a port that is taken: %v", err)
	}
	l.Close()
	var all sync.WaitGroup
	for _, name := range []string{"a", "b"} {
		all.Go(func() {
			s, err := Start(context.Background(), Options{Dir: filepath.Join(filepath.Dir(one.Dir), name), Port: port, Throwaway: true})
			if err != nil {
				t.Errorf("%s: %v", name, err)
				return
			}
			defer s.Stop()
			conn, err := pgx.Connect(context.Background(), s.URL)
			if err != nil {
				t.Errorf("%s: %v", name, err)
				return
			}
			conn.Close(context.Background())
		})
	}
	all.Wait()
}
