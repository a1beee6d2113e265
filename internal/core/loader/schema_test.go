package loader_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/testkit/judge"
)

// judged has another program read TOML files, and hold them against a schema; it returns what that finds wrong.
func judged(t *testing.T, schema []byte, files ...string) (wrong []string) {
	at := filepath.Join(t.TempDir(), "schema.json")
	require.NoError(t, os.WriteFile(at, schema, 0o644))
	out, err := exec.Command("/usr/bin/python3", append([]string{"-c", `import json, sys, tomllib, jsonschema
schema = json.load(open(sys.argv[1]))
jsonschema.Draft202012Validator.check_schema(schema)
v = jsonschema.Draft202012Validator(schema)
print(json.dumps([f + ": " + "/".join(map(str, e.absolute_path)) + ": " + e.message for f in sys.argv[2:]
                  for e in v.iter_errors(tomllib.load(open(f, "rb")))]))`, at}, files...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, json.Unmarshal(out, &wrong), "%s", out)
	return wrong
}

func TestWhatShipsAndTheExamplesFitTheSchema(t *testing.T) {
	judge.NotWindows(t, "the judge of schemas runs under Linux")
	examples := map[string][]string{}
	text, err := os.ReadFile(docs + "profile-format.md")
	require.NoError(t, err)
	dir := t.TempDir()
	for i, m := range blocks.FindAllStringSubmatch(string(text), -1) {
		kind, content := "platform", m[2]
		if m[1] == "" {
			kind, content = "profile", whole(m[2])
		}
		file := filepath.Join(dir, fmt.Sprintf("%s-%d.toml", kind, i))
		require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
		examples[kind] = append(examples[kind], file)
	}
	for _, kind := range loader.Schemas {
		schema, err := loader.Schema(kind)
		require.NoError(t, err)
		files, err := filepath.Glob(kind + "s/*.toml")
		require.NoError(t, err)
		require.NotEmpty(t, files)
		assert.Empty(t, judged(t, schema, append(files, examples[kind]...)...), kind)

		broken := filepath.Join(dir, "broken.toml")
		text, err := os.ReadFile(files[0])
		require.NoError(t, err)
		for from, to := range map[string]string{"format = 1": "format = 2", "shown = ": "show = ",
			`name = "`:    "name = 3 # \"",
			"\nforms = [": "\nforms = [\"disc\", "} {
			changed := strings.Replace(string(text), from, to, 1)
			require.NotEqual(t, string(text), changed, from)
			require.NoError(t, os.WriteFile(broken, []byte(changed), 0o644))
			assert.NotEmpty(t, judged(t, schema, broken), "%s: %s", kind, to)
		}
	}
}
