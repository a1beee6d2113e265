package secret

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"

	"polytome/internal/plainfile"
)

// mostSecret is how long a password is at most, in bytes.
const mostSecret = 4096

// File reads a password that a script gives: the first line of a file, or of the input where the name is "-". It is not
// cleaned of spaces, as it may have some.
func File(name string, input io.Reader) (string, error) {
	var text string
	if name == "-" {
		line, err := bufio.NewReader(io.LimitReader(input, mostSecret)).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", fmt.Errorf("the password cannot be read from the input: %w", err)
		}
		text = line
	} else {
		b, err := plainfile.Read(name, mostSecret)
		if err != nil {
			return "", fmt.Errorf("the password cannot be read: %w", err)
		}
		text = string(b)
	}
	line, _, _ := strings.Cut(text, "\n")
	if line = strings.TrimSuffix(line, "\r"); line == "" {
		return "", fmt.Errorf("the first line of %s is empty; it must be the password", name)
	}
	return line, nil
}
