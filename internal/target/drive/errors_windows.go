package drive

// gone has nothing to tell: only images are written here.
func gone(error) error { return nil }
