package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"humble-rewind/api"
)

// shownTrail is a trail as it is answered. Its versions are written some at a time: there may be thousands.
type shownTrail struct {
	api.GetTrail200JSONResponse
	count   int
	version func(int) api.TrailVersion
}

// VisitGetTrailResponse writes the trail.
func (t shownTrail) VisitGetTrailResponse(w http.ResponseWriter) error {
	t.Versions = []api.TrailVersion{}
	return spliced(w, t.GetTrail200JSONResponse, "versions", func(p *pieces) error {
		for n := range t.count {
			if n > 0 {
				p.b = append(p.b, ',')
			}
			p.b = appendVersion(p.b, t.version(n))
			if err := p.append(nil); err != nil {
				return err
			}
		}
		return nil
	})
}

// spliced answers with rest as JSON, whose empty list of a name is filled by fill, some elements at a time.
func spliced(w http.ResponseWriter, rest any, name string, fill func(*pieces) error) error {
	encoded, err := json.Marshal(rest)
	if err != nil {
		return err
	}
	before, after, found := strings.Cut(string(encoded), fmt.Sprintf("%q:[]", name))
	if !found {
		return fmt.Errorf("there is no empty list of %s in %.200s", name, encoded)
	}
	w.Header().Set("Content-Type", "application/json")
	return inPieces(w, func(put func([]byte) error) error {
		p := pieces{put: put, b: fmt.Appendf(nil, "%s%q:[", before, name)}
		if err := fill(&p); err != nil {
			return err
		}
		p.b = append(append(append(p.b, ']'), after...), '\n')
		return put(p.b)
	})
}

// appendList appends a list, each element by one.
func appendList[T any](b []byte, all []T, one func([]byte, T) []byte) []byte {
	b = append(b, '[')
	for n, x := range all {
		if n > 0 {
			b = append(b, ',')
		}
		b = one(b, x)
	}
	return append(b, ']')
}

func appendTime(b []byte, t time.Time) []byte {
	b = append(b, '"')
	b = t.AppendFormat(b, time.RFC3339Nano)
	return append(b, '"')
}

// appendOptional appends what may be missing: null where it is.
func appendOptional[T any](b []byte, x *T, one func([]byte, T) []byte) []byte {
	if x == nil {
		return append(b, "null"...)
	}
	return one(b, *x)
}

// appendIf appends a field that is left out where it is missing.
func appendIf[T any](b []byte, field string, x *T, one func([]byte, T) []byte) []byte {
	if x == nil {
		return b
	}
	return one(append(b, field...), *x)
}

func appendInt(b []byte, n int64) []byte { return strconv.AppendInt(b, n, 10) }

func appendVersion(b []byte, v api.TrailVersion) []byte {
	b = append(b, '{')
	b = appendIf(b, `"after":`, v.After, appendTime)
	if v.After != nil {
		b = append(b, ',')
	}
	b = appendTime(append(b, `"arrived_at":`...), v.ArrivedAt)
	b = appendIf(b, `,"author":`, v.Author, appendText)
	b = appendIf(b, `,"beside":`, v.Beside, strconv.AppendBool)
	b = appendInt(append(b, `,"content":`...), int64(v.Content))
	b = appendList(append(b, `,"copies":`...), v.Copies, appendCopy)
	b = strconv.AppendBool(append(b, `,"current":`...), v.Current)
	b = appendIf(b, `,"doubt":`, v.Doubt, appendText)
	b = appendTime(append(b, `,"first_seen_at":`...), v.FirstSeenAt)
	b = appendIf(b, `,"hidden":`, v.Hidden, strconv.AppendBool)
	b = appendTime(append(b, `,"last_seen_at":`...), v.LastSeenAt)
	if v.Marks != nil {
		b = appendList(append(b, `,"marks":`...), *v.Marks, appendMark)
	}
	b = appendIf(b, `,"message":`, v.Message, appendText)
	b = appendPlace(append(b, `,"place":`...), v.Place)
	b = appendOptional(append(b, `,"sha256":`...), v.Sha256, appendText)
	b = appendOptional(append(b, `,"size":`...), v.Size, appendInt)
	b = appendOptional(append(b, `,"superseded_at":`...), v.SupersededAt, appendTime)
	b = appendText(append(b, `,"type":`...), string(v.Type))
	b = appendOptional(append(b, `,"written_at":`...), v.WrittenAt, appendTime)
	return append(b, '}')
}

func appendMark(b []byte, m api.TrailMark) []byte {
	b = appendTime(append(b, `{"captured_at":`...), m.CapturedAt)
	b = appendIf(b, `,"condition":`, m.Condition, func(b []byte, s api.ConditionState) []byte { return appendText(b, string(s)) })
	b = appendIf(b, `,"expires_at":`, m.ExpiresAt, appendTime)
	b = appendIf(b, `,"gone_at":`, m.GoneAt, appendTime)
	b = appendText(append(b, `,"id":`...), m.Id)
	b = appendInt(append(b, `,"lane":`...), int64(m.Lane))
	b = appendTime(append(b, `,"last_seen_at":`...), m.LastSeenAt)
	b = strconv.AppendBool(append(b, `,"readable":`...), m.Readable)
	return append(b, '}')
}

func appendCopy(b []byte, c api.Copy) []byte {
	b = appendIf(append(b, '{'), `"author":`, c.Author, appendText)
	if c.Author != nil {
		b = append(b, ',')
	}
	b = appendIf(b, `"beside":`, c.Beside, strconv.AppendBool)
	if c.Beside != nil {
		b = append(b, ',')
	}
	b = appendTime(append(b, `"captured_at":`...), c.CapturedAt)
	b = appendIf(b, `,"claimed":`, c.Claimed, appendPlace)
	b = appendText(append(b, `,"class":`...), string(c.Class))
	b = appendList(append(b, `,"condition":{"reasons":`...), c.Condition.Reasons, appendText)
	b = appendText(append(b, `,"state":`...), string(c.Condition.State))
	b = appendOptional(append(b, `},"expires_at":`...), c.ExpiresAt, appendTime)
	b = appendOptional(append(b, `,"gone_at":`...), c.GoneAt, appendTime)
	b = appendText(append(b, `,"id":`...), c.Id)
	if c.Intact != nil {
		b = strconv.AppendFloat(append(b, `,"intact":{"share":`...), c.Intact.Share, 'f', -1, 64)
		b = append(appendText(append(b, `,"state":`...), string(c.Intact.State)), '}')
	}
	b = appendIf(b, `,"item_of":`, c.ItemOf, appendText)
	b = appendTime(append(b, `,"last_seen_at":`...), c.LastSeenAt)
	b = appendIf(b, `,"lies":`, c.Lies, appendText)
	b = appendPlace(append(b, `,"lies_at":`...), c.LiesAt)
	b = appendIf(b, `,"message":`, c.Message, appendText)
	b = appendText(append(b, `,"name":`...), c.Name)
	b = appendIf(b, `,"nameless":`, c.Nameless, strconv.AppendBool)
	b = appendList(append(b, `,"notes":`...), c.Notes, appendText)
	b = strconv.AppendBool(append(b, `,"origin_known":`...), c.OriginKnown)
	b = appendIf(b, `,"person":`, c.Person, appendText)
	b = appendPlace(append(b, `,"place":`...), c.Place)
	b = strconv.AppendBool(append(b, `,"readable":`...), c.Readable)
	b = appendIf(b, `,"sealed":`, c.Sealed, appendSealed)
	b = appendOptional(append(b, `,"sha256":`...), c.Sha256, appendText)
	b = appendOptional(append(b, `,"size":`...), c.Size, appendInt)
	b = appendIf(append(b, `,"source":{`...), `"drive":`, c.Source.Drive, appendText)
	if c.Source.Drive != nil {
		b = append(b, ',')
	}
	b = appendText(append(b, `"id":`...), c.Source.Id)
	b = appendText(append(b, `,"kind":`...), c.Source.Kind)
	b = appendText(append(b, `},"state":`...), string(c.State))
	b = appendIf(b, `,"target":`, c.Target, appendText)
	b = appendText(append(b, `,"type":`...), string(c.Type))
	b = appendOptional(append(b, `,"written_at":`...), c.WrittenAt, appendTime)
	return append(b, '}')
}

func appendSealed(b []byte, f api.SealedFolder) []byte {
	b = appendIf(append(b, '{'), `"files":`, f.Files, func(b []byte, n int) []byte { return strconv.AppendInt(b, int64(n), 10) })
	if f.Files != nil {
		b = append(b, ',')
	}
	b = appendPlace(append(b, `"place":`...), f.Place)
	b = appendIf(b, `,"size":`, f.Size, appendInt)
	b = appendText(append(b, `,"why":`...), f.Why)
	return append(b, '}')
}
