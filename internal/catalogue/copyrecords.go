package catalogue

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"humble-rewind/internal/catalogue/file"
)

// What surveys saw can be read anew from the machines; what technicians did cannot. So that is copied once a day into a folder
// beside the catalogue, which is a small catalogue of its own: machines, people, sources, receipts and cases, without copies.
const (
	recordsCopy    = "records-copy"
	recordsCopyOld = "records-copy-before" // the one before, should the newest turn out to be damaged
)

// copied are the tables of what cannot be read anew, in an order in which each refers to earlier ones only.
var copied = []string{"machines", "persons", "persons_apart", "people", "former_homes", "sources", "receipts", "receipt_batches", "receipt_folders", "receipt_stages",
	"receipt_machines", "cases", "case_entries", "jobs", "job_machines", "technicians", "technician_machines"}

// CopyRecords makes the copy in the catalogue's folder anew.
func (c *Catalogue) CopyRecords(ctx context.Context) error {
	dir := c.f.Dir()
	making := filepath.Join(dir, recordsCopy+"-new")
	if err := os.RemoveAll(making); err != nil {
		return err
	}
	if err := os.Mkdir(making, 0o700); err != nil {
		return err
	}
	to, err := openIn(ctx, filepath.Join(making, File))
	if err != nil {
		return err
	}
	err = to.takeFrom(ctx, c.f.Path())
	if err := errors.Join(err, to.Close()); err != nil {
		return errors.Join(fmt.Errorf("copy the records: %w", err), os.RemoveAll(making))
	}
	last, before := filepath.Join(dir, recordsCopy), filepath.Join(dir, recordsCopyOld)
	if err := os.RemoveAll(before); err != nil {
		return err
	}
	if err := os.Rename(last, before); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return file.Rename(making, last)
}

// takeFrom fills a new catalogue with what cannot be read anew of another.
func (c *Catalogue) takeFrom(ctx context.Context, path string) error {
	statements := []string{}
	for _, table := range copied {
		statements = append(statements, "INSERT INTO main."+table+" SELECT * FROM old."+table)
	}
	statements = append(
		statements,
		// No number is given twice, and the old ones are answered with a sentence.
		"UPDATE main.counters SET value = (SELECT o.value FROM old.counters o WHERE o.name = main.counters.name)",
		"UPDATE main.sources SET last_capture = NULL, found = 0, surveyed_at = NULL, renew = 0, recheck = 0, trouble = '', slice = NULL, steps = '{}', "+
			"renewed_below = (SELECT value FROM main.counters WHERE name = 'spans') + 1",
	)
	if err := c.f.TakeFrom(ctx, path, statements); err != nil {
		return err
	}
	return c.spans.Load(c.f)
}

// RecordsCopied tells when the last copy of the records in a folder was made; zero where there is none.
func RecordsCopied(dir string) time.Time {
	info, err := os.Stat(filepath.Join(dir, recordsCopy, File))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// Rebuild puts the copy of the records in the place of a damaged catalogue, or nothing where there is none that is whole. What was
// there is moved into a folder of its own. It returns that folder and when the copy was made, zero where there was none.
func Rebuild(ctx context.Context, dir string, now time.Time) (aside string, from time.Time, err error) {
	aside = filepath.Join(dir, "damaged-"+now.UTC().Format("20060102T150405"))
	if err := os.Mkdir(aside, 0o700); err != nil {
		return "", from, err
	}
	all, err := filepath.Glob(filepath.Join(dir, File+"*"))
	if err != nil {
		return "", from, err
	}
	for _, path := range all {
		if err := os.Rename(path, filepath.Join(aside, filepath.Base(path))); err != nil {
			return aside, from, err
		}
	}
	for _, name := range []string{recordsCopy, recordsCopyOld} {
		path := filepath.Join(dir, name, File)
		info, err := os.Stat(path)
		if err != nil {
			continue
		}
		c, err := openIn(ctx, path)
		if err != nil {
			continue // damaged as well
		}
		to, err := openIn(ctx, filepath.Join(dir, File))
		if err == nil {
			err = errors.Join(to.takeFrom(ctx, path), to.Close())
		}
		if err := errors.Join(err, c.Close()); err != nil {
			return aside, from, err
		}
		return aside, info.ModTime(), nil
	}
	return aside, from, nil
}
