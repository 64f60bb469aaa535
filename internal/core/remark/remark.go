// Package remark holds what there is to say, as codes with values. A remark has no words: package say turns it into a sentence, and clients
// may word the code for themselves.
package remark

import (
	"bytes"
	"encoding/json"
	"slices"
)

// Remark is one thing that there is to say: a code that stays the same from release to release, and what it speaks of.
type Remark struct {
	Code   string `json:"code"`
	Values Values `json:"values,omitempty"`
}

// Values are what a remark speaks of, by name: whole numbers, texts, times, durations, a [Size], a [Share], [Words], other remarks, or
// anything with a String method.
type Values map[string]any

// Size is a number of bytes, said in the unit that fits.
type Size int64

// Share is a part of a whole, from 0 to 1, said in percent.
type Share float64

// Words are said one after the other, each between quotation marks.
type Words []string

// New makes a remark that speaks of pairs of a name and a value.
func New(code string, pairs ...any) Remark {
	r := Remark{Code: code}
	if len(pairs) > 0 {
		r.Values = make(Values, len(pairs)/2)
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		r.Values[pairs[i].(string)] = pairs[i+1]
	}
	return r
}

// said is the code of what was said elsewhere.
const said = "said"

// Said is a remark that is in words already: a message of a library or of another system, or a sentence that an earlier version kept.
func Said(text string) Remark { return New(said, "text", text) }

// Any tells whether there is anything to say.
func (r Remark) Any() bool { return r.Code != "" }

// Has tells whether a remark of a code is among some.
func Has(all []Remark, code string) bool {
	return slices.ContainsFunc(all, func(r Remark) bool { return r.Code == code })
}

// UnmarshalJSON reads a remark whose values are whole numbers, shares, texts and remarks. A text alone is one that was said, as earlier
// versions kept it.
func (r *Remark) UnmarshalJSON(encoded []byte) error {
	var text string
	if json.Unmarshal(encoded, &text) == nil {
		*r = Said(text)
		return nil
	}
	var read struct {
		Code   string
		Values map[string]json.RawMessage
	}
	if err := json.Unmarshal(encoded, &read); err != nil {
		return err
	}
	*r = Remark{Code: read.Code}
	for name, value := range read.Values {
		v, err := decode(value)
		if err != nil {
			return err
		}
		if r.Values == nil {
			r.Values = Values{}
		}
		r.Values[name] = v
	}
	return nil
}

func decode(value json.RawMessage) (any, error) {
	if bytes.HasPrefix(value, []byte("{")) {
		var r Remark
		return r, json.Unmarshal(value, &r)
	}
	var v any
	reading := json.NewDecoder(bytes.NewReader(value))
	reading.UseNumber()
	if err := reading.Decode(&v); err != nil {
		return nil, err
	}
	if n, ok := v.(json.Number); ok {
		if whole, err := n.Int64(); err == nil {
			return whole, nil
		}
		return n.Float64()
	}
	return v, nil
}

// Together are remarks that are said in one sentence, with "and" between them.
type Together []Remark
