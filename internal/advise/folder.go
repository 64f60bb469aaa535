package advise

import (
	"context"
	"time"
)

// Folder is the advice for a folder.
type Folder struct{}

func (a *Adviser) folder(ctx context.Context, q Question, now time.Time) (Answer, bool, error) {
	return Answer{}, false, nil
}
