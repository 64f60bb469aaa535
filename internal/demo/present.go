package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"humble-rewind/api"
)

// Present serves a world with serve, adds its machines and sources and surveys them through the service's API where
// that has not been done, and says where the console is. It returns when serve does.
func Present(ctx context.Context, w World, say func(string), serve func(ctx context.Context, ready func(url string)) error) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	drive, letGo, err := w.ServeDrive(ctx)
	if err != nil {
		return fmt.Errorf("serve the yard's cloud drive: %w", err)
	}
	defer letGo()
	urls := make(chan string, 1)
	served := make(chan error, 1)
	go func() { served <- serve(ctx, func(url string) { urls <- url }) }()
	select {
	case err := <-served:
		return err
	case url := <-urls:
		if err := introduce(ctx, w, url, drive, say); err != nil {
			stop(err)
			return errors.Join(err, <-served)
		}
	}
	return <-served
}

func introduce(ctx context.Context, w World, url, drive string, say func(string)) error {
	tokenFile := filepath.Join(w.ServiceDir, "technician.token")
	content, err := os.ReadFile(tokenFile)
	if err != nil {
		return fmt.Errorf("introduce the sample world: %w", err)
	}
	token := strings.TrimSpace(string(content))
	client, err := api.NewClientWithResponses(url+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	if err != nil {
		return err
	}
	known, err := client.ListMachinesWithResponse(ctx)
	if err != nil {
		return err
	}
	if known.JSON200 != nil && len(known.JSON200.Machines) == 0 {
		if err := enrol(ctx, w, client, drive); err != nil {
			return err
		}
	}
	say("Alder Quay Boatyard is served. The console, signed in:")
	say("")
	say("  " + url + "/sign-in#token=" + token)
	say("")
	say("The command line, in another terminal:")
	say("")
	say("  export HUMBLE_REWIND_URL=" + url + " HUMBLE_REWIND_TOKEN=" + token)
	say("  " + w.binary() + " find offsets --state gone")
	say("  " + w.binary() + " trail 'front-office:/home/ines/Documents/Quotes/Quote 116 Little Tern.odt'")
	say("  " + w.binary() + " trail 'drawing-loft:" + offsets + "'")
	say("  " + w.binary() + " case list")
	say("  " + w.binary() + " advise --case k1")
	say("")
	say("Stop with Ctrl-C. The world stays in " + w.Dir + "; demo --fresh makes it anew.")
	return nil
}

func (w World) binary() string {
	if path, err := os.Executable(); err == nil {
		return path
	}
	return "humble-rewind"
}

func enrol(ctx context.Context, w World, client *api.ClientWithResponses, drive string) error {
	suggested := true
	for _, m := range append(slices.Clone(w.Machines), Machine{Drive, drive}) {
		added, err := client.AddMachineWithResponse(ctx, api.NewMachine{Name: m.Name, At: m.At, WithSuggested: &suggested})
		if err != nil {
			return err
		}
		if added.JSON201 == nil {
			return fmt.Errorf("add machine %s: the service answered %s", m.Name, added.Body)
		}
	}
	for _, source := range Sources {
		added, err := client.AddSourceWithResponse(ctx, source)
		if err != nil {
			return err
		}
		if added.JSON201 == nil {
			return fmt.Errorf("add %s source of %s: the service answered %s", source.Kind, source.Machine, added.Body)
		}
	}
	begun, err := client.StartSurveyWithResponse(ctx, api.NewSurvey{})
	if err != nil {
		return err
	}
	if begun.JSON202 == nil {
		return fmt.Errorf("survey: the service answered %s", begun.Body)
	}
	// The stream of events ends with the job.
	events, err := client.FollowJob(ctx, begun.JSON202.Id)
	if err != nil {
		return err
	}
	defer events.Body.Close()
	if _, err := io.Copy(io.Discard, events.Body); err != nil {
		return err
	}
	ended, err := client.GetJobWithResponse(ctx, begun.JSON202.Id)
	if err != nil {
		return err
	}
	if ended.JSON200 == nil || ended.JSON200.State != api.JobStateDone {
		return fmt.Errorf("survey the sample world: %s", ended.Body)
	}
	return OpenCases(ctx, w, client)
}

// OpenCases opens the cases of a world.
func OpenCases(ctx context.Context, w World, client *api.ClientWithResponses) error {
	for _, k := range w.Cases() {
		opened, err := client.OpenCaseWithResponse(ctx, k)
		if err != nil {
			return err
		}
		if opened.JSON201 == nil {
			return fmt.Errorf("open the case of %s: the service answered %s", k.Place.Path, opened.Body)
		}
	}
	return nil
}

// marker is the file by which a folder is known to be a sample world; it holds a stamp.
const marker = "alder-quay.json"

type stamp struct {
	Built time.Time `json:"built"`
}

func readStamp(dir string) (stamp, error) {
	var s stamp
	content, err := os.ReadFile(filepath.Join(dir, marker))
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(content, &s)
}
