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
	"strings"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
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
	all, err := e.c.Machines.All(e.ctx)
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
			line := record{"record": "person", "machine": m.Name, "name": p.Name, "full_name": p.FullName, "uid": p.UID,
				"person": p.Person.String()}
			if err := e.put(line.name("home", p.Home)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *exporter) sources() error {
	stores, err := e.c.Everything().Copies.Stores(e.ctx)
	if err != nil {
		return err
	}
	all, err := e.c.Sources.Of(e.ctx, "")
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
	return e.c.Everything().Copies.Each(e.ctx, func(c *copies.Copy) error {
		line := record{"record": "span", "id": c.ID.String(), "source": c.Store.ID.String(), "machine": c.Store.Machine, "type": c.Type,
			"origin_known": !c.Lost, "readable": c.Readable, "within": c.Within}
		lies := sighting.Locator{Dir: c.At.Dir, Name: c.At.Name}
		line.name("place", c.Place.Path).name("lies", lies.Path())
		line.at("first", c.Captured).at("written", c.Recorded()).at("gone", c.GoneRecorded()).some("person", c.Person)
		line.name("target", c.Target).name("claimed", c.Claimed).some("lies_for_people", c.Lies).some("sha256", c.SHA256.Hex())
		line.some("author", c.Author).some("message", c.Message)
		if c.Condition != condition.Unread {
			line["condition"] = c.Condition
		}
		if c.Told {
			line.at("told", c.First.Add(c.Store.ClockAhead))
		}
		if c.Beside {
			line["beside"] = true
		}
		if !c.Open {
			line.at("last", c.Last)
		}
		if c.Size >= 0 {
			line["size"] = c.Size
		}
		if c.OwnRef != "" {
			line["ref"] = base64.StdEncoding.EncodeToString([]byte(c.OwnRef))
		}
		if len(c.Notes) > 0 {
			line["notes"] = c.Notes
		}
		line.mark(&c.Mark)
		return e.put(line)
	})
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
		r["content"] = string(m.Content.Kind) + ":" + m.Content.Value
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
		rows, err := e.c.f.Read.QueryContext(e.ctx, "SELECT * FROM "+exported[kind])
		if err != nil {
			return err
		}
		if err := errors.Join(e.rows(kind, rows), rows.Close()); err != nil {
			return err
		}
	}
	return e.c.Receipts.EachItem(e.ctx, func(receipt int64, i ReceiptItem) error {
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
