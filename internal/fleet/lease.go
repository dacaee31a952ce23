package fleet

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// lease is a thing that one batch of the fleet holds, for a time that is limited unless it is renewed: a key of the
// station's bucket that nobody else can create.
type lease struct {
	conn  *Conn
	name  string // of the resource, as people know it
	key   string
	lasts time.Duration

	mu       sync.Mutex
	revision uint64
	renewed  time.Time
}

// age returns how long ago the station confirmed the lease last.
func (l *lease) age() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return time.Since(l.renewed)
}

// acquire takes a lease, nil if somebody has it.
func (c *Conn) acquire(ctx context.Context, name, key, owner string, lasts time.Duration) (*lease, error) {
	asked := time.Now()
	revision, err := c.runs.Create(ctx, key, []byte(owner), jetstream.KeyTTL(max(lasts.Truncate(time.Second), time.Second)))
	if errors.Is(err, jetstream.ErrKeyExists) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &lease{conn: c, name: name, key: key, lasts: lasts, revision: revision, renewed: asked}, nil
}

// renew extends the lease by its time.
func (l *lease) renew(ctx context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	asked := time.Now()
	// The bucket's own update would drop the time limit.
	ack, err := l.conn.js.PublishMsg(ctx, &nats.Msg{Subject: "$KV." + runBucket + "." + l.key}, jetstream.WithExpectLastSequencePerSubject(l.revision),
		jetstream.WithMsgTTL(max(l.lasts.Truncate(time.Second), time.Second)))
	if err != nil {
		return err
	}
	l.revision, l.renewed = ack.Sequence, asked
	return nil
}

// release returns the lease, unless somebody else has it by now.
func (l *lease) release(ctx context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.conn.runs.Delete(ctx, l.key, jetstream.LastRevision(l.revision))
}

// borrow takes leases of the fleet's resources that a batch holds, all or none.
func (f *Member) borrow(ctx context.Context, c *claim) (bool, error) {
	for _, name := range f.schedule.Holds(c.number - 1) {
		if !f.shared[name] {
			continue
		}
		l, err := f.acquireOne(ctx, name)
		if err != nil || l == nil {
			f.giveBack(c)
			return false, err
		}
		c.leases = append(c.leases, l)
	}
	return true, nil
}

// acquireOne takes one of the places of a resource, nil if none is free. Runs of one project share their resources.
func (f *Member) acquireOne(ctx context.Context, name string) (*lease, error) {
	for place := range f.schedule.Capacity(name) {
		key := fmt.Sprintf("hold.%s.%s.%d", token(f.manifest.Project), token(name), place)
		l, err := f.conn.acquire(ctx, name, key, f.self.Name, f.Lease())
		if err != nil || l != nil {
			return l, err
		}
	}
	return nil, nil
}

// giveBack returns the leases that a batch held.
func (f *Member) giveBack(c *claim) {
	ctx, cancel := context.WithTimeout(context.Background(), f.Lease()/beats)
	defer cancel()
	for _, l := range c.leases {
		_ = l.release(ctx) // else it ends by itself
	}
	c.leases = nil
}
