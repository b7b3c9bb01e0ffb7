package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// everything is what a command prints, errors too.
func everything(ctx context.Context, command string, args ...string) (string, error) {
	out, err := exec.CommandContext(ctx, command, args...).CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%s %s: %w: %.500s", command, args[0], err, strings.TrimSpace(string(out)))
	}
	return string(out), err
}

// output is what a command prints.
func output(ctx context.Context, command string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, command, args...)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	out, err := cmd.Output()
	if err != nil {
		err = fmt.Errorf("%s %s: %w: %.500s", command, args[0], err, strings.TrimSpace(complaint.String()))
	}
	return string(out), err
}

// away reports whether a command failed because the service does not answer.
func away(err error) bool {
	ended, is := errors.AsType[*exec.ExitError](err)
	return is && ended.ExitCode() == 5
}

// classifier is a process that answers what vessel a clip is of.
type classifier struct {
	cmd     *exec.Cmd
	url     string
	edition string
	folder  string
	ended   chan struct{}
}

// classify starts one and waits until it answers.
func (h *hall) classify(ctx context.Context, edition, folder, listen string) (*classifier, error) {
	cmd := exec.Command(h.harbour, "classify", "--folder", folder, "--listen", listen)
	said, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	c := &classifier{cmd: cmd, edition: edition, folder: folder, ended: make(chan struct{})}
	told := make(chan string, 1)
	go func() {
		text := make([]byte, 200)
		n, _ := said.Read(text)
		told <- strings.TrimSpace(string(text[:n]))
		io.Copy(io.Discard, said)
		cmd.Wait()
		close(c.ended)
	}()
	select {
	case c.url = <-told:
	case <-ctx.Done():
	case <-time.After(10 * time.Second):
	}
	if c.url == "" {
		c.end()
		return nil, fmt.Errorf("the classifier of %s does not start", edition)
	}
	return c, nil
}

// end ends it; nothing where there is none.
func (c *classifier) end() {
	if c == nil {
		return
	}
	c.cmd.Process.Signal(os.Interrupt)
	select {
	case <-c.ended:
	case <-time.After(5 * time.Second):
		c.cmd.Process.Kill()
	}
}

// ask has a clip classified.
func (c *classifier) ask(ctx context.Context, clip []byte) (class string, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.url+"/classify", bytes.NewReader(clip))
	if err != nil {
		return "", err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var says struct{ Class string }
	if err := json.NewDecoder(io.LimitReader(answer.Body, 1<<16)).Decode(&says); err != nil {
		return "", err
	}
	if answer.StatusCode != http.StatusOK || says.Class == "" {
		return "", fmt.Errorf("the classifier answered %s", answer.Status)
	}
	return says.Class, nil
}

// measure is the median time that a model needs for the answer to a clip, over HTTP.
func (h *hall) measure(ctx context.Context, folder string) (time.Duration, error) {
	clip, err := output(ctx, h.harbour, "clip")
	if err != nil {
		return 0, err
	}
	c, err := h.classify(ctx, "this edition", folder, "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer c.end()
	var took []time.Duration
	for range 100 {
		began := time.Now()
		if _, err := c.ask(ctx, []byte(clip)); err != nil {
			return 0, err
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	return took[len(took)/2], nil
}

// redeploy starts again what was deployed when this ended.
func (h *hall) redeploy(ctx context.Context) {
	edition, err := os.ReadFile(filepath.Join(h.folder, "deployed"))
	if err != nil {
		return // nothing was
	}
	folder, err := h.restore(ctx, string(edition))
	if err == nil {
		h.deployed, err = h.classify(ctx, string(edition), folder, h.serves)
	}
	if err != nil {
		h.log.Printf("%s is not deployed again: %v", edition, err)
	}
}

// deploy puts an edition in the place of the one that is deployed. Where it does not answer, that one goes on.
func (h *hall) deploy(ctx context.Context, edition string, t told) error {
	h.log.Printf("%s is in use now; deploying it to %s", edition, h.place)
	folder, err := h.restore(ctx, edition)
	if err != nil {
		return err
	}
	clip, err := output(ctx, h.harbour, "clip")
	if err != nil {
		return err
	}
	before := h.deployed
	before.end()
	after, err := h.classify(ctx, edition, folder, h.serves)
	class := ""
	if err == nil {
		class, err = after.ask(ctx, []byte(clip))
	}
	if err != nil {
		after.end()
		if before != nil {
			back, again := h.classify(ctx, before.edition, before.folder, h.serves)
			h.deployed, err = back, errors.Join(err, again)
		}
		return errors.Join(err, h.report(ctx, t.Report.Check, t.Report.Token, map[string]any{"name": "deployment",
			"passed": false, "text": err.Error()}))
	}
	h.deployed = after
	if err := os.WriteFile(filepath.Join(h.folder, "deployed"), []byte(edition), 0o600); err != nil {
		return err
	}
	if err := h.report(ctx, t.Report.Use, t.Report.Token, map[string]any{"where": h.place}); err != nil {
		return err
	}
	h.log.Printf("%s answers at %s/classify; the clip of a tug it calls a %s", edition, after.url, class)
	return nil
}
