// Package config is what a person has set for the program as a whole, in one small TOML file: how it looks, and which
// bench it opens.
package config

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/strict"
	"polytome/internal/nearest"
	"polytome/internal/plainfile"
	"polytome/internal/wholefile"
)

// The themes: Auto asks the terminal whether its background is dark. Contrast is black and white, with few colours;
// Safe has colours that also people tell apart who see red and green alike.
const (
	Auto     = "auto"
	Dark     = "dark"
	Light    = "light"
	Contrast = "contrast"
	Safe     = "colour-blind"
)

// Themes are all of them.
var Themes = []string{Auto, Dark, Light, Contrast, Safe}

// A Config is what is set. The zero value is what holds where nothing is.
type Config struct {
	Theme string `toml:"theme,omitempty"`
	ASCII bool   `toml:"ascii,omitempty"` // draw with ASCII characters only
	Bench string `toml:"bench,omitempty"` // the one that is opened when none is named
	// Blocks has pictures drawn in coloured blocks also on terminals that show real ones.
	Blocks bool `toml:"blocks,omitempty"`
	// Folders are those in which the first start looks for games, besides the usual ones.
	Folders []string `toml:"folders,omitempty"`
	// Keys are keys that stand for others on every screen: what is pressed, and what that means.
	Keys map[string]string `toml:"keys,omitempty"`
	// DiscOffsets are by how many samples disc drives give sound too late, by what they call themselves.
	DiscOffsets map[string]int64 `toml:"disc-offsets,omitempty"`
	// Saves is the folder in which saves are kept; "" for one in the user's data folder.
	Saves string `toml:"saves,omitempty"`
	// KeepSaves has the saves of a target kept whenever it was looked at on the screen.
	KeepSaves bool `toml:"keep-saves,omitempty"`
}

// mostOffset is the largest offset of a disc drive, in samples: ten sectors' worth.
const mostOffset = 5880

// mostText is how many bytes the file has at most.
const mostText = 1 << 20

// Load reads the file; one that is not there sets nothing. Mistakes are [*strict.Error].
func Load(file string) (Config, error) {
	var c Config
	data, err := plainfile.Read(file, mostText)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return c, nil
	case err != nil:
		return c, fmt.Errorf("reading the settings: %w", err)
	}
	src, err := strict.Decode(file, data, &c)
	if err != nil {
		return Config{}, err
	}
	if c.Theme != "" && !slices.Contains(Themes, c.Theme) {
		return Config{}, src.Errorf("theme", "%v", nearest.Unknown("theme", c.Theme, Themes))
	}
	for k, stands := range c.Keys {
		if k == "" || stands == "" {
			return Config{}, src.Errorf("keys", "a key stands for another one: \"ctrl+d\" = \"pgdown\"")
		}
	}
	return c, nil
}

// Save writes the file, and its folder where that is not there yet.
func (c Config) Save(file string) error {
	text, err := toml.Marshal(c)
	if err != nil {
		return fmt.Errorf("saving the settings: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("saving the settings: %w", err)
	}
	return wholefile.Write(file, text, wholefile.Private)
}

// Keys are what can be set.
var Keys = []string{"theme", "ascii", "bench", "blocks", "folders", "keys", "disc-offsets", "saves", "keep-saves"}

// Get is the value of a key, in words.
func (c *Config) Get(key string) (string, error) {
	switch key {
	case "theme":
		if c.Theme == "" {
			return Auto, nil
		}
		return c.Theme, nil
	case "ascii":
		return yesNo(c.ASCII), nil
	case "blocks":
		return yesNo(c.Blocks), nil
	case "bench":
		return c.Bench, nil
	case "saves":
		return c.Saves, nil
	case "keep-saves":
		return yesNo(c.KeepSaves), nil
	case "folders":
		return strings.Join(c.Folders, string(filepath.ListSeparator)), nil
	case "disc-offsets":
		var all []string
		for _, k := range slices.Sorted(maps.Keys(c.DiscOffsets)) {
			all = append(all, fmt.Sprintf("%s=%d", k, c.DiscOffsets[k]))
		}
		return strings.Join(all, ", "), nil
	case "keys":
		var all []string
		for _, k := range slices.Sorted(maps.Keys(c.Keys)) {
			all = append(all, k+"="+c.Keys[k])
		}
		return strings.Join(all, " "), nil
	}
	return "", nearest.Unknown("setting", key, Keys)
}

// Set sets the value of a key; "" takes it back.
func (c *Config) Set(key, value string) error {
	switch key {
	case "theme":
		if value != "" && !slices.Contains(Themes, value) {
			return nearest.Unknown("theme", value, Themes)
		}
		c.Theme = value
	case "ascii":
		return setYesNo(&c.ASCII, value)
	case "blocks":
		return setYesNo(&c.Blocks, value)
	case "bench":
		c.Bench = value
	case "saves":
		c.Saves = value
	case "keep-saves":
		return setYesNo(&c.KeepSaves, value)
	case "folders":
		c.Folders = nil
		for _, dir := range filepath.SplitList(value) {
			if dir != "" {
				c.Folders = append(c.Folders, dir)
			}
		}
	case "disc-offsets":
		var offsets map[string]int64
		for part := range strings.SplitSeq(value, ",") {
			if strings.TrimSpace(part) == "" {
				continue
			}
			model, samples, ok := strings.Cut(part, "=")
			n, err := strconv.ParseInt(strings.TrimSpace(samples), 10, 64)
			if !ok || err != nil || n < -mostOffset || n > mostOffset {
				return fmt.Errorf("%q is no offset: write the drive and its samples, as in GULLWING TRAY 16=667", part)
			}
			if offsets == nil {
				offsets = map[string]int64{}
			}
			offsets[strings.TrimSpace(model)] = n
		}
		c.DiscOffsets = offsets
	case "keys":
		var keys map[string]string
		for word := range strings.FieldsSeq(value) {
			i := strings.LastIndexByte(word[:len(word)-1], '=') // the key = may be either of them
			if i < 1 {
				return fmt.Errorf("%q does not say what a key stands for: write ctrl+d=pgdown", word)
			}
			if keys == nil {
				keys = map[string]string{}
			}
			keys[word[:i]] = word[i+1:]
		}
		c.Keys = keys
	default:
		return nearest.Unknown("setting", key, Keys)
	}
	return nil
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func setYesNo(b *bool, value string) error {
	switch strings.ToLower(value) {
	case "yes", "true":
		*b = true
	case "no", "false", "":
		*b = false
	default:
		return nearest.Unknown("answer", value, []string{"yes", "no"})
	}
	return nil
}
