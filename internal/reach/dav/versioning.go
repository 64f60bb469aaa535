package dav

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"humble-rewind/internal/core/place"
)

// Tag returns the entity tag of a file.
func (d *drive) Tag(ctx context.Context, path string) (string, error) {
	r, err := d.look(ctx, path)
	if err != nil {
		return "", fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return r.prop.Tag, nil
}

// PutVersion writes a file by a PUT with If-Match, or with If-None-Match where nothing is to stand there.
func (d *drive) PutVersion(ctx context.Context, path string, content io.Reader, size int64, over string) (string, error) {
	header := onlyNew
	if over != "" {
		header = http.Header{"If-Match": {over}}
	}
	tag, err := d.put(ctx, path, header, content, size)
	if err != nil {
		return "", fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return tag, nil
}

// RemoveVersion removes a file by a DELETE with If-Match, or a folder.
func (d *drive) RemoveVersion(ctx context.Context, path, tag string) error {
	header := http.Header{}
	if tag != "" {
		header.Set("If-Match", tag)
	}
	answer, err := d.request(ctx, "DELETE", d.url(path, tag == ""), header, nil, -1, http.StatusNoContent, http.StatusOK)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return answer.Body.Close()
}
