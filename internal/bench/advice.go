package main

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"time"

	"humble-rewind/api"
)

// advices measures choosing: on a place with a thousand sightings, on documents to be examined, on a folder most of which
// stands as it did while a third was rewritten within minutes.
func advices(ctx context.Context, binary, dir string) ([]row, error) {
	var rows []row
	for _, measure := range []func(context.Context, string, string) ([]row, error){placeAdvice, conditions, folderAdvice} {
		more, err := measure(ctx, binary, dir)
		if err != nil {
			return nil, err
		}
		rows = append(rows, more...)
	}
	return rows, nil
}

func placeAdvice(ctx context.Context, binary, dir string) ([]row, error) {
	root := filepath.Join(dir, "advised")
	defer os.RemoveAll(root)
	first := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -101)
	s, err := start(ctx, binary, filepath.Join(dir, "advice-data"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(os.MkdirAll(root, 0o755), s.addMachine(ctx, "front-office", root), s.tenSources(ctx, root, first)); err != nil {
		return nil, err
	}
	if _, err := s.survey(ctx); err != nil {
		return nil, err
	}
	s.peak()
	good := first.AddDate(0, 0, 50)
	took, err := p95(func() error {
		r, err := s.AdviseWithResponse(
			ctx,
			api.NewAdvice{
				Place:  api.Destination{Machine: "front-office", Path: "/home/ines/Quote.odt"},
				Loss:   api.LossOverwritten,
				GoodAt: &good,
			},
		)
		if err == nil && (r.JSON200 == nil || r.JSON200.Recommended == nil) {
			err = fmt.Errorf("advice: %.300s", r.Body)
		}
		return err
	})
	return []row{
		{
			"advice on a place with 1,000 sightings in ten sources, p95 through the API",
			"35 ms",
			took,
			35 * time.Millisecond,
			"≤ 1.0×",
			s.peak(),
		},
	}, err
}

const documents = 10_000

func conditions(ctx context.Context, binary, dir string) ([]row, error) {
	say("making %d documents", documents)
	root := filepath.Join(dir, "examined")
	folder := filepath.Join(root, "home/ines/Documents")
	defer os.RemoveAll(root)
	if err := makeDocuments(folder, documents); err != nil {
		return nil, err
	}
	s, err := start(ctx, binary, filepath.Join(dir, "condition-data"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "front-office", root), s.addSource(ctx, "front-office", "live", "/home")); err != nil {
		return nil, err
	}
	if _, err := s.survey(ctx); err != nil {
		return nil, err
	}
	theirs, err := shell(ctx, fmt.Sprintf("find %s -type f -print0 | xargs -0 sha256sum >/dev/null", folder))
	if err != nil {
		return nil, err
	}
	s.peak()
	examine := true
	ours, err := timed(func() error {
		r, err := s.StartSurveyWithResponse(ctx, api.NewSurvey{Examine: &examine})
		if err != nil {
			return err
		}
		_, err = s.wait(ctx, r.JSON202, r.Body)
		return err
	})
	return []row{
		{"digest and condition of 10,000 mixed documents (`survey --examine`)", "`sha256sum` of them", ours, theirs, "≤ 3×", s.peak()},
	}, err
}

// makeDocuments lays documents of five kinds, some twenty kilobytes each.
func makeDocuments(folder string, n int) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for i := range n {
		var content []byte
		ext := []string{"odt", "txt", "csv", "png", "svg"}[i%5]
		text := strings.Repeat(fmt.Sprintf("plank %d of larch, %d fingers wide\n", i, i%17), 400)
		switch ext {
		case "odt":
			content = packed(
				"mimetype",
				"application/vnd.oasis.opendocument.text",
				"content.xml",
				"<text>"+text+"</text>",
				"META-INF/manifest.xml",
				"<manifest/>",
			)
		case "txt", "csv":
			content = []byte(text)
		case "svg":
			content = []byte(`<svg xmlns="http://www.w3.org/2000/svg"><desc>` + text + "</desc></svg>")
		case "png":
			img := image.NewGray(image.Rect(0, 0, 160, 120))
			for k := range img.Pix {
				img.SetGray(k%160, k/160, color.Gray{byte(k*i + k>>3)})
			}
			var b bytes.Buffer
			if err := png.Encode(&b, img); err != nil {
				return err
			}
			content = b.Bytes()
		}
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("document %05d.%s", i, ext)), content, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func packed(parts ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(parts); i += 2 {
		w, _ := z.Create(parts[i]) // into memory
		_, _ = w.Write([]byte(parts[i+1]))
	}
	_ = z.Close()
	return b.Bytes()
}

func folderAdvice(ctx context.Context, binary, dir string) ([]row, error) {
	say("making a folder of %d files, a third of them rewritten", folderFiles)
	root := filepath.Join(dir, "massed")
	defer os.RemoveAll(root)
	at := time.Now().UTC().Truncate(time.Hour).AddDate(0, 0, -3)
	folder := filepath.Join(root, "home/tomas/Drawings")
	for _, to := range []string{folder, filepath.Join(root, "big", at.Format("2006-01-02T1504"), "home/tomas/Drawings")} {
		if err := tree(to, folderFiles, at.Add(-time.Hour)); err != nil {
			return nil, err
		}
	}
	if _, err := shell(ctx, fmt.Sprintf("find %s -type f | awk 'NR%%3==0' | tr '\\n' '\\0' | xargs -0 -n 500 sh -c 'for f; do head -c "+
		"300 /dev/urandom >\"$f\"; done' sh", folder)); err != nil {
		return nil, err
	}
	s, err := start(ctx, binary, filepath.Join(dir, "mass-data"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = s.stop() }()
	if err := errors.Join(s.addMachine(ctx, "drawing-loft", root), s.addSource(ctx, "drawing-loft", "live", "/home"), s.addSource(ctx,
		"drawing-loft", "snapshots", "/big")); err != nil {
		return nil, err
	}
	if _, err := s.survey(ctx); err != nil {
		return nil, err
	}
	theirs, err := shell(ctx, fmt.Sprintf("find %s %s >/dev/null", folder, printed))
	if err != nil {
		return nil, err
	}
	s.peak()
	ours, err := timed(func() error {
		r, err := s.AdviseWithResponse(
			ctx,
			api.NewAdvice{Place: api.Destination{Machine: "drawing-loft", Path: "/home/tomas/Drawings"}, Loss: api.LossDamaged},
		)
		if err == nil &&
			(r.JSON200 == nil || r.JSON200.Folder == nil || r.JSON200.Folder.Certain+r.JSON200.Folder.Assumed < folderFiles/4) {
			err = fmt.Errorf("advice: %.600s", r.Body)
		}
		return err
	})
	return []row{{"advice on a folder of 100,000 files with a mass change", "`find` of it", ours, theirs, "—", s.peak()}}, err
}
