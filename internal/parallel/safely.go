package parallel

import "fmt"

// A MistakeError reports a panic in work guarded by [Safely].
type MistakeError struct{ Cause any }

func (e *MistakeError) Error() string {
	return fmt.Sprintf("it failed because of a bug in Polytome: %v", e.Cause)
}

// Safely does something, and makes an error of a panic in it, so that a mistake contiguous of work does not end the
// program, which has more to finish. Every goroutine that reads what others have made is guarded so: a panic in one
// cannot be caught elsewhere.
func Safely(do func() error) (err error) {
	defer func() {
		if x := recover(); x != nil {
			err = &MistakeError{x}
		}
	}()
	return do()
}
