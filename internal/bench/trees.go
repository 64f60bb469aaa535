package main

import (
	"archive/zip"
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// note is the path of the nth file of a tree.
func note(n int) string {
	return fmt.Sprintf("d%03d/e%04d/Delivery note %06d.txt", n/10_000, n/100, n)
}

// layTree lays n files, a hundred a folder. Without content they take no room: surveys do not look into them.
func layTree(dir string, n int, at time.Time, content bool) error {
	for i := range n {
		path := filepath.Join(dir, note(i))
		if i%100 == 0 {
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
		}
		var text []byte
		if content {
			text = fmt.Appendf(nil, "larch plank %06d\n", i)
		}
		if err := os.WriteFile(path, text, 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(path, at, at); err != nil {
			return err
		}
	}
	return nil
}

// layTrash fills a trash directory with n items whose records give the path that recorded returns.
func layTrash(can string, n int, recorded func(name string) string) error {
	for _, sub := range []string{"files", "info"} {
		if err := os.MkdirAll(filepath.Join(can, sub), 0o700); err != nil {
			return err
		}
	}
	gone := time.Now().Add(-20 * 24 * time.Hour)
	for i := range n {
		name := fmt.Sprintf("Delivery note %06d.txt", i)
		record := fmt.Sprintf(
			"[Trash Info]\nPath=%s\nDeletionDate=%s\n",
			strings.ReplaceAll(recorded(name), " ", "%20"),
			gone.Add(time.Duration(i)*time.Second).Format("2006-01-02T15:04:05"),
		)
		if err := os.WriteFile(filepath.Join(can, "info", name+".trashinfo"), []byte(record), 0o600); err != nil {
			return err
		}
		content := strings.Repeat(fmt.Sprintf("larch plank %06d\n", i), 24)
		if err := os.WriteFile(filepath.Join(can, "files", name), []byte(content), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// layDocuments lays documents of five kinds, some twenty kilobytes each.
func layDocuments(folder string, n int) error {
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
