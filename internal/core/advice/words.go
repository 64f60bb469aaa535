package advice

import (
	"slices"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/remark"
)

// anyOf returns the reason of the lowest key, so that the same evidence gives the same words.
func anyOf(failed map[copies.ID]Reason) Reason {
	ids := make([]copies.ID, 0, len(failed))
	for id := range failed {
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return remark.New("no-reason")
	}
	return failed[slices.Min(ids)]
}

// said says what examining a content gave.
func said(v condition.Verdict) Reason {
	code := map[condition.State]string{condition.Sound: "sound", condition.Doubtful: "doubtful", condition.Broken: "broken"}[v.State]
	if code == "" {
		code = "unread"
	}
	return remark.New(code, "why", v.Reasons)
}
