package service

import (
	"net/http"

	"github.com/tmaxmax/go-sse"
)

// eventStream sends server-sent events (WHATWG HTML, section 9.2).
type eventStream struct {
	w     http.ResponseWriter
	flush *http.ResponseController
}

// beginEvents answers with a stream of events, which nobody may keep.
func beginEvents(w http.ResponseWriter) eventStream {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	return eventStream{w, http.NewResponseController(w)}
}

// send sends an event of a type.
func (s eventStream) send(kind, data string) error {
	m := sse.Message{Type: sse.Type(kind)}
	m.AppendData(data)
	return s.write(&m)
}

// say sends what no client takes for an event, so that a connection that was lost is noticed.
func (s eventStream) say(comment string) error {
	var m sse.Message
	m.AppendComment(comment)
	return s.write(&m)
}

func (s eventStream) write(m *sse.Message) error {
	if _, err := m.WriteTo(s.w); err != nil {
		return err
	}
	return s.flush.Flush()
}
