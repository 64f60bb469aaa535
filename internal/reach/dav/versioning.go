package dav

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// Tag returns the entity tag of a file.
func (s *server) Tag(ctx context.Context, path string) (string, error) {
	r, err := s.look(ctx, path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return r.Tag, nil
}

// strong returns a tag that a precondition takes: some servers call a tag weak (RFC 9110, 8.8.1) until a file is some seconds old, and then
// no precondition holds. problem.Taken says that something else stands there by now.
func (s *server) strong(ctx context.Context, path, tag string) (string, error) {
	opaque, weak := strings.CutPrefix(tag, "W/")
	for range 40 {
		if !weak {
			return tag, nil
		}
		now, err := s.Tag(ctx, path)
		if err != nil {
			return "", err
		}
		if strings.TrimPrefix(now, "W/") != opaque {
			return "", fmt.Errorf("%s: %w", place.Quote(path), problem.Taken)
		}
		if weak = strings.HasPrefix(now, "W/"); !weak {
			return now, nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return "", ctx.Err()
		}
	}
	return "", fmt.Errorf("%s: the server has no sure way to tell one content from another: %w", place.Quote(path), problem.Unsupported)
}

// PutVersion writes a file by a PUT with If-Match, or with If-None-Match where nothing is to stand there.
func (s *server) PutVersion(ctx context.Context, path string, content io.Reader, size int64, over string) (string, error) {
	header := onlyNew
	if over != "" {
		var err error
		if over, err = s.strong(ctx, path, over); err != nil {
			return "", err
		}
		header = http.Header{"If-Match": {over}}
	}
	tag, err := s.put(ctx, path, header, content, size)
	if err != nil {
		return "", fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return tag, nil
}

// RemoveVersion removes a file by a DELETE with If-Match, or a folder.
func (s *server) RemoveVersion(ctx context.Context, path, tag string) error {
	header := http.Header{}
	if tag != "" {
		var err error
		if tag, err = s.strong(ctx, path, tag); err != nil {
			return err
		}
		header.Set("If-Match", tag)
	}
	answer, err := s.request(ctx, "DELETE", s.url(path, tag == ""), header, nil, -1, http.StatusNoContent, http.StatusOK)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return answer.Body.Close()
}
