package catalogue

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
)

// Export writes everything that is known as JSON lines (RFC 8259, one object a line), so that nobody needs this program to read their
// records. Each line says in "record" what it is; docs/catalogue.md names the fields. The last is of the record "end", with how many there
// are before it. Names that are not UTF-8 stand readable under
// their name and in base64 beside it, under that name with "_bytes".
func (c *Catalogue) Export(ctx context.Context, to io.Writer) error {
	w := bufio.NewWriterSize(to, 64<<10)
	e := exporter{c: c, ctx: ctx, lines: json.NewEncoder(w)}
	e.lines.SetEscapeHTML(false)
	for _, part := range []func() error{e.machines, e.sources, e.spans, e.tables} {
		if err := part(); err != nil {
			return fmt.Errorf("export the records: %w", err)
		}
	}
	if err := e.put(record{"record": "end", "records": e.count}); err != nil {
		return err
	}
	return w.Flush()
}

type exporter struct {
	c     *Catalogue
	ctx   context.Context
	lines *json.Encoder
	count int
}

func (e *exporter) put(line record) error {
	e.count++
	return e.lines.Encode(line)
}

// record is one line; what is unknown is left out.
type record map[string]any

// name adds a name or a path under a key.
func (r record) name(key, value string) record {
	if value == "" {
		return r
	}
	r[key] = value
	if !utf8.ValidString(value) {
		r[key] = place.Readable(value)
		r[key+"_bytes"] = base64.StdEncoding.EncodeToString([]byte(value))
	}
	return r
}

// some adds a value that is not empty.
func (r record) some(key, value string) record {
	if value != "" {
		r[key] = value
	}
	return r
}

// at adds a time.
func (r record) at(key string, at time.Time) record {
	if !at.IsZero() {
		r[key] = at.UTC().Format(time.RFC3339Nano)
	}
	return r
}

func (e *exporter) machines() error {
	all, err := e.c.Machines(e.ctx)
	if err != nil {
		return err
	}
	for _, m := range all {
		line := record{"record": "machine", "name": m.Name, "zone": m.Zone, "retention_days": m.RetentionDays,
			"clock_ahead_seconds": m.ClockAhead.Seconds()}
		if err := e.put(line.name("at", m.At)); err != nil {
			return err
		}
		for _, p := range m.People {
			line := record{"record": "person", "machine": m.Name, "name": p.Name, "full_name": p.FullName, "uid": p.UID}
			if err := e.put(line.name("home", p.Home)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *exporter) sources() error {
	stores, err := e.c.Stores(e.ctx)
	if err != nil {
		return err
	}
	all, err := e.c.Sources(e.ctx, "")
	if err != nil {
		return err
	}
	for _, s := range all {
		line := record{"record": "source", "id": fmt.Sprintf("s%d", s.ID), "kind": s.Kind, "machine": s.Machine, "on": s.AtMachine}
		if err := e.put(line.name("at", s.At).at("surveyed_at", s.SurveyedAt)); err != nil {
			return err
		}
		store := stores[s.ID]
		if store == nil {
			continue
		}
		held := map[time.Time]string{}
		for i, at := range store.Held {
			held[at] = store.Names[i]
		}
		for _, at := range store.Captures {
			name, still := held[at]
			line := record{"record": "capture", "source": fmt.Sprintf("s%d", s.ID), "held": still}
			if err := e.put(line.name("name", name).at("at", at)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *exporter) spans() error {
	r, err := e.c.reading(e.ctx)
	if err != nil {
		return err
	}
	for _, id := range slices.Sorted(maps.Keys(r.stores)) {
		for from := (Position{}); ; {
			some, err := e.c.blocksFrom(e.ctx, id, from)
			if err != nil {
				return err
			}
			if len(some) == 0 {
				break
			}
			for _, b := range some {
				from = Position{b.folder.id, b.id}
				all := make([]located, 0, len(b.now)+len(b.past))
				for _, spans := range [...][]block.Span{b.past, b.now} {
					for _, s := range spans {
						all = append(all, located{s, b.folder})
					}
				}
				if err := e.some(r, all); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (e *exporter) some(r *reading, all []located) error {
	ids := make([]copies.ID, len(all))
	for i := range all {
		ids[i] = all[i].ID
	}
	known, err := e.c.contentsOf(e.ctx, ids)
	if err != nil {
		return err
	}
	for i := range all {
		l := &all[i]
		row := known[l.ID]
		line := record{"record": "span", "id": l.ID.String(), "source": l.folder.source.String(),
			"machine": r.machineOf(l), "type": l.Type, "origin_known": l.OriginKnown, "readable": r.readable(l), "within": l.Within}
		line.name("place", l.placePath()).name("lies", place.Join("/"+l.folder.path, l.Name)[1:])
		line.at("first", atNanos(l.First)).at("written", l.Written.Time()).at("gone", l.Gone.Time()).some("person", l.Person)
		line.name("target", l.Target).name("claimed", l.Claimed).some("lies_for_people", l.Lies)
		line.some("sha256", row.sha256.Hex()).some("condition", string(row.condition))
		line.some("author", l.Author).some("message", l.Message).at("told", l.Told.Time())
		if l.Beside {
			line["beside"] = true
		}
		if !l.Stands() {
			line.at("last", atNanos(l.Last))
		}
		if l.Size >= 0 {
			line["size"] = l.Size
		}
		if l.Ref != "" {
			line["ref"] = base64.StdEncoding.EncodeToString([]byte(l.Ref))
		}
		if len(l.Notes) > 0 {
			line["notes"] = l.Notes
		}
		line.mark(&l.Mark)
		if err := e.put(line); err != nil {
			return err
		}
	}
	return nil
}

// mark adds what tells a changed entry from an unchanged one.
func (r record) mark(m *entry.Mark) {
	if m.Mode.Known {
		r["mode"] = fmt.Sprintf("%04o", uint32(m.Mode.Value.Perm())|special(m.Mode.Value))
	}
	if m.UID.Known {
		r["uid"] = m.UID.Value
	}
	if m.GID.Known {
		r["gid"] = m.GID.Value
	}
	if m.File.Number != 0 {
		r["file_number"] = m.File.Number
	}
	r.at("changed", m.File.Changed.Time())
	if m.Content != (entry.ContentID{}) {
		r["content"] = contentName(m.Content)
	}
}

// special are the bits of a mode above the permissions, as chmod(2) numbers them.
func special(m fs.FileMode) (bits uint32) {
	for mode, bit := range map[fs.FileMode]uint32{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if m&mode != 0 {
			bits |= bit
		}
	}
	return bits
}

// exported are tables that are written as they are.
var exported = map[string]string{"receipt": "receipts", "case": "cases", "case_entry": "case_entries",
	"examined": "examined"}

// tables writes receipts, cases and what was found in contents: a line a row, with its columns. Bytes that are text are text, others hex;
// times are nanoseconds since 1970.
func (e *exporter) tables() error {
	for _, kind := range []string{"receipt", "case", "case_entry", "examined"} {
		rows, err := e.c.read.QueryContext(e.ctx, "SELECT * FROM "+exported[kind])
		if err != nil {
			return err
		}
		if err := errors.Join(e.rows(kind, rows), rows.Close()); err != nil {
			return err
		}
	}
	return e.c.eachItem(e.ctx, func(receipt int64, i ReceiptItem) error {
		line := record{"record": "receipt_item", "receipt_id": receipt, "n": i.N, "copy": i.Copy, "source_id": i.Source,
			"from_machine": i.From.Machine, "to_machine": i.To.Machine, "type": i.Type, "size": i.Size, "outcome": i.Outcome, "note": i.Note}
		return e.put(line.name("from_path", i.From.Path).name("to_path", i.To.Path).some("sha256", i.SHA256.Hex()))
	})
}

func (e *exporter) rows(kind string, rows *sql.Rows) error {
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	values, into := make([]any, len(columns)), make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		line := record{"record": kind}
		for i, column := range columns {
			switch v := values[i].(type) {
			case nil:
			case []byte:
				if utf8.Valid(v) && !strings.HasSuffix(column, "256") {
					line[column] = string(v)
				} else {
					line[column] = hex.EncodeToString(v)
				}
			default:
				line[column] = v
			}
		}
		if err := e.put(line); err != nil {
			return err
		}
	}
	return rows.Err()
}
