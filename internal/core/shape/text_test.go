package shape_test

import (
	"encoding/json"
	"testing"

	"pgregory.net/rapid"

	"polytome/internal/core/shape"
)

// TestAnyBytesStandInTextFiles: a list may be binary, or in an encoding of the console's; what is written down of it
// for a run that is resumed, or for a fix on the bench, is every byte of it.
func TestAnyBytesStandInTextFiles(t *testing.T) {
	type file struct {
		Text shape.Text `json:"text"`
	}
	rapid.Check(t, func(t *rapid.T) {
		want := file{shape.Text(rapid.OneOf(rapid.String(), rapid.Map(rapid.SliceOf(rapid.Byte()),
			func(b []byte) string { return string(b) }), rapid.Just("base64:AAAA")).Draw(t, "text"))}
		b, err := json.Marshal(want)
		if err != nil {
			t.Fatal(err)
		}
		var got file
		if err := json.Unmarshal(b, &got); err != nil || got != want {
			t.Fatalf("%q became %q: %v", want.Text, got.Text, err)
		}
	})
}
