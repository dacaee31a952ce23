package fleet

import (
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"fernrelay/core/catalog"
	"fernrelay/core/run"
)

// ports returns free ports of the loopback.
func ports(t *testing.T, n int) (free []int) {
	t.Helper()
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close() // only at the end, so that all are different
		free = append(free, l.Addr().(*net.TCPAddr).Port)
	}
	return free
}

// TestCluster runs on three servers that keep everything three times, and kills one of them in the middle.
func TestCluster(t *testing.T) {
	t.Parallel()
	const size = 3
	free := ports(t, 2*size)
	var routes, urls []string
	for i := range size {
		routes = append(routes, fmt.Sprintf("nats://127.0.0.1:%d", free[size+i]))
		urls = append(urls, fmt.Sprintf("nats://127.0.0.1:%d", free[i]))
	}
	var servers []*server.Server
	for i := range size {
		s, err := server.NewServer(&server.Options{ServerName: fmt.Sprint("n", i), Host: "127.0.0.1", Port: free[i], JetStream: true, StoreDir: t.TempDir(), NoSigs: true,
			Cluster: server.ClusterOpts{Name: "fern", Host: "127.0.0.1", Port: free[size+i]}, Routes: server.RoutesFromStr(strings.Join(routes, ","))})
		if err != nil {
			t.Fatal(err)
		}
		go s.Start()
		t.Cleanup(func() { s.Shutdown(); s.WaitForShutdown() })
		servers = append(servers, s)
	}
	deadline := time.Now().Add(time.Minute)
	for !slices.ContainsFunc(servers, (*server.Server).JetStreamIsLeader) {
		if time.Now().After(deadline) {
			t.Fatal("the servers do not agree on a leader")
		}
		time.Sleep(20 * time.Millisecond)
	}
	url := strings.Join(urls, ",")
	work := workOf(made(slices.Repeat([]float64{0.02}, 80)))
	work.Lease = 5 * time.Second
	var once sync.Once
	var wg sync.WaitGroup
	members := []*standIn{join(t, url, "cluster", "moss", 2, work), join(t, url, "cluster", "heath", 2, work)} // before anything runs
	for _, m := range members {
		ran := 0
		m.run = func(*catalog.Test) run.Outcome {
			time.Sleep(20 * time.Millisecond)
			if ran++; ran > 5 {
				once.Do(func() { servers[0].Shutdown() })
			}
			return run.Passed
		}
		m.self.Workers = 1 // so that what it has run needs no lock
		wg.Go(func() { m.workToTheEnd(t) })
	}
	wg.Wait()
	result, err := dial(t, url).Collect(t.Context(), "cluster")
	if err != nil || result.Run.Counts[run.Passed] != 80 {
		t.Fatalf("%+v, %v", result, err)
	}
	info, err := dial(t, url).events.Info(t.Context())
	if err != nil || info.Config.Replicas != size {
		t.Errorf("the events are kept by %+v, %v", info, err)
	}
}
