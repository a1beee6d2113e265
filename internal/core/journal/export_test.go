package journal

// Die lets go of the run as if the process had ended: what was not written down yet is lost.
func (r *Record) Die() {
	r.mu.Lock()
	defer r.mu.Unlock()
	clear(r.pending)
	if r.lock != nil {
		_ = r.lock.Close()
		r.lock = nil
	}
}

// SetKeepBytes changes how much the journal remembers, and returns what it was.
func SetKeepBytes(n int64) (was int64) {
	was, keepBytes = keepBytes, n
	return was
}
