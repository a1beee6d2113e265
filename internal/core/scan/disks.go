package scan

import "sync"

// disks keeps disks that turn from being read in several places at once, which would take them
// longer than one after another.
type disks struct {
	mu  sync.Mutex
	all map[uint64]chan struct{}
}

// take waits until the disk may be read; the function that it returns gives it back.
func (d *disks) take(device uint64) (release func()) {
	d.mu.Lock()
	slots := d.all[device]
	if slots == nil {
		if d.all == nil {
			d.all = map[uint64]chan struct{}{}
		}
		n := workers
		if turns(device) {
			n = 1
		}
		slots = make(chan struct{}, n)
		d.all[device] = slots
	}
	d.mu.Unlock()
	slots <- struct{}{}
	return func() { <-slots }
}
