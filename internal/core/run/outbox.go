package run

import (
	"sync"

	"polytome/internal/parallel"
)

// outbox hands events on one at a time, in their order, in a goroutine of its own. So those who steer a lane never wait
// for those who take its events, who may be the same.
type outbox struct {
	mu     sync.Mutex
	more   sync.Cond // there are more events, or no more will come
	handed sync.Cond // one was handed on
	queue  []Event
	posted int // events that ever were in the queue
	taken  int // those that were handed on
	shut   bool
	ended  chan struct{}
}

// open begins to hand events to tell.
func (o *outbox) open(emit func(Event)) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.more.L, o.handed.L, o.ended = &o.mu, &o.mu, make(chan struct{})
	go func() {
		defer close(o.ended)
		o.mu.Lock()
		defer o.mu.Unlock()
		for {
			for len(o.queue) == 0 && !o.shut {
				o.more.Wait()
			}
			if len(o.queue) == 0 {
				return
			}
			e := o.queue[0]
			o.queue = o.queue[1:]
			o.mu.Unlock()
			_ = parallel.Safely(func() error { emit(e); return nil }) // whoever watches must not end the run
			o.mu.Lock()
			o.taken++
			o.handed.Broadcast()
		}
	}()
}

// post has an event handed on, some time. After the end it is dropped.
func (o *outbox) post(e Event) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.put(e)
}

func (o *outbox) put(e Event) {
	if o.shut {
		return
	}
	o.queue = append(o.queue, e)
	o.posted++
	if o.more.L != nil {
		o.more.Signal()
	}
}

// send has an event handed on, and waits until it was.
func (o *outbox) send(e Event) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.put(e)
	for mine := o.posted; o.taken < mine; {
		o.handed.Wait()
	}
}

// close ends the handing on, when everything was.
func (o *outbox) close() {
	o.mu.Lock()
	o.shut = true
	o.more.Signal()
	o.mu.Unlock()
	<-o.ended
}
