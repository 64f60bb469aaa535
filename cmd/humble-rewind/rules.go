package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/kinds"
)

// rulesFile is the file of rules for leftovers in the service's data folder, which a technician may extend.
const rulesFile = "strays.rules"

// strayRules reads the rules of a data folder; one that has none yet gets those that come with the program.
func strayRules(dir string) (stray.Rules, error) {
	path := filepath.Join(dir, rulesFile)
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, fmt.Errorf("make the data folder: %w", err)
		}
		rules, text := kinds.Leftovers()
		return rules, os.WriteFile(path, []byte(text), 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("read the rules for leftovers: %w", err)
	}
	defer file.Close()
	rules, err := stray.Parse(file)
	if err != nil {
		return nil, fmt.Errorf(
			"read the rules for leftovers in %s: %w. Next: put that line right, or move the file away to begin with those that come "+
				"with the program",
			path,
			err,
		)
	}
	return rules, nil
}
