package archive

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/source"
)

// Archives that are members of an archive are looked into one level deep: their members lie in it as in a folder of its name.

// isArchive tells whether a member is an archive that is looked into.
func (m member) isArchive() bool {
	f, _ := formatOf(m.name())
	return f != nil && m.typ == entry.File && m.why == ""
}

// surveyNested reports what lies in the archives in an archive.
func (s *store) surveyNested(ctx context.Context, p point, o *opened, known source.Known, report source.Reporter) error {
	members := len(o.members)
	for _, m := range o.members {
		if !m.isArchive() {
			continue
		}
		inner, release, err := s.nested(ctx, o, m)
		if err == nil && members+len(inner.members) > maxMembers {
			release()
			err = errTooMany
		}
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			report.Note(fmt.Sprintf("%s in %s is not looked into: %v.", place.Readable(m.path), place.Readable(o.called), err))
			continue
		}
		members += len(inner.members)
		err = s.report(ctx, p, inner, m.path, known, report)
		release()
		if err != nil {
			return err
		}
	}
	return nil
}

// nestedFor returns the archive in another one that a path lies in, with the path in that; the error is problem.NotThere where there is
// none.
func (s *store) nestedFor(ctx context.Context, o *opened, path string) (inner *opened, release func(), rest string, err error) {
	for at := 0; ; {
		next := strings.IndexByte(path[at:], '/')
		if next < 0 {
			return nil, nil, "", problem.NotThere
		}
		at += next
		if m, ok := o.find(path[:at]); ok && m.isArchive() {
			inner, release, err = s.nested(ctx, o, m)
			return inner, release, path[at+1:], err
		}
		at++
	}
}

// nested returns an archive in another one, to be let go of with the function. The other one stays open as long as it does.
func (s *store) nested(ctx context.Context, o *opened, m member) (*opened, func(), error) {
	now := file{o.file.name + "\x00" + m.path, m.size, o.file.written} // which no file is called
	for {
		if inner, release, ok := s.known(now); ok {
			return inner, release, nil
		}
		mine := false
		_, err, _ := s.reading.Do(now.name, func() (any, error) {
			mine = true
			return nil, s.readNested(ctx, o, m, now)
		})
		if left := errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded); err != nil && (mine || !left) {
			return nil, nil, err
		}
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
	}
}

func (s *store) readNested(ctx context.Context, o *opened, m member, now file) error {
	f, _ := formatOf(m.name())
	inner := &opened{file: now, called: m.path + " in " + o.called, format: f, secret: s.Secret, zone: s.Zone, page: s.Options[optionNames],
		from: &memberFile{o, m, func() {}}, unpacker: s.Unpacker}
	s.mu.Lock()
	o.users++
	s.mu.Unlock()
	inner.close = func() error { // mu is held
		if inner.at.ReaderAt != nil {
			_ = inner.at.Close()
		}
		inner.kept.close()
		if o.users--; o.users == 0 && o.gone {
			return o.close()
		}
		return nil
	}
	err := f.read(inner, ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		_ = inner.close()
		return err
	}
	s.keep(inner)
	return nil
}
