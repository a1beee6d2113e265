package learn

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/strict"
	"polytome/internal/wholefile"
)

// AnswerDir is the folder with what was answered of targets that are not learnt yet, beside the user's own profiles.
const AnswerDir = "teaching"

// AnswersFile is the file for the answers of the target at an address, below a folder of the user's.
func AnswersFile(dir, at string) string {
	sum := sha256.Sum256([]byte(at))
	return filepath.Join(dir, AnswerDir, Slug(filepath.Base(filepath.ToSlash(at)))+"-"+hex.EncodeToString(sum[:4])+
		".toml")
}

// answersInFile is how answers are written.
type answersInFile struct {
	Target  string  `toml:"target,omitempty"`
	Answers Answers `toml:"answer"`
}

// ReadAnswers reads what a person knows from a file.
func ReadAnswers(file string) (Answers, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var all answersInFile
	if _, err := strict.Decode(file, b, &all); err != nil {
		return nil, err
	}
	return all.Answers, nil
}

// KeepAnswers writes the answers of a target to a file, whole or not at all. Where there are none, it goes.
func KeepAnswers(file, at string, all Answers) error {
	if len(all) == 0 {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "# What was answered when a console was taught; loaders learn takes it with --answers.\n")
	if err := toml.NewEncoder(&b).Encode(answersInFile{at, all}); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return wholefile.Write(file, b.Bytes(), wholefile.Private)
}
