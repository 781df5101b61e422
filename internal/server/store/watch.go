package store

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"eastporch/internal/server/store/topics"
)

// A Watch tells what has changed in the database, by this instance or another, over one connection that listens. It has one
// instance at a time lead, too: the lock is that connection's. It is safe for concurrent use.
type Watch struct {
	store    *Store
	askEvery time.Duration

	mu        sync.Mutex
	next      map[topics.Topic]chan struct{}
	do        func(context.Context, Proof) // of whoever leads; nil where nobody here wants to
	interrupt context.CancelFunc           // of the wait for what is told
	proofs    []chan error                 // who waits to be told that this instance leads
}

// A Proof says whether this instance still leads; the error says why not.
type Proof = func(ctx context.Context) error

const (
	// askUsually is how often the database is asked what has changed, should it have told nobody: the only transaction of a
	// service that nobody uses. A second instance leads so much later where the first was lost.
	askUsually = 10 * time.Second
	// answersWithin bounds how long it may take to answer.
	answersWithin = 2 * time.Second
	// listenAgain is how soon another connection is made where one was lost.
	listenAgain = time.Second
)

// leadingLock is the advisory lock of the one instance that leads.
const leadingLock = 7263009

// NewWatch makes a Watch, which tells once it runs.
func (s *Store) NewWatch() *Watch {
	w := &Watch{store: s, askEvery: askUsually, next: map[topics.Topic]chan struct{}{}}
	for _, topic := range topics.All() {
		w.next[topic] = make(chan struct{})
	}
	return w
}

// Next gives a channel that is closed when something of a topic changes next, or may have.
func (w *Watch) Next(topic topics.Topic) <-chan struct{} {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.next[topic]
}

// On calls do whenever something of a topic has changed, or may have, until ctx ends, and when it begins; where do fails it is
// called again soon.
func (w *Watch) On(ctx context.Context, topic topics.Topic, do func(context.Context) error) error {
	for {
		next := w.Next(topic)
		var again <-chan time.Time
		if do(ctx) != nil {
			again = time.After(listenAgain)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-next:
		case <-again:
		}
	}
}

func (w *Watch) wake(list ...topics.Topic) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, topic := range list {
		if next, known := w.next[topic]; known {
			close(next)
			w.next[topic] = make(chan struct{})
		}
	}
}

// Lead has do run while this instance leads, until ctx ends: its context ends where another may lead. Before something is
// done that no two may do, proof must be asked.
func (w *Watch) Lead(ctx context.Context, do func(ctx context.Context, proof Proof)) error {
	var running sync.WaitGroup
	w.mu.Lock()
	w.do = func(led context.Context, proof Proof) {
		running.Add(1)
		defer running.Done()
		led, stop := context.WithCancel(led)
		defer stop()
		defer context.AfterFunc(ctx, stop)()
		do(led, proof)
	}
	w.mu.Unlock()
	w.wake(topics.Leader)
	<-ctx.Done()
	w.mu.Lock()
	w.do = nil
	w.mu.Unlock()
	running.Wait()
	return nil
}

// Run tells what changes until ctx ends. Of what changed while the database was away it tells once.
func (w *Watch) Run(ctx context.Context) error {
	for ctx.Err() == nil {
		w.listen(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(listenAgain):
		}
	}
	return nil
}

// listener is one connection of a Watch.
type listener struct {
	*Watch
	conn   *pgx.Conn
	told   [2]map[topics.Topic]int64 // how often each topic was told when it was asked last, and before that
	resign func()                    // ends what is led, and waits for it; nil where another leads
}

func (w *Watch) listen(ctx context.Context) {
	pooled, err := w.store.pool.Acquire(ctx)
	if err != nil {
		return
	}
	l := &listener{Watch: w, conn: pooled.Hijack()} // it listens, and goes back into no pool
	defer func() {
		l.stop(context.WithoutCancel(ctx))
		_ = l.conn.Close(context.WithoutCancel(ctx)) // with its lock
	}()
	if _, err := l.conn.Exec(ctx, "LISTEN "+topics.Channel); err != nil || l.ask(ctx) != nil {
		return
	}
	w.wake(topics.All()...)
	for asked := time.Now(); ctx.Err() == nil; {
		wait, cancel := context.WithDeadline(ctx, asked.Add(w.askEvery))
		w.mu.Lock()
		w.interrupt = cancel
		waiting := len(w.proofs) > 0
		w.mu.Unlock()
		if waiting {
			cancel()
		}
		told, err := l.conn.WaitForNotification(wait)
		over := wait.Err() != nil
		cancel()
		switch {
		case err == nil && topics.Topic(told.Payload) == topics.Leader:
			if l.lead(ctx) != nil {
				return
			}
		case err == nil:
			w.wake(topics.Topic(told.Payload))
		case !over:
			return
		case l.prove(ctx) != nil:
			return
		case time.Since(asked) >= w.askEvery:
			if l.ask(ctx) != nil {
				return
			}
			asked = time.Now()
		}
	}
}

// ask asks what was told, so that what did not come here is noticed, and tries to lead. A topic that was told twice is
// taken to have changed the second time too, when what was told of before may only have been committed.
func (l *listener) ask(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	rows, _ := l.conn.Query(ctx, howOften)
	now, topic, n := map[topics.Topic]int64{}, "", int64(0)
	if _, err := pgx.ForEachRow(rows, []any{&topic, &n}, func() error { now[topics.Topic(topic)] = n; return nil }); err != nil {
		return err
	}
	before, earlier := l.told[0], l.told[1]
	l.told = [2]map[topics.Topic]int64{now, before}
	if before == nil {
		return l.lead(ctx)
	}
	for _, topic := range topics.All() {
		if now[topic] != before[topic] || earlier != nil && before[topic] != earlier[topic] {
			l.wake(topic)
		}
	}
	return l.lead(ctx)
}

// howOften asks how often each topic was told.
var howOften = func() string {
	var each []string
	for _, topic := range topics.All() {
		each = append(each, `SELECT '`+string(topic)+`', last_value + is_called::int FROM told_`+string(topic))
	}
	return strings.Join(each, ` UNION ALL `)
}()

// lead tries to lead where nobody does, and this instance wants to.
func (l *listener) lead(ctx context.Context) error {
	l.mu.Lock()
	do := l.do
	l.mu.Unlock()
	if do == nil || l.resign != nil {
		return nil
	}
	var leads bool
	if err := l.conn.QueryRow(ctx, `SELECT pg_try_advisory_lock($1)`, leadingLock).Scan(&leads); err != nil || !leads {
		return err
	}
	led, end := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan struct{})
	go func() {
		defer close(done)
		do(led, l.proof)
	}()
	l.resign = func() {
		end()
		l.fail(errors.New("the connection that leads is lost"))
		<-done
	}
	return nil
}

// stop gives the lead back, so that another instance has it at once.
func (l *listener) stop(ctx context.Context) {
	if l.resign == nil {
		return
	}
	l.resign()
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	if _, err := l.conn.Exec(ctx, `SELECT pg_advisory_unlock($1)`, leadingLock); err == nil {
		_ = topics.Tell(ctx, l.conn, topics.Leader) // else they ask by themselves
	}
}

// proof is asked from another goroutine, and waits for the one that has the connection.
func (l *listener) proof(ctx context.Context) error {
	answer := make(chan error, 1)
	l.mu.Lock()
	l.proofs = append(l.proofs, answer)
	if l.interrupt != nil {
		l.interrupt()
	}
	l.mu.Unlock()
	select {
	case err := <-answer:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// prove answers whoever wants to know whether this instance leads: the connection that has the lock still answers.
func (l *listener) prove(ctx context.Context) error {
	l.mu.Lock()
	waiting := len(l.proofs) > 0
	l.mu.Unlock()
	if !waiting {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	_, err := l.conn.Exec(ctx, `SELECT 1`)
	l.fail(err)
	return err
}

// fail answers all who wait for a proof.
func (l *listener) fail(err error) {
	l.mu.Lock()
	proofs := l.proofs
	l.proofs = nil
	l.mu.Unlock()
	for _, p := range proofs {
		p <- away(err)
	}
}
