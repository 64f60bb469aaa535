package original

import (
	"context"
	"errors"
	"fmt"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/say"
)

// Obstacle says what in a folder keeps it from being set aside or moved as a whole, or "".
func Obstacle(ctx context.Context, folder reach.Tree, name string) string {
	info, err := folder.Look(ctx, name)
	if err != nil || info.Type != entry.Folder {
		return ""
	}
	if !info.Volume().Known() {
		return "it is a folder, and the way to the machine does not tell whether another file system is mounted in it"
	}
	var walk func(in reach.Tree, name, path string) error
	walk = func(in reach.Tree, name, path string) error {
		inside, err := in.Enter(ctx, name)
		if errors.Is(err, problem.Private) {
			return fmt.Errorf("the service's own data is in it, at %s", place.Readable(path))
		}
		if err != nil {
			return fmt.Errorf("%s in it cannot be read: %s", place.Readable(path), say.BringBackError(err))
		}
		defer inside.Close()
		entries, err := inside.List(ctx)
		if err != nil {
			return fmt.Errorf("%s in it cannot be read: %s", place.Readable(path), say.BringBackError(err))
		}
		for _, e := range entries {
			at := place.Join(path, e.Name)
			if reach.SameVolume(e.Volume(), info.Volume()) == reach.No {
				return fmt.Errorf("another file system is mounted in it, at %s", place.Readable(at))
			}
			if e.Type == entry.Folder {
				if err := walk(inside, e.Name, at); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := walk(folder, name, name); err != nil {
		return err.Error()
	}
	return ""
}
