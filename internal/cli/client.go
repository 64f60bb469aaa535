package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/typedtime"
)

// session is one run of a client command.
type session struct {
	*Program
	api  *api.Client
	url  string
	json bool
	zone *time.Location
}

// client makes an action of a command that talks to the service: it checks how many words were given (most < 0 is any
// number; what says which are wanted) and signs in.
func (p *Program) client(
	least, most int,
	what string,
	do func(ctx context.Context, s *session, c *cli.Command, args []string) error,
) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, least, most, what)
		if err != nil {
			return err
		}
		s, err := p.session(c)
		if err != nil {
			return err
		}
		return do(ctx, s, c, args)
	}
}

// session takes what all commands share from the root, because some have a --zone of their own that means another.
func (p *Program) session(c *cli.Command) (*session, error) {
	root := c.Root()
	s := &session{Program: p, url: strings.TrimRight(root.String("url"), "/"), json: c.Bool("json"), zone: time.Local}
	if name := root.String("zone"); name != "" {
		zone, err := time.LoadLocation(name)
		if err != nil {
			return nil, usage("--zone %s is not a time zone; name it like Europe/Lisbon or UTC", place.Quote(name))
		}
		s.zone = zone
	}
	token, err := p.token(root.String("token-file"))
	if err != nil {
		return nil, err
	}
	s.api, err = api.NewClient(s.url+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	return s, err
}

// token takes the token from the file named, the environment, or the default data folder, in this order.
func (p *Program) token(file string) (string, error) {
	if file == "" {
		if token := p.Env("HUMBLE_REWIND_TOKEN"); token != "" {
			return strings.TrimSpace(token), nil
		}
		file = filepath.Join(p.dataDir(), "technician.token")
		if _, err := os.Stat(file); err != nil {
			return "", errors.New(
				"no token was given. Next: set HUMBLE_REWIND_TOKEN, or name the token file of the service's data folder with --token-file",
			)
		}
	}
	content, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("read the token: %w. Next: name a file that you may read with --token-file", err)
	}
	return strings.TrimSpace(string(content)), nil
}

// dataDir is where the service keeps its records unless told otherwise.
func (p *Program) dataDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/humble-rewind"
	}
	if dir := p.Env("XDG_DATA_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "humble-rewind")
	}
	return filepath.Join(p.Env("HOME"), ".local/share/humble-rewind")
}

// answer reads what the API answered: T, or the problem as an error. With --json it is printed as it came.
func answer[T any](s *session, response *http.Response, err error) (v T, e error) {
	body, err := s.body(response, err)
	if err != nil {
		return v, err
	}
	if len(body) == 0 {
		return v, nil
	}
	if err := json.Unmarshal(body, &v); err != nil {
		return v, fmt.Errorf("read the service's answer: %w. Next: check that %s is a Humble Rewind service of this version", err, s.url)
	}
	return v, nil
}

// shown is answer for a command's own result, which --json prints as it came.
func shown[T any](s *session, response *http.Response, err error) (v T, e error) {
	body, err := s.body(response, err)
	if err != nil {
		return v, err
	}
	if s.json {
		s.print(body)
	}
	if len(body) == 0 {
		return v, nil
	}
	return v, json.Unmarshal(body, &v)
}

func (s *session) print(body []byte) {
	if len(body) == 0 {
		return
	}
	if _, err := s.Stdout.Write(body); err == nil && body[len(body)-1] != '\n' {
		fmt.Fprintln(s.Stdout)
	}
}

func (s *session) body(response *http.Response, err error) ([]byte, error) {
	if err != nil {
		return nil, fmt.Errorf(
			"ask the service at %s: %w. Next: check that it runs (humble-rewind serve) and that --url names it",
			s.url,
			plainCause(err),
		)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, fmt.Errorf("read the service's answer: %w. Next: try again", err)
	}
	if response.StatusCode < 400 {
		return body, nil
	}
	if s.json {
		s.print(body)
	}
	return nil, problemError(response.StatusCode, body)
}

func problemError(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) != nil || p.Title == "" {
		return fmt.Errorf("the service answered %d. Next: check that --url names a Humble Rewind service", status)
	}
	text := p.Title
	if p.Detail != nil {
		text += ": " + strings.TrimSuffix(*p.Detail, ".") + "."
	}
	if p.Shown != nil {
		for _, shown := range *p.Shown {
			text += "\n  " + shown
		}
	}
	if p.Reasons != nil {
		for _, reason := range *p.Reasons {
			text += "\n  - " + reason
		}
		text += "\n"
	}
	if p.Next != nil {
		text = strings.TrimRight(text, "\n") + "\nNext: " + *p.Next
		if p.Steps != nil {
			text += with(*p.Steps)
		}
	}
	exit := ExitFailed
	switch status {
	case http.StatusBadRequest:
		exit = ExitUsage
	case http.StatusNotFound: // whatever it is that is not known
		exit = ExitNothing
	}
	return &statusError{exit, errors.New(text), p.Next != nil}
}

// plainCause drops the address that net/http puts before a failure to reach it.
func plainCause(err error) error {
	if inner := errors.Unwrap(err); inner != nil {
		return inner
	}
	return err
}

// time reads a typed time in the technician's zone.
func (s *session) time(text string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	t, err := typedtime.Parse(text, s.Now(), s.zone)
	if err != nil {
		return nil, usage("%w", err)
	}
	return &t, nil
}

func set(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

func enum[T ~string](text string) *T {
	if text == "" {
		return nil
	}
	v := T(text)
	return &v
}

// pathBytes returns the path's own bytes.
func pathBytes(p api.Place) string {
	if p.PathBytes != nil {
		return string(*p.PathBytes)
	}
	return p.Path
}

// quoted writes a place so that it can be pasted into a shell.
func quoted(p api.Place) string { return place.Quote(p.Machine + ":" + pathBytes(p)) }
