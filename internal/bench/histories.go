package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"humble-rewind/api"
)

// histories measures surveys of a repository: the whole of it, and after one more commit.
func (b *bench) histories(ctx context.Context) error {
	commits := b.of(20_000)
	say("making a repository of %d commits", commits)
	root := b.path("histories")
	repository := filepath.Join(root, "home/ines/Lines")
	if err := errors.Join(os.MkdirAll(repository, 0o755), makeRepository(ctx, repository, commits)); err != nil {
		return err
	}
	defer os.RemoveAll(root)
	clone := b.path("clone")
	defer os.RemoveAll(clone)
	first := row{work: fmt.Sprintf("first survey of a repository with %d commits", commits),
		yardstick: "`git log --raw --all` and `git cat-file --batch-all-objects --batch-check`", bar: 1.5}
	repeat := row{work: "its survey after one more commit", yardstick: "`git fetch` of it from the same drive", bar: 2}
	for n := range rounds {
		s, err := b.start(ctx, b.path(fmt.Sprint("histories-data-", n)))
		if err != nil {
			return err
		}
		if err := errors.Join(s.addMachine(ctx, "drawing-loft", root), s.addSource(ctx, "drawing-loft", "history", "/home/ines/Lines")); err != nil {
			return err
		}
		theirs, err := shell(ctx, "cd %s && git log --raw --all >/dev/null && git cat-file --batch-all-objects --batch-check >/dev/null", repository)
		if err == nil {
			err = first.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{}, commits) })
		}
		if err == nil {
			_, err = shell(ctx, "rm -rf %[2]s && git clone -q --bare %[1]s %[2]s", repository, clone)
		}
		if err == nil {
			_, err = shell(ctx, "cd %s && echo %d >area1/more.svg && git add . && git -c user.name=Ines -c user.email=i@x commit -qm more", repository, n)
		}
		if err == nil {
			theirs, err = shell(ctx, "git -C %s fetch -q origin main:main", clone)
		}
		if err == nil {
			err = repeat.take(s, theirs, func() error { return s.survey(ctx, api.NewSurvey{}, commits) })
		}
		if err := errors.Join(err, s.stop(), os.RemoveAll(b.path(fmt.Sprint("histories-data-", n)))); err != nil {
			return err
		}
	}
	b.rows = append(b.rows, first, repeat)
	return nil
}

// makeRepository makes a repository of two thousand drawings, of which each commit changes up to three.
func makeRepository(ctx context.Context, dir string, commits int) error {
	if _, err := shell(ctx, "git init -q -b main %s", dir); err != nil {
		return err
	}
	c := exec.CommandContext(ctx, "git", "-C", dir, "fast-import", "--quiet")
	in, err := c.StdinPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	const drawings, letters = 2000, "abcdefgh \n"
	r := rand.New(rand.NewPCG(20, 7))
	w := bufio.NewWriter(in)
	at := 1_600_000_000
	for n := range commits {
		at += 60 + r.IntN(7000)
		by := fmt.Sprintf("Ines <ines@quay.example> %d +0100", at)
		fmt.Fprintf(w, "commit refs/heads/main\nauthor %s\ncommitter %s\ndata 6\nchange\n", by, by)
		for range 1 + r.IntN(3) {
			k := r.IntN(drawings)
			name := fmt.Sprintf("area%d/part%03d/drawing%04d.svg", k%40, k%400, k)
			if r.IntN(30) == 0 && n > 0 {
				fmt.Fprintf(w, "D %s\n", name)
				continue
			}
			var text strings.Builder
			for range 100 + r.IntN(1400) {
				text.WriteByte(letters[r.IntN(len(letters))])
			}
			fmt.Fprintf(w, "M 100644 inline %s\ndata %d\n%s\n", name, text.Len(), text.String())
		}
	}
	if err := errors.Join(w.Flush(), in.Close(), c.Wait()); err != nil {
		return err
	}
	_, err = shell(ctx, "cd %s && git reset -q --hard && git gc -q", dir)
	return err
}
