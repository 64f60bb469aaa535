package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"time"

	"humble-rewind/internal/browser"
)

// page measures what the console's first page loads and when it shows something, with all sightings.
func (b *bench) page(ctx context.Context) error {
	f, err := b.huge(ctx)
	if err != nil {
		return err
	}
	s, err := b.start(ctx, f.data)
	if err != nil {
		return err
	}
	defer func() { _ = s.stop() }()
	bytes, err := s.loaded(ctx)
	if err != nil {
		return err
	}
	b.rows = append(b.rows, row{work: fmt.Sprintf("what the console's first page loads, compressed: %d KiB", bytes>>10), yardstick: "—",
		limit: "≤ 300 KiB: " + met(bytes <= 300<<10)})
	window, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		say("the console is not measured: %s", err)
		return nil
	}
	defer window.Close()
	if err := window.Visit(s.url + "/sign-in#token=" + s.token); err != nil {
		return err
	}
	if err := window.WaitText(f.deleted); err != nil {
		return err
	}
	r := row{work: fmt.Sprintf("the Desk shows what was deleted last, with %d sightings", f.count), yardstick: "—"}
	for range rounds {
		if err := window.Show("about:blank"); err != nil {
			return err
		}
		shown, memory, err := s.measure(func() error {
			if err := window.Show(s.url + "/"); err != nil {
				return err
			}
			return window.WaitText(f.deleted)
		})
		if err != nil {
			return err
		}
		r.ours, r.memory = append(r.ours, shown), max(r.memory, memory)
	}
	r.limit = "≤ 1 s: " + met(median(r.ours).clock <= time.Second)
	b.rows = append(b.rows, r)
	return nil
}

var loads = regexp.MustCompile(`(?:src|href)="(/[^"]+\.(?:js|css|woff2|svg))"`)

// loaded is how many bytes the first page and all that it names take on the way.
func (s *server) loaded(ctx context.Context) (total int, err error) {
	page, n, err := s.fetch(ctx, "/", "identity")
	if err != nil {
		return 0, err
	}
	total = n
	for _, found := range loads.FindAllSubmatch(page, -1) {
		_, n, err := s.fetch(ctx, string(found[1]), "gzip, br")
		if err != nil {
			return 0, err
		}
		total += n
	}
	if total == n {
		return 0, fmt.Errorf("the page names nothing to load: %.300s", page)
	}
	return total, nil
}

func (s *server) fetch(ctx context.Context, path, encoding string) ([]byte, int, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url+path, nil)
	if err != nil {
		return nil, 0, err
	}
	request.Header.Set("Accept-Encoding", encoding) // said by hand, so that it is not unpacked
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, 0, err
	}
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", path, answer.Status)
	}
	return content, len(content), err
}
